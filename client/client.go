// Package client speaks to a Vessik service over its HTTP API.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"vessik/internal/core/check"
	"vessik/internal/core/fleet"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// What the API speaks of.
type (
	Site             = wire.Site
	Status           = wire.Status
	Engine           = wire.Engine
	Link             = wire.Link
	Ended            = wire.Ended
	SitesPreview     = wire.SitesPreview
	Planned          = wire.Planned
	Request          = wire.Request
	Problem          = site.Problem
	ProblemDetails   = wire.ProblemDetails
	Operation        = wire.Operation
	Watched          = wire.Watched
	Report           = check.Report
	SiteReport       = check.SiteReport
	Engines          = wire.Engines
	Settings         = site.Settings
	SettingsPage     = wire.SettingsPage
	VariablesPage    = wire.VariablesPage
	CMSPage          = wire.CMSPage
	CMSInfo          = wire.CMSInfo
	Ticket           = wire.Ticket
	NewPassword      = wire.NewPassword
	NewAdministrator = wire.NewAdministrator
	Administrator    = site.Administrator
	User             = wire.User
	DefaultsPage     = wire.DefaultsPage
	Label            = wire.Label
	Stencil          = wire.Stencil
	SaveStencil      = wire.SaveStencil
	ShelfPage        = wire.ShelfPage
	ShelfItem        = wire.ShelfItem
	FetchToShelf     = wire.FetchToShelf
	Rename           = wire.Rename
	Written          = wire.Written
	LoadSQL          = wire.LoadSQL
	Domains          = wire.Domains
	Authority        = wire.Authority
	Hosts            = wire.HostsPage
	Tally            = rewrite.Tally
	Info             = wire.Info
	Environment      = wire.Environment
	LogLine          = wire.LogLine
	Trial            = wire.TrialRequest
	Restack          = wire.Restack
	RestackPreview   = wire.RestackPreview
)

// SplitTouches reads finishing touches that are joined by commas.
func SplitTouches(text string) []string { return site.SplitTouches(text) }

// ErrUnreachable says that no service answers.
var ErrUnreachable = errors.New("the Vessik service cannot be reached")

// Client is a client of one service. Base is its address without a trailing slash.
type Client struct {
	Base  string
	Token string
	HTTP  *http.Client
}

// ForHome finds the service of a home folder by the files that it leaves there.
func ForHome(home string) (*Client, error) {
	var file wire.ServiceFile
	text, err := os.ReadFile(filepath.Join(home, "service.json"))
	if err == nil {
		err = json.Unmarshal(text, &file)
	}
	if errors.Is(err, os.ErrPermission) {
		return nil, fmt.Errorf("%w: %s belongs to another account; run this as that account, or name your own home with -home", ErrUnreachable,
			home)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: none runs in %s; start one with: vessik serve", ErrUnreachable, home)
	}
	token, err := os.ReadFile(filepath.Join(home, "token"))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return &Client{Base: file.API, Token: strings.TrimSpace(string(token)), HTTP: &http.Client{}}, nil
}

// call sends in as JSON and reads the answer into out; either may be nil. A refusal is a *ProblemDetails.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	response, err := c.send(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(response.Body).Decode(out); err != nil {
		return fmt.Errorf("read the answer to %s %s: %w", method, path, err)
	}
	return nil
}

func (c *Client) send(ctx context.Context, method, path string, in any) (*http.Response, error) {
	body, raw := in.(io.Reader) // else it goes as JSON
	if in != nil && !raw {
		text, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
	}
	request, err := http.NewRequestWithContext(ctx, method, c.Base+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Authorization", "Bearer "+c.Token)
	if account, err := user.Current(); err == nil {
		request.Header.Set("X-Vessik-User", account.Username)
	}
	if raw {
		request.Header.Set("Content-Type", "application/octet-stream")
	} else if in != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	response, err := c.HTTP.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%w at %s: %w; start it with: vessik serve", ErrUnreachable, c.Base, err)
	}
	if response.StatusCode == http.StatusUnauthorized { // the token is that of the home
		response.Body.Close()
		return nil, fmt.Errorf("%w: what answers at %s is not the service of this home folder; start that one with: vessik serve",
			ErrUnreachable, c.Base)
	}
	if response.StatusCode >= 400 {
		return nil, refusalOf(response)
	}
	return response, nil
}

func refusalOf(response *http.Response) error {
	defer response.Body.Close()
	details := &ProblemDetails{Status: response.StatusCode, Detail: response.Status}
	json.NewDecoder(response.Body).Decode(details)
	return details
}

