package verify

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/html"

	"vessik/internal/core/check"
	"vessik/internal/ownfile"
	"vessik/internal/trust"
)

// https proves that a site which answers over https does so for a visitor of this machine without a warning.
func (i *inspection) https() outcome {
	expected := "a certificate of this home's authority for " + strings.Join(i.site.Hosts(), ", ") + ", believed here; nothing over plain http"
	until, err := i.certified()
	if err != nil {
		return failed(expected, err.Error(), "restart the service; its certificates are made anew")
	}
	if i.front == "" {
		return outcome{verdict: check.Skip, expected: expected, observed: "the certificate is good; there is no front page to look at"}
	}
	if plain := Plain(i.front); len(plain) > 0 {
		shown := plain[:min(len(plain), 5)]
		observed := fmt.Sprintf("%d addresses over plain http, which browsers leave out or warn of: %s", len(plain), strings.Join(shown, "; "))
		return failed(expected, observed, "mend them where they stand: in the theme, a widget or the page itself")
	}
	believed, fault := i.v.believed(i.ctx)
	if fault != "" {
		return failed(expected, fault, "have it believed: vessik authority add")
	}
	return passed(expected, fmt.Sprintf("good until %s, %s; nothing over plain http", until.Format(time.DateOnly), believed))
}

// certified shakes hands for each of the site's names, and returns the first end of a certificate.
func (i *inspection) certified() (until time.Time, err error) {
	ctx, cancel := context.WithTimeout(i.ctx, checkTimeout)
	defer cancel()
	address := net.JoinHostPort("127.0.0.1", strconv.Itoa(i.v.Machine.Gateway().HTTPS))
	for _, host := range i.site.Hosts() {
		settings := i.v.Machine.TLS()
		settings.ServerName = host
		dialer := tls.Dialer{Config: settings}
		connection, err := dialer.DialContext(ctx, "tcp4", address)
		if err != nil {
			return until, fmt.Errorf("%s: %w", host, err)
		}
		end := connection.(*tls.Conn).ConnectionState().PeerCertificates[0].NotAfter
		connection.Close()
		if until.IsZero() || end.Before(until) {
			until = end
		}
	}
	return until, nil
}

// believing is what was seen of the stores of the service's account; looking takes some time.
type believing struct {
	mu     sync.Mutex
	at     time.Time
	serial string
	words  string
	fault  string
}

const believedFor = 3 * time.Second

// believed tells, in words, where the home's authority is believed; the fault is where it is not, though the service's account has a
// browser there.
func (v *Verifier) believed(ctx context.Context) (words, fault string) {
	root, err := v.Machine.Authority.Root()
	if err != nil {
		return "", err.Error()
	}
	v.believing.mu.Lock()
	defer v.believing.mu.Unlock()
	if b := &v.believing; time.Since(b.at) > believedFor || b.serial != root.SerialNumber.String() {
		b.words, b.fault = "", ""
		place := trust.Machine()
		if now, _, err := place.Believes(ctx, root); err == nil && now {
			b.words = "believed by " + place.Title
		} else {
			b.words, b.fault = believedBy(ctx, root, trust.Browsers(homeOf()))
		}
		b.at, b.serial = time.Now(), root.SerialNumber.String()
	}
	return v.believing.words, v.believing.fault
}

// believedBy sums up what browsers say.
func believedBy(ctx context.Context, root *x509.Certificate, browsers []trust.Place) (words, fault string) {
	var yes, no []string
	for _, place := range browsers {
		if place.Missing {
			continue
		}
		now, earlier, err := place.Believes(ctx, root)
		switch {
		case err != nil: // cannot be told
		case now:
			yes = append(yes, place.Title)
		case earlier:
			no = append(no, place.Title+" (which believes it for other endings)")
		default:
			no = append(no, place.Title)
		}
	}
	switch {
	case len(no) > 0:
		return "", "the certificate is good, but its authority is not believed by " + strings.Join(no, ", ")
	case len(yes) > 0:
		return "believed by " + strings.Join(yes, ", "), ""
	}
	return "the service's account has no browser that could tell whether it is believed (see vessik authority)", ""
}

// homeOf is the home folder of the account that the service runs as.
func homeOf() string {
	if dir, err := os.UserHomeDir(); err == nil {
		if _, err := ownfile.List(dir); err == nil { // not that of root, which the service was started by
			return dir
		}
	}
	account, err := user.Current()
	if err != nil {
		return ""
	}
	return account.HomeDir
}

// loaded are the attributes by which a page loads something, by element.
var loaded = map[string][]string{"img": {"src", "srcset"}, "script": {"src"}, "iframe": {"src"}, "audio": {"src"},
	"video": {"src", "poster"}, "source": {"src", "srcset"}, "track": {"src"}, "embed": {"src"}, "object": {"data"}, "input": {"src"},
	"link": {"href"}, "form": {"action"}}

// loading are the relations of links by which something is loaded.
var loading = []string{"stylesheet", "icon", "preload", "modulepreload", "manifest", "apple-touch-icon", "prefetch"}

// Plain lists what a page loads, or sends, over plain http: the element, the address, and the line it stands in.
func Plain(page string) []string {
	found := []string{}
	line := 1
	tokens := html.NewTokenizer(strings.NewReader(page))
	for {
		kind := tokens.Next()
		if kind == html.ErrorToken {
			return found
		}
		raw := string(tokens.Raw())
		if kind == html.StartTagToken || kind == html.SelfClosingTagToken {
			for _, address := range plainIn(tokens.Token()) {
				found = append(found, fmt.Sprintf("%s in line %d", address, line))
			}
		}
		line += strings.Count(raw, "\n")
	}
}

func plainIn(token html.Token) (found []string) {
	values := map[string]string{}
	for _, each := range token.Attr {
		values[each.Key] = each.Val
	}
	if token.Data == "link" && !slices.ContainsFunc(strings.Fields(strings.ToLower(values["rel"])),
		func(rel string) bool { return slices.Contains(loading, rel) }) {
		return nil
	}
	for _, name := range loaded[token.Data] {
		for part := range strings.SplitSeq(values[name], ",") {
			if part = strings.TrimSpace(part); strings.HasPrefix(strings.ToLower(part), "http://") {
				address, _, _ := strings.Cut(part, " ")
				found = append(found, fmt.Sprintf("<%s %s> %s", token.Data, name, address))
			}
		}
	}
	return found
}
