package moving

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/rowset"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/parcel"
	"vessik/internal/safefile"
)

// base is what a site and a host had in common when something was moved between them last: by it, what was changed here is told from what
// was changed there.
type base struct {
	Site   string            `json:"site"`             // when it was made: its name may change
	Masked bool              `json:"masked,omitempty"` // who is told of in it cannot be recognised
	Files  map[string]string `json:"files"`            // SHA-256 by path
	Tables map[string]string `json:"tables"`           // hashes of rows, by name at the host
	Twins  map[string]twins  `json:"twins,omitempty"`  // by path, of files that are the same on both sides
}

// twins are the marks of a file of the mirror and of the site's at the time when they were found to be the same: as long as both have them,
// neither is read.
type twins struct {
	There safefile.Mark `json:"there"`
	Here  safefile.Mark `json:"here"`
}

func (t twins) are(there, here safefile.Entry) bool { return there.Is(t.There) && here.Is(t.Here) }

func (m mirror) baseFile() string { return filepath.Join(m.dir, "base.json") }
func (m mirror) ofFile() string   { return filepath.Join(m.dir, "of") } // the site alone: the rest may be long

// identity tells a site from another one that has its name later.
func identity(s site.Site) string { return s.CreatedAt.UTC().Format(time.RFC3339Nano) }

// siteOf is the site that was moved from or to an account last; empty for none that is there.
func (f *Feature) siteOf(account string) string {
	of, err := ownfile.Read(f.mirror(account).ofFile())
	if err != nil {
		return ""
	}
	for _, s := range f.Machine.Registry.All() {
		if identity(s) == string(of) {
			return s.Name
		}
	}
	return ""
}

// base reads what a site has in common with the host; nothing where it was never moved. Another site that has its name by now is none.
func (m mirror) base(s site.Site) base {
	of := identity(s)
	text, err := ownfile.Read(m.baseFile())
	var b base
	if err != nil || json.Unmarshal(text, &b) != nil || b.Site != of {
		return base{Site: of}
	}
	return b
}

// remember writes down what a site and the mirror, as it was fetched at a time, have in common: files that are the same, and tables that
// were moved, all where none is named. Of anything else stays what was written down before.
func (f *Feature) remember(ctx context.Context, m mirror, name string, madeAt time.Time, moved []string) error {
	unlock, err := parcel.LockMirror(ctx, m.dir, false)
	if err != nil {
		return err
	}
	defer unlock()
	said, err := parcel.Read(m.dir)
	s, known := f.Machine.Registry.Site(name)
	if err != nil || !known || !said.MadeAt.Equal(madeAt) { // it was fetched anew meanwhile
		return err
	}
	before, fetched := m.base(s), m.fetched()
	next := base{Site: before.Site, Masked: before.Masked, Tables: map[string]string{}}
	if moved == nil {
		next.Masked = fetched != nil && fetched.Masked
	}
	if next.Files, next.Twins, err = same(ctx, m.files(), s.Folder, before); err != nil {
		return err
	}
	tables, err := m.rows(f.Machine.CMS.Definitions()[said.CMS.Name], m.dump(), said.Prefix)
	if err != nil {
		return err
	}
	maps.Copy(next.Tables, before.Tables)
	for name, rows := range tables {
		if moved == nil || slices.Contains(moved, name) {
			next.Tables[name] = rows.Pack()
		}
	}
	return errors.Join(writeJSON(m.baseFile(), next), ownfile.Write(m.ofFile(), []byte(next.Site), 0o600))
}

// entries are the files in a folder, by path.
func entries(ctx context.Context, folder string) (map[string]safefile.Entry, error) {
	all := map[string]safefile.Entry{}
	return all, safefile.Walk(ctx, folder, nil, func(e safefile.Entry) error {
		if e.Type.IsRegular() {
			all[e.Path] = e
		}
		return nil
	})
}

// same tells the sums of the files that are the same in a mirror and in a site's folder; of others, what was known before.
func same(ctx context.Context, mirrored, folder string, before base) (sums map[string]string, alike map[string]twins, err error) {
	began := time.Now()
	there, err := entries(ctx, mirrored)
	if err != nil {
		return nil, nil, err
	}
	here, err := entries(ctx, folder)
	if err != nil {
		return nil, nil, err
	}
	var mu sync.Mutex
	sums, alike = map[string]string{}, map[string]twins{}
	group := errgroup.Group{}
	group.SetLimit(max(2, runtime.NumCPU()))
	for path, e := range there {
		if was := before.Twins[path]; before.Files[path] != "" && was.are(e, here[path]) {
			mu.Lock()
			sums[path], alike[path] = before.Files[path], was
			mu.Unlock()
			continue
		}
		group.Go(func() error {
			sum := before.Files[path]
			is := ctx.Err() == nil && e.Size == here[path].Size && safefile.SameContent(mirrored, folder, path)
			if is {
				var err error
				if sum, err = sumOf(mirrored, path); err != nil {
					return err
				}
			}
			one, _ := e.Mark(began) // nobody else writes the mirror
			other, settled := here[path].Mark(began)
			mu.Lock()
			defer mu.Unlock()
			if sum != "" {
				sums[path] = sum
			}
			if is && settled {
				alike[path] = twins{one, other}
			}
			return ctx.Err()
		})
	}
	return sums, alike, group.Wait()
}

// rows reads the tables of a dump that is as the host has it.
func (m mirror) rows(k *cms.Definition, dump, prefix string) (map[string]rowset.Table, error) {
	if k == nil || k.Configuration.File == "" || !ownfile.IsThere(dump) {
		return nil, nil
	}
	file, err := ownfile.Open(dump)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return rowset.Read(file, k.IsRestless(prefix))
}

// Settle waits until a site was made of what was fetched of an account, or that was put into it, and remembers that they are the same now.
func (f *Feature) Settle(account, name string, byNeed bool, begun plan.Operation) {
	said, err := parcel.Read(f.mirror(account).dir)
	if err != nil {
		return
	}
	settled := make(chan struct{})
	f.settling.Store(account, settled)
	f.Machine.Work.Go(func() {
		defer close(settled)
		ctx := f.Machine.Work.Context()
		ended, err := f.Operations.Follow(ctx, begun.ID)
		if err != nil || ended.State != plan.OperationDone {
			return
		}
		if change, err := operation.PayloadOf[plan.Change](ctx, f.Operations, begun.ID); err != nil || change.WentBack ||
			change.Unpack != nil && change.Unpack.Only != "" {
			return // what is here is not what is there
		}
		err = f.remember(ctx, f.mirror(account), site.ASCII(name), said.MadeAt, nil)
		if s, known := f.Machine.Registry.Site(site.ASCII(name)); known {
			err = errors.Join(err, f.needUploads(account, s, byNeed))
		}
		if err != nil && ctx.Err() == nil {
			f.Machine.Log.Warn("remember what a site and its host have in common", "account", account, "site", name, "reason", err)
		}
	})
}

// settled waits until what was pulled of an account last is remembered: by it a push is judged.
func (f *Feature) settled(ctx context.Context, account string) error {
	settling, is := f.settling.Load(account)
	if !is {
		return nil
	}
	select {
	case <-settling.(chan struct{}):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
