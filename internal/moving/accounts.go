// Package moving keeps hosting accounts, and brings here what is at them: each has a mirror in the home folder, an open parcel of the
// site at the host as it was when it was fetched last.
package moving

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	core "vessik/internal/core/hosting"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/records"
	"vessik/internal/running"
)

// Feature is the hosting accounts of one machine.
type Feature struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Records    *records.Records

	mu       sync.Mutex // over what is recorded of accounts
	visits   sync.Map   // a channel of one by the name of an account: it is visited by one at a time
	signIns  signIns
	needs    sync.Map // a *need by the identity of a site
	settling sync.Map // a channel by the name of an account, closed once what was pulled of it is remembered
}

// NoAccount says that there is no account of a name.
func NoAccount(name string) error {
	return site.Problems{{Field: "account", Message: fmt.Sprintf("there is no hosting account %q", name),
		Remedy: "see them with: vessik hosting"}}
}

func (f *Feature) account(ctx context.Context, name string) (a records.Account, err error) {
	all, err := f.Records.Accounts(ctx)
	if err != nil {
		return a, err
	}
	if i := slices.IndexFunc(all, func(a records.Account) bool { return a.Name == name }); i >= 0 {
		return all[i], nil
	}
	return a, NoAccount(name)
}

// edit changes what is recorded of an account.
func (f *Feature) edit(ctx context.Context, name string, change func(*records.Account)) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	a, err := f.account(ctx, name)
	if err != nil {
		return err
	}
	change(&a)
	return f.Records.SaveAccount(ctx, a)
}

// Accounts are all hosting accounts, by name.
func (f *Feature) Accounts(ctx context.Context) ([]wire.Account, error) {
	all, err := f.Records.Accounts(ctx)
	seen := make([]wire.Account, len(all))
	for i, a := range all {
		seen[i] = f.shown(a)
	}
	return seen, err
}

func (f *Feature) shown(a records.Account) wire.Account {
	signIn := "none"
	switch {
	case a.Page != "":
		signIn = "page"
	case a.Secrets.Key != "":
		signIn = "key"
	case a.Agent != "":
		signIn = "agent"
	case a.Secrets.Password != "":
		signIn = "password"
	}
	return wire.Account{Name: a.Name, At: a.At, URL: a.URL, Of: a.Of, HostKey: a.HostKey, SignIn: signIn, Page: a.Page, MadeAt: a.MadeAt,
		Leftover: leftover(a), Site: f.siteOf(a.Name),
		Pulled: f.mirror(a.Name).fetched()}
}

// leftover is what may be left of ours at an account's host.
func leftover(a records.Account) string { return strings.TrimSpace(a.Helper + " " + a.Stage) }

// Add records a hosting account. Nothing is asked of the host.
func (f *Feature) Add(ctx context.Context, asked wire.AddAccount) (wire.Account, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	all, err := f.Records.Accounts(ctx)
	if err != nil {
		return wire.Account{}, err
	}
	known := map[string]bool{}
	for _, a := range all {
		known[a.Name] = true
	}
	a := records.Account{Account: core.Account{Name: asked.Name, At: asked.At, URL: strings.TrimSuffix(asked.URL, "/"), Of: asked.Of,
		Agent: asked.Agent, MadeAt: time.Now().UTC().Truncate(time.Second)},
		Secrets: core.Secrets{Password: asked.Password, Key: asked.Key}}
	if asked.SignInID != "" {
		if err := f.fromPage(asked, &a); err != nil {
			return wire.Account{}, err
		}
	}
	problems := core.Check(a.Account, known)
	if asked.Like != "" {
		i := slices.IndexFunc(all, func(a records.Account) bool { return a.Name == asked.Like })
		if i < 0 {
			problems = append(problems, site.Problem{Field: "like", Message: fmt.Sprintf("there is no account %q", asked.Like),
				Remedy: "name one that is there: vessik hosting"})
		} else {
			a.Agent, a.Secrets.Password, a.Secrets.Key = all[i].Agent, all[i].Secrets.Password, all[i].Secrets.Key
		}
	}
	if a.Secrets.Password == "" && a.Secrets.Key == "" && a.Agent == "" && a.Page == "" && len(problems) == 0 {
		problems = append(problems, site.Problem{Field: "password", Message: "nothing is said of how to sign in",
			Remedy: "say a password, a key or an agent, or name an account that has the same with -like"})
	}
	if len(problems) > 0 {
		return wire.Account{}, problems
	}
	return f.shown(a), f.Records.SaveAccount(ctx, a)
}

// Drop forgets an account, and what was fetched of it. What is at the host stays, but for what may be left there of ours.
func (f *Feature) Drop(ctx context.Context, name string) error {
	a, err := f.account(ctx, name)
	if err != nil {
		return err
	}
	if err := f.Operations.Free(part(name)); err != nil {
		return err
	}
	problem := func(why error) error {
		return site.Problems{{Field: "account", Message: fmt.Sprintf("something of ours, %s, may still be at the host, which cannot be "+
			"reached (%v)",
			leftover(a), why), Remedy: "try again when it answers"}}
	}
	if leftover(a) != "" { // before anything is locked: the host may take long
		if err := f.sweep(ctx, a); err != nil {
			return problem(err)
		}
	}
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	if err := f.Operations.Free(part(name)); err != nil {
		return err
	}
	if a, err = f.account(ctx, name); err != nil {
		return err
	}
	if leftover(a) != "" {
		return problem(errors.New("somebody looks at it now"))
	}
	unlock, err := f.mirror(name).lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	if err := ownfile.RemoveAll(f.mirror(name).dir); err != nil {
		return err
	}
	f.needNothing(name)
	return f.Records.DropAccount(ctx, name)
}

// Unpin forgets which key a host showed: the next one is pinned.
func (f *Feature) Unpin(ctx context.Context, name string) error {
	return f.edit(ctx, name, func(a *records.Account) { a.HostKey = "" })
}

// part is what an account's part of an operation is called: no site can be.
func part(name string) string { return "account " + name }

// accountOf is the account of a part.
func accountOf(part string) string { return strings.TrimPrefix(part, "account ") }
