// Package demo holds the demo fleet of the made-up Fernhollow Garden Network, and fills its sites with content, through the sites'
// own front door.
package demo

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"time"

	"vessik/client"
	"vessik/internal/core/site"
)

//go:embed fleet.json
var fleetText []byte

// Fleet is the demo.
type Fleet struct {
	Administrator site.Administrator `json:"administrator"`
	Sites         []Site             `json:"sites"`
}

// Site is one demo site and its content.
type Site struct {
	Name    string `json:"name"`
	Title   string `json:"title"`
	Group   string `json:"group"`
	Tagline string `json:"tagline"`
	Posts   []Post `json:"posts"`
	// What the site runs on, where it is not the usual.
	CMSVersion string                              `json:"cms_version"`
	Stack      struct{ PHP, Web, Database string } `json:"stack"`
}

// Post is one post; its text is a list of paragraphs.
type Post struct {
	Slug  string   `json:"slug"`
	Title string   `json:"title"`
	Text  []string `json:"text"`
}

// Load returns the demo fleet.
func Load() Fleet {
	var fleet Fleet
	if err := json.Unmarshal(fleetText, &fleet); err != nil {
		panic(err) // it is embedded
	}
	return fleet
}

// Request asks for a demo site.
func (f Fleet) Request(s Site) client.Request {
	return client.Request{Name: s.Name, Group: s.Group, Title: s.Title, Administrator: f.Administrator, CMSVersion: s.CMSVersion,
		PHP: s.Stack.PHP, Web: s.Stack.Web, Database: s.Stack.Database}
}

// session is the administrator's, as a browser would have it.
type session struct {
	http  *http.Client
	base  string
	nonce string
}

// Fill writes the content of a demo site that still has what WordPress itself puts into a new one, and takes that away last: a fill
// that was interrupted goes on, and a site that somebody has worked on is left alone. The site comes with its password.
func Fill(ctx context.Context, s Site, made client.Site) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	transport := &http.Transport{DialContext: client.DialLoopback}
	defer transport.CloseIdleConnections()
	in := &session{http: &http.Client{Transport: transport, Jar: jar, Timeout: 30 * time.Second}, base: made.URL}
	var untouched []struct{ ID int }
	if err := in.call(ctx, "GET", "posts?slug=hello-world", nil, &untouched); err != nil || len(untouched) == 0 {
		return err
	}
	if err := in.signIn(ctx, made.Administrator.Name, made.Administrator.Password); err != nil {
		return err
	}
	for i, p := range s.Posts {
		var there []struct{ ID int }
		if err := in.call(ctx, "GET", "posts?slug="+p.Slug, nil, &there); err != nil {
			return err
		}
		if len(there) > 0 {
			continue
		}
		var text strings.Builder
		for _, paragraph := range p.Text {
			fmt.Fprintf(&text, "<!-- wp:paragraph -->\n<p>%s</p>\n<!-- /wp:paragraph -->\n\n", paragraph)
		}
		written := time.Now().UTC().Add(-time.Duration(i+1) * 26 * time.Hour).Format("2006-01-02T15:04:05")
		post := map[string]string{"slug": p.Slug, "title": p.Title, "content": text.String(), "status": "publish", "date_gmt": written}
		if err := in.call(ctx, "POST", "posts", post, nil); err != nil {
			return err
		}
	}
	if err := in.call(ctx, "POST", "settings", map[string]string{"description": s.Tagline}, nil); err != nil {
		return err
	}
	return in.call(ctx, "DELETE", fmt.Sprintf("posts/%d?force=true", untouched[0].ID), nil, nil)
}

func (in *session) signIn(ctx context.Context, user, password string) error {
	form := url.Values{"log": {user}, "pwd": {password}, "testcookie": {"1"},
		"redirect_to": {in.base + "wp-admin/admin-ajax.php?action=rest-nonce"}}
	if _, err := in.send(ctx, "GET", in.base+"wp-login.php", "", nil); err != nil {
		return err
	}
	nonce, err := in.send(ctx, "POST", in.base+"wp-login.php", "application/x-www-form-urlencoded", strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	if len(nonce) > 32 || len(nonce) == 0 {
		return fmt.Errorf("%s did not let %s in", in.base, user)
	}
	in.nonce = string(nonce)
	return nil
}

// call speaks to WordPress's REST API.
func (in *session) call(ctx context.Context, method, path string, content, answer any) error {
	var body io.Reader
	if content != nil {
		text, err := json.Marshal(content)
		if err != nil {
			return err
		}
		body = bytes.NewReader(text)
	}
	text, err := in.send(ctx, method, in.base+"wp-json/wp/v2/"+path, "application/json", body)
	if err != nil || answer == nil {
		return err
	}
	return json.Unmarshal(text, answer)
}

func (in *session) send(ctx context.Context, method, address, kind string, body io.Reader) ([]byte, error) {
	request, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, err
	}
	if body != nil {
		request.Header.Set("Content-Type", kind)
	}
	if in.nonce != "" {
		request.Header.Set("X-WP-Nonce", in.nonce)
	}
	response, err := in.http.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err == nil && response.StatusCode >= 400 {
		err = fmt.Errorf("%s %s answers %s", method, address, response.Status)
	}
	return text, err
}
