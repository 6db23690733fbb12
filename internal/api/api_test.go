package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/records"
)

// face is an API without a service behind it: enough for everything that is decided before one is asked.
func face() (*API, http.Handler) {
	a := &API{Port: 20070, Token: "the-token", Console: fstest.MapFS{"index.html": {Data: []byte("<title>Vessik</title>")},
		"assets/a.js": {Data: []byte("1")}}}
	handler, _ := a.Handler()
	return a, handler
}

func ask(handler http.Handler, method, host, path string, header ...string) *httptest.ResponseRecorder {
	request := httptest.NewRequest(method, "http://"+host+path, nil)
	for i := 0; i+1 < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	recorder := httptest.NewRecorder()
	handler.ServeHTTP(recorder, request)
	return recorder
}

func TestOnlyItsOwnNamesAreAnswered(t *testing.T) {
	_, handler := face()
	for host, want := range map[string]int{"127.0.0.1:20070": 200, "localhost:20070": 200, "[::1]:20070": 200, "vessik.localhost:20070": 200,
		"VESSIK.localhost:20070": 200,
		"127.0.0.1":              421, "127.0.0.1:80": 421, "evil.example:20070": 421, "vessik.localhost.evil.example:20070": 421,
		"fernhollow.localhost:20070": 421} {
		assert.Equal(t, want, ask(handler, "GET", host, "/api/v1/openapi.json", "Authorization", "Bearer the-token").Code, host)
	}
}

func TestSessionsEndWithoutUseAndOutliveARestart(t *testing.T) {
	file := filepath.Join(t.TempDir(), "sessions.json")
	now := time.Now()
	var s sessions
	s.read(file)
	secret := s.begin("Firefox Linux", now)
	assert.True(t, s.use(secret, now.Add(11*time.Hour)))
	for _, forged := range []string{"", "x", secret[:len(secret)-1], secret + "x", hash(secret)} {
		assert.False(t, s.use(forged, now), forged)
	}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.NotContains(t, string(text), secret, "the secret itself is kept nowhere")
	var again sessions
	again.read(file)
	assert.True(t, again.use(secret, now.Add(22*time.Hour)), "since it was used in between")
	assert.False(t, again.use(secret, now.Add(36*time.Hour)))
	other := again.begin("Chrome", now)
	require.Len(t, again.list(other, now), 1)
	assert.True(t, again.list(other, now)[0].Own)
	assert.Equal(t, 1, again.end(func(string, wire.Session) bool { return true }))
	assert.False(t, again.use(other, now))
}

func TestTicketsWorkOnce(t *testing.T) {
	a, handler := face()
	secret, expires := a.tickets.issue(signIn)
	assert.WithinDuration(t, time.Now().Add(ticketLifetime), expires, 2*time.Second)
	post := func(host, origin, secret string) *httptest.ResponseRecorder {
		request := httptest.NewRequest("POST", "http://"+host+signInPath, strings.NewReader(`{"ticket":"`+secret+`"}`))
		request.Header.Set("Origin", origin)
		recorder := httptest.NewRecorder()
		handler.ServeHTTP(recorder, request)
		return recorder
	}
	const console, own = "vessik.localhost:20070", "http://vessik.localhost:20070"
	assert.Equal(t, 403, post("127.0.0.1:20070", own, secret).Code, "the console's host only")
	assert.Equal(t, 403, post(console, "http://fernhollow.localhost", secret).Code, "the console's page only")
	good := post(console, own, secret)
	require.Equal(t, 200, good.Code)
	assert.Empty(t, good.Result().Cookies())
	var in wire.SignedIn
	require.NoError(t, json.Unmarshal(good.Body.Bytes(), &in))
	assert.True(t, a.sessions.use(in.Secret, time.Now()))
	assert.Equal(t, 401, post(console, own, secret).Code)
	late, _ := a.tickets.issue(signIn)
	a.tickets.valid[late] = ticket{time.Now().Add(-time.Second), signIn}
	assert.False(t, a.tickets.take(late, signIn))
	download, _ := a.tickets.issue("/api/v1/stencils/moss/file")
	assert.False(t, a.tickets.take(download, signIn), "each is good for one thing")
}

