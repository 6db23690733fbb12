package moving

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"vessik/internal/cms"
	core "vessik/internal/core/hosting"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/hosting"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/parcel"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Fetch is the kind of operation that brings the site at a hosting account into its mirror: its part is the account.
const (
	Fetch     plan.Kind = "fetch-account"
	fetchStep plan.Step = "fetch-account"
)

// fetching is what is asked, and what came of it.
type fetching struct {
	Asked  wire.Fetch    `json:"asked"`
	Result *wire.Fetched `json:"result,omitempty"`
}

// Kind is how an account is fetched. What has come stays when it breaks off, and is not carried again.
func (f *Feature) Kind() operation.Kind {
	return operation.Kind{Name: Fetch, Other: true, Recover: plan.Always(plan.GiveUp), Again: "fetch it again, what came already is kept",
		Show: operation.ShowAs[fetching], Steps: []operation.Step{
			{Name: fetchStep, Title: "fetching from the host", Do: func(ctx context.Context, w *operation.Part) error {
				asked, err := operation.Payload[fetching](w)
				if err != nil {
					return err
				}
				result, err := f.fetch(ctx, w, accountOf(w.Name), asked.Asked)
				if result != nil {
					operation.Learn(w, func(p *fetching) { p.Result = result })
				}
				return err
			}}}}
}

// Begin fetches an account; the operation goes on after it returns.
func (f *Feature) Begin(ctx context.Context, name string, asked wire.Fetch) (plan.Operation, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	if _, err := f.account(ctx, name); err != nil {
		return plan.Operation{}, err
	}
	if _, known := f.Machine.Registry.Site(site.ASCII(asked.Into)); asked.NewerUploads && !known {
		return plan.Operation{}, site.Problems{{Site: asked.Into, Field: "newer_uploads", Message: "is for a site that is there",
			Remedy: "pull it first, with uploads or with -uploads-by-need"}}
	}
	return f.Operations.Begin(ctx, operation.Request{Kind: Fetch, Payload: fetching{Asked: asked}, Names: []string{part(name)},
		Steps: map[string][]plan.Step{part(name): {fetchStep}}})
}

// found is what a look at a host tells.
type found struct {
	list          hosting.Listing
	cms           *cms.Definition
	version       string
	looked        hosting.Looked
	configuration hosting.Configuration
}

// with visits an account, with a helper that answers. A host may take long: meanwhile others have the part's place.
func (f *Feature) with(ctx context.Context, w *operation.Part, name string, do func(v *visit) error) (err error) {
	w.Wait(func() { err = f.within(ctx, w, name, do) })
	return err
}

func (f *Feature) within(ctx context.Context, w *operation.Part, name string, do func(v *visit) error) (err error) {
	w.Progress("connecting", -1)
	v, err := f.visiting(ctx, name)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, v.end(ctx)) }()
	if err := v.layHelper(ctx); err != nil {
		return told(v.account, err)
	}
	if v.helper == nil {
		return fmt.Errorf("%w; see whether -url of the account is the address at which its folder is served: vessik hosting check %s",
			v.why, name)
	}
	return do(v)
}

// fetch brings an account's mirror up to date.
func (f *Feature) fetch(ctx context.Context, w *operation.Part, name string, asked wire.Fetch) (result *wire.Fetched, err error) {
	var since time.Time
	if before := f.mirror(name).fetched(); before != nil {
		since = before.At
	}
	asked = withUploads(asked)
	err = f.with(ctx, w, name, func(v *visit) error {
		var at found
		if result, at, err = f.fetchBy(ctx, w, v, asked, nil); err != nil || asked.Into == "" {
			return err
		}
		if result.Replaces, err = f.replaced(ctx, w, name, at, asked); err == nil && asked.NewerUploads && !asked.DryRun {
			result.NewerUploads, err = f.newer(ctx, w, v, at, asked, since)
		}
		return err
	})
	return result, err
}

