package copies

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vessik/client"
	"vessik/internal/blobs"
	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// make puts up what was sent of a copy. What stood before answers until that is done, and goes on if it cannot be.
func (r *Room) make(k kept) {
	r.making.Lock()
	defer r.making.Unlock()
	ctx := r.work.Context()
	err := r.put(ctx, k)
	if ctx.Err() != nil {
		return // it is put up when the relay starts again
	}
	if err != nil {
		r.Log.Warn("put a copy up", "account", k.Account, "site", k.Site, "reason", err)
	}
	_, edited := r.edit(k.id(), func(k *kept) {
		k.State, k.Why = wire.CopyStands, ""
		if err != nil {
			k.State = wire.CopyFailed
			k.Why = strings.ReplaceAll(err.Error(), filepath.Dir(r.Dir)+string(filepath.Separator), "") // where this machine keeps things
			return
		}
		k.UpdatedAt = r.Now().UTC().Truncate(time.Second)
	})
	if errors.Is(edited, errNone) { // it was ended meanwhile: nothing of it stays
		edited = errors.Join(r.uninvite(ctx, k), r.do(ctx, "retire", k))
	}
	if err := errors.Join(edited, r.sweep(k.Account)); err != nil {
		r.Log.Error("put a copy up", "account", k.Account, "site", k.Site, "reason", err)
	}
}

func (r *Room) put(ctx context.Context, k kept) error {
	file := filepath.Join(r.Dir, k.local()+".parcel.tar")
	defer ownfile.Remove(file)
	if err := r.assemble(k, file); err != nil {
		return err
	}
	here, err := r.site(ctx, k)
	if err != nil {
		return err
	}
	if here == nil {
		err = r.operate(ctx, func() (client.Operation, error) {
			return r.Service.New(ctx, client.Request{Name: k.local(), Parcel: file, Outgoing: r.Limits.Outgoing})
		})
		if err != nil { // whatever it left
			return errors.Join(err, r.do(context.WithoutCancel(ctx), "retire", k))
		}
	} else if err = r.do(ctx, "start", k); err == nil {
		err = r.operate(ctx, func() (client.Operation, error) { return r.Service.Unpack(ctx, k.local(), file, false) })
		if err != nil {
			err = fmt.Errorf("%w (what stood before still does; where the site became one of another kind, end its copy and send it again)", err)
		}
		if failed := r.forget(ctx, k); failed != nil {
			r.Log.Warn("drop the restore points of a copy", "account", k.Account, "site", k.Site, "reason", failed)
		}
	}
	if err != nil {
		return err
	}
	return r.lend(ctx, k)
}

// lend has guests do at a copy's address what they are to be let do.
func (r *Room) lend(ctx context.Context, k kept) error {
	ending := &r.locksOf(k.Account).ending
	ending.Lock()
	defer ending.Unlock()
	open, err := r.Service.Invitations(ctx, k.local())
	if err != nil {
		return err
	}
	if len(open) > 0 && (k.Asked.Label == "" || strings.EqualFold(k.Asked.Label, k.label())) {
		now, err := r.Service.Invitation(ctx, open[0].ID)
		if err != nil || k.isBy(now) { // guests go on as they were let in
			return err
		}
	}
	if err := r.uninvite(ctx, k); err != nil {
		return err
	}
	return r.invite(ctx, k)
}

// forget drops the restore points of a copy: nobody goes back at a relay.
func (r *Room) forget(ctx context.Context, k kept) error {
	points, err := r.Service.RestorePoints(ctx, k.local())
	for _, point := range points {
		err = errors.Join(err, r.Service.DropPoint(ctx, k.local(), point.ID))
	}
	return err
}

// isBy tells whether guests may do by an invitation what they are to be let do.
func (k kept) isBy(i client.Invitation) bool {
	a := k.Asked
	return a.Open != i.Asks && k.Password == i.Password && a.Only == i.Only && a.ReadOnly == i.ReadOnly && a.NoSignIn == i.NoSignIn &&
		a.Remarks == i.Remarks
}

// label is the first label of its address; empty where it has none yet.
func (k kept) label() string {
	at, err := url.Parse(k.Address)
	if err != nil {
		return ""
	}
	label, _, _ := strings.Cut(at.Hostname(), ".")
	return label
}

// assemble writes the parcel that pieces are.
func (r *Room) assemble(k kept, path string) error {
	if err := running.Room(r.Dir, 3*k.Bytes); err != nil { // the parcel, and the site made of it
		return err
	}
	target, err := ownfile.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	refs := make([]blobs.Ref, len(k.Pieces))
	for i, sum := range k.Pieces {
		refs[i].Sum = sum
	}
	err = r.pieces(k.Account).Read(refs, safefile.Bounded(target, k.Bytes, errors.New("what was sent is longer than was said")))
	return errors.Join(err, target.Close())
}

// site is the copy's site; nil where it is not there.
func (r *Room) site(ctx context.Context, k kept) (*client.Site, error) {
	all, err := r.Service.Sites(ctx, false)
	if i := slices.IndexFunc(all, func(s client.Site) bool { return s.Name == k.local() }); i >= 0 {
		return &all[i], err
	}
	return nil, err
}

// operate waits for an operation, and tells why it failed.
func (r *Room) operate(ctx context.Context, begin func() (client.Operation, error)) error {
	operation, err := begin()
	if err != nil {
		return err
	}
	watched, err := r.Service.Watch(ctx, operation.ID, nil)
	if err != nil {
		return err
	}
	return problems(watched)
}

// do starts, stops or retires a copy's site, where it is there and not so yet.
func (r *Room) do(ctx context.Context, what plan.Kind, k kept) error {
	here, err := r.site(ctx, k)
	if err != nil || here == nil || what == "start" && here.State == "running" || what == "stop" && here.State == "stopped" {
		return err
	}
	return r.operate(ctx, func() (client.Operation, error) {
		return r.Service.Do(ctx, what, wire.Names{Names: []string{k.local()}})
	})
}

// uninvite ends a copy's address.
func (r *Room) uninvite(ctx context.Context, k kept) error {
	open, err := r.Service.Invitations(ctx, k.local())
	for _, i := range open {
		err = errors.Join(err, r.Service.EndInvitation(ctx, i.ID))
	}
	return err
}

// invite lends a copy its address, the same as before where it had one.
func (r *Room) invite(ctx context.Context, k kept) error {
	terms, label := k.Asked.Terms, k.Asked.Label
	terms.Password = k.Password
	if label == "" {
		label = k.label()
	}
	const longest = 30 * 24 * time.Hour
	left := max(min(k.Until.Sub(r.Now()), longest), time.Minute)
	made, err := r.Service.Invite(ctx, k.local(), client.Invite{Seconds: int(left.Seconds()), Terms: terms, Label: label, Relay: r.Relay,
		Note: "a standing copy of " + k.Site})
	if err != nil {
		return fmt.Errorf("lend it an address: %w", err)
	}
	_, err = r.edit(k.id(), func(k *kept) {
		k.Address, k.Password, k.Asks = made.Address, made.Password, made.Asks
		k.Only, k.ReadOnly, k.NoSignIn, k.Remarks = made.Only, made.ReadOnly, made.NoSignIn, made.Remarks
	})
	return err
}
