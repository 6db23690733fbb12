package users

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"sync"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// TicketLifetime is for how long a ticket signs somebody in.
const TicketLifetime = time.Minute

// ticket signs one user in to one site, once.
type ticket struct {
	site, user string
	until      time.Time
}

type ticketBook struct {
	mu    sync.Mutex
	valid map[string]ticket
}

// Ticket draws a one-time address that signs a user in; empty means the administrator that the site was made with, or where that one
// is gone the first there is. Nothing of it is kept in the site.
func (f *Feature) Ticket(ctx context.Context, name, user string) (address, as string, until time.Time, err error) {
	s, ok := f.Machine.Registry.Site(name)
	if !ok {
		return "", "", until, site.NoSite(name)
	}
	if f.Machine.CMS.Of(s).Ticket.Script == "" {
		return "", "", until, site.Problems{{Site: name, Field: "name",
			Message: fmt.Sprintf("nothing is known of signing in to its kind (%s)", f.Machine.CMS.Of(s).Title),
			Remedy:  "sign in in the site itself"}}
	}
	if s.State != site.Running {
		return "", "", until, site.NotRunning(s)
	}
	users, err := f.Users(ctx, name)
	if err != nil {
		return "", "", until, err
	}
	switch has := func(login string) bool {
		return slices.ContainsFunc(users, func(u wire.User) bool { return u.Login == login })
	}; {
	case user != "":
		if err := f.known(ctx, name, "as", user); err != nil {
			return "", "", until, err
		}
	case has(s.Administrator.Name):
		user = s.Administrator.Name
	case len(users) > 0:
		user = users[0].Login
	default:
		return "", "", until, site.Problems{{Site: name, Field: "name", Message: "the site has no users", Remedy: "make one in the site itself"}}
	}
	address, until = f.draw(s, user)
	return address, user, until, nil
}

// draw makes a ticket, and returns its address.
func (f *Feature) draw(s site.Site, user string) (address string, until time.Time) {
	token := rand.Text()
	until = time.Now().Add(TicketLifetime)
	f.tickets.mu.Lock()
	defer f.tickets.mu.Unlock()
	for old, t := range f.tickets.valid {
		if time.Now().After(t.until) {
			delete(f.tickets.valid, old)
		}
	}
	if f.tickets.valid == nil {
		f.tickets.valid = map[string]ticket{}
	}
	f.tickets.valid[token] = ticket{s.Name, user, until}
	return f.Machine.URL(s) + site.TicketPath + token, until
}

// TakeTicket uses a ticket up, wherever it is shown; ok only if it is good for this site now.
func (f *Feature) TakeTicket(s site.Site, token string) (user, secret string, ok bool) {
	f.tickets.mu.Lock()
	defer f.tickets.mu.Unlock()
	t, known := f.tickets.valid[token]
	delete(f.tickets.valid, token)
	return t.user, s.Probe, known && t.site == s.Name && time.Now().Before(t.until)
}