func TestTheConsoleIsServedOnItsHost(t *testing.T) {
	_, handler := face()
	page := ask(handler, "GET", "vessik.localhost:20070", "/sites/fernhollow")
	assert.Equal(t, 200, page.Code)
	assert.Contains(t, page.Body.String(), "Vessik", "an address of one of its pages")
	assert.Equal(t, "DENY", page.Header().Get("X-Frame-Options"))
	assert.Contains(t, ask(handler, "GET", "vessik.localhost:20070", "/assets/a.js").Header().Get("Cache-Control"), "immutable")
	assert.Equal(t, "http://vessik.localhost:20070/", ask(handler, "GET", "127.0.0.1:20070", "/").Header().Get("Location"))
	assert.Equal(t, 404, ask(handler, "GET", "vessik.localhost:20070", "/api/v1/nothing", "Authorization", "Bearer the-token").Code)
}

func TestErrorsBecomeProblemDetails(t *testing.T) {
	for name, c := range map[string]struct {
		err    error
		status int
	}{
		"fields":       {site.Problems{{Field: "port", Message: "taken", Remedy: "another"}}, 422},
		"unknown":      {site.Problems{{Field: "name", Message: "there is no such site", Remedy: "look", Absent: true}}, 404},
		"not found":    {fmt.Errorf("operation 7: %w", records.ErrNotFound), 404},
		"busy":         {fmt.Errorf("a: %w", operation.ErrBusy), 409},
		"anything":     {errors.New("rain"), 500},
		"already said": {noSuchSite("a"), 404},
	} {
		t.Run(name, func(t *testing.T) {
			recorder := httptest.NewRecorder()
			writeProblem(recorder, asProblem(c.err))
			assert.Equal(t, c.status, recorder.Code)
			assert.Equal(t, "application/problem+json", recorder.Header().Get("Content-Type"))
			var details wire.ProblemDetails
			require.NoError(t, json.Unmarshal(recorder.Body.Bytes(), &details))
			assert.Equal(t, c.status, details.Status)
			assert.NotEmpty(t, details.Title)
			assert.NotEmpty(t, details.Detail)
		})
	}
	assert.NoError(t, asProblem(nil))
}

func TestAMalformedRequestNamesItsField(t *testing.T) {
	_, handler := face()
	recorder := ask(handler, "POST", "127.0.0.1:20070", "/api/v1/sites", "Authorization", "Bearer the-token", "Content-Type",
		"application/json")
	assert.GreaterOrEqual(t, recorder.Code, 400)
	assert.Less(t, recorder.Code, 500)
	assert.Equal(t, "application/problem+json", recorder.Header().Get("Content-Type"))
}

// What the API may answer names a secret only where it is asked for by name.
func TestNoAnswerHasAPlaceForSecrets(t *testing.T) {
	_, document := (&API{}).Handler()
	secret := regexp.MustCompile(`(?i)(passw|hash|salt|secret|token|_key)`)
	asked := []string{"Administrator.password", "AddAccount.password", "Database.password", // of a site, with ?secrets=true
		"DatabasePage.password",
		"Invitation.password",   // where one is asked for
		"Lander.secret",         // which was just made, and is kept nowhere
		"MailAccess.password",   // of a mailbox, which is asked for by a call of its own
		"NewPassword.password",  // that was just set
		"StandingCopy.password"} // with ?secrets=true
	requests := []string{"Request", "NewAdministrator", "SetMailServer", "JoinRelay", "Invite", "Stand"} // what is told to the service
	found := []string{}
	for name, schema := range document.Components.Schemas.Map() {
		for property := range schema.Properties {
			if secret.MatchString(property) && !slices.Contains(requests, name) {
				found = append(found, name+"."+property)
			}
		}
	}
	assert.ElementsMatch(t, asked, found)
}

func TestTheDocumentDescribesEverything(t *testing.T) {
	a := &API{Port: 20070}
	_, document := a.Handler()
	assert.Equal(t, "3.1.0", document.OpenAPI)
	for path, methods := range map[string][]string{"/sites": {"GET", "POST"}, "/sites/preview": {"POST"}, "/sites/{name}": {"GET"},
		"/sites/verify": {"POST"}, "/operations/{id}": {"GET"},
		"/operations/{id}/events": {"GET"}, "/operations/{id}/cancel": {"POST"}, "/events": {"GET"}, "/engines": {"GET"}, "/status": {"GET"},
		"/links": {"POST"}, "/reports": {"GET"}} {
		item := document.Paths["/api/v1"+path]
		if !assert.NotNil(t, item, path) {
			continue
		}
		for _, method := range methods {
			operation := item.Get
			if method == "POST" {
				operation = item.Post
			}
			assert.NotNil(t, operation, method+" "+path)
			assert.NotEmpty(t, operation.Summary, path)
		}
	}
}