// fetchBy is fetch within a visit. pushed are files that the host has from here: they are taken from there, and not carried.
func (f *Feature) fetchBy(ctx context.Context, w *operation.Part, v *visit, asked wire.Fetch, pushed *source) (result *wire.Fetched,
	at found,
	err error) {
	w.Progress("looking at what is there", -1)
	if at, err = f.look(ctx, v); err != nil {
		return nil, at, told(v.account, err)
	}
	left, err := leftAtHost(at.cms, asked.Without)
	if err != nil {
		return nil, at, err
	}
	m := f.mirror(v.account.Name)
	todo, err := f.compare(ctx, v, m, at, left)
	if err != nil {
		return nil, at, err
	}
	result = f.tell(at, todo)
	if asked.DryRun {
		return result, at, nil
	}
	if err := running.Room(f.Machine.Home.Dir, todo.bytes+int64(at.looked.Bytes)); err != nil {
		return result, at, err
	}
	carry := pushed.take(m, todo.carry)
	unread, err := v.carry(ctx, w, m, carry, todo.bytes)
	if err != nil {
		return result, at, told(v.account, err)
	}
	if len(unread) > 0 {
		result.Warnings = append(result.Warnings, fmt.Sprintf("%d files could not be read at the host, or were gone: %s", len(unread),
			strings.Join(unread[:min(len(unread), 3)], ", ")))
	}
	for _, e := range carry {
		result.Carried += e.Size
	}
	said, err := f.dump(ctx, w, v, m, at, asked, result)
	if err != nil {
		return result, at, told(v.account, err)
	}
	if err := f.blank(m, at, &todo); err != nil {
		return result, at, err
	}
	said.LeftOut = left
	said.Files, said.FileBytes = result.Files, result.FileBytes
	result.At = said.MadeAt
	return result, at, m.put(ctx, todo.gone, todo.all, said, *result)
}

// look asks what lies at a host, and what it is.
func (f *Feature) look(ctx context.Context, v *visit) (at found, err error) {
	if at.list, err = v.helper.List(ctx, nil); err != nil {
		return at, err
	}
	sizes := map[string]int64{}
	for _, e := range at.list.Entries {
		if e.Regular {
			sizes[e.Path] = e.Size
		}
	}
	const most = 1 << 20 // bytes of a file that is read to tell what it is
	read := func(file string) ([]byte, error) {
		size, there := sizes[file]
		if !there || size > most {
			return nil, os.ErrNotExist
		}
		var text bytes.Buffer
		err := v.line.Read(ctx, file, 0, &counting{to: &text, most: most})
		return text.Bytes(), err
	}
	at.cms, at.version = f.Machine.CMS.Definitions().Recognise(read)
	if at.cms == nil {
		return at, fmt.Errorf("no CMS that Vessik knows stands in the account's folder, which holds %d files; see the folder in -at", len(sizes))
	}
	at.configuration = hosting.ConfigurationOf(at.cms)
	at.looked, err = v.helper.Look(ctx, at.configuration)
	return at, err
}

// leftAtHost are the paths that are not fetched: what is asked, and caches.
func leftAtHost(k *cms.Definition, without []string) (left []string, err error) {
	left = slices.Clone(k.Layout.Caches)
	for _, each := range without {
		switch each = strings.Trim(each, "/"); {
		case each == "uploads":
			left = append(left, k.Layout.Uploads...)
		case each == "" || each == "." || strings.Contains(each, "..") || site.UnsafeInPath(each):
			return nil, fmt.Errorf("without: %q is no path at the host; name uploads, or a path in the account's folder", each)
		default:
			left = append(left, each)
		}
	}
	return left, nil
}

// todo is what makes a mirror like the host.
type todo struct {
	all          []hosting.Entry // that the mirror is to hold
	carry        []hosting.Entry
	bytes        int64
	new, changed int
	gone         []string
	files        int
	fileBytes    int64
}

