package provision

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"vessik/internal/core/check"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/kit"
)

// checkTimeout bounds one request of a check.
const checkTimeout = 30 * time.Second

// inspection is one verification of one site: what it has learned so far, and the report as it grows.
type inspection struct {
	p       *Provisioner
	ctx     context.Context
	site    site.Site
	kit     *kit.Kit
	base    string // the site's URL through the gateway
	client  *http.Client
	probe   probeAnswer // what a request that the site served said
	server  string      // what the web server called itself
	probed  error
	front   string // the front page's text
	results []check.Result
	grown   func(check.SiteReport)
}

// verify asks a site everything, from outside. grown is shown the report each time a check is done.
func (p *Provisioner) verify(ctx context.Context, s site.Site, grown func(check.SiteReport)) check.SiteReport {
	jar, _ := cookiejar.New(nil)
	transport := &http.Transport{DialContext: dialLoopback, ResponseHeaderTimeout: checkTimeout, DisableCompression: true}
	defer transport.CloseIdleConnections()
	i := &inspection{p: p, ctx: ctx, site: s, kit: p.kitOf(s), base: s.URL(p.settings.GatewayPort), grown: grown,
		client: &http.Client{Transport: transport, Jar: jar, Timeout: checkTimeout,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	i.run(check.WebAnswers, i.webAnswers)
	i.run(check.DomainRoutes, i.domainRoutes)
	i.run(check.FrontPage, i.frontPage)
	i.run(check.Assets, i.assets)
	i.run(check.SignIn, i.signIn)
	i.run(check.PHPVersion, func() outcome { return i.version("PHP", s.Stack.PHP, i.probe.PHP) })
	i.run(check.WebVersion, func() outcome { return i.version("the web server", s.Stack.Web, i.server) })
	i.run(check.DatabaseVersion, func() outcome { return i.version("the database server", s.Stack.Database, i.probe.Database) })
	i.run(check.DatabasePrivate, i.databasePrivate)
	i.run(check.FilesPrivate, i.filesPrivate)
	return check.Of(s.Name, i.results)
}

// dialLoopback goes to this machine whatever the host is called: not every resolver knows names below localhost.
func dialLoopback(ctx context.Context, _, address string) (net.Conn, error) {
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	var dialer net.Dialer
	return dialer.DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", port))
}

// outcome is what one check found.
type outcome struct {
	verdict                    check.Verdict
	expected, observed, remedy string
}

func passed(expected, observed string) outcome {
	return outcome{verdict: check.Pass, expected: expected, observed: observed}
}
func failed(expected, observed, remedy string) outcome {
	return outcome{verdict: check.Fail, expected: expected, observed: observed, remedy: remedy}
}

func (i *inspection) run(id check.ID, ask func() outcome) {
	started := time.Now()
	found := ask()
	i.results = append(i.results, check.Result{ID: id, Title: id.Title(), Verdict: found.verdict, Expected: found.expected, Observed: found.observed,
		Remedy: found.remedy, Milliseconds: time.Since(started).Milliseconds()})
	i.grown(check.Of(i.site.Name, slices.Clone(i.results)))
}

// probeAsk and probeAnswer are what the service and the PHP in probe.php say to each other.
type probeAsk struct {
	Site       string         `json:"site"`
	Database   map[string]any `json:"database,omitempty"`
	Statements []string       `json:"statements,omitempty"`
	Paths      []string       `json:"paths,omitempty"`
	Sockets    []string       `json:"sockets,omitempty"`
	Info       bool           `json:"info,omitempty"` // everything that is set
}

type probeAnswer struct {
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

	About      map[string]string `json:"about"`
	Extensions map[string]string `json:"extensions"`
	Settings   map[string]string `json:"settings"`
	Variables  map[string]string `json:"variables"`
}

// askProbe has a request served by the site's own PHP answer from inside.
func (i *inspection) askProbe(address string, ask probeAsk) (answer probeAnswer, server string, err error) {
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

func (i *inspection) credentials() map[string]any {
	d := i.site.Database
	return map[string]any{"host": "127.0.0.1", "port": i.p.DatabasePort(i.site.Stack.Database), "name": d.Name, "user": d.User, "password": d.Password}
}

func (i *inspection) logs() string { return i.p.Home.siteLogs(i.site.Name) }

func (i *inspection) webAnswers() outcome {
	expected := fmt.Sprintf("the site answers on 127.0.0.1:%d", i.site.Port)
	i.probe, i.server, i.probed = i.askProbe(i.ownPort(), probeAsk{Database: i.credentials()})
	if i.probed != nil {
		observed := i.probed.Error() + lastError(filepath.Join(i.logs(), "php-error.log"))
		if i.site.Reason != "" {
			observed += "; " + i.site.Reason
		}
		return failed(expected, observed, fmt.Sprintf("look into %s, mend what it says, then: vessik start %s", i.logs(), i.site.Name))
	}
	return passed(expected, "it answers 200, served by "+i.server)
}

func (i *inspection) domainRoutes() outcome {
	expected := i.base + " reaches the site"
	answer, _, err := i.askProbe(i.base, probeAsk{})
	if err != nil {
		return failed(expected, err.Error(), fmt.Sprintf("if the site's own port answers, restart the service; else: vessik start %s", i.site.Name))
	}
	for _, host := range i.site.Hosts() {
		if !i.p.finds(host) {
			return failed(expected, host+" does not lead to this machine, although the site "+answer.Site+" answers for it", "see how to have it found: vessik hosts")
		}
	}
	return passed(expected, "the site "+answer.Site+" answers")
}

var (
	pageTitle = regexp.MustCompile(`(?is)<title[^>]*>(.*?)</title>`)
	phpFatal  = regexp.MustCompile(`(?i)<b>(fatal error|parse error)</b>:[^<]*|PHP (Fatal|Parse) error:[^<\n]*|There has been a critical error on this website|Error establishing a database connection`)
	phpError  = regexp.MustCompile(`(?i)<b>(fatal error|parse error|warning|notice|deprecated)</b>:[^<]*|PHP (Fatal|Parse) error:[^<\n]*|There has been a critical error on this website|Error establishing a database connection`)
)

func (i *inspection) frontPage() outcome {
	title := i.site.Title
	if pool := i.pool(); pool != nil {
		defer pool.Close()
		if now, err := i.kit.TitleOf(i.ctx, pool, i.p.kitFacts(i.site)); err == nil {
			title = now
		}
	}
	expected := fmt.Sprintf("200, titled %q, no PHP error", title)
	if i.kit.Untitled {
		title, expected = "", "200, or on to another page of the site; no PHP error"
	}
	response, page, err := kit.Page(i.ctx, i.client, "GET", i.base, nil)
	log := filepath.Join(i.logs(), "php-error.log")
	remedy := "mend what it says; all that PHP said is in " + log
	if err != nil {
		return failed(expected, plainError(err).Error(), remedy)
	}
	observed := response.Status
	for onwards := 0; i.kit.Untitled && onwards < 5; onwards++ {
		address, err := response.Request.URL.Parse(response.Header.Get("Location"))
		if err != nil || response.Header.Get("Location") == "" || address.Host != response.Request.URL.Host {
			break
		}
		if response, page, err = kit.Page(i.ctx, i.client, "GET", address.String(), nil); err != nil {
			return failed(expected, plainError(err).Error(), remedy)
		}
		observed = fmt.Sprintf("on to %s, %s", address.Path, response.Status)
	}
	if location := response.Header.Get("Location"); location != "" {
		return failed(expected, observed+", to "+location, "a plugin or the site's own settings send visitors elsewhere: set the site's address to "+i.base)
	}
	errors := phpError
	if i.site.Settings.Debug { // the rest is shown on purpose
		errors = phpFatal
	}
	if match := errors.FindString(page); match != "" {
		return failed(expected, observed+": "+html.UnescapeString(match)+lastError(log), remedy)
	}
	if response.StatusCode != http.StatusOK {
		return failed(expected, observed+lastError(log), remedy)
	}
	shown := ""
	if match := pageTitle.FindStringSubmatch(page); match != nil {
		shown = strings.TrimSpace(html.UnescapeString(match[1]))
	}
	if !strings.Contains(lettersOf(shown), lettersOf(title)) {
		return failed(expected, fmt.Sprintf("%s, titled %q", observed, shown), "see whether the theme prints the site's title, and whether this is the right site")
	}
	i.front = page
	observed = fmt.Sprintf("%s, titled %q", observed, shown)
	if fault := i.kitChecks(); fault != "" {
		return failed(expected+", and what the kit asks", fault, remedy)
	}
	if i.site.Network != "" {
		subs, fault := i.subSites()
		if fault != "" {
			return failed(expected+", and so every sub-site", fault, remedy)
		}
		observed += fmt.Sprintf("; %d sub-sites answer", subs)
	}
	return passed(expected, observed)
}

// kitChecks asks what the kit has asked besides; fault is what was wrong first.
func (i *inspection) kitChecks() (fault string) {
	for _, c := range i.kit.Checks {
		response, page, err := kit.Page(i.ctx, i.client, "GET", i.base+c.Address, nil)
		switch {
		case err != nil:
			return fmt.Sprintf("%s: %s: %v", c.About, c.Address, plainError(err))
		case !slices.Contains(c.Status, response.StatusCode):
			return fmt.Sprintf("%s: %s answers %s", c.About, c.Address, response.Status)
		case !strings.Contains(page, c.Text):
			return fmt.Sprintf("%s: %s answers without %q", c.About, c.Address, c.Text)
		}
	}
	return ""
}

// subSites asks every sub-site of a network for its front page.
func (i *inspection) subSites() (answered int, fault string) {
	pool := i.pool()
	if pool == nil {
		return 0, "the database server does not run"
	}
	defer pool.Close()
	addresses, err := i.kit.SubSites(i.ctx, pool, i.p.kitFacts(i.site))
	if err != nil {
		return 0, "the list of sub-sites cannot be read: " + err.Error()
	}
	for _, address := range addresses {
		response, page, err := kit.Page(i.ctx, i.client, "GET", "http://"+address, nil)
		switch {
		case err != nil:
			return 0, address + ": " + plainError(err).Error()
		case response.StatusCode != http.StatusOK:
			return 0, strings.TrimSpace(fmt.Sprintf("%s answers %s %s", address, response.Status, response.Header.Get("Location")))
		}
		if match := phpFatal.FindString(page); match != "" {
			return 0, address + ": " + html.UnescapeString(match)
		}
	}
	return len(addresses), ""
}

// lastError is the last fatal error in PHP's own log, if it is fresh.
func lastError(log string) string {
	info, err := os.Stat(log)
	if err != nil || time.Since(info.ModTime()) > time.Minute {
		return ""
	}
	file, err := os.Open(log)
	if err != nil {
		return ""
	}
	defer file.Close()
	file.Seek(max(info.Size()-16<<10, 0), io.SeekStart)
	text, _ := io.ReadAll(file)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	for _, line := range slices.Backward(lines) {
		if _, message, ok := strings.Cut(line, "PHP Fatal error:"); ok {
			return ". PHP says: " + strings.TrimSpace(message)
		}
		if _, message, ok := strings.Cut(line, "PHP Parse error:"); ok {
			return ". PHP says: " + strings.TrimSpace(message)
		}
	}
	return ""
}

// lettersOf keeps what a theme's typography does not change.
func lettersOf(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, text)
}

var styleSheet = regexp.MustCompile(`(?i)<link[^>]+rel=["']?stylesheet[^>]*>`)
var linkTarget = regexp.MustCompile(`(?i)href=["']([^"']+)["']`)

func (i *inspection) assets() outcome {
	const expected = "a style sheet that the front page links answers 200 as text/css"
	if i.front == "" {
		return outcome{verdict: check.Skip, expected: expected, observed: "there is no front page to look at"}
	}
	base, _ := url.Parse(i.base)
	for _, link := range styleSheet.FindAllString(i.front, -1) {
		match := linkTarget.FindStringSubmatch(link)
		if match == nil {
			continue
		}
		address, err := base.Parse(html.UnescapeString(match[1]))
		if err != nil || address.Host != base.Host {
			continue // on another host: not ours to promise
		}
		response, text, err := kit.Page(i.ctx, i.client, "GET", address.String(), nil)
		if err != nil {
			return failed(expected, plainError(err).Error(), "restart the service")
		}
		kind := response.Header.Get("Content-Type")
		observed := fmt.Sprintf("%s answers %s, %s, %d bytes", address.Path, response.Status, kind, len(text))
		if response.StatusCode != http.StatusOK || !strings.HasPrefix(kind, "text/css") || text == "" {
			return failed(expected, observed, "see whether that file is in the site's folder and can be read, and what "+filepath.Join(i.logs(), "web.log")+" says")
		}
		return passed(expected, observed)
	}
	return outcome{verdict: check.Skip, expected: expected, observed: "the front page links no style sheet of its own"}
}

func (i *inspection) signIn() outcome {
	if i.kit.SignIn.Address == "" {
		return outcome{verdict: check.Skip, expected: "the administrator signs in", observed: "a " + i.kit.Title + " has no sign-in that Vessik knows"}
	}
	if i.site.AdminHash == "" {
		return outcome{verdict: check.Skip, expected: "the administrator signs in", observed: "its users came with a folder or a dump, and Vessik does not know their passwords"}
	}
	expected := fmt.Sprintf("%s signs in with the login form and sees the dashboard", i.site.Admin.User)
	observed, err := i.kit.SignInSteps(i.ctx, i.client, i.base, i.site.Admin.User, i.site.Admin.Password)
	if err == nil {
		return passed(expected, observed)
	}
	if pool := i.pool(); pool != nil {
		defer pool.Close()
		if changed, asked := i.kit.PasswordChanged(i.ctx, pool, i.p.kitFacts(i.site)); asked == nil && changed {
			return outcome{verdict: check.Skip, expected: expected, observed: "the administrator's password was changed since the site was made; Vessik does not know the new one"}
		}
	}
	return failed(expected, plainError(err).Error(), "see whether the user exists and what "+filepath.Join(i.logs(), "php-error.log")+" says")
}

func (i *inspection) version(what, id, observed string) outcome {
	e, err := i.p.Store.Find(id)
	if err != nil {
		return failed(id, err.Error(), "fetch it again: vessik start "+i.site.Name)
	}
	expected := e.Version
	switch {
	case i.probed != nil:
		return failed(expected, "the site does not answer: "+i.probed.Error(), "see the check "+string(check.WebAnswers))
	case observed == "":
		return failed(expected, "the site cannot reach "+what+": "+cmp.Or(i.probe.DatabaseError, "no version told"), "see the logs in "+i.p.Home.path("logs"))
	case versionIn(observed) != expected:
		return failed(expected, observed, "stop and start the site, so that it is handed to "+id)
	}
	return passed(expected, observed)
}

var versionNumber = regexp.MustCompile(`\d+\.\d+\.\d+`)

// versionIn reads 10.11.19 out of 10.11.19-MariaDB-0+deb12u1, or 1.22.1 out of nginx/1.22.1.
func versionIn(text string) string { return versionNumber.FindString(text) }

// databasePrivate tries, as the site's own PHP, what a broken-into site would try.
func (i *inspection) databasePrivate() outcome {
	const expected = "the site's database user sees its own database and can touch no other"
	if i.probed != nil {
		return failed(expected, "the site does not answer: "+i.probed.Error(), "see the check "+string(check.WebAnswers))
	}
	own := i.site.Database.Name
	taken := map[string]bool{}
	others := []string{"mysql"}
	for _, s := range i.p.Sites() {
		if s.Stack.Database == i.site.Stack.Database {
			taken[s.Database.Name] = true
			if s.Name != i.site.Name && len(others) < 4 && s.State != site.Provisioning && s.State != site.Retiring {
				others = append(others, s.Database.Name)
			}
		}
	}
	statements := []string{"SELECT * FROM mysql.global_priv", "SELECT 1 INTO OUTFILE '/tmp/vessik-probe-" + own + "'"}
	made := []string{}
	for _, other := range others {
		statements = append(statements, "USE "+engine.Identifier(other), "CREATE TABLE "+engine.Identifier(other)+".vessik_probe (a INT)")
	}
	if near := strings.ReplaceAll(own, "_", "x"); near != own && !taken[near] { // a grant whose _ is a wildcard would allow it
		statements = append(statements, "CREATE DATABASE "+engine.Identifier(near))
		made = append(made, near)
	}
	answer, _, err := i.askProbe(i.ownPort(), probeAsk{Database: i.credentials(), Statements: statements})
	if err != nil {
		return failed(expected, "the site does not answer: "+err.Error(), "see the check "+string(check.WebAnswers))
	}
	if answer.Database == "" {
		return failed(expected, "the site cannot reach its database: "+answer.DatabaseError, "see the check "+string(check.DatabaseVersion))
	}
	seen := slices.DeleteFunc(answer.Databases, func(name string) bool { return name == own || name == "information_schema" })
	if len(seen) > 0 || len(answer.Touched) > 0 {
		i.cleanDatabases(others, made)
		return failed(expected, fmt.Sprintf("it sees %s; the server accepted %s", cmp.Or(strings.Join(seen, ", "), "no other"), cmp.Or(strings.Join(answer.Touched, "; "), "nothing")),
			"revoke the grants that were added to this user by hand")
	}
	return passed(expected, fmt.Sprintf("it sees %s only; %d statements against %s were refused", own, len(statements), strings.Join(others, ", ")))
}

// cleanDatabases removes what an attack that should have failed has made.
func (i *inspection) cleanDatabases(others, made []string) {
	database, err := i.p.database(i.ctx, i.site.Stack.Database)
	if err != nil {
		return
	}
	for _, other := range others {
		database.Admin().ExecContext(i.ctx, "DROP TABLE IF EXISTS "+engine.Identifier(other)+".vessik_probe")
	}
	for _, name := range made {
		database.Admin().ExecContext(i.ctx, "DROP DATABASE IF EXISTS "+engine.Identifier(name))
	}
}

// filesPrivate tries to read what is not the site's: from its PHP, from a command that its PHP starts, through a neighbour's PHP
// socket, and through a link that the web server would follow.
func (i *inspection) filesPrivate() outcome {
	const expected = "nothing outside the site's folder can be read from it"
	if i.probed != nil {
		return failed(expected, "the site does not answer: "+i.probed.Error(), "see the check "+string(check.WebAnswers))
	}
	home := i.p.Home
	paths := []string{"/etc/passwd", home.TokenFile(), home.path("home.json"), home.path("records"), home.path("run", "sockets")}
	sockets := []string{home.path("run", "records", "db.sock"), i.p.socket(i.site)}
	bait := home.path("home.json")
	for _, s := range i.p.Sites() {
		if s.Name != i.site.Name && (s.State == site.Running || s.State == site.Stopped) {
			paths = append(paths, s.Folder, i.p.kitOf(s).ConfigurationFile(s))
			sockets = append(sockets, i.p.socket(s))
			bait = i.p.kitOf(s).ConfigurationFile(s)
			break
		}
	}
	exists := func(path string) bool { _, err := os.Stat(path); return err == nil }
	paths = slices.DeleteFunc(paths, func(path string) bool { return !exists(path) })
	sockets = slices.DeleteFunc(sockets, func(path string) bool { return !exists(path) })
	answer, _, err := i.askProbe(i.ownPort(), probeAsk{Paths: paths, Sockets: sockets})
	if err != nil {
		return failed(expected, "the site does not answer: "+err.Error(), "see the check "+string(check.WebAnswers))
	}
	leaks := append(answer.Read, answer.Sockets...)
	if leaked, err := i.throughLink(bait); err != nil {
		return failed(expected, "the link could not be tried: "+err.Error(), "see whether the site's folder can be written to")
	} else if leaked {
		leaks = append(leaks, "web server, through a link: "+bait)
	}
	if len(leaks) > 0 {
		remedy := "tell the people who make Vessik: this should not be possible"
		if !i.p.Abilities.Files || !i.p.Abilities.Sockets {
			remedy = "this kernel lacks the means (Landlock and seccomp, see vessik status): use a kernel of 5.19 or later with Landlock"
		}
		return failed(expected, "reached: "+strings.Join(leaks, ", "), remedy)
	}
	whom := "PHP and to a command"
	if !answer.Command {
		whom = "PHP, which may start no command"
	}
	return passed(expected, fmt.Sprintf("%d places and %d sockets refused to %s; links not followed", len(paths), len(sockets), whom))
}

// throughLink lays a link to a neighbour's file into the site's folder, as a broken-into site could, asks for it, and removes it.
func (i *inspection) throughLink(bait string) (leaked bool, err error) {
	secret, err := os.ReadFile(bait)
	if err != nil {
		return false, err
	}
	name := linkPrefix + randomHex(8) + ".txt"
	path := filepath.Join(i.site.DocumentRoot(), name)
	if err := os.Symlink(bait, path); err != nil {
		return false, err
	}
	defer os.Remove(path)
	request, err := http.NewRequestWithContext(i.ctx, "GET", i.ownPort()+name, nil)
	if err != nil {
		return false, err
	}
	i.toSite(request)
	response, err := i.client.Do(request)
	if err != nil {
		return false, plainError(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	return bytes.Contains(body, secret), err
}

// linkPrefix begins the names of those links, so that a service that was killed in between can clear them.
const linkPrefix = "vessik-link-"

func clearLinks(s site.Site) {
	found, _ := filepath.Glob(filepath.Join(s.DocumentRoot(), linkPrefix+"*.txt"))
	for _, path := range found {
		if info, err := os.Lstat(path); err == nil && info.Mode()&os.ModeSymlink != 0 {
			os.Remove(path)
		}
	}
}

// pool reaches the site's database as the administrator; nil when its server does not run.
func (i *inspection) pool() *sql.DB {
	i.p.engineMu.Lock()
	defer i.p.engineMu.Unlock()
	if d := i.p.databases[i.site.Stack.Database]; d != nil {
		return d.Open(i.site.Database.Name)
	}
	return nil
}
