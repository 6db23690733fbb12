package site

import (
	"cmp"
	"net"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/unicode/norm"

	"golang.org/x/net/idna"
	"golang.org/x/net/publicsuffix"
)

// Forward is a domain that a site had before: until a moment, it leads to the one that the site has now.
type Forward struct {
	Domain string    `json:"domain"`
	Until  time.Time `json:"until"`
}

// ForwardFor is how long a domain that was given up leads on.
const ForwardFor = 30 * 24 * time.Hour

// Kinds of networks: several sites in one installation.
const (
	NetworkFolders = "folders"
	NetworkDomains = "domains"
)

// Hosts are the names that the site itself answers for, its domain first.
func (s Site) Hosts() []string { return append([]string{s.Domain}, s.Domains...) }

// Inside tells whether a host is a sub-domain of a network of sites.
func (s Site) InNetwork(host string) bool {
	return s.Network == NetworkDomains && strings.HasSuffix(host, "."+s.Domain)
}

// SubURL is where a sub-site of a network answers.
func (s Site) SubURL(sub string, g Gateway) string {
	if s.Network == NetworkDomains {
		return g.URL(sub+"."+s.Domain, s.HTTPS)
	}
	return s.URL(g) + sub + "/"
}

// SubName is the name of a sub-site that answers at an address, with or without its scheme; empty where it is none of this network's.
func (s Site) SubName(address string) string {
	_, rest, schemed := strings.Cut(address, "://")
	if !schemed {
		rest = address
	}
	host, path, _ := strings.Cut(rest, "/")
	host, _, _ = strings.Cut(host, ":")
	name := strings.Trim(path, "/")
	if s.Network == NetworkDomains {
		name, _ = strings.CutSuffix(host, "."+s.Domain)
	} else if host != s.Domain {
		return ""
	}
	if !label.MatchString(name) || len(name) > 63 {
		return ""
	}
	return name
}

// ASCII writes a name or domain of another script in its IDNA form (RFC 5890), and leaves alone what has none.
func ASCII(name string) string {
	if strings.IndexFunc(name, func(r rune) bool { return r >= 0x80 }) < 0 {
		return name
	}
	if written, err := idna.Lookup.ToASCII(strings.ToLower(name)); err == nil {
		return written
	}
	return name
}

// Unicode writes a domain as people read it.
func Unicode(domain string) string {
	if written, err := idna.Display.ToUnicode(domain); err == nil {
		return written
	}
	return domain
}

// Shown is a site's name as people read it.
func Shown(name string) string {
	if !strings.HasPrefix(name, "xn--") {
		return name
	}
	return Unicode(name)
}

// latin is what of a name stays in the letters that every CMS takes in a user name; "site" where none does.
func latin(name string) string {
	plain := strings.Map(func(r rune) rune {
		if r < 0x80 {
			return r
		}
		return -1
	}, norm.NFKD.String(strings.NewReplacer("ß", "ss", "æ", "ae", "ø", "o", "ł", "l").Replace(Shown(name))))
	return cmp.Or(strings.Trim(plain, "-"), "site")
}

// LocalEnding tells whether a domain is found on this machine without anybody's help.
func LocalEnding(domain string) bool { return strings.HasSuffix(domain, ".localhost") }

// safeEndings are kept from the public (RFC 2606, RFC 6761, RFC 8375, and ICANN's resolution on .internal).
var safeEndings = []string{"localhost", "test", "example", "invalid", "internal", "home.arpa"}

// Ending is the part of a domain that a home's certificate authority may sign for: an ending that is kept from the public whole, and of
// the others no more than the domain.
func Ending(domain string) string {
	for _, ending := range safeEndings {
		if domain == ending || strings.HasSuffix(domain, "."+ending) {
			return ending
		}
	}
	if ending, icann := publicsuffix.PublicSuffix(domain); !icann && !strings.Contains(ending, ".") {
		return ending
	}
	return domain
}

// endingFault is why sites should not have domains of such an ending; empty where they may.
func endingFault(domain string) (fault, remedy string) {
	for _, ending := range safeEndings {
		if strings.HasSuffix("."+domain, "."+ending) {
			return "", ""
		}
	}
	const other = "use .localhost or .test, or say -force-domain"
	if strings.HasSuffix(domain, ".local") {
		return "names in .local are looked up by multicast DNS, and wait or fail there", other
	}
	if ending, icann := publicsuffix.PublicSuffix(domain); icann {
		return "." + ending + " is a public ending: the real " + domain + " could no longer be reached from here, or be reached by mistake", other
	}
	return "", ""
}

// domain judges a host name that a site is to answer for.
func (c *checker) domain(s Site, f Facts, field, domain string) {
	if !IsHostName(domain) {
		c.add(field, "use labels of a to z, 0 to 9 and hyphens, joined by dots, as in orchard-days.localhost", "%q is not a host name", domain)
		return
	}
	if domain == ConsoleHost && s.Name != "vessik" || domain == "localhost" || strings.HasSuffix(domain,
		"."+ConsoleHost) { // a browser counts what lies below the console's host as the same site
		c.add(field, "choose another domain", "%s is reserved", domain)
	}
	if fault, remedy := endingFault(domain); fault != "" && !s.forceDomain {
		c.add(field, remedy, "%s", fault)
	}
	for _, other := range f.Sites {
		if other.Name == s.Name {
			continue
		}
		forward := slices.ContainsFunc(other.Forwards, func(each Forward) bool { return each.Domain == domain })
		switch {
		case slices.Contains(other.Hosts(), domain):
			c.add(field, "choose another domain", "%s belongs to the site %s", domain, other.Name)
		case other.InNetwork(domain):
			c.add(field, "choose another domain", "%s lies in the network of the site %s", domain, other.Name)
		case forward:
			c.add(field, "choose another domain, or end that with: vessik domains "+other.Name+" -drop "+domain,
				"%s still leads to the site %s, which had it before", domain, other.Name)
		}
	}
}

func (c *checker) domains(s Site, f Facts) {
	if IsHostName(s.Domain) || s.Domain != strings.ToLower(s.Name)+".localhost" { // else the name is at fault, and said
		c.domain(s, f, "domain", s.Domain)
	}
	for i, domain := range s.Domains {
		if slices.Contains(s.Hosts()[:i+1], domain) {
			c.add("domains", "name it once", "%s stands there twice", domain)
			continue
		}
		c.domain(s, f, "domains", domain)
	}
}

// CheckDomains judges a site that is to answer for other domains than before.
func CheckDomains(s Site, force bool, f Facts) Problems {
	c := &checker{site: s.Name}
	s.forceDomain = force
	c.domains(s, f)
	return c.problems
}

// CheckRename judges a site that is to have another name.
func CheckRename(s Site, name string, f Facts) Problems {
	c := &checker{site: s.Name}
	s.Name = name
	c.name(s, f)
	return c.problems
}

// IsHostName tells whether a text is the name of a host (RFC 1123), in lower case, with a dot in it.
func IsHostName(host string) bool {
	if len(host) > 253 || !strings.Contains(host, ".") || net.ParseIP(host) != nil {
		return false
	}
	for part := range strings.SplitSeq(host, ".") {
		if len(part) > 63 || !label.MatchString(part) {
			return false
		}
	}
	return true
}
