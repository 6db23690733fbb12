package verify

import (
	"errors"
	"fmt"
	"html"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"vessik/internal/cms"
	"vessik/internal/core/check"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
)

// FatalIn is the error of PHP that ended a page, in its own words; empty for none.
func FatalIn(page string) string { return phpFatal.FindString(page) }

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
		return failed(expected, err.Error(), fmt.Sprintf("if the site's own port answers, restart the service; else: vessik start %s",
			i.site.Name))
	}
	for _, host := range i.site.Hosts() {
		if !i.v.Finds(host) {
			return failed(expected, host+" does not lead to this machine, although the site "+answer.Site+" answers for it",
				"see how to have it found: vessik hosts")
		}
	}
	return passed(expected, "the site "+answer.Site+" answers")
}

// saidFatal is what a page says where PHP hides its errors.
const saidFatal = `PHP (Fatal|Parse) error:[^<\n]*|There has been a critical error on this website|Error establishing a database connection`

var (
	pageTitle = regexp.MustCompile(`(?is)<title[^>]*>(.*?)</title>`)
	phpFatal  = regexp.MustCompile(`(?i)<b>(fatal error|parse error)</b>:[^<]*|` + saidFatal)
	pageEnd   = regexp.MustCompile(`(?i)</html\s*>`)
	phpError  = regexp.MustCompile(`(?i)<b>(fatal error|parse error|warning|notice|deprecated)</b>:[^<]*|` + saidFatal)
)

// frontPage waits for the CMS's own installer where the site is made of a release whose installer has not run: its front page may do
// anything until then.
func (i *inspection) frontPage() outcome {
	found := i.frontPageNow()
	waits := found.verdict == check.Fail && i.site.Origin.Kind == site.FromArchive && i.v.Tables(i.ctx, i.site) == 0
	i.v.Await(i.site.Name, waits)
	if !waits {
		return found
	}
	d := i.site.Database
	return outcome{verdict: check.Skip, expected: found.expected, observed: "it waits for its installer (" + found.observed + ")",
		remedy: fmt.Sprintf("run the installer at %s; the database is %s on 127.0.0.1, port %d, its user %s, with the password that "+
			"vessik site %s -secrets tells; when it is done, the site is verified again by itself", i.base, d.Name,
			i.v.Machine.DatabasePort(i.site.Stack.Database), d.User, i.site.Name)}
}

