package provision

import (
	"cmp"
	"context"
	"crypto/rand"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/kit"
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

// pool opens a site's own database as its server's administrator.
func (p *Provisioner) pool(ctx context.Context, s site.Site) (*sql.DB, error) {
	database, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return nil, err
	}
	return database.Open(s.Database.Name), nil
}

// Users lists a site's own users, administrators first.
func (p *Provisioner) Users(ctx context.Context, name string) ([]wire.User, error) {
	s, ok := p.Site(name)
	if !ok {
		return nil, noSite(name)
	}
	pool, err := p.pool(ctx, s)
	if err != nil {
		return nil, err
	}
	defer pool.Close()
	users, err := p.kitOf(s).Users(ctx, pool, p.kitFacts(s))
	return users, unknownToKit(name, "name", err)
}

// unknownToKit turns what a kit does not describe into a problem with the request.
func unknownToKit(name, field string, err error) error {
	if err == nil || !strings.Contains(err.Error(), kit.ErrUnknown.Error()) {
		return err
	}
	return site.Problems{{Site: name, Field: field, Message: err.Error(), Remedy: "do it in the site itself"}}
}

// knownUser judges a user's name by the site's own list.
func (p *Provisioner) knownUser(ctx context.Context, name, field, user string) error {
	users, err := p.Users(ctx, name)
	if err != nil {
		return err
	}
	logins := []string{}
	for _, u := range users {
		logins = append(logins, u.Login)
	}
	if !slices.Contains(logins, user) {
		return site.Problems{{Site: name, Field: field, Message: fmt.Sprintf("there is no user %q", user), Remedy: "choose one of " + strings.Join(logins[:min(len(logins), 20)], ", ")}}
	}
	return nil
}

// Ticket draws a one-time address that signs a user in; empty means the administrator that the site was made with, or where that one
// is gone the first there is. Nothing of it is kept in the site.
func (p *Provisioner) Ticket(ctx context.Context, name, user string) (address, as string, until time.Time, err error) {
	s, ok := p.Site(name)
	if !ok {
		return "", "", until, noSite(name)
	}
	if p.kitOf(s).Ticket.Script == "" {
		return "", "", until, site.Problems{{Site: name, Field: "name", Message: fmt.Sprintf("nothing is known of signing in to its kind (%s)", p.kitOf(s).Title), Remedy: "sign in in the site itself"}}
	}
	if s.State != site.Running {
		return "", "", until, site.Problems{{Site: name, Field: "name", Message: "the site is " + string(s.State), Remedy: "start it first: vessik start " + name}}
	}
	users, err := p.Users(ctx, name)
	if err != nil {
		return "", "", until, err
	}
	switch has := func(login string) bool {
		return slices.ContainsFunc(users, func(u wire.User) bool { return u.Login == login })
	}; {
	case user != "":
		if err := p.knownUser(ctx, name, "as", user); err != nil {
			return "", "", until, err
		}
	case has(s.Admin.User):
		user = s.Admin.User
	case len(users) > 0:
		user = users[0].Login
	default:
		return "", "", until, site.Problems{{Site: name, Field: "name", Message: "the site has no users", Remedy: "make one in the site itself"}}
	}
	token := rand.Text()
	until = time.Now().Add(TicketLifetime)
	p.tickets.mu.Lock()
	for old, t := range p.tickets.valid {
		if time.Now().After(t.until) {
			delete(p.tickets.valid, old)
		}
	}
	if p.tickets.valid == nil {
		p.tickets.valid = map[string]ticket{}
	}
	p.tickets.valid[token] = ticket{name, user, until}
	p.tickets.mu.Unlock()
	return strings.TrimSuffix(s.URL(p.settings.GatewayPort), "/") + site.TicketPath + token, user, until, nil
}