// compare tells what is to be carried: what is not here by size and time, and where the size is the same, by its hash either.
func (f *Feature) compare(ctx context.Context, v *visit, m mirror, at found, left []string) (t todo, err error) {
	here, come, err := m.here(ctx)
	if err != nil {
		return t, err
	}
	wanted, doubtful := map[string]bool{}, []hosting.Entry{}
	for _, e := range at.list.Entries {
		if safefile.Within(left, e.Path) {
			continue
		}
		wanted[e.Path] = true
		t.all = append(t.all, e)
		if e.Folder {
			continue
		}
		t.files++
		t.fileBytes += e.Size
		have, is := here[e.Path]
		switch {
		case e.Path == at.cms.Configuration.File: // the helper tells it
		case isCopy(come[e.Path], e) || is && isCopy(have, e):
		case is && have.Type.IsRegular() && have.Size == e.Size:
			doubtful = append(doubtful, e)
		case is:
			t.changed, t.carry = t.changed+1, append(t.carry, e)
		default:
			t.new, t.carry = t.new+1, append(t.carry, e)
		}
	}
	for path, have := range here {
		if !wanted[path] && !safefile.Within(left, path) || wanted[path] && have.Type.IsDir() != isFolder(t.all, path) {
			t.gone = append(t.gone, path)
		}
	}
	slices.Sort(t.gone)
	if err := f.doubt(ctx, v, m, doubtful, &t); err != nil {
		return t, err
	}
	for _, e := range t.carry {
		t.bytes += e.Size
	}
	return t, nil
}

func isFolder(sorted []hosting.Entry, path string) bool {
	i, ok := slices.BinarySearchFunc(sorted, path, func(e hosting.Entry, path string) int { return cmp.Compare(e.Path, path) })
	return ok && sorted[i].Folder
}

// doubt compares files of the same length and another time by their hash.
func (f *Feature) doubt(ctx context.Context, v *visit, m mirror, doubtful []hosting.Entry, t *todo) error {
	names := []string{}
	for _, e := range doubtful {
		names = append(names, e.Path)
	}
	sums, err := v.helper.Hashes(ctx, names)
	if err != nil {
		return err
	}
	for i, e := range doubtful {
		sum, err := sumOf(m.files(), e.Path)
		if err != nil {
			return err
		}
		if sum != sums[i] {
			t.changed, t.carry = t.changed+1, append(t.carry, e)
			continue
		}
		if err := m.touch(e); err != nil {
			return err
		}
	}
	return nil
}

// tell says what was found.
func (f *Feature) tell(at found, t todo) *wire.Fetched {
	result := &wire.Fetched{CMS: site.CMS{Name: at.cms.Name, Version: at.version}, PHP: at.looked.PHP, Database: at.looked.Database,
		Files: t.files, FileBytes: t.fileBytes, New: t.new, Changed: t.changed, Gone: len(t.gone), CarryBytes: t.bytes}
	store := f.Machine.Store
	result.Stack = site.Stack{PHP: core.Nearest(store.IDs(engine.PHP), at.looked.PHP),
		Database: core.Nearest(store.IDs(engine.Database), core.MariaDB(at.looked.Database))}
	if kind := core.WebServer(at.looked.Server); kind != "" {
		i := slices.IndexFunc(store.IDs(engine.Web), func(id string) bool { return strings.HasPrefix(id, kind+"-") })
		if i >= 0 {
			result.Stack.Web = store.IDs(engine.Web)[i]
		}
	}
	warn := func(words string, values ...any) {
		result.Warnings = append(result.Warnings, fmt.Sprintf(words, values...))
	}
	if at.list.Other > 0 {
		warn("%d links and the like are left at the host", at.list.Other)
	}
	if len(at.list.Unfit) > 0 {
		warn("%d names are none that a site can have here, and are left at the host: %s", len(at.list.Unfit),
			strings.Join(at.list.Unfit[:min(len(at.list.Unfit), 3)], ", "))
	}
	if len(at.list.Denied) > 0 {
		warn("%d folders cannot be read at the host: %s", len(at.list.Denied), strings.Join(at.list.Denied[:min(len(at.list.Denied), 3)], ", "))
	}
	return result
}

