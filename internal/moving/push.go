package moving

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/cms"
	"vessik/internal/core/rowset"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/hosting"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/parcel"
	"vessik/internal/safefile"
)

// mostShown is how many files a preview names.
const mostShown = 500

// planned is a push that was compared, as it lies in the mirror's folder until it is over.
type planned struct {
	hosting.Turn
	Folder string `json:"folder"` // that the files come from
	Dump   string `json:"dump"`   // that the tables come from
	Before int    `json:"before"` // what the live site answered
	CMS    string `json:"cms"`
	Prefix string `json:"prefix"`
	// Pages are what pages of the live site answered, where all of them are asked before and after.
	Pages map[string]answered `json:"pages,omitempty"`
	// Without is what was left at the host when the site was pulled, and is not compared.
	Without []string     `json:"without,omitempty"`
	After   *base        `json:"after,omitempty"` // of one that takes a push back: what the host had when that stood
	Undo    bool         `json:"undo,omitempty"`  // it takes back an earlier push
	Said    *wire.Pushed `json:"said"`
}

func (m mirror) pushing(names ...string) string {
	return filepath.Join(append([]string{m.dir, "push"}, names...)...)
}
func (m mirror) undoing(names ...string) string {
	return filepath.Join(append([]string{m.dir, "undo"}, names...)...)
}

func readPlan(path string) (p planned, err error) {
	text, err := ownfile.Read(path)
	if err == nil {
		err = json.Unmarshal(text, &p)
	}
	return p, err
}

// source is a folder with files that the host has by now.
type source struct {
	folder string
	paths  map[string]bool
}

// take takes files that came from here into the mirror, and returns those that must be carried.
func (s *source) take(m mirror, carry []hosting.Entry) (rest []hosting.Entry) {
	if s == nil {
		return carry
	}
	for _, e := range carry {
		if !s.paths[e.Path] {
			rest = append(rest, e)
			continue
		}
		err := m.take(e, func(to io.Writer, from int64) error {
			file, err := safefile.Open(s.folder, e.Path)
			if err != nil {
				return err
			}
			defer file.Close()
			if _, err := file.Seek(from, io.SeekStart); err != nil {
				return err
			}
			_, err = io.Copy(to, file)
			return err
		})
		if err != nil { // it was changed here meanwhile
			rest = append(rest, e)
		}
	}
	return rest
}

// comparing is what a push is judged by.
type comparing struct {
	f       *Feature
	m       mirror
	s       site.Site
	asked   wire.Push
	at      found
	base    base
	said    wire.Parcel
	plan    planned
	preview *wire.Pushed
}

// comparePush brings the mirror up to date, and tells what of a site differs from it: what was changed here is pushed, what was changed
// at the host alone stays, what was changed on both sides is a conflict.
func (f *Feature) comparePush(ctx context.Context, w *operation.Part, v *visit, asked wire.Push) (*wire.Pushed, error) {
	s, ok := f.Machine.Registry.Site(site.ASCII(asked.Site))
	if !ok {
		return nil, site.NoSite(asked.Site)
	}
	c := &comparing{f: f, m: f.mirror(v.account.Name), s: s, asked: asked,
		preview: &wire.Pushed{Account: v.account.Name, Site: s.Name, Files: []wire.PushedFile{}, Tables: []wire.PushedTable{}}}
	c.base = c.m.base(s)
	k := f.Machine.CMS.Of(s)
	if c.asked.People = asked.People || namesPeople(k, asked.Tables); c.asked.People && c.base.Masked {
		return nil, errors.New("people: who is told of in it was made unrecognisable when it was pulled, and would be so on the live site: " +
			"pull it without -mask first")
	}
	if before, err := parcel.Read(c.m.dir); err == nil { // what was left at the host when it was pulled
		c.plan.Without = slices.DeleteFunc(before.LeftOut, func(path string) bool { return slices.Contains(k.Layout.Caches, path) })
	}
	v.watches = !asked.Overwrite && !asked.DryRun && asked.Only != "files"
	result, at, err := f.fetchBy(ctx, w, v, wire.Fetch{Mask: !c.asked.People && len(k.People) > 0, Without: c.plan.Without}, nil)
	if err != nil {
		return nil, err
	}
	if c.at, c.preview.Warnings = at, result.Warnings; !at.looked.Writable {
		return nil, errors.New("PHP may not write into the account's folder, and could not put one file in the place of another: give its " +
			"user the right to (the host tells how)")
	}
	if c.said, err = parcel.Read(c.m.dir); err != nil {
		return nil, err
	}
	if c.said.CMS.Name != s.CMS.Name || c.said.Network != s.Network {
		return nil, fmt.Errorf("%s is of %s %s, and at the host stands %s %s", s.Name, s.CMS.Name, s.Network, c.said.CMS.Name, c.said.Network)
	}
	if err := ownfile.RemoveAll(c.m.pushing()); err != nil {
		return nil, err
	}
	if err := ownfile.Make(c.m.pushing(), 0o700); err != nil {
		return nil, err
	}
	w.Progress("comparing", -1)
	c.plan.Folder, c.plan.Dump, c.plan.Said = s.Folder, c.m.pushing("database.sql"), c.preview
	c.plan.CMS, c.plan.Prefix = c.said.CMS.Name, c.said.Prefix
	if err := c.files(ctx, k); err != nil {
		return nil, err
	}
	if err := c.tables(ctx, k); err != nil {
		return nil, err
	}
	c.plan.asSeen(v, at, asked.Overwrite)
	c.warn()
	if err := c.amiss(ctx, v, k); err != nil {
		return nil, err
	}
	var why string
	if c.plan.Before, why = v.front(ctx); c.plan.Before != http.StatusOK {
		c.preview.Warnings = append(c.preview.Warnings, "the live site is not well now: "+why+"; whether it answers worse afterwards is "+
			"hard to tell")
	}
	if asked.Walk && !asked.DryRun {
		paths, err := v.paths(ctx, c.there(ctx, v))
		if err != nil {
			return nil, err
		}
		c.plan.Pages = v.through(ctx, w, paths)
	}
	return c.preview, writeJSON(c.m.pushing("plan.json"), c.plan)
}

