package moving

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"vessik/internal/hosting"
	"vessik/internal/records"
)

// visit is a connection to a hosting account, with the helper that lies there meanwhile.
type visit struct {
	feature *Feature
	account records.Account
	line    hosting.Line
	helper  *hosting.Helper // nil where the host's address does not answer
	why     error           // it does not
	done    func()
	// watches has sums tell the tables as they were just before they were read: what changes there from then on is to be noticed.
	watches bool
	sums    map[string]string
}

// alone waits until nobody else visits an account.
func (f *Feature) alone(ctx context.Context, name string) (done func(), err error) {
	turn, _ := f.visits.LoadOrStore(name, make(chan struct{}, 1))
	select {
	case turn.(chan struct{}) <- struct{}{}:
		return func() { <-turn.(chan struct{}) }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// visiting connects to an account. The key that the host shows first is pinned. A helper that an earlier visit could not remove goes first.
func (f *Feature) visiting(ctx context.Context, name string) (v *visit, err error) {
	done, err := f.alone(ctx, name)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			done()
		}
	}()
	a, err := f.account(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := f.lend(ctx, &a); err != nil {
		return nil, err
	}
	line, shown, err := hosting.Dial(ctx, a)
	var refused *hosting.SignInError
	if errors.As(err, &refused) && a.Page != "" { // what it lent is good no more
		a.Secrets.PasswordUntil = time.Time{}
		if err = f.lend(ctx, &a); err == nil {
			line, shown, err = hosting.Dial(ctx, a)
		}
	}
	if err != nil {
		return nil, told(a, err)
	}
	v = &visit{feature: f, account: a, line: line, done: done}
	if a.HostKey == "" && shown != "" {
		v.account.HostKey = shown
		err = f.edit(ctx, name, func(a *records.Account) { a.HostKey = shown })
	}
	if err == nil && a.Helper != "" {
		err = v.takeAway(ctx, a.Helper)
	}
	if err != nil {
		line.Close()
		return nil, told(a, err)
	}
	return v, nil
}

// servedFolders are what is served of a site, as its folder lies in the account's.
var servedFolders = []string{"public", "web", "htdocs"}

// layHelper puts a helper at the host: into the account's folder, or where that is not what is served, into the folder in it that is.
func (v *visit) layHelper(ctx context.Context) error {
	if err := v.layIn(ctx, ""); err != nil || v.helper != nil {
		return err
	}
	there, err := v.line.List(ctx, "")
	if err != nil {
		return err
	}
	why := v.why
	for _, e := range there {
		if !e.Folder || !slices.Contains(servedFolders, e.Path) {
			continue
		}
		if err := v.takeAway(ctx, v.account.Helper); err != nil {
			return err
		}
		if err := v.layIn(ctx, e.Path); err != nil || v.helper != nil {
			return err
		}
	}
	v.why = why
	return nil
}

// layIn lays a helper in a folder; it is recorded first, so that it is removed whatever happens.
func (v *visit) layIn(ctx context.Context, folder string) error {
	name, key := hosting.HelperName()
	name = path.Join(folder, name)
	if err := v.feature.edit(ctx, v.account.Name, func(a *records.Account) { a.Helper = name }); err != nil {
		return err
	}
	v.account.Helper = name
	v.helper, v.why = hosting.Lay(ctx, v.line, v.account.URL, name, key)
	var unanswered *hosting.UnansweredError
	if errors.As(v.why, &unanswered) {
		v.helper = nil
		return nil
	}
	return v.why
}

// again connects anew, after a line was cut; the helper stays.
func (v *visit) again(ctx context.Context) error {
	v.line.Close()
	if err := v.feature.lend(ctx, &v.account); err != nil {
		return err
	}
	line, _, err := hosting.Dial(ctx, v.account)
	if err == nil {
		v.line = line
	}
	return err
}

// farewell is how long a helper may take to be removed.
const farewell = 30 * time.Second

// end removes the helper, and ends the connection. It is done although ctx has ended.
func (v *visit) end(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), farewell)
	defer cancel()
	defer v.done()
	defer func() { v.line.Close() }()
	if v.account.Helper == "" {
		return nil
	}
	if v.helper != nil && v.helper.Remove(ctx) == nil { // it knows where it lies; what is left is seen by the line
		v.helper = nil
	}
	err := v.takeAway(ctx, v.account.Helper)
	if hosting.Cut(err) {
		if err = v.again(ctx); err == nil {
			err = v.takeAway(ctx, v.account.Helper)
		}
	}
	return err
}

// takeAway removes a helper's file, and forgets it once it is gone.
func (v *visit) takeAway(ctx context.Context, name string) error {
	if err := hosting.TakeAway(ctx, v.line, name); err != nil {
		return fmt.Errorf("remove the helper %s: %w", name, err)
	}
	v.account.Helper = ""
	return v.feature.edit(ctx, v.account.Name, func(a *records.Account) {
		if a.Helper == name {
			a.Helper = ""
		}
	})
}

// told says of an error at a host what is to be done.
func told(a records.Account, err error) error {
	var changed *hosting.HostKeyError
	var refused *hosting.SignInError
	switch {
	case errors.As(err, &changed):
		return fmt.Errorf("%w; ask the host whether its key is another one now, and if so: vessik hosting unpin %s", err, a.Name)
	case errors.As(err, &refused):
		return fmt.Errorf("%w; see user and password, or add the account anew", err)
	case hosting.Cut(err):
		return fmt.Errorf("%s cannot be reached: %w; see whether the host and its port are right, then try again", a.At, err)
	}
	return err
}

// sweep removes what may be left of ours at an account.
func (f *Feature) sweep(ctx context.Context, a records.Account) error {
	if a.Stage != "" {
		return f.unstage(ctx, a.Name, a.Stage)
	}
	v, err := f.visiting(ctx, a.Name)
	if err != nil {
		return err
	}
	return v.end(ctx)
}

// sweepEvery is how often helpers that were left at hosts are looked for: sooner after a host did not answer, and then ever later.
const (
	sweepEvery = 5 * time.Minute
	sweepAgain = 10 * time.Second
)

// LookAfter removes helpers that an earlier service, or a visit that was cut off, left at hosts.
func (f *Feature) LookAfter() {
	ctx := f.Machine.Work.Context()
	if err := f.readNeeds(ctx); err != nil && ctx.Err() == nil {
		f.Machine.Log.Warn("read which uploads are left at hosts", "reason", err)
	}
	for wait := sweepAgain; ; wait = min(2*wait, sweepEvery) {
		left := false
		all, err := f.Records.Accounts(ctx)
		if err != nil && ctx.Err() == nil {
			f.Machine.Log.Warn("look for helpers at hosts", "reason", err)
		}
		for _, a := range all {
			if leftover(a) == "" || f.Operations.Free(part(a.Name)) != nil {
				continue
			}
			if err := f.sweep(ctx, a); err != nil && ctx.Err() == nil {
				left = true
				f.Machine.Log.Warn("something of ours is left at a host", "account", a.Name, "what", leftover(a), "reason", err)
			}
		}
		if !left {
			wait = sweepAgain / 2
		}
		select {
		case <-time.After(max(wait, sweepAgain)):
		case <-ctx.Done():
			return
		}
	}
}
