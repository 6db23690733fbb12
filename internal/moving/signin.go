package moving

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	core "vessik/internal/core/hosting"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/hosting"
	"vessik/internal/records"
)

// signIns are what is known of sign-ins at hosts' pages, while the service runs.
type signIns struct {
	mu  sync.Mutex
	all map[string]*signIn
}

type signIn struct {
	said      wire.HostSignIn
	directory hosting.Directory
	token     string
	until     time.Time // the token is good
}

// mostSignIns is how many are remembered; lendAhead is how long before they end credentials are lent anew.
const (
	mostSignIns = 50
	lendAhead   = time.Minute
)

func (s *signIns) put(one *signIn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all == nil || len(s.all) >= mostSignIns {
		s.all = map[string]*signIn{}
	}
	s.all[one.said.ID] = one
}

func (s *signIns) edit(one *signIn, change func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change()
}

// get is what is known of a sign-in now.
func (s *signIns) get(id string) (one signIn, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	known := s.all[id]
	if known == nil {
		return one, site.Problems{{Field: "sign_in", Message: "that sign-in is not known any more",
			Remedy: "begin another one: vessik hosting sign-in ADDRESS"}}
	}
	return *known, nil
}

// SignIn begins to sign in at a host's page; whether it was let in is told by SignInOf.
func (f *Feature) SignIn(ctx context.Context, page string) (wire.HostSignIn, error) {
	problem := func(err error) error {
		return site.Problems{{Field: "page", Message: err.Error(), Remedy: "write the address of the host's account page, as it says it"}}
	}
	directory, err := hosting.OpenDirectory(ctx, page)
	if err != nil {
		return wire.HostSignIn{}, problem(err)
	}
	begun, err := directory.Begin(ctx)
	if err != nil {
		return wire.HostSignIn{}, problem(err)
	}
	one := &signIn{directory: directory, said: wire.HostSignIn{ID: rand.Text(), Page: directory.Issuer, State: "waiting", Code: begun.UserCode,
		Address: begun.VerificationURI, AddressWithCode: begun.VerificationURIComplete, Until: begun.Expiry.UTC().Truncate(time.Second),
		Environments: []wire.HostEnvironment{}}}
	f.signIns.put(one)
	said := one.said
	f.Machine.Work.Go(func() {
		ctx := f.Machine.Work.Context()
		token, until, err := directory.Wait(ctx, begun)
		var found []hosting.Environment
		if err == nil {
			found, err = directory.List(ctx, token)
		}
		f.signIns.edit(one, func() {
			if one.said.State = "done"; err != nil {
				one.said.State, one.said.Why = "refused", err.Error()
			}
			one.token, one.until = token, until
			for _, e := range found {
				one.said.Environments = append(one.said.Environments, wire.HostEnvironment(e))
			}
		})
	})
	return said, nil
}

// SignInOf tells whether a sign-in was let in, and which environments there are.
func (f *Feature) SignInOf(id string) (wire.HostSignIn, error) {
	one, err := f.signIns.get(id)
	return one.said, err
}

// fromPage fills in of an account what a host's page tells of an environment.
func (f *Feature) fromPage(asked wire.AddAccount, a *records.Account) error {
	one, err := f.signIns.get(asked.SignInID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(one.said.Environments, func(e wire.HostEnvironment) bool { return e.Name == asked.Environment })
	if i < 0 {
		return site.Problems{{Field: "environment", Message: fmt.Sprintf("the host's page tells no environment %q", asked.Environment),
			Remedy: "name one that it tells"}}
	}
	e := one.said.Environments[i]
	a.At, a.URL, a.Page, a.Environment = e.At, e.URL, one.directory.Issuer, e.Name
	if a.Name == "" {
		a.Name = e.Name
	}
	a.Secrets.Token, a.Secrets.TokenUntil = one.token, one.until
	return nil
}

// lend asks the host's page for credentials of an account that is signed in to by it, where those that it has are good no longer.
func (f *Feature) lend(ctx context.Context, a *records.Account) error {
	if a.Page == "" || time.Until(a.Secrets.PasswordUntil) > lendAhead {
		return nil
	}
	again := func(err error) error {
		return fmt.Errorf("%w; sign in again: vessik hosting sign-in %s -again %s", err, a.Page, a.Name)
	}
	if !a.Secrets.TokenUntil.IsZero() && time.Now().After(a.Secrets.TokenUntil) {
		return again(hosting.ErrSignInAgain)
	}
	directory, err := hosting.OpenDirectory(ctx, a.Page)
	if err != nil {
		return err
	}
	given, err := directory.Lend(ctx, a.Secrets.Token, a.Environment)
	if errors.Is(err, hosting.ErrSignInAgain) {
		return again(err)
	}
	if err != nil {
		return fmt.Errorf("%s lends no password: %w", a.Page, err)
	}
	secrets := a.Secrets
	secrets.Password, secrets.PasswordUntil = given.Password, time.Now().Add(time.Duration(min(given.Lasts, 24*3600))*time.Second)
	if a.HostKey == "" {
		a.HostKey = given.HostKey
	}
	a.Secrets = secrets
	return f.edit(ctx, a.Name, func(kept *records.Account) { kept.Secrets, kept.HostKey = a.Secrets, a.HostKey })
}

// SignInAgain gives accounts of a host's page what a new sign-in there brought.
func (f *Feature) SignInAgain(ctx context.Context, name, id string) error {
	one, err := f.signIns.get(id)
	if err != nil {
		return err
	}
	a, err := f.account(ctx, name)
	if err != nil {
		return err
	}
	if a.Page != one.directory.Issuer || one.said.State != "done" {
		return site.Problems{{Field: "sign_in", Message: fmt.Sprintf("%s is not signed in to by it", name),
			Remedy: "sign in at the page of its host: " + a.Page}}
	}
	return f.edit(ctx, name, func(kept *records.Account) {
		kept.Secrets = core.Secrets{Token: one.token, TokenUntil: one.until}
	})
}
