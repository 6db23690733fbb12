// Package copies keeps standing copies at a relay: sites that accounts sent as parcels in pieces, in a service of Vessik's own beside it.
package copies

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/client"
	"vessik/internal/background"
	"vessik/internal/blobs"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/relay"
	"vessik/internal/safefile"
)

// Limits are what an account may have.
type Limits struct {
	Copies int
	Bytes  int64         // of all its copies together
	For    time.Duration // from the last time that one was brought up to date
	// Outgoing is what copies may ask of other machines: closed, web or open.
	Outgoing string
}

// UsualLimits are those of a relay that was told of no others.
var UsualLimits = Limits{Copies: 10, Bytes: 4 << 30, For: 30 * 24 * time.Hour, Outgoing: "closed"}

// looseFor is how long pieces are kept that are of no copy: who sends them may go on after the line broke.
const looseFor = 15 * time.Minute

// keptAfter is how long what guests left is kept once a copy's time is over.
const keptAfter = 7 * 24 * time.Hour

// Room is all that is kept. Each copy is a site of the service.
type Room struct {
	Dir      string
	Service  *client.Client
	Accounts *relay.Accounts
	Relay    string // host by which the service has joined it
	Limits   Limits
	Log      *slog.Logger
	Now      func() time.Time
	Takes    func(s client.Site) (int64, error) // bytes on this machine's disk

	work   *background.Work
	making sync.Mutex // one is put up at a time
	locks  sync.Map   // *locks, by account

	mu     sync.Mutex
	all    map[string]kept      // by account and key
	stored map[string]int64     // bytes of an account's pieces, where they were counted
	loose  map[string]time.Time // when an account sent pieces last that may be of no copy yet

	takes map[string]int64 // by account and key, as measured last; of whoever looks after the copies, as is turn
	turn  int
}

// kept is one copy.
type kept struct {
	wire.StandingCopy
	Account string     `json:"account"`
	Pieces  []string   `json:"pieces"` // of what was sent last
	Asked   wire.Stand `json:"asked"`
	OverAt  time.Time  `json:"over_at,omitzero"`
}

func (k kept) id() string { return k.Account + "/" + k.Key }

// local is the site that it is here.
func (k kept) local() string {
	sum := sha256.Sum256([]byte(k.id()))
	return "copy-" + hex.EncodeToString(sum[:6])
}

// Open reads what is kept in a folder.
func Open(dir string, service *client.Client, accounts *relay.Accounts, log *slog.Logger) (*Room, error) {
	r := &Room{Dir: dir, Service: service, Accounts: accounts, Limits: UsualLimits, Log: log, Now: time.Now, all: map[string]kept{},
		stored: map[string]int64{}, loose: map[string]time.Time{}, takes: map[string]int64{},
		Takes: func(client.Site) (int64, error) { return 0, nil }, work: background.New(context.Background())}
	for _, path := range ownfile.Find(filepath.Join(dir, "*", "*.json")) {
		var k kept
		text, err := ownfile.Read(path)
		if err == nil {
			err = json.Unmarshal(text, &k)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		r.all[k.id()] = k
	}
	for _, path := range ownfile.Find(filepath.Join(dir, "*", "pieces")) {
		r.loose[filepath.Base(filepath.Dir(path))] = time.Now()
	}
	return r, ownfile.Make(dir, 0o700)
}

func (r *Room) file(k kept) string { return filepath.Join(r.Dir, k.Account, k.Key+".json") }

func (r *Room) pieces(account string) blobs.Store {
	return blobs.Store{Dir: filepath.Join(r.Dir, account, "pieces")}
}

// locks are an account's: none waits for another's. They are taken before the room's own.
type locks struct {
	ending sync.Mutex   // a copy is lent its address, ended or removed, one at a time
	pieces sync.RWMutex // held by whoever sweeps them, and shared by those who put and name some
}

func (r *Room) locksOf(account string) *locks {
	of, _ := r.locks.LoadOrStore(account, &locks{})
	return of.(*locks)
}

// edit changes a copy, and writes down what it is then; one that is not there is none.
func (r *Room) edit(id string, change func(k *kept)) (kept, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	k, known := r.all[id]
	if !known {
		return k, errNone
	}
	change(&k)
	return k, r.save(k)
}

// save writes a copy down. The lock is held.
func (r *Room) save(k kept) error {
	text, err := json.Marshal(k)
	if err == nil {
		err = ownfile.Make(filepath.Dir(r.file(k)), 0o700)
	}
	if err == nil {
		err = ownfile.Write(r.file(k), text, 0o600)
	}
	if err == nil {
		r.all[k.id()] = k
	}
	return err
}

// of are an account's copies, the newest first.
func (r *Room) of(account string) (all []kept) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, k := range r.all {
		if account == "" || k.Account == account {
			all = append(all, k)
		}
	}
	slices.SortFunc(all, func(a, b kept) int {
		return cmp.Or(b.MadeAt.Compare(a.MadeAt), strings.Compare(a.id(), b.id()))
	})
	return all
}