// asSeen has the push be refused where what it replaces is changed at the host before it is there, unless that is not minded.
func (p *planned) asSeen(v *visit, at found, overwrite bool) {
	if p.Sums, p.Seen = nil, nil; overwrite {
		return
	}
	p.See(at.list.Entries)
	if v.sums == nil {
		return
	}
	p.Sums = map[string]string{}
	for _, table := range p.Tables {
		p.Sums[table] = v.sums[table]
	}
}

// namesPeople tells whether one of some tables tells of people: then who is told of must be in it as they are, to be brought back, too.
func namesPeople(k *cms.Definition, tables []string) bool {
	return slices.ContainsFunc(tables, func(table string) bool {
		return slices.ContainsFunc(k.People, func(p cms.People) bool { return strings.HasSuffix(table, p.Table) })
	})
}

// files compares the site's folder with the host's.
func (c *comparing) files(ctx context.Context, k *cms.Definition) error {
	if c.asked.Only == "database" {
		return nil
	}
	left := slices.Concat(k.Layout.Caches, []string{k.Configuration.File}, c.said.LeftOut)
	for _, shared := range c.s.Settings.Bound() {
		left = append(left, shared.Place)
	}
	there, err := safefile.Folder(ctx, c.s.Folder, left...)
	if err != nil {
		return err
	}
	read := there.Same
	there.Same = func(to string, e, now safefile.Entry) bool {
		return c.base.Twins[e.Path].are(now, e) || read(to, e, now)
	}
	difference, err := safefile.Compare(ctx, there, c.m.files(), left...)
	if err != nil {
		return err
	}
	kinds := map[string]safefile.Entry{}
	for _, e := range there.All {
		kinds[e.Path] = e
	}
	for _, path := range slices.Concat(difference.New, difference.Changed) {
		if e := kinds[path]; !e.Type.IsRegular() {
			continue
		}
		if err := c.file(path, kinds[path].Size); err != nil {
			return err
		}
	}
	if err := c.gone(ctx, difference.Gone); err != nil {
		return err
	}
	return c.leftThere(ctx)
}

// leftThere judges what lies here where the host's files were left at the host: what has a name that is none there is pushed.
func (c *comparing) leftThere(ctx context.Context) error {
	if len(c.plan.Without) == 0 {
		return nil
	}
	there := map[string]bool{}
	for _, e := range c.at.list.Entries {
		there[e.Path] = true
	}
	return safefile.Walk(ctx, c.s.Folder, nil, func(e safefile.Entry) error {
		if e.Type.IsRegular() && safefile.Within(c.plan.Without, e.Path) && !there[e.Path] {
			return c.file(e.Path, e.Size)
		}
		return nil
	})
}

// chosen tells whether a path is one that may be pushed.
func (c *comparing) chosen(path string) bool {
	return (len(c.asked.Paths) == 0 || safefile.Within(c.asked.Paths, path)) && !safefile.Within(c.asked.Keep, path)
}

