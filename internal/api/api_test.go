package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/provision"
	"vessik/internal/records"
)

// face is an API without a service behind it: enough for everything that is decided before one is asked.
func face() (*API, http.Handler) {
	a := &API{Port: 20070, Token: "the-token", Console: fstest.MapFS{"index.html": {Data: []byte("<title>Vessik</title>")}, "assets/a.js": {Data: []byte("1")}}}
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
	for host, want := range map[string]int{"127.0.0.1:20070": 200, "localhost:20070": 200, "[::1]:20070": 200, "vessik.localhost:20070": 200, "VESSIK.localhost:20070": 200,
		"127.0.0.1": 421, "127.0.0.1:80": 421, "evil.example:20070": 421, "vessik.localhost.evil.example:20070": 421, "fernhollow.localhost:20070": 421} {
		assert.Equal(t, want, ask(handler, "GET", host, "/api/v1/openapi.json", "Authorization", "Bearer the-token").Code, host)
	}
}

func TestSessionsAreSignedAndEnd(t *testing.T) {
	a, _ := face()
	session := a.newSession(time.Now().Add(time.Hour))
	assert.True(t, a.sessionValid(session))
	assert.False(t, a.sessionValid(a.newSession(time.Now().Add(-time.Second))))
	for _, forged := range []string{"", ".", "9999999999", "9999999999.x", "9" + session, session[:len(session)-1]} {
		assert.False(t, a.sessionValid(forged), forged)
	}
	other := &API{Token: "another"}
	assert.False(t, other.sessionValid(session), "another home's")
}

func TestTicketsWorkOnce(t *testing.T) {
	a, handler := face()
	ticket, expires := a.tickets.issue()
	assert.WithinDuration(t, time.Now().Add(ticketLifetime), expires, 2*time.Second)
	wrongHost := ask(handler, "GET", "127.0.0.1:20070", "/sign-in?ticket="+ticket)
	assert.Empty(t, wrongHost.Result().Cookies(), "the console's host only")
	good := ask(handler, "GET", "vessik.localhost:20070", "/sign-in?ticket="+ticket)
	require.Len(t, good.Result().Cookies(), 1)
	assert.Empty(t, ask(handler, "GET", "vessik.localhost:20070", "/sign-in?ticket="+ticket).Result().Cookies())
	late, _ := a.tickets.issue()
	a.tickets.valid[late] = time.Now().Add(-time.Second)
	assert.False(t, a.tickets.take(late))
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
		"unknown":      {site.Problems{{Field: "name", Message: "there is no such site", Remedy: "look"}}, 404},
		"not found":    {fmt.Errorf("operation 7: %w", records.ErrNotFound), 404},
		"busy":         {fmt.Errorf("a: %w", provision.ErrBusy), 409},
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
	recorder := ask(handler, "POST", "127.0.0.1:20070", "/api/v1/sites", "Authorization", "Bearer the-token", "Content-Type", "application/json")
	assert.GreaterOrEqual(t, recorder.Code, 400)
	assert.Less(t, recorder.Code, 500)
	assert.Equal(t, "application/problem+json", recorder.Header().Get("Content-Type"))
}

func TestTheDocumentDescribesEverything(t *testing.T) {
	a := &API{Port: 20070}
	_, document := a.Handler()
	assert.Equal(t, "3.1.0", document.OpenAPI)
	for path, methods := range map[string][]string{"/sites": {"GET", "POST"}, "/sites/derive": {"POST"}, "/sites/{name}": {"GET"}, "/sites/verify": {"POST"}, "/operations/{id}": {"GET"},
		"/operations/{id}/events": {"GET"}, "/operations/{id}/cancel": {"POST"}, "/events": {"GET"}, "/engines": {"GET"}, "/status": {"GET"}, "/links": {"POST"}, "/reports": {"GET"}} {
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
