package verify

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"

	"vessik/internal/core/site"
)

// probeAsk and Answer are what the service and the PHP in probe.php say to each other.
type probeAsk struct {
	Site       string         `json:"site"`
	Database   map[string]any `json:"database,omitempty"`
	Statements []string       `json:"statements,omitempty"`
	Paths      []string       `json:"paths,omitempty"`
	Sockets    []string       `json:"sockets,omitempty"`
	Info       bool           `json:"info,omitempty"` // everything that is set
	Mail       string         `json:"mail,omitempty"` // the subject of messages to be sent
}

type Answer struct {
	Site          string   `json:"site"`
	PHP           string   `json:"php"`
	Web           string   `json:"web"`
	Database      string   `json:"database"`
	DatabaseError string   `json:"database_error"`
	Databases     []string `json:"databases"`
	Touched       []string `json:"touched"`
	Command       bool     `json:"command"`
	Read          []string `json:"read"`
	Sockets       []string `json:"sockets"`
	Mailed        []string `json:"mailed"` // the ways by which a message was sent
	MailServer    string   `json:"mail_server"`

	About      map[string]string `json:"about"`
	Extensions map[string]string `json:"extensions"`
	Settings   map[string]string `json:"settings"`
	Variables  map[string]string `json:"variables"`
}

// askProbe has a request served by the site's own PHP answer from inside.
func (i *inspection) askProbe(address string, ask probeAsk) (answer Answer, server string, err error) {
	ask.Site = i.site.Name
	text, err := json.Marshal(ask)
	if err != nil {
		return answer, "", err
	}
	request, err := http.NewRequestWithContext(i.ctx, "POST", address+"index.php", bytes.NewReader(text))
	if err != nil {
		return answer, "", err
	}
	i.toSite(request)
	request.Header.Set("X-Vessik-Probe", i.site.Probe)
	response, err := i.client.Do(request)
	if err != nil {
		return answer, "", plainError(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, 4<<20))
	if err != nil {
		return answer, "", plainError(err)
	}
	server = response.Header.Get("Server")
	if response.StatusCode != http.StatusOK {
		return answer, server, fmt.Errorf("it answers %s", response.Status)
	}
	if json.Unmarshal(body, &answer) != nil || answer.Site != i.site.Name {
		return answer, server, errors.New("something else answers there")
	}
	return answer, server, nil
}

// toSite names the site as a visitor's browser would.
func (i *inspection) toSite(request *http.Request) {
	u, _ := url.Parse(i.base)
	request.Host = u.Host
}

func (i *inspection) ownPort() string { return fmt.Sprintf("http://127.0.0.1:%d/", i.site.Port) }

// plainError leaves out the request that an http error repeats.
func plainError(err error) error {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		return wrapped.Err
	}
	return err
}

// DialLoopback goes to this machine whatever the host is called: not every resolver knows names below localhost.
func DialLoopback(ctx context.Context, _, address string) (net.Conn, error) {
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	var dialer net.Dialer
	return dialer.DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", port))
}

func (i *inspection) credentials() map[string]any {
	d := i.site.Database
	return map[string]any{"host": "127.0.0.1", "port": i.v.Machine.DatabasePort(i.site.Stack.Database), "name": d.Name, "user": d.User,
		"password": d.Password}
}

func (i *inspection) logs() string { return i.v.Machine.Home.SiteLogs(i.site.Name) }

// pool reaches the site's database as its own user; nil when its server does not run.
func (i *inspection) pool() *sql.DB {
	if d := i.v.Machine.RunningDatabase(i.site.Stack.Database); d != nil {
		return d.OpenAs(i.site.Database)
	}
	return nil
}

// Visit asks a site for a page as a visitor does, through the gateway, and returns its status.
func (v *Verifier) Visit(ctx context.Context, s site.Site, path string) (status int, err error) {
	i, done := v.inspect(ctx, s)
	defer done()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSuffix(i.base, "/")+path, nil)
	if err != nil {
		return 0, err
	}
	response, err := i.client.Do(request)
	if err != nil {
		return 0, plainError(err)
	}
	defer response.Body.Close()
	_, err = io.Copy(io.Discard, response.Body)
	return response.StatusCode, err
}

// Visitor asks a site through its gateway as visitors do; it follows no redirects, and keeps cookies until done.
func (v *Verifier) Visitor(ctx context.Context, s site.Site) (client *http.Client, base string, done func()) {
	i, done := v.inspect(ctx, s)
	return i.client, i.base, done
}

// Ask has a running site tell everything that is set in it, and how its web server calls itself.
func (v *Verifier) Ask(ctx context.Context, s site.Site) (answer Answer, server string, err error) {
	i, done := v.inspect(ctx, s)
	defer done()
	return i.askProbe(i.ownPort(), probeAsk{Database: i.credentials(), Info: true})
}
