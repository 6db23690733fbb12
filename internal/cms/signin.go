package cms

import (
	"context"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
)

// Client asks a site as a browser would: with cookies, and without following redirects by itself.
type Client interface {
	Do(*http.Request) (*http.Response, error)
}

// pageLimit bounds what is read of one page.
const pageLimit = 4 << 20

// Page fetches one page and returns its status and text.
func Page(ctx context.Context, client Client, method, address string, form url.Values) (*http.Response, string, error) {
	var body io.Reader
	if form != nil {
		body = strings.NewReader(form.Encode())
	}
	request, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, "", err
	}
	if form != nil {
		request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	response, err := client.Do(request)
	if err != nil {
		return nil, "", err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, pageLimit))
	return response, string(text), err
}

var (
	inputField = regexp.MustCompile(`<input[^>]*>`)
	attribute  = regexp.MustCompile(`([a-z]+)=["']([^"']*)["']`)
	tags       = regexp.MustCompile(`<[^>]*>`)
)

// SignInSteps goes through the CMS's own login form to the dashboard. It returns what it saw; err says why nobody got in.
func (k *Definition) SignInSteps(ctx context.Context, client Client, base, user, password string) (observed string, err error) {
	how := k.SignIn
	response, page, err := Page(ctx, client, "GET", base+how.Address, nil)
	if err != nil {
		return "", err
	}
	if response.StatusCode != http.StatusOK || !strings.Contains(page, how.Form) {
		return "", fmt.Errorf("%s answers %s without a login form", how.Address, response.Status)
	}
	form := url.Values{}
	for _, field := range inputField.FindAllString(formWith(page, how.Password), -1) {
		values := map[string]string{}
		for _, match := range attribute.FindAllStringSubmatch(field, -1) {
			values[match[1]] = html.UnescapeString(match[2])
		}
		if values["name"] != "" && values["type"] != "checkbox" {
			form.Set(values["name"], values["value"])
		}
	}
	form.Set(how.User, user)
	form.Set(how.Password, password)
	response, page, err = Page(ctx, client, "POST", base+how.Address, form)
	if err != nil {
		return "", err
	}
	if response.StatusCode != http.StatusFound {
		reason := "no reason given"
		if match := k.submatch(how.Error, page); match != nil {
			reason = strings.Join(strings.Fields(html.UnescapeString(tags.ReplaceAllString(match[1], ""))), " ")
		}
		return "", fmt.Errorf("the login form answers %s: %s", response.Status, reason)
	}
	response, page, err = Page(ctx, client, "GET", base+how.Dashboard, nil)
	if err != nil {
		return "", err
	}
	if response.StatusCode != http.StatusOK || !strings.Contains(page, how.Mark) {
		return "", fmt.Errorf("the dashboard answers %s after signing in", response.Status)
	}
	// A check leaves no open session behind.
	if match := k.submatch(how.SignOut, page); match != nil {
		if _, _, err := Page(ctx, client, "GET", html.UnescapeString(match[1]), nil); err != nil {
			return "", fmt.Errorf("sign out again: %w", err)
		}
	}
	return user + " signed in, the dashboard answers 200", nil
}

var forms = regexp.MustCompile(`(?is)<form\b.*?</form>`)

// formWith is the form of a page that has a field of that name; the whole page where there is none.
func formWith(page, field string) string {
	named := regexp.MustCompile(`(?i)name=["']?` + regexp.QuoteMeta(field) + `["'\s>]`)
	for _, form := range forms.FindAllString(page, -1) {
		if named.MatchString(form) {
			return form
		}
	}
	return page
}

func (k *Definition) submatch(pattern, text string) []string {
	if r := k.regexps[pattern]; r != nil {
		return r.FindStringSubmatch(text)
	}
	return nil
}

// SignInPaths are the paths of pages where people sign in: that of the form, or, where it is known by a query alone, that of the dashboard.
func (d *Definition) SignInPaths() []string {
	switch {
	case d.SignIn.Address != "" && !strings.Contains(d.SignIn.Address, "?"):
		return []string{d.SignIn.Address}
	case d.SignIn.Dashboard != "":
		return []string{d.SignIn.Dashboard}
	}
	return nil
}
