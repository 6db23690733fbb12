package walk

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
)

// host is a server elsewhere, which answers what it is told by path, and remembers what it was asked.
type host struct {
	*httptest.Server
	mu    sync.Mutex
	asked []string
}

func hosting(t *testing.T, answers map[string]http.HandlerFunc) *host {
	t.Helper()
	h := &host{}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		h.asked = append(h.asked, r.Method+" "+r.URL.RequestURI())
		h.mu.Unlock()
		if answer := answers[r.URL.Path]; answer != nil {
			answer(w, r)
			return
		}
		http.NotFound(w, r)
	}))
	t.Cleanup(h.Close)
	return h
}

func says(title string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprintf(w, "<title>%s</title>", title)
	}
}

func compareWith(t *testing.T, address string, pages ...walk.WalkedPage) (*walk.Compared, error) {
	t.Helper()
	to, err := url.Parse(address)
	require.NoError(t, err)
	return compareElsewhere(context.Background(), to, walk.Walked{URL: "http://moss.localhost:8080/", Pages: pages},
		func(wire.WalkProgress) error { return nil })
}

func page(path, title string) walk.WalkedPage {
	return walk.WalkedPage{Path: path, Status: 200, Title: title, Findings: []walk.PageFinding{}}
}

// What an address elsewhere says of itself is not believed further than it goes: a title is shortened, another host is not followed.
func TestAnAddressElsewhereIsOnlyRead(t *testing.T) {
	other := hosting(t, map[string]http.HandlerFunc{"/": says("Other")})
	away := strings.Replace(other.URL, "127.0.0.1", "localhost", 1)
	h := hosting(t, map[string]http.HandlerFunc{
		"/live/":      says("Front"),
		"/live/away/": func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, away, http.StatusFound) },
		"/live/round/": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/live/round/", http.StatusFound)
		},
		"/live/long/": says(strings.Repeat("moss ", 10_000)),
	})
	compared, err := compareWith(t, h.URL+"/live", page("/", "Front"), page("/away/", "Away"), page("/round/", "Round"),
		page("/long/", "Long"))
	require.NoError(t, err)
	assert.Empty(t, other.asked, "another host is asked nothing")
	assert.Equal(t, []string{"GET /robots.txt", "GET /live/"}, h.asked[:2], "the front page first")
	for _, d := range compared.Differences {
		assert.Less(t, len(d.Text), 400, d.Path)
		assert.NotEqual(t, "/", d.Path, "it is the same")
		assert.False(t, d.Worse(), "%+v", d)
	}
}

func TestWhatRobotsSayIsHeeded(t *testing.T) {
	robots := func(text string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, text) }
	}
	for name, each := range map[string]struct {
		robots http.HandlerFunc
		may    map[string]bool
		pause  time.Duration
	}{
		"none": {nil, map[string]bool{"/": true, "/beds/": true}, elsewherePause},
		"some": {robots("User-agent: *\nDisallow: /beds/\nAllow: /beds/open\n"),
			map[string]bool{"/": true, "/beds/x": false, "/beds/open": true}, elsewherePause},
		"us":        {robots("User-agent: Vessik-check\nDisallow: /\n"), map[string]bool{"/": false}, elsewherePause},
		"slowly":    {robots("User-agent: *\nCrawl-delay: 4\n"), map[string]bool{"/": true}, 4 * time.Second},
		"for ever":  {robots("User-agent: *\nCrawl-delay: 86400\n"), map[string]bool{"/": true}, longestPause},
		"no robots": {robots("<html>not found"), map[string]bool{"/": true}, elsewherePause},
		"down": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusServiceUnavailable) },
			map[string]bool{"/": false}, elsewherePause},
	} {
		t.Run(name, func(t *testing.T) {
			h := hosting(t, map[string]http.HandlerFunc{"/robots.txt": each.robots})
			address, err := url.Parse(h.URL + "/")
			require.NoError(t, err)
			e := elsewhere{address: address, client: h.Client()}
			pause, err := e.rules(context.Background())
			require.NoError(t, err)
			assert.Equal(t, each.pause, pause)
			for path, may := range each.may {
				assert.Equal(t, may, e.may(path), path)
			}
		})
	}
}

func TestAnAddressThatDoesNotAnswerIsSaid(t *testing.T) {
	gone := hosting(t, nil)
	gone.Close()
	_, err := compareWith(t, gone.URL+"/", page("/", "Front"))
	assert.ErrorContains(t, err, "does not answer")
	assert.ErrorContains(t, err, "see whether the address is right")
	h := hosting(t, map[string]http.HandlerFunc{"/": says("Front")})
	to, err := url.Parse(h.URL)
	require.NoError(t, err)
	left := errors.New("nobody waits for it any more")
	_, err = compareElsewhere(context.Background(), to, walk.Walked{URL: "http://moss.localhost/", Pages: []walk.WalkedPage{page("/", "x")}},
		func(wire.WalkProgress) error { return left })
	assert.ErrorIs(t, err, left)
	assert.Equal(t, []string{"GET /robots.txt"}, h.asked)
}

func TestWhatMayNotBeReadIsSaid(t *testing.T) {
	h := hosting(t, map[string]http.HandlerFunc{"/": says("Front"), "/robots.txt": func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "User-agent: *\nDisallow: /\n")
	}})
	_, err := compareWith(t, h.URL+"/", page("/", "Front"))
	assert.ErrorContains(t, err, "see whether its robots.txt allows any", "nothing compared is not nothing different")
	assert.Equal(t, []string{"GET /robots.txt"}, h.asked)
}

func TestHowManyPagesABrowserLooksAt(t *testing.T) {
	few, none, wrong := 3, 0, -1
	for want, asked := range map[int]*int{3: &few, 0: &none} {
		looks, err := looksOf(wire.Walk{Browser: asked})
		if want > 0 && err != nil {
			assert.ErrorContains(t, err, "install the package chromium")
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, want, looks)
	}
	_, err := looksOf(wire.Walk{Browser: &wrong})
	assert.ErrorContains(t, err, "-1 is no number of pages")
	assert.True(t, walkID.MatchString("20261128-222354-19644103"))
	for _, wrong := range []string{"", "last", "../20261128-222354-19644103", "20261128-222354-19644103/", "20261128-222354"} {
		assert.False(t, walkID.MatchString(wrong), wrong)
	}
	for name, good := range map[string]bool{"1-1280.jpg": true, "50-390.jpg": true, "walk.json": false, "../1-1280.jpg": false,
		"1-1280.jpg.next": false} {
		assert.Equal(t, good, pictureName.MatchString(name), name)
	}
}