// file judges one that is here, and at the host is another or none.
func (c *comparing) file(path string, size int64) error {
	if !c.chosen(path) {
		return nil
	}
	if !hosting.Fits(path) {
		c.preview.Warnings = append(c.preview.Warnings, fmt.Sprintf("%.200q is no name that can be carried, and stays here", path))
		return nil
	}
	here, err := sumHere(c.s.Folder, path)
	if err != nil {
		return err
	}
	was, known := c.base.Files[path]
	there, what := "", "new"
	if ownfile.IsThere(filepath.Join(c.m.files(), filepath.FromSlash(path))) {
		if there, err = sumOf(c.m.files(), path); err != nil {
			return err
		}
		what = "changed"
	}
	if known && here == was { // not changed here: it was changed or removed there
		c.preview.Stays++
		return nil
	}
	c.put(wire.PushedFile{Path: path, What: what, Bytes: size, Conflict: known && there != was || !known && what == "changed"})
	return nil
}

// gone judges what the host has, and is not here: what was here is removed there, what was made there stays.
func (c *comparing) gone(ctx context.Context, tops []string) error {
	return safefile.Walk(ctx, c.m.files(), nil, func(e safefile.Entry) error {
		if !e.Type.IsRegular() || !safefile.Within(tops, e.Path) {
			return nil
		}
		was, known := c.base.Files[e.Path]
		if !known || !c.chosen(e.Path) {
			c.preview.Stays++
			return nil
		}
		there, err := sumOf(c.m.files(), e.Path)
		if err == nil {
			c.put(wire.PushedFile{Path: e.Path, What: "gone", Conflict: there != was})
		}
		return err
	})
}

// put has a file be pushed.
func (c *comparing) put(file wire.PushedFile) {
	p := c.preview
	switch file.What {
	case "new":
		p.New++
	case "changed":
		p.Changed++
	case "gone":
		p.Gone++
	}
	if file.Conflict {
		p.Conflicts++
	}
	if file.What == "gone" {
		c.plan.Gone = append(c.plan.Gone, file.Path)
	} else {
		c.plan.Put = append(c.plan.Put, file.Path)
		p.Bytes += file.Bytes
	}
	if len(p.Files) < mostShown || file.Conflict && len(p.Files) < 2*mostShown {
		p.Files = append(p.Files, file)
	}
}

// tables compares the site's database, as it would be at the host, with the host's.
func (c *comparing) tables(ctx context.Context, k *cms.Definition) error {
	if c.asked.Only == "files" || !c.said.Database {
		return nil
	}
	if err := c.f.dumpFor(ctx, c.s, c.said, c.plan.Dump); err != nil {
		return err
	}
	here, err := c.m.rows(k, c.plan.Dump, c.said.Prefix)
	if err != nil {
		return err
	}
	there, err := c.m.rows(k, c.m.dump(), c.said.Prefix)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(here)) {
		c.table(k, name, here[name], there)
	}
	return nil
}

func (c *comparing) table(k *cms.Definition, name string, rows rowset.Table, there map[string]rowset.Table) {
	other, isThere := there[name]
	packed, known := c.base.Tables[name]
	was := rowset.Unpack(packed)
	switch {
	case isThere && rows.Sum() == other.Sum():
	case slices.Contains(c.asked.Keep, name) || len(c.asked.Tables) > 0 && !slices.Contains(c.asked.Tables, name):
	case !c.asked.People && isThere && k.TellsOfPeople(name, c.said.Prefix) && !slices.Contains(c.asked.Tables, name),
		known && rows.Sum() == was.Sum():
		c.preview.StaysTables = append(c.preview.StaysTables, name)
	default:
		one := wire.PushedTable{Name: name, Lost: rowset.Lost(rows, other, was)}
		if isThere && !known { // nothing is known of what was changed where
			_, one.Lost = rows.Difference(other)
		}
		one.New, one.Gone = rows.Difference(other)
		if one.Lost > 0 {
			c.preview.Conflicts++
		}
		c.preview.Tables = append(c.preview.Tables, one)
		c.plan.Tables = append(c.plan.Tables, name)
	}
}

// warn tells of what the live site should not have.
func (c *comparing) warn() {
	if len(c.plan.Tables) > 0 {
		c.preview.Bytes += ownfile.Size(c.plan.Dump)
	}
	add := func(words string, values ...any) {
		c.preview.Warnings = append(c.preview.Warnings, fmt.Sprintf(words, values...))
	}
	if len(c.base.Files) == 0 {
		add("%s was never moved between here and there: whatever differs is taken for changed on both sides", c.s.Name)
	}
}