// LookAfter puts up what was not put up when the relay ended, keeps what stands reachable, and ends what is over, until the context ends.
func (r *Room) LookAfter(ctx context.Context) {
	defer r.work.Wait()
	defer r.work.End()
	for _, k := range r.of("") {
		if k.State == wire.CopyMaking {
			r.work.Go(func() { r.make(k) })
		}
	}
	background.Every(ctx, 2*time.Second, func() {
		if err := r.look(ctx); err != nil && ctx.Err() == nil {
			r.Log.Warn("look after the copies", "reason", err)
		}
	})
}

func (r *Room) look(ctx context.Context) error {
	accounts, err := r.Accounts.All()
	if err != nil {
		return err
	}
	open, err := r.Service.Invitations(ctx, "")
	if err == nil {
		err = r.tidy()
	}
	if err != nil {
		return err
	}
	for _, k := range r.of("") {
		there := slices.ContainsFunc(accounts, func(a relay.Account) bool { return a.Name == k.Account })
		invited := slices.ContainsFunc(open, func(i client.Invitation) bool { return i.Site == k.local() })
		switch {
		case k.State == wire.CopyMaking:
		case !there || k.State == wire.CopyOver && r.Now().After(k.OverAt.Add(keptAfter)):
			err = errors.Join(err, r.remove(ctx, k))
		case k.State != wire.CopyOver && !r.Now().Before(k.Until):
			err = errors.Join(err, r.end(ctx, k, ""))
		case k.State != wire.CopyOver && k.Address != "" && !invited:
			err = errors.Join(err, r.inviteAgain(ctx, k))
		}
	}
	return errors.Join(err, r.bound(ctx))
}

// inviteAgain lends a copy its address again, where it still stands without one.
func (r *Room) inviteAgain(ctx context.Context, k kept) error {
	ending := &r.locksOf(k.Account).ending
	ending.Lock()
	defer ending.Unlock()
	r.mu.Lock()
	k, there := r.all[k.id()]
	r.mu.Unlock()
	if !there || k.State == wire.CopyOver || k.State == wire.CopyMaking {
		return nil
	}
	open, err := r.Service.Invitations(ctx, k.local())
	if err != nil || len(open) > 0 {
		return err
	}
	return r.invite(ctx, k)
}

// end ends what guests see of a copy; what they left stays. It says why where its time is not over. One that is being put up goes on.
func (r *Room) end(ctx context.Context, k kept, why string) error {
	ending := &r.locksOf(k.Account).ending
	ending.Lock()
	defer ending.Unlock()
	now, err := r.edit(k.id(), func(k *kept) {
		if k.State != wire.CopyMaking {
			k.State, k.Why, k.OverAt = wire.CopyOver, why, r.Now().UTC()
		}
	})
	if now.State != wire.CopyOver {
		return err
	}
	return errors.Join(err, r.uninvite(ctx, k), r.do(ctx, "stop", k))
}

// remove removes a copy with all that is of it.
func (r *Room) remove(ctx context.Context, k kept) error {
	ending := &r.locksOf(k.Account).ending
	ending.Lock()
	defer ending.Unlock()
	if err := errors.Join(r.uninvite(ctx, k), r.do(ctx, "retire", k)); err != nil {
		return err
	}
	r.mu.Lock()
	err := ownfile.Remove(r.file(k))
	delete(r.all, k.id())
	r.mu.Unlock()
	return errors.Join(err, r.sweep(k.Account))
}

// sweep removes the pieces that no copy of an account is made of.
func (r *Room) sweep(account string) error {
	pieces := &r.locksOf(account).pieces
	pieces.Lock()
	defer pieces.Unlock()
	r.mu.Lock()
	named := map[string]bool{}
	for _, k := range r.all {
		if k.Account == account {
			for _, sum := range k.Pieces {
				named[sum] = true
			}
		}
	}
	delete(r.stored, account)
	delete(r.loose, account)
	r.mu.Unlock()
	err := r.pieces(account).Sweep(named)
	if len(named) == 0 {
		ownfile.Remove(filepath.Join(r.Dir, account)) // only if empty
	}
	return err
}

// tidy sweeps the pieces of accounts that have sent none for a while.
func (r *Room) tidy() (err error) {
	r.mu.Lock()
	old := []string{}
	for account, at := range r.loose {
		if r.Now().Sub(at) > looseFor {
			old = append(old, account)
		}
	}
	r.mu.Unlock()
	for _, account := range old {
		err = errors.Join(err, r.sweep(account))
	}
	return err
}

// took counts what an account's pieces take, in bytes.
func (r *Room) took(account string, more int64) int64 {
	r.mu.Lock()
	_, counted := r.stored[account]
	r.mu.Unlock()
	there := int64(0)
	if !counted {
		there = safefile.Bytes(r.pieces(account).Dir)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, counted := r.stored[account]; !counted {
		r.stored[account] = there
	}
	r.loose[account] = r.Now()
	r.stored[account] += more
	return r.stored[account]
}

// problems are what went wrong in an operation.
func problems(o client.Watched) error {
	if o.State == "done" {
		return nil
	}
	said := map[string]bool{}
	for _, part := range o.Sites {
		if part.Problem != "" {
			said[part.Problem] = true
		}
	}
	if len(said) == 0 {
		return fmt.Errorf("it was not done (%s)", o.State)
	}
	return errors.New(strings.Join(slices.Sorted(maps.Keys(said)), "; "))
}
