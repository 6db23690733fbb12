// Package guest answers those who were invited to a site: it asks for the password, lets through what they may see, and leads addresses
// between the one that the site has here and the one that they know, both ways.
package guest

import (
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
)

// Invitation lends a site other addresses for a time.
type Invitation struct {
	ID       string
	Site     string            // its name
	Bases    map[string]string // other base addresses by the domain here
	Until    time.Time
	Password string // empty where anybody may come in
	Only     string // path, or address with a query, that may be seen alone; empty for all
	ReadOnly bool   // nothing that changes something
	NoSignIn bool
	Remarks  bool
	Shut     []string // paths of pages where people sign in, where that is shut
}

// anonymous tells whether nobody can sign in to the site.
func (i Invitation) anonymous() bool { return i.NoSignIn || i.ReadOnly || i.Only != "" }

// hostOf is the domain here of one that guests ask; empty for none of the invitation.
func (i Invitation) hostOf(guests string) string {
	for domain, base := range i.Bases {
		if hostPart(base) == guests {
			return domain
		}
	}
	return ""
}

// hostPart is the host of a base address as browsers name it: with its port, unless that is the usual one.
func hostPart(base string) string {
	_, host, _ := strings.Cut(base, "://")
	host, _, _ = strings.Cut(host, "/")
	return strings.ToLower(strings.TrimSuffix(host, ":443"))
}

// ways are the rewriters between both sides.
type ways struct{ out, in []*rewrite.Rewriter }

// ways leads the longest domains first: one may end in another.
func (i Invitation) ways(s site.Site, at site.Gateway) (w ways) {
	for _, domain := range longestFirst(i.Bases) {
		here := strings.TrimSuffix(at.URL(domain, s.HTTPS), "/")
		w.out = append(w.out, rewrite.New(here, i.Bases[domain]))
		w.in = append(w.in, rewrite.New(i.Bases[domain], here))
	}
	return w
}

// own are rewriters that do the same: one is for one goroutine.
func (w ways) own() (own ways) {
	for i := range w.out {
		own.out, own.in = append(own.out, w.out[i].Another()), append(own.in, w.in[i].Another())
	}
	return own
}

// lead leads a short text.
func lead(by []*rewrite.Rewriter, text string) string {
	for _, r := range by {
		text = r.Text(text)
	}
	return text
}

// Allows tells why a request is not let through; empty where it is. isFile tells whether a path is that of a file that is served as it is.
func (i Invitation) Allows(r *http.Request, isFile func(address string) bool) string {
	address := path.Clean("/" + r.URL.Path)
	if i.ReadOnly || i.Only != "" {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			return "This invitation is for looking only."
		}
		if r.Header.Get("Upgrade") != "" {
			return "This invitation is for looking only."
		}
		for name := range r.URL.Query() { // PHP takes a. and a_ for the same, and a CMS may take it for the method
			if strings.Trim(strings.ToLower(name), "._ ") == "method" {
				return "This invitation is for looking only."
			}
		}
	}
	if i.anonymous() {
		for _, shut := range i.Shut {
			// also of a sub-site of a network, which has a folder of its own
			if strings.Contains(strings.ToLower(address)+"/", "/"+strings.ToLower(strings.Trim(shut, "/"))+"/") {
				return "Nobody signs in by this invitation."
			}
		}
	}
	if i.Only == "" || isFile(address) {
		return ""
	}
	only, query, _ := strings.Cut(i.Only, "?")
	if plain, err := url.PathUnescape(only); err == nil { // as browsers show and copy it
		only = plain
	}
	if query != "" && r.URL.RawQuery == query && r.URL.Path == only || r.URL.RawQuery == "" && query == "" && plainly(r) &&
		below(address, strings.TrimSuffix(only, "/")) {
		return ""
	}
	return "This invitation is for one part of the site only."
}

// plainly tells whether an address means the same to whoever reads it: nothing in it is written in another way.
func plainly(r *http.Request) bool {
	clean := path.Clean(r.URL.Path)
	if clean != "/" && strings.HasSuffix(r.URL.Path, "/") {
		clean += "/"
	}
	return clean == r.URL.Path && !strings.ContainsAny(r.URL.Path, "\\;\x00") && !strings.Contains(strings.ToLower(r.URL.EscapedPath()), "%2f")
}

func below(address, top string) bool { return address == top || strings.HasPrefix(address, top+"/") }
