// Package hosting judges what people say of the hosting accounts that their sites are pulled from and pushed to.
package hosting

import (
	"fmt"
	"net"
	"net/url"
	"path"
	"regexp"
	"strings"
	"time"

	"vessik/internal/core/site"
)

// How an account is reached.
const (
	SFTP = "sftp"
	FTPS = "ftps" // FTP with TLS: explicit, implicit on port 990
	FTP  = "ftp"
)

// Account is a place at a hosting server, with nothing that is secret.
type Account struct {
	Name    string    `json:"name"`
	At      string    `json:"at" doc:"sftp://user@host:port/folder, or ftps, or ftp"`
	URL     string    `json:"url" doc:"Base address of the site there, without a trailing slash"`
	Of      string    `json:"of,omitempty" doc:"The account that it belongs to: staging of a live one"`
	Agent   string    `json:"agent,omitempty" doc:"Socket of the SSH agent that signs in"`
	HostKey string    `json:"host_key,omitempty" doc:"Fingerprint that is pinned since the first use"`
	MadeAt  time.Time `json:"made_at"`
	// Page is that of a host which lends credentials for one of its environments.
	Page        string `json:"page,omitempty"`
	Environment string `json:"environment,omitempty"`
	// Helper is the file of ours that may be at the host, by its name; empty for none.
	Helper string `json:"helper,omitempty"`
	// Stage is the folder of ours that may be at the host, in which lies what takes the place of the site's; Turned says that it has, for
	// good.
	Stage  string `json:"stage,omitempty"`
	Turned bool   `json:"turned,omitempty"`
}

// Secrets are what an account is signed in with, and what its helper is asked with.
type Secrets struct {
	Password string `json:"password,omitempty"`
	Key      string `json:"key,omitempty"` // private, as OpenSSH keeps it
	Helper   string `json:"helper,omitempty"`
	// Of an account that a host's page lends credentials for: the token that is shown to it, and until when both are good.
	Token         string    `json:"token,omitempty"`
	TokenUntil    time.Time `json:"token_until,omitzero"`
	PasswordUntil time.Time `json:"password_until,omitzero"`
}

// Place is what an address of an account says.
type Place struct {
	Scheme, User, Host string // Host with its port
	Folder             string // absolute
	Implicit           bool   // TLS from the first byte
}

// usualPorts are those of the schemes.
var usualPorts = map[string]string{SFTP: "22", FTPS: "21", FTP: "21"}

// implicitPort is where FTP speaks TLS from the first byte.
const implicitPort = "990"

// ParsePlace reads where an account is.
func ParsePlace(at string) (p Place, err error) {
	u, err := url.Parse(at)
	switch {
	case err != nil || usualPorts[strings.ToLower(u.Scheme)] == "":
		return p, fmt.Errorf("%q is not sftp://user@host/folder, nor ftps:// nor ftp://", at)
	case u.User == nil || u.User.Username() == "":
		return p, fmt.Errorf("%q names no user", u.Redacted())
	case u.Hostname() == "":
		return p, fmt.Errorf("%q names no host", u.Redacted())
	case u.RawQuery != "" || u.Fragment != "":
		return p, fmt.Errorf("%q has more than a folder behind the host", u.Redacted())
	}
	if _, given := u.User.Password(); given {
		return p, fmt.Errorf("%q has a password in it, which would be shown wherever the account is: leave it out, it is asked for", u.Redacted())
	}
	p = Place{Scheme: strings.ToLower(u.Scheme), User: u.User.Username(), Folder: path.Clean("/" + u.Path)}
	port := u.Port()
	if port == "" {
		port = usualPorts[p.Scheme]
	}
	p.Host, p.Implicit = net.JoinHostPort(u.Hostname(), port), p.Scheme == FTPS && port == implicitPort
	if strings.ContainsAny(p.User+p.Host+p.Folder, "\r\n\x00") {
		return p, fmt.Errorf("%q has control characters in it", u.Redacted())
	}
	return p, nil
}

// validName is what an account may be called.
var validName = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// longestName is how long a name may be, in characters.
const longestName = 40

// Check tells what is wrong with an account; known are the names of the others.
func Check(a Account, known map[string]bool) (problems site.Problems) {
	add := func(field, message, remedy string) {
		problems = append(problems, site.Problem{Field: field, Message: message, Remedy: remedy})
	}
	if !validName.MatchString(a.Name) || len(a.Name) > longestName {
		add("name", fmt.Sprintf("%q is no name of an account", a.Name), "write it in lower-case letters, digits and single hyphens, such as "+
			"orchard-live")
	} else if known[a.Name] {
		add("name", fmt.Sprintf("there is an account %q already", a.Name), "choose another name, or drop that one first: vessik hosting "+
			"drop "+a.Name)
	}
	if _, err := ParsePlace(a.At); err != nil {
		add("at", err.Error(), "write it as sftp://ines@host.example/www")
	}
	if u, err := url.Parse(a.URL); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil ||
		u.RawQuery != "" ||
		u.Fragment != "" || strings.HasSuffix(a.URL, "/") {
		add("url", fmt.Sprintf("%q is no address of a site", a.URL), "write it as https://orchard.example")
	}
	if a.Of != "" && !known[a.Of] {
		add("of", fmt.Sprintf("there is no account %q", a.Of), "name one that is there: vessik hosting")
	}
	return problems
}