// Status describes the service.
func (c *Client) Status(ctx context.Context) (s Status, err error) {
	err = c.call(ctx, "GET", "/status", nil, &s)
	return s, err
}

// Sites lists all sites, with passwords if asked for.
func (c *Client) Sites(ctx context.Context, secrets bool) (sites []Site, err error) {
	return sites, c.call(ctx, "GET", fmt.Sprintf("/sites?secrets=%t", secrets), nil, &sites)
}

// Site returns one.
func (c *Client) Site(ctx context.Context, name string, secrets bool) (s Site, err error) {
	err = c.call(ctx, "GET", sitePath(name, fmt.Sprintf("?secrets=%t", secrets)), nil, &s)
	return s, err
}

// Preview shows what requests would become.
func (c *Client) PreviewSites(ctx context.Context, requests ...Request) (d SitesPreview, err error) {
	err = c.call(ctx, "POST", "/sites/preview", wire.NewSites{Sites: requests}, &d)
	return d, err
}

// New asks for sites; the operation goes on after it returns.
func (c *Client) New(ctx context.Context, requests ...Request) (o Operation, err error) {
	err = c.call(ctx, "POST", "/sites", wire.NewSites{Sites: requests}, &o)
	return o, err
}

// Do asks for start, stop, verify or retire; the operation goes on after it returns.
func (c *Client) Do(ctx context.Context, kind plan.Kind, names wire.Names) (o Operation, err error) {
	names.Names = inASCII(names.Names)
	err = c.call(ctx, "POST", "/sites/"+string(kind), names, &o)
	return o, err
}

// Reports returns the newest report of every site.
func (c *Client) Reports(ctx context.Context) (r Report, err error) {
	err = c.call(ctx, "GET", "/reports", nil, &r)
	return r, err
}

// Operations lists the newest first.
func (c *Client) Operations(ctx context.Context, limit int) (o []Operation, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("/operations?limit=%d", limit), nil, &o)
	return o, err
}

// Operation returns one.
func (c *Client) Operation(ctx context.Context, id string) (o Watched, err error) {
	err = c.call(ctx, "GET", "/operations/"+url.PathEscape(id), nil, &o)
	return o, err
}

// Cancel asks an operation to stop and take back what it has begun.
func (c *Client) Cancel(ctx context.Context, id string) error {
	return c.call(ctx, "POST", "/operations/"+url.PathEscape(id)+"/cancel", nil, nil)
}

// Engines lists the catalogue.
func (c *Client) Engines(ctx context.Context) (e Engines, err error) {
	err = c.call(ctx, "GET", "/engines", nil, &e)
	return e, err
}

// FetchEngines brings engines into the store; the operation goes on after it returns.
func (c *Client) FetchEngines(ctx context.Context, ids ...string) (o Operation, err error) {
	err = c.call(ctx, "POST", "/engines/fetch", wire.EngineIDs{IDs: ids}, &o)
	return o, err
}

// DropEngines removes engines that no site uses, and returns their full ids.
func (c *Client) DropEngines(ctx context.Context, ids ...string) ([]string, error) {
	var dropped wire.EngineIDs
	err := c.call(ctx, "POST", "/engines/drop", wire.EngineIDs{IDs: ids}, &dropped)
	return dropped.IDs, err
}

// AdoptEngine takes an engine from a folder into the catalogue.
func (c *Client) AdoptEngine(ctx context.Context, id, path string) (e Engine, err error) {
	err = c.call(ctx, "POST", "/engines/adopt", wire.Adopt{ID: id, Path: path}, &e)
	return e, err
}

// Variables returns what a database engine's server variables are set to, and their history.
func (c *Client) Variables(ctx context.Context, id string) (page VariablesPage, err error) {
	return page, c.call(ctx, "GET", "/engines/"+url.PathEscape(id)+"/variables", nil, &page)
}

// SetVariables sets server variables of a database engine; an empty value takes one back.
func (c *Client) SetVariables(ctx context.Context, id string, variables map[string]string) (page VariablesPage, err error) {
	return page, c.call(ctx, "PUT", "/engines/"+url.PathEscape(id)+"/variables", wire.Variables{Variables: variables}, &page)
}

// sitePath is the place of a site that may be called by its name in another script.
func sitePath(name, rest string) string { return "/sites/" + url.PathEscape(site.ASCII(name)) + rest }