// TakeTicket uses a ticket up, wherever it is shown; ok only if it is good for this site now.
func (p *Provisioner) TakeTicket(s site.Site, token string) (user, secret string, ok bool) {
	p.tickets.mu.Lock()
	defer p.tickets.mu.Unlock()
	t, known := p.tickets.valid[token]
	delete(p.tickets.valid, token)
	return t.user, s.Probe, known && t.site == s.Name && time.Now().Before(t.until)
}

// SetPassword gives one of a site's users another password, generated where it is empty, and returns it.
func (p *Provisioner) SetPassword(ctx context.Context, name, user, password string) (string, error) {
	s, ok := p.Site(name)
	if !ok {
		return "", noSite(name)
	}
	if problems := site.CheckPassword(name, "password", password, user, name); len(problems) > 0 {
		return "", problems
	}
	if err := p.knownUser(ctx, name, "user", user); err != nil {
		return "", err
	}
	password = cmp.Or(password, kit.Password())
	pool, err := p.pool(ctx, s)
	if err != nil {
		return "", err
	}
	defer pool.Close()
	k, facts := p.kitOf(s), p.kitFacts(s)
	facts.User, facts.Hash = user, k.HashOf(s.Kit.Version, password)
	if err := k.SetPassword(ctx, pool, facts); err != nil {
		return "", unknownToKit(name, "user", err)
	}
	if user != s.Admin.User {
		return password, nil
	}
	return password, p.change(ctx, name, func(s *site.Site) error { // it is the one that checks sign in with
		s.Admin.Password, s.AdminHash = password, facts.Hash
		return nil
	})
}

// ReplaceAdministrator puts the site's own administrator in the place of one that came with a stencil, a copy, a folder or a dump:
// everything that this one wrote is the new one's. Checks sign in with it from then on.
func (p *Provisioner) ReplaceAdministrator(ctx context.Context, name string, n wire.NewAdministrator) (site.Admin, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	s, ok := p.Site(name)
	if !ok {
		return site.Admin{}, noSite(name)
	}
	s.Admin = site.Admin{User: cmp.Or(n.By, s.Admin.User), Email: cmp.Or(n.Email, s.Admin.Email), Password: n.Password}
	if problems := site.CheckAdmin(s); len(problems) > 0 {
		for i := range problems {
			problems[i].Field = map[string]string{"admin": "by", "admin_email": "email", "admin_password": "password"}[problems[i].Field]
		}
		return site.Admin{}, problems
	}
	users, err := p.Users(ctx, name)
	if err != nil {
		return site.Admin{}, err
	}
	administrators := []string{}
	for _, u := range users {
		if u.Login == s.Admin.User && u.Login != n.Replace {
			return site.Admin{}, site.Problems{{Site: name, Field: "by", Message: fmt.Sprintf("there is a user %q already", u.Login), Remedy: "choose another name for the administrator, or set this one's password"}}
		}
		if u.Role == "administrator" {
			administrators = append(administrators, u.Login)
		}
	}
	if !slices.Contains(administrators, n.Replace) {
		return site.Admin{}, site.Problems{{Site: name, Field: "replace", Message: fmt.Sprintf("no administrator is called %q", n.Replace), Remedy: "choose one of " + strings.Join(administrators[:min(len(administrators), 20)], ", ")}}
	}
	k := p.kitOf(s)
	s.Admin.Password = cmp.Or(s.Admin.Password, kit.Password())
	facts := p.kitFacts(s)
	facts.User, facts.Hash = n.Replace, k.HashOf(s.Kit.Version, s.Admin.Password)
	pool, err := p.pool(ctx, s)
	if err != nil {
		return site.Admin{}, err
	}
	defer pool.Close()
	if err := k.ReplaceAdministrator(ctx, pool, facts); err != nil {
		return site.Admin{}, unknownToKit(name, "name", err)
	}
	return s.Admin, p.change(ctx, name, func(now *site.Site) error {
		now.Admin, now.AdminHash = s.Admin, facts.Hash
		return nil
	})
}

// Prefix begins the names of a site's tables.
func (p *Provisioner) Prefix(s site.Site) string { return cmp.Or(s.Prefix, p.kitOf(s).Database.Prefix) }
