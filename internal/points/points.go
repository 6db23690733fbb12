// Package points keeps restore points: a site's files and database as they were at one moment.
package points

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/retention"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Step takes one.
const Step plan.Step = "restore-point"

// Points are those of the sites of one machine.
type Points struct {
	Machine *running.Machine

	mu    sync.Mutex
	locks map[string]*sync.Mutex // by site
	laid  sync.Map               // folders in which content lies open
}

// Point is one restore point. Where its database and files stood is kept beside them, so that they can be re-addressed.
type Point struct {
	ID     string    `json:"-"`
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	Note   string    `json:"note"`
	Kept   bool      `json:"kept,omitempty"` // until somebody drops it
	URL    string    `json:"url"`
	Folder string    `json:"folder"` // of the site at that time
	Prefix string    `json:"prefix"`
	Stored int64     `json:"stored,omitempty"` // that all its blobs take, in bytes
}

// Place is where the content of a point stood.
func (p Point) Place() cms.Place { return cms.Place{URL: p.URL, Folder: p.Folder} }

const (
	described = "point.json"
	dumped    = "database.sql"
	copied    = "files"
	asideMark = ".dropped-"
)

func (p *Points) dir(name string, more ...string) string {
	return p.Machine.Home.Path(append([]string{"restore", name}, more...)...)
}

// Drop removes the one that an operation has taken, whole or in part.
func (p *Points) Drop(w *operation.Part) error { return p.Remove(w.Name, w.ID()) }

// Remove removes a point, and what no other one is made of.
func (p *Points) Remove(name, id string) error {
	defer p.lock(name)()
	return errors.Join(ownfile.RemoveAll(p.dir(name, id)), p.sweep(name))
}

// SetAside gives a point a name under which none is found, by which it is removed then.
func (p *Points) SetAside(name, id string) (aside string, err error) {
	aside = asideMark + id
	return aside, ownfile.Rename(p.dir(name, id), p.dir(name, aside))
}

// List tells a site's points, the newest first; those that were not finished are not among them.
func (p *Points) List(s site.Site) (found []Point, err error) {
	entries, err := ownfile.List(p.dir(s.Name))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, entry := range entries {
		if strings.HasPrefix(entry.Name(), ".") { // the blobs, or what was being removed when a service ended
			continue
		}
		if point, ok := p.read(s, entry); ok {
			found = append(found, point)
		}
	}
	slices.SortFunc(found, func(a, b Point) int { return site.CompareVersions(b.ID, a.ID) })
	return found, nil
}

func (p *Points) read(s site.Site, entry os.DirEntry) (point Point, ok bool) {
	point.ID = entry.Name()
	kept := ownfile.Size(p.dir(s.Name, point.ID, manifestName)) > 0
	if _, err := os.Stat(p.dir(s.Name, point.ID, copied)); err != nil && !kept {
		return point, false
	}
	text, err := ownfile.Read(p.dir(s.Name, point.ID, described))
	if err == nil {
		if !kept {
			point.Stored = safefile.Bytes(p.dir(s.Name, point.ID))
		}
		return point, json.Unmarshal(text, &point) == nil
	}
	if kept { // it is on its way
		return point, false
	}
	// An earlier version told nothing of it: it is taken for one of the site as it is called now.
	info, err := entry.Info()
	if err != nil {
		return point, false
	}
	point.At, point.URL, point.Folder, point.Prefix = info.ModTime().UTC(), p.Machine.CMSFacts(s).URL, s.Folder, s.Prefix
	return point, true
}

// Find finds a point; the remedy names those that there are.
func (p *Points) Find(s site.Site, id string) (Point, error) {
	all, err := p.List(s)
	if err != nil {
		return Point{}, err
	}
	ids := []string{}
	for _, point := range all {
		if point.ID == id {
			return point, nil
		}
		ids = append(ids, point.ID)
	}
	remedy := "there is none yet; make one with: vessik restore " + s.Name + " -make"
	if len(ids) > 0 {
		remedy = "choose one of " + strings.Join(ids, ", ") + "; see them with: vessik restore " + s.Name
	}
	return Point{}, site.Problems{{Site: s.Name, Field: "id", Message: fmt.Sprintf("there is no restore point %q", id), Remedy: remedy}}
}

// Take keeps a site's files and a dump of its database, and returns the folder of both. Of the points that nobody asked for, some go then,
// as the site's rules say; but not the one that spared names.
func (p *Points) Take(ctx context.Context, w *operation.Part, s site.Site, point Point, spared string) (place string, err error) {
	place = p.dir(s.Name, w.ID())
	bytes, err := p.room(ctx, s)
	if err == nil {
		err = running.Room(p.Machine.Home.Dir, bytes)
	}
	if err != nil {
		return "", err
	}
	defer p.lock(s.Name)()
	if err := ownfile.Make(p.dir(s.Name), 0o700); err != nil {
		return "", err
	}
	if err := ownfile.RemoveAll(place); err != nil {
		return "", err
	}
	if err := ownfile.MakeNew(place, 0o700); err != nil {
		return "", err
	}
	if point.Stored, err = p.keep(ctx, s, place); err != nil {
		return "", err
	}
	point.At, point.URL, point.Folder, point.Prefix = time.Now().UTC().Truncate(time.Second), p.Machine.CMSFacts(s).URL, s.Folder, s.Prefix
	text, err := json.Marshal(point)
	if err != nil {
		return "", err
	}
	if err := ownfile.Write(filepath.Join(place, described), text, 0o600); err != nil {
		return "", err
	}
	return place, p.thin(s, spared)
}

func (p *Points) thin(s site.Site, spared string) error {
	for _, left := range append(ownfile.Find(p.dir(s.Name, asideMark+"*")), ownfile.Find(p.dir(s.Name, laidMark+"*"))...) {
		if _, open := p.laid.Load(left); open {
			continue
		}
		if err := ownfile.RemoveAll(left); err != nil {
			return err
		}
	}
	all, err := p.List(s)
	if err != nil {
		return err
	}
	seen := make([]retention.Point, len(all))
	for i, point := range all {
		seen[i] = retention.Point{ID: point.ID, At: point.At, Pinned: point.Kept || point.ID == spared, Blobs: map[string]int64{}}
		kept, err := p.manifest(s.Name, point.ID)
		if err != nil { // a copy of an earlier version, or a damaged one
			seen[i].Blobs[point.ID] = point.Stored
			continue
		}
		for _, ref := range kept.refs() {
			seen[i].Blobs[ref.Sum] = ref.Stored
		}
	}
	for _, id := range retention.Dropped(seen, time.Now(), p.Rules(s.Name).retention()) {
		if err := ownfile.RemoveAll(p.dir(s.Name, id)); err != nil {
			return err
		}
	}
	return p.sweep(s.Name)
}
