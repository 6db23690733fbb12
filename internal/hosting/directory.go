package hosting

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/oauth2"
)

// clientID is what Vessik calls itself at a host's page: a public client (RFC 6749, section 2.1), which keeps no secret.
const clientID = "vessik"

// longestSecret is how long a token or a password may be, in bytes.
const longestSecret = 8 << 10

// mostOfDirectory bounds what a directory answers, in bytes.
const mostOfDirectory = 1 << 20

// Directory is where a host tells its customers' environments: docs/directory.md. It is found by the host's page.
type Directory struct {
	Issuer       string `json:"issuer"`
	Device       string `json:"device_authorization_endpoint"`
	Token        string `json:"token_endpoint"`
	Environments string `json:"environments_endpoint"`
}

// Environment is a site of a customer's, as the directory tells it.
type Environment struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	URL  string `json:"url"`
	At   string `json:"at"`
	Of   string `json:"of"`
}

// Credentials are lent for an environment, for a time.
type Credentials struct {
	Password string `json:"password"`
	Lasts    int64  `json:"expires_in"` // seconds
	HostKey  string `json:"host_key"`   // fingerprint of the key that the host will show; empty where it is not told
}

// ErrSignInAgain says that a directory does not know Vessik any more.
var ErrSignInAgain = errors.New("the host's page does not know this machine any more")

// OpenDirectory asks a host's page where its directory is (RFC 8414).
func OpenDirectory(ctx context.Context, page string) (d Directory, err error) {
	at, err := judged(page, "")
	if err != nil {
		return d, err
	}
	at.Path = "/.well-known/oauth-authorization-server"
	if err := asking(ctx, "GET", at.String(), "", &d); err != nil {
		return d, fmt.Errorf("%s is no page of a host that Vessik can sign in to: %w", page, err)
	}
	for _, endpoint := range []string{d.Device, d.Token, d.Environments} {
		if _, err := judged(endpoint, at.Host); err != nil {
			return d, fmt.Errorf("the directory of %s leads elsewhere: %w", page, err)
		}
	}
	d.Issuer = at.Scheme + "://" + at.Host
	return d, nil
}

// judged reads an address that must be of a host, where one is given, and asked by TLS, unless it is of this machine.
func judged(address, host string) (*url.URL, error) {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http":
		return nil, fmt.Errorf("%.200q is no address", address)
	case u.Scheme == "http" && !isHere(u.Hostname()):
		return nil, fmt.Errorf("%.200q is not https, and what is said there could be read on the way", address)
	case host != "" && u.Host != host:
		return nil, fmt.Errorf("%.200q is not at %s", address, host)
	}
	return u, nil
}

func isHere(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || strings.HasSuffix(host, ".localhost") || ip != nil && ip.IsLoopback()
}

// asking asks a directory something, with a token where there is one.
func asking(ctx context.Context, method, address, token string, to any) error {
	ctx, cancel := context.WithTimeout(ctx, idleTimeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, method, address, nil)
	if err != nil {
		return err
	}
	request.Header.Set("Accept", "application/json")
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := client().Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	switch {
	case response.StatusCode == http.StatusUnauthorized:
		return ErrSignInAgain
	case response.StatusCode != http.StatusOK:
		return fmt.Errorf("it answers %d", response.StatusCode)
	}
	return json.NewDecoder(io.LimitReader(response.Body, mostOfDirectory)).Decode(to)
}

func (d Directory) config() *oauth2.Config {
	return &oauth2.Config{ClientID: clientID, Scopes: []string{"environments"},
		Endpoint: oauth2.Endpoint{DeviceAuthURL: d.Device, TokenURL: d.Token, AuthStyle: oauth2.AuthStyleInParams}}
}

func withClient(ctx context.Context) context.Context {
	return context.WithValue(ctx, oauth2.HTTPClient, client())
}

// Begin asks for a code by which a customer lets Vessik in (RFC 8628).
func (d Directory) Begin(ctx context.Context) (*oauth2.DeviceAuthResponse, error) {
	begun, err := d.config().DeviceAuth(withClient(ctx))
	if err != nil {
		return nil, fmt.Errorf("ask for a code at %s: %w", d.Issuer, err)
	}
	host, _ := url.Parse(d.Issuer) // it was judged
	for _, address := range []string{begun.VerificationURI, begun.VerificationURIComplete} {
		if _, err := judged(address, host.Host); address != "" && err != nil {
			return nil, fmt.Errorf("the page of %s leads elsewhere: %w", d.Issuer, err)
		}
	}
	if begun.VerificationURI == "" || begun.UserCode == "" || len(begun.UserCode) > 40 {
		return nil, fmt.Errorf("%s gives no code", d.Issuer)
	}
	return begun, nil
}

// Wait waits until the customer has let Vessik in, or has refused it, or the code is too old.
func (d Directory) Wait(ctx context.Context, begun *oauth2.DeviceAuthResponse) (token string, until time.Time, err error) {
	if begun.Expiry.IsZero() || time.Until(begun.Expiry) > time.Hour {
		begun.Expiry = time.Now().Add(time.Hour)
	}
	given, err := d.config().DeviceAccessToken(withClient(ctx), begun)
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused) && refused.ErrorCode == "access_denied":
		return "", until, errors.New("it was refused at the host's page")
	case errors.As(err, &refused) && refused.ErrorCode == "expired_token", errors.Is(err, context.DeadlineExceeded):
		return "", until, errors.New("nobody let Vessik in before the code was too old")
	case err != nil:
		return "", until, err
	case len(given.AccessToken) > longestSecret:
		return "", until, errors.New("the host's page gives a token that is longer than can be meant")
	}
	return given.AccessToken, given.Expiry, nil
}

// List tells the environments of whoever let Vessik in.
func (d Directory) List(ctx context.Context, token string) ([]Environment, error) {
	var answer struct {
		Environments []Environment `json:"environments"`
	}
	return answer.Environments, asking(ctx, "GET", d.Environments, token, &answer)
}

// Lend asks for credentials of an environment.
func (d Directory) Lend(ctx context.Context, token, environment string) (c Credentials, err error) {
	err = asking(ctx, "POST", d.Environments+"/"+url.PathEscape(environment)+"/credentials", token, &c)
	if err == nil && (c.Password == "" || c.Lasts <= 0 || len(c.Password)+len(c.HostKey) > longestSecret) {
		err = errors.New("it lends no password that can be one")
	}
	return c, err
}
