package api

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
)

const (
	sessionIdle    = 12 * time.Hour // a session that is not used for so long has ended
	sessionNoted   = time.Minute    // how exactly its last use is written down
	ticketLifetime = 5 * time.Minute
)

// sessions are those of browsers that signed in to the console. Only the hash of a secret is kept, in memory and in a file, so that a
// restart of the service ends none. The page holds the secret and sends it in a header: a cookie would go to any port of its host.
type sessions struct {
	mu   sync.Mutex
	file string // empty keeps them in memory alone
	open map[string]wire.Session
}

// hash is by what a secret is known.
func hash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// read takes up the sessions of an earlier service.
func (s *sessions) read(file string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.file, s.open = file, map[string]wire.Session{}
	if text, err := ownfile.Read(file); file != "" && err == nil {
		json.Unmarshal(text, &s.open) // a broken file ends them all
	}
}

// write is called with the lock held. What a full disk keeps from being written is lost at the next restart only.
func (s *sessions) write() {
	if text, err := json.Marshal(s.open); s.file != "" && err == nil {
		ownfile.Write(s.file, text, 0o600)
	}
}

// begin opens one and returns its secret, which is known nowhere else.
func (s *sessions) begin(browser string, now time.Time) (secret string) {
	secret = rand.Text() + rand.Text()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open[hash(secret)] = wire.Session{ID: strings.ToLower(rand.Text()[:10]), Browser: browser, StartedAt: now, UsedAt: now}
	s.write()
	return secret
}

// use tells whether a secret is that of an open session, and counts as its use.
func (s *sessions) use(secret string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := hash(secret)
	session, known := s.open[key]
	if !known {
		return false
	}
	if now.Sub(session.UsedAt) > sessionIdle {
		delete(s.open, key)
		s.write()
		return false
	}
	if now.Sub(session.UsedAt) > sessionNoted {
		session.UsedAt = now
		s.open[key] = session
		s.write()
	}
	return true
}

// isOpen tells whether a session, by its hash, is open; that is no use of it.
func (s *sessions) isOpen(key string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	session, known := s.open[key]
	return known && now.Sub(session.UsedAt) <= sessionIdle
}

// end closes those that are chosen.
func (s *sessions) end(chosen func(key string, session wire.Session) bool) (ended int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for key, session := range s.open {
		if chosen(key, session) {
			delete(s.open, key)
			ended++
		}
	}
	s.write()
	return ended
}

// list tells them, the one that asks by its secret marked.
func (s *sessions) list(secret string, now time.Time) []wire.Session {
	s.mu.Lock()
	defer s.mu.Unlock()
	listed := []wire.Session{}
	for key, session := range s.open {
		if now.Sub(session.UsedAt) <= sessionIdle {
			session.Own = key == hash(secret)
			listed = append(listed, session)
		}
	}
	slices.SortFunc(listed, func(a, b wire.Session) int { return b.UsedAt.Compare(a.UsedAt) })
	return listed
}

// tickets are one-time: each is good for one thing, for a few minutes.
type tickets struct {
	mu    sync.Mutex
	valid map[string]ticket
}

type ticket struct {
	until time.Time
	what  string // signIn, or the path of a download
}

const signIn = "sign in"

func (t *tickets) issue(what string) (secret string, expires time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for old, each := range t.valid {
		if time.Now().After(each.until) {
			delete(t.valid, old)
		}
	}
	secret, expires = rand.Text(), time.Now().Add(ticketLifetime).UTC().Truncate(time.Second)
	t.valid[secret] = ticket{expires, what}
	return secret, expires
}

func (t *tickets) take(secret, what string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	found, ok := t.valid[secret]
	if !ok || found.what != what {
		return false
	}
	delete(t.valid, secret)
	return time.Now().Before(found.until)
}

// signIn turns a ticket into a session. Only the console's own page may: what it says about where it comes from cannot be forged by
// another page.
func (a *API) signIn(c echo.Context) error {
	var in wire.SignIn
	if err := json.NewDecoder(http.MaxBytesReader(c.Response(), c.Request().Body, 1<<10)).Decode(&in); err != nil ||
		!a.tickets.take(in.Ticket, signIn) {
		return echo.NewHTTPError(http.StatusUnauthorized,
			"that link has been used, or is older than five minutes; ask for another one: vessik console")
	}
	return c.JSON(http.StatusOK, wire.SignedIn{Secret: a.sessions.begin(browserOf(c.Request().UserAgent()),
		time.Now().UTC().Truncate(time.Second))})
}

// browserOf is a browser and its system in a word or two, as far as it tells.
func browserOf(agent string) string {
	find := func(names ...string) string {
		for _, name := range names {
			if strings.Contains(agent, name) {
				return name
			}
		}
		return ""
	}
	browser, system := find("Firefox", "Edg", "Chrome", "Safari"), find("Android", "iPhone", "Windows", "Macintosh", "Linux")
	return cmp.Or(strings.TrimSpace(browser+" "+system), "a browser")
}

// secretOf is what a request brings in its header.
func secretOf(r *http.Request) string {
	secret, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return secret
}

// registerSessions is what can be asked about sessions.
func (a *API) registerSessions(api huma.API) {
	register(api, "GET", "/sessions", "list-sessions", "Browsers that are signed in to the console", func(_ context.Context, in *struct {
		Authorization string `header:"Authorization"`
	}) (*body[[]wire.Session], error) {
		return &body[[]wire.Session]{a.sessions.list(strings.TrimPrefix(in.Authorization, "Bearer "), time.Now())}, nil
	})
	register(api, "DELETE", "/sessions", "end-sessions", "Sign all browsers out", func(context.Context, *empty) (*body[wire.Ended], error) {
		return &body[wire.Ended]{wire.Ended{Count: a.sessions.end(func(string, wire.Session) bool { return true })}}, nil
	})
	register(api, "DELETE", "/sessions/{id}", "end-session", "Sign one browser out; own is the one that asks", func(_ context.Context,
		in *struct {
			ID            string `path:"id"`
			Authorization string `header:"Authorization"`
		}) (*body[wire.Ended], error) {
		own := hash(strings.TrimPrefix(in.Authorization, "Bearer "))
		return &body[wire.Ended]{wire.Ended{Count: a.sessions.end(func(key string, session wire.Session) bool {
			return session.ID == in.ID || in.ID == "own" && key == own
		})}}, nil
	})
	register(api, "POST", "/downloads", "new-download", "A one-time address that a browser can fetch a file from", func(_ context.Context,
		in *body[wire.Download]) (*body[wire.Link], error) {
		path, query, _ := strings.Cut(in.Body.Path, "?")
		secret, expires := a.tickets.issue(path)
		if query != "" {
			query += "&"
		}
		return &body[wire.Link]{wire.Link{URL: path + "?" + query + "ticket=" + secret, ExpiresAt: expires}}, nil
	})
}