func inASCII(names []string) []string {
	written := []string{}
	for _, name := range names {
		written = append(written, site.ASCII(name))
	}
	return written
}

// Stencils lists the saved sites.
func (c *Client) Stencils(ctx context.Context) (all []Stencil, err error) {
	return all, c.call(ctx, "GET", "/stencils", nil, &all)
}

// SaveStencil saves a site; the operation goes on after it returns.
func (c *Client) SaveStencil(ctx context.Context, name string, asked SaveStencil) (o Operation, err error) {
	return o, c.call(ctx, "POST", sitePath(name, "/stencil"), asked, &o)
}

// DescribeStencil changes a stencil's description, and its name where another one is given.
func (c *Client) DescribeStencil(ctx context.Context, name, newName, description string) (s Stencil, err error) {
	return s, c.call(ctx, "PUT", "/stencils/"+url.PathEscape(name), wire.DescribeStencil{Name: newName, Description: description}, &s)
}

// DropStencil removes a stencil.
func (c *Client) DropStencil(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/stencils/"+url.PathEscape(name), nil, nil)
}

// ExportStencil writes a stencil's file.
func (c *Client) ExportStencil(ctx context.Context, name string, to io.Writer) error {
	response, err := c.send(ctx, "GET", "/stencils/"+url.PathEscape(name)+"/file", nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(to, response.Body)
	return err
}

// Dump writes a site's database as SQL; an error after some of it says that it is not whole.
func (c *Client) Dump(ctx context.Context, name string, to io.Writer, tables ...string) error {
	response, err := c.send(ctx, "GET", sitePath(name, "/dump?"+url.Values{"table": tables}.Encode()), nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err = io.Copy(to, response.Body); err != nil {
		return fmt.Errorf("the dump broke off, and is not whole: %w; see logs/service.log in the home folder, and try again", err)
	}
	return nil
}

// ImportStencil takes a stencil's file in.
func (c *Client) ImportStencil(ctx context.Context, name string, from io.Reader) (s Stencil, err error) {
	response, err := c.send(ctx, "PUT", "/stencils/"+url.PathEscape(name)+"/file", from)
	if err != nil {
		return s, err
	}
	defer response.Body.Close()
	return s, json.NewDecoder(response.Body).Decode(&s)
}

// Shelf lists the releases, plugins and themes that are kept on the service's machine.
func (c *Client) Shelf(ctx context.Context) (page ShelfPage, err error) {
	return page, c.call(ctx, "GET", "/shelf", nil, &page)
}

// AddToShelf puts a zip archive on the shelf.
func (c *Client) AddToShelf(ctx context.Context, name string, from io.Reader) (item ShelfItem, err error) {
	response, err := c.send(ctx, "PUT", "/shelf/"+url.PathEscape(name), from)
	if err != nil {
		return item, err
	}
	defer response.Body.Close()
	return item, json.NewDecoder(response.Body).Decode(&item)
}

// FetchToShelf has the service fetch an archive.
func (c *Client) FetchToShelf(ctx context.Context, f FetchToShelf) (page ShelfPage, err error) {
	return page, c.call(ctx, "POST", "/shelf/fetch", f, &page)
}

// DropFromShelf removes an archive.
func (c *Client) DropFromShelf(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/shelf/"+url.PathEscape(name), nil, nil)
}

// Defaults returns what is set once for new sites.
func (c *Client) Defaults(ctx context.Context) (page DefaultsPage, err error) {
	return page, c.call(ctx, "GET", "/defaults", nil, &page)
}

// SetDefaults sets some of them; an empty value takes one back.
func (c *Client) SetDefaults(ctx context.Context, settings map[string]string) (page DefaultsPage, err error) {
	return page, c.call(ctx, "PUT", "/defaults", wire.SetDefaults{Settings: settings}, &page)
}

// Label changes the group, note and place of sites in the fleet; what is nil stays.
func (c *Client) Label(ctx context.Context, l Label) (sites []Site, err error) {
	l.Names = inASCII(l.Names)
	return sites, c.call(ctx, "POST", "/sites/label", l, &sites)
}

// CMS lists what sites can be made of.
func (c *Client) CMS(ctx context.Context) (k CMSPage, err error) {
	return k, c.call(ctx, "GET", "/cms", nil, &k)
}

// Ticket draws an address that signs a user in to a site, once; empty means the administrator.
func (c *Client) Ticket(ctx context.Context, name, as string) (t Ticket, err error) {
	return t, c.call(ctx, "POST", sitePath(name, "/tickets"), wire.AskTicket{As: as}, &t)
}

// Users lists a site's own users.
func (c *Client) Users(ctx context.Context, name string) (users []User, err error) {
	return users, c.call(ctx, "GET", sitePath(name, "/users"), nil, &users)
}

// SetPassword gives one of a site's users another password, generated where it is empty.
func (c *Client) SetPassword(ctx context.Context, name, user string, asked NewPassword) (set NewPassword, err error) {
	return set, c.call(ctx, "PUT", sitePath(name, "/users/"+url.PathEscape(user)+"/password"), asked, &set)
}

// ReplaceAdministrator puts a site's administrator in the place of one of its users, and returns the administrator with the password.
func (c *Client) ReplaceAdministrator(ctx context.Context, name string, n NewAdministrator) (admin Administrator, err error) {
	return admin, c.call(ctx, "PUT", sitePath(name, "/administrator"), n, &admin)
}

// Rename gives a site another name or domain; the operation goes on after it returns.
func (c *Client) Rename(ctx context.Context, name string, r Rename) (o Operation, err error) {
	return o, c.call(ctx, "POST", sitePath(name, "/rename"), r, &o)
}

// PreviewRename says what renaming would change in the database.
func (c *Client) PreviewRename(ctx context.Context, name string, r Rename) (t Tally, err error) {
	return t, c.call(ctx, "POST", sitePath(name, "/rename/preview"), r, &t)
}

// LoadSQL puts a dump in the place of a site's database; the operation goes on after it returns.
func (c *Client) LoadSQL(ctx context.Context, name string, l LoadSQL) (o Operation, err error) {
	return o, c.call(ctx, "POST", sitePath(name, "/load"), l, &o)
}

// PreviewLoad says what would be changed in a dump while it is loaded.
func (c *Client) PreviewLoad(ctx context.Context, name string, l LoadSQL) (t Tally, err error) {
	return t, c.call(ctx, "POST", sitePath(name, "/load/preview"), l, &t)
}

// WriteSiteFile writes a site's own file into its folder, and says where.
func (c *Client) WriteSiteFile(ctx context.Context, name string, content bool) (w Written, err error) {
	return w, c.call(ctx, "POST", sitePath(name, "/site-file"), wire.WriteSiteFile{Content: content}, &w)
}

// CompareFleet says what leads from the sites that there are to those of a fleet file.
func (c *Client) CompareFleet(ctx context.Context, text string) (steps []fleet.Step, err error) {
	return steps, c.call(ctx, "POST", "/fleet/compare", wire.FleetText{Text: text}, &steps)
}

// MatchFleet brings the sites to what a fleet file says; the operation goes on after it returns.
func (c *Client) MatchFleet(ctx context.Context, text string) (o Operation, err error) {
	return o, c.call(ctx, "POST", "/fleet/match", wire.FleetText{Text: text}, &o)
}

// SetDomains gives a site further domains, and drops some that it had before.
func (c *Client) SetDomains(ctx context.Context, name string, d Domains) (s Site, err error) {
	return s, c.call(ctx, "PUT", sitePath(name, "/domains"), d, &s)
}

// Authority is the home's own certificate authority.
func (c *Client) Authority(ctx context.Context) (a Authority, err error) {
	return a, c.call(ctx, "GET", "/authority", nil, &a)
}

// Hosts says which domains this machine has to be told of.
func (c *Client) Hosts(ctx context.Context) (h Hosts, err error) {
	return h, c.call(ctx, "GET", "/hosts", nil, &h)
}

// AllowHosts lets the service keep a block in the hosts file, or no longer.
func (c *Client) AllowHosts(ctx context.Context, allow bool) (h Hosts, err error) {
	return h, c.call(ctx, "PUT", "/hosts", wire.AllowHosts{Allow: allow}, &h)
}

// PreviewRestack says what a change of stack would do.
func (c *Client) PreviewRestack(ctx context.Context, name string, r Restack) (p RestackPreview, err error) {
	err = c.call(ctx, "POST", sitePath(name, "/restack/preview"), r, &p)
	return p, err
}

// Restack changes a site's stack; the operation goes on after it returns.
func (c *Client) Restack(ctx context.Context, name string, r Restack) (o Operation, err error) {
	err = c.call(ctx, "POST", sitePath(name, "/restack"), r, &o)
	return o, err
}

// Settings returns what a site's engines are set to, and what could be.
func (c *Client) Settings(ctx context.Context, name string) (p SettingsPage, err error) {
	err = c.call(ctx, "GET", sitePath(name, "/settings"), nil, &p)
	return p, err
}

// Adjust changes a site's settings; the operation goes on after it returns.
func (c *Client) Adjust(ctx context.Context, name string, settings Settings, stay bool) (o Operation, err error) {
	err = c.call(ctx, "PUT", sitePath(name, "/settings"), wire.Adjust{Settings: settings, Stay: stay}, &o)
	return o, err
}

// Try tries copies of a site on many stacks; the operation goes on after it returns.
func (c *Client) Try(ctx context.Context, name string, t Trial) (o Operation, err error) {
	err = c.call(ctx, "POST", sitePath(name, "/trial"), t, &o)
	return o, err
}

// Info returns everything that a site runs on.
func (c *Client) Info(ctx context.Context, name string) (i Info, err error) {
	err = c.call(ctx, "GET", sitePath(name, "/info"), nil, &i)
	return i, err
}

// Environment returns what a command needs to run as one of a site's own.
func (c *Client) Environment(ctx context.Context, name string) (e Environment, err error) {
	err = c.call(ctx, "GET", sitePath(name, "/environment"), nil, &e)
	return e, err
}

// Logs sends the last lines of a site's logs (all where none is named), and if follow is set those that are added, until ctx ends.
func (c *Client) Logs(ctx context.Context, name string, logs []string, last int, follow, checks bool, see func(LogLine)) error {
	query := url.Values{"log": {strings.Join(logs, ",")}, "last": {fmt.Sprint(last)}, "follow": {fmt.Sprint(follow)},
		"checks": {fmt.Sprint(checks)}}
	err := c.events(ctx, sitePath(name, "/logs/events?"+query.Encode()), func(event string, data []byte) (bool, error) {
		var line LogLine
		if event == "line" {
			if err := json.Unmarshal(data, &line); err != nil {
				return false, err
			}
			see(line)
		}
		return event == "end", nil
	})
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// Link makes a one-time sign-in link for the console.
func (c *Client) Link(ctx context.Context) (l Link, err error) {
	err = c.call(ctx, "POST", "/links", nil, &l)
	return l, err
}

// EndSessions signs all browsers out of the console.
func (c *Client) EndSessions(ctx context.Context) (e Ended, err error) {
	err = c.call(ctx, "DELETE", "/sessions", nil, &e)
	return e, err
}

// Watch follows an operation until it is over and returns it as it ended. see, where given, is shown it at every change.
func (c *Client) Watch(ctx context.Context, id string, see func(Watched)) (watched Watched, err error) {
	err = c.events(ctx, "/operations/"+url.PathEscape(id)+"/events", func(event string, data []byte) (bool, error) {
		change := Watched{Activity: map[string]wire.Activity{}}
		if err := json.Unmarshal(data, &change); err != nil {
			return false, err
		}
		watched = watched.With(change)
		if see != nil {
			see(watched)
		}
		return event == "end", nil
	})
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = fmt.Errorf("%w: it ended while operation %s was running; see how it went on with: vessik operations %s", ErrUnreachable, id, id)
	}
	return watched, err
}

// events reads a stream of server-sent events until see says that it is over. A stream that breaks off is io.ErrUnexpectedEOF.
func (c *Client) events(ctx context.Context, path string, see func(event string, data []byte) (over bool, err error)) error {
	response, err := c.send(ctx, "GET", path, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewReader(response.Body)
	event := ""
	for {
		line, err := lines.ReadString('\n')
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return io.ErrUnexpectedEOF
		}
		if name, ok := strings.CutPrefix(line, "event: "); ok {
			event = strings.TrimSpace(name)
		}
		if data, ok := strings.CutPrefix(line, "data: "); ok {
			if over, err := see(event, []byte(data)); over || err != nil {
				return err
			}
		}
	}
}

// DialLoopback connects to this machine whatever the host of an address is called: not every resolver knows names below localhost.
// It is for an http.Transport that asks sites by their URL.
func DialLoopback(ctx context.Context, _, address string) (net.Conn, error) {
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	var dialer net.Dialer
	return dialer.DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", port))
}

// Terminal is a one-time address, below the API's, of a terminal in a site's cell: a WebSocket as those of commands.
func (c *Client) Terminal(ctx context.Context, site string) (link Link, err error) {
	return link, c.call(ctx, "POST", sitePath(site, "/terminal"), nil, &link)
}
