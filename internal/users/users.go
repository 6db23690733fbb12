// Package users is what is done with the users of sites: listing them, signing them in without a password, giving them another one.
package users

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/running"
)

// Feature is the users of the sites of one machine.
type Feature struct {
	Machine    *running.Machine
	Operations *operation.Runner

	tickets ticketBook
}

// Users lists a site's own users, administrators first.
func (f *Feature) Users(ctx context.Context, name string) ([]wire.User, error) {
	s, ok := f.Machine.Registry.Site(name)
	if !ok {
		return nil, site.NoSite(name)
	}
	pool, release, err := f.Machine.Pool(ctx, s)
	if err != nil {
		return nil, err
	}
	defer release()
	users, err := f.Machine.CMS.Of(s).Users(ctx, pool, f.Machine.CMSFacts(s))
	return users, unknownToCMS(name, "name", err)
}

// unknownToKit turns what a CMS does not describe into a problem with the request.
func unknownToCMS(name, field string, err error) error {
	if !errors.Is(err, cms.ErrUnknown) {
		return err
	}
	return site.Problems{{Site: name, Field: field, Message: err.Error(), Remedy: "do it in the site itself"}}
}

// known judges a user's name by the site's own list.
func (f *Feature) known(ctx context.Context, name, field, user string) error {
	users, err := f.Users(ctx, name)
	if err != nil {
		return err
	}
	logins := []string{}
	for _, u := range users {
		logins = append(logins, u.Login)
	}
	if !slices.Contains(logins, user) {
		return site.Problems{{Site: name, Field: field, Message: fmt.Sprintf("there is no user %q", user),
			Remedy: "choose one of " + strings.Join(logins[:min(len(logins), 20)], ", ")}}
	}
	return nil
}

// SetPassword gives one of a site's users another password, generated where it is empty, and returns it; weak takes one that is easily
// guessed.
func (f *Feature) SetPassword(ctx context.Context, name, user, password string, weak bool) (string, error) {
	s, ok := f.Machine.Registry.Site(name)
	if !ok {
		return "", site.NoSite(name)
	}
	if problems := site.CheckPassword(name, "password", password, weak, user, name); len(problems) > 0 {
		return "", problems
	}
	if err := f.known(ctx, name, "user", user); err != nil {
		return "", err
	}
	password = cmp.Or(password, cms.Password())
	pool, release, err := f.Machine.Pool(ctx, s)
	if err != nil {
		return "", err
	}
	defer release()
	k, facts := f.Machine.CMS.Of(s), f.Machine.CMSFacts(s)
	facts.User, facts.Hash = user, k.HashOf(s.CMS.Version, password)
	if err := k.SetPassword(ctx, pool, facts); err != nil {
		return "", unknownToCMS(name, "user", err)
	}
	if user != s.Administrator.Name {
		return password, nil
	}
	return password, f.Machine.Registry.Edit(ctx, name, func(s *site.Site) error { // it is the one that checks sign in with
		s.Administrator.Password, s.AdminHash = password, facts.Hash
		return nil
	})
}

// ReplaceAdministrator puts the site's own administrator in the place of one that came with a stencil, a copy, a folder or a dump:
// everything that this one wrote is the new one's. Checks sign in with it from then on.
func (f *Feature) ReplaceAdministrator(ctx context.Context, name string, n wire.NewAdministrator) (site.Administrator, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	s, ok := f.Machine.Registry.Site(name)
	if !ok {
		return site.Administrator{}, site.NoSite(name)
	}
	s.Administrator = site.Administrator{Name: cmp.Or(n.By, s.Administrator.Name), Mail: cmp.Or(n.Mail, s.Administrator.Mail),
		Password: n.Password}
	if problems := site.CheckAdmin(s, n.ForceWeak); len(problems) > 0 {
		for i := range problems {
			problems[i].Field = map[string]string{"administrator.name": "by", "administrator.mail": "mail",
				"administrator.password": "password"}[problems[i].Field]
		}
		return site.Administrator{}, problems
	}
	users, err := f.Users(ctx, name)
	if err != nil {
		return site.Administrator{}, err
	}
	administrators := []string{}
	for _, u := range users {
		if u.Login == s.Administrator.Name && u.Login != n.Replace {
			return site.Administrator{}, site.Problems{{Site: name, Field: "by", Message: fmt.Sprintf("there is a user %q already", u.Login),
				Remedy: "choose another name for the administrator, or set this one's password"}}
		}
		if u.Role == "administrator" {
			administrators = append(administrators, u.Login)
		}
	}
	if !slices.Contains(administrators, n.Replace) {
		return site.Administrator{}, site.Problems{{Site: name, Field: "replace",
			Message: fmt.Sprintf("no administrator is called %q", n.Replace),
			Remedy:  "choose one of " + strings.Join(administrators[:min(len(administrators), 20)], ", ")}}
	}
	k := f.Machine.CMS.Of(s)
	s.Administrator.Password = cmp.Or(s.Administrator.Password, cms.Password())
	facts := f.Machine.CMSFacts(s)
	facts.User, facts.Hash = n.Replace, k.HashOf(s.CMS.Version, s.Administrator.Password)
	pool, release, err := f.Machine.Pool(ctx, s)
	if err != nil {
		return site.Administrator{}, err
	}
	defer release()
	if err := k.ReplaceAdministrator(ctx, pool, facts); err != nil {
		return site.Administrator{}, unknownToCMS(name, "name", err)
	}
	return s.Administrator, f.Machine.Registry.Edit(ctx, name, func(now *site.Site) error {
		now.Administrator, now.AdminHash = s.Administrator, facts.Hash
		return nil
	})
}