// dump brings the database, and tells what a parcel's manifest says of the site.
func (f *Feature) dump(ctx context.Context, w *operation.Part, v *visit, m mirror, at found, asked wire.Fetch,
	result *wire.Fetched) (said wire.Parcel, err error) {
	said = wire.Parcel{Format: parcel.Format, Site: v.account.Name, Title: v.account.Name, CMS: result.CMS, Root: at.cms.Layout.DocumentRoot,
		Configuration: at.cms.Configuration.File,
		URL:           v.account.URL, Folder: at.looked.Folder, Stack: result.Stack, MadeAt: time.Now().UTC().Truncate(time.Second)}
	if at.cms.Configuration.File == "" {
		return said, nil
	}
	if at.looked.Fault != "" {
		return said, fmt.Errorf("the site's database cannot be read at the host: %s; see whether its site works", at.looked.Fault)
	}
	what := hosting.Dumping{Prefix: at.looked.Prefix, Empty: asked.Empty}
	if asked.Mask {
		if what.Masks = at.cms.People; len(what.Masks) == 0 {
			return said, fmt.Errorf("mask: Vessik does not know where %s tells of people; leave tables empty with -empty", at.cms.Title)
		}
	}
	w.Progress("fetching the database", -1)
	if v.watches {
		v.sums, err = v.helper.Sums(ctx, at.configuration, at.cms, at.looked.Prefix, at.looked.Tables)
		var unanswered *hosting.UnansweredError
		if (hosting.Cut(err) || errors.As(err, &unanswered)) && ctx.Err() == nil { // a table is longer than the host has time for in one request
			result.Warnings = append(result.Warnings, "the host has too little time to sum up its tables: what is written into them while a push "+
				"is on its way is not noticed")
			v.sums, err = nil, nil
		}
		if err != nil {
			return said, err
		}
	}
	file, err := ownfile.Create(m.nextDump())
	if err != nil {
		return said, err
	}
	told := &often{tell: func(bytes int64) {
		w.Progress("fetching the database", min(float64(bytes)/max(at.looked.Bytes, 1), 1))
	}}
	parts, err := v.helper.Dump(ctx, at.configuration, what, file, mostOfDump(at), told.now)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return said, err
	}
	result.Masked = asked.Mask
	result.DumpParts, result.DumpBytes = parts, ownfile.Size(m.nextDump())
	said.Database, said.DatabaseBytes, said.Prefix = true, result.DumpBytes, at.looked.Prefix
	if parts > 1 {
		result.Warnings = append(result.Warnings, fmt.Sprintf("the host gives one request little time: the database was read at %d moments",
			parts))
	}
	return said, f.tellContent(ctx, v, m, at, &said, result)
}

// mostOfDump is how long the dump of a host may be, in bytes: text is longer than what tables take, and a hostile host writes without end.
func mostOfDump(at found) int64 { return 4*max(int64(at.looked.Bytes), 0) + 256<<20 }

// tellContent asks the site's database for its title, its address and its sub-sites.
func (f *Feature) tellContent(ctx context.Context, v *visit, m mirror, at found, said *wire.Parcel, result *wire.Fetched) error {
	dump, err := ownfile.Open(m.nextDump())
	if err != nil {
		return err
	}
	defer dump.Close()
	of, err := at.cms.Dumped(dump)
	if err != nil {
		return fmt.Errorf("the host's dump is not to be read: %w", err)
	}
	said.URL, said.Prefix = cmp.Or(of.Address, said.URL), cmp.Or(at.looked.Prefix, of.Prefix)
	there := cms.Elsewhere{Definition: at.cms, Prefix: said.Prefix, Ask: func(statement string) ([][]string, error) {
		return v.helper.Query(ctx, at.configuration, statement)
	}}
	title, err := there.Title()
	if err != nil {
		return err
	}
	said.Title = cmp.Or(title, said.Title)
	result.Title = said.Title
	if said.Network = at.cms.IsNetwork(at.looked.Text); said.Network != "" {
		said.SubSites, err = there.SubSites(said.Network, said.URL)
	}
	return err
}

// blank takes out of the configuration what is secret of the host; it stands where the CMS looks first.
func (f *Feature) blank(m mirror, at found, t *todo) error {
	file := at.cms.Configuration.File
	if file == "" || len(at.looked.Text) == 0 {
		return nil
	}
	if !slices.ContainsFunc(t.all, func(e hosting.Entry) bool { return e.Path == file }) {
		t.all = append(t.all, hosting.Entry{Path: file, Regular: true})
	}
	return m.replace(file, at.cms.BlankText(at.looked.Text))
}