func (i *inspection) frontPageNow() outcome {
	title := i.site.Title
	i.v.Machine.TellGone(i.site)
	if _, err := os.Stat(i.site.DocumentRoot()); errors.Is(err, fs.ErrNotExist) {
		return failed("the site's folder is there", i.site.DocumentRoot()+" is gone",
			"put it back, or retire the site: vessik retire "+i.site.Name)
	}
	if pool := i.pool(); pool != nil {
		defer pool.Close()
		if now, err := i.cms.TitleOf(i.ctx, pool, i.v.Machine.CMSFacts(i.site)); err == nil {
			title = now
		}
	}
	expected := fmt.Sprintf("200, titled %q, no PHP error", title)
	if i.cms.Untitled {
		title, expected = "", "200, or on to another page of the site; no PHP error"
	}
	log := filepath.Join(i.logs(), "php-error.log")
	before := sizeOf(log)
	response, page, err := cms.Page(i.ctx, i.client, "GET", i.base, nil)
	remedy := "mend what it says; all that PHP said is in " + log
	if err != nil {
		return failed(expected, plainError(err).Error(), remedy)
	}
	observed := response.Status
	for onwards := 0; i.cms.Untitled && onwards < 5; onwards++ {
		address, err := response.Request.URL.Parse(response.Header.Get("Location"))
		if err != nil || response.Header.Get("Location") == "" || address.Host != response.Request.URL.Host {
			break
		}
		if response, page, err = cms.Page(i.ctx, i.client, "GET", address.String(), nil); err != nil {
			return failed(expected, plainError(err).Error(), remedy)
		}
		observed = fmt.Sprintf("on to %s, %s", address.Path, response.Status)
	}
	if location := response.Header.Get("Location"); location == i.base && i.site.HTTPS && strings.HasPrefix(i.site.Stack.Web, "apache") {
		return failed(expected, observed+", to itself", "if .htaccess asks for %{HTTPS}, have it ask for %{ENV:HTTPS}, which is on: Apache "+
			"stands behind the gateway, and never sees https itself")
	} else if location != "" {
		return failed(expected, observed+", to "+location,
			"a plugin or the site's own settings send visitors elsewhere: set the site's address to "+i.base)
	}
	faults := phpError
	if i.site.Settings.Debug { // the rest is shown on purpose
		faults = phpFatal
	}
	if match := faults.FindString(page); match != "" {
		return failed(expected, observed+": "+html.UnescapeString(match)+lastError(log), remedy)
	}
	if response.StatusCode != http.StatusOK {
		return failed(expected, observed+lastError(log), remedy)
	}
	if said := errorSince(log, before); said != "" && !pageEnd.MatchString(page) { // too late for another status
		return failed(expected, observed+", but the page breaks off in the middle"+said, remedy)
	}
	shown := ""
	if match := pageTitle.FindStringSubmatch(page); match != nil {
		shown = strings.TrimSpace(html.UnescapeString(match[1]))
	}
	if !strings.Contains(lettersOf(shown), lettersOf(title)) {
		return failed(expected, fmt.Sprintf("%s, titled %q", observed, shown),
			"see whether the theme prints the site's title, and whether this is the right site")
	}
	i.front = page
	observed = fmt.Sprintf("%s, titled %q", observed, shown)
	if fault := i.cmsChecks(); fault != "" {
		return failed(expected+", and what the CMS asks", fault, remedy)
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

// cmsChecks asks what the CMS has asked besides; fault is what was wrong first.
func (i *inspection) cmsChecks() (fault string) {
	for _, c := range i.cms.Checks {
		response, page, err := cms.Page(i.ctx, i.client, "GET", i.base+c.Address, nil)
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
	addresses, err := i.v.Machine.LearnSubSites(i.ctx, i.site)
	if err != nil {
		return 0, "the list of sub-sites cannot be read: " + err.Error()
	}
	scheme, _, _ := strings.Cut(i.base, "://")
	for _, address := range addresses {
		response, page, err := cms.Page(i.ctx, i.client, "GET", scheme+"://"+address, nil)
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

func sizeOf(file string) int64 {
	info, err := os.Stat(file)
	if err != nil {
		return 0
	}
	return info.Size()
}

// lastError is the last fatal error in PHP's own log, if it is fresh.
func lastError(log string) string {
	if info, err := os.Stat(log); err != nil || time.Since(info.ModTime()) > time.Minute {
		return ""
	}
	return errorSince(log, 0)
}

// errorSince is the last fatal error in what was added to PHP's own log since it had a size.
func errorSince(log string, size int64) string {
	file, err := ownfile.Open(log)
	if err != nil {
		return ""
	}
	defer file.Close()
	file.Seek(max(sizeOf(log)-16<<10, size), io.SeekStart)
	text, _ := io.ReadAll(io.LimitReader(file, 64<<10)) // a site may write faster than this reads
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
		response, text, err := cms.Page(i.ctx, i.client, "GET", address.String(), nil)
		if err != nil {
			return failed(expected, plainError(err).Error(), "restart the service")
		}
		kind := response.Header.Get("Content-Type")
		observed := fmt.Sprintf("%s answers %s, %s, %d bytes", address.Path, response.Status, kind, len(text))
		if response.StatusCode != http.StatusOK || !strings.HasPrefix(kind, "text/css") || text == "" {
			return failed(expected, observed, "see whether that file is in the site's folder and can be read, and what "+filepath.Join(i.logs(),
				"web.log")+" says")
		}
		return passed(expected, observed)
	}
	return outcome{verdict: check.Skip, expected: expected, observed: "the front page links no style sheet of its own"}
}

func (i *inspection) signIn() outcome {
	if i.cms.SignIn.Address == "" {
		return outcome{verdict: check.Skip, expected: "the administrator signs in",
			observed: i.cms.Title + " has no sign-in that Vessik knows"}
	}
	if i.site.AdminHash == "" {
		return outcome{verdict: check.Skip, expected: "the administrator signs in",
			observed: "its users came with a folder or a dump, and Vessik does not know their passwords"}
	}
	expected := fmt.Sprintf("%s signs in with the login form and sees the dashboard", i.site.Administrator.Name)
	observed, err := i.cms.SignInSteps(i.ctx, i.client, i.base, i.site.Administrator.Name, i.site.Administrator.Password)
	if err == nil {
		return passed(expected, observed)
	}
	if pool := i.pool(); pool != nil {
		defer pool.Close()
		if changed, asked := i.cms.PasswordChanged(i.ctx, pool, i.v.Machine.CMSFacts(i.site)); asked == nil && changed {
			return outcome{verdict: check.Skip, expected: expected,
				observed: "the administrator's password was changed since the site was made; Vessik does not know the new one"}
		}
	}
	return failed(expected, plainError(err).Error(), "see whether the user exists and what "+filepath.Join(i.logs(), "php-error.log")+" says")
}
