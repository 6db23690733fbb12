package outgoing

import (
	"context"
	"strings"
	"sync"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/records"
	"vessik/internal/running"
	"vessik/internal/verify"
)

// Feature tells what the sites of one machine ask of others.
type Feature struct {
	Machine  *running.Machine
	Verifier *verify.Verifier
	Records  *records.Records
	Ledger   *Ledger

	writing sync.Mutex // what is written and what is read do not overlap
}

// LookAfter writes the ledger until the service ends, and then once more.
func (f *Feature) LookAfter() {
	next := time.NewTicker(writeEvery)
	defer next.Stop()
	for {
		select {
		case <-next.C:
			f.write()
		case <-f.Machine.Work.Context().Done():
			f.write()
			return
		}
	}
}

func (f *Feature) write() {
	f.writing.Lock()
	defer f.writing.Unlock()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(f.Machine.Work.Context()), writeFor)
	defer cancel()
	known := func(name string) bool { _, known := f.Machine.Registry.Site(name); return known }
	record := func(all []records.Outgoing) error { return f.Records.AddOutgoing(ctx, all, mostRows) }
	if err := f.Ledger.write(known, record); err != nil {
		f.Machine.Log.Warn("write what sites ask of other machines", "reason", err)
	}
}

func (f *Feature) site(name string) (site.Site, error) {
	name = site.ASCII(name)
	s, known := f.Machine.Registry.Site(name)
	if !known {
		return s, site.NoSite(name)
	}
	return s, nil
}

// List is what a site asked, the last first.
func (f *Feature) List(ctx context.Context, name string) ([]wire.Outgoing, error) {
	s, err := f.site(name)
	if err != nil {
		return nil, err
	}
	f.write()
	found, err := f.Records.OutgoingOf(ctx, s.Name)
	return shown(found), err
}

// Forget empties a site's ledger.
func (f *Feature) Forget(ctx context.Context, name string) error {
	s, err := f.site(name)
	if err != nil {
		return err
	}
	f.write()
	return f.Records.ForgetOutgoing(ctx, s.Name)
}

// settle is for how long is waited, once a page has come, for what is told of connections a moment later.
const settle = 100 * time.Millisecond

// Page asks a running site for one page, and tells what the site asked meanwhile.
func (f *Feature) Page(ctx context.Context, name, path string) (wire.OutgoingPage, error) {
	s, err := f.site(name)
	switch {
	case err != nil:
		return wire.OutgoingPage{}, err
	case s.State != site.Running:
		return wire.OutgoingPage{}, site.NotRunning(s)
	case !strings.HasPrefix(path, "/") || strings.ContainsAny(path, "#\\ \r\n"):
		return wire.OutgoingPage{}, site.Problems{{Site: s.Name, Field: "path", Message: path + " is no path of a page",
			Remedy: "write what follows the host, as in /wp-admin/"}}
	}
	done := f.Ledger.Watch(s.Name)
	began := time.Now()
	status, err := f.Verifier.Visit(ctx, s, path)
	took := time.Since(began)
	select {
	case <-time.After(settle):
	case <-ctx.Done():
	}
	seen := done()
	if err != nil {
		return wire.OutgoingPage{}, site.Problems{{Site: s.Name, Field: "path", Message: "the page did not come: " + err.Error(),
			Remedy: "see why with: vessik verify " + s.Name}}
	}
	return wire.OutgoingPage{Path: path, Status: status, Milliseconds: took.Milliseconds(), Asked: shown(seen)}, nil
}

func shown(found []records.Outgoing) []wire.Outgoing {
	all := []wire.Outgoing{}
	for _, o := range found {
		one := wire.Outgoing{Host: o.Host, Address: o.Address, Port: o.Port, Count: o.Count, Refused: o.Refused, Failed: o.Failed,
			Caught: o.Caught, FirstAt: o.FirstAt, LastAt: o.LastAt}
		if stood := o.Count - o.Refused - o.Failed - o.Caught; stood > 0 {
			one.Milliseconds = o.Milliseconds / stood
		}
		all = append(all, one)
	}
	return all
}
