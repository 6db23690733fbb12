package walk

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/running"
)

// mostKept is how many walks of a site are kept, the newest.
const mostKept = 5

// described is the file of a walk that is whole; its pictures lie beside it.
const described = "walk.json"

var (
	walkID      = regexp.MustCompile(`^[0-9]{8}-[0-9]{6}-[0-9a-f]{8}$`)
	pictureName = regexp.MustCompile(`^[0-9]{1,5}-[0-9]{2,4}\.jpg$`)
)

func (f *Feature) dir(name string, more ...string) string {
	return f.Machine.Home.Path(append([]string{"walks", name}, more...)...)
}

// keeping is a walk on its way into its folder.
type keeping struct {
	f     *Feature
	site  site.Site
	id    string
	whole bool
}

// mostOfPictures is what the pictures of one page take at most, in bytes.
const mostOfPictures = 512 << 10

// keep makes the folder of a walk, in whose pictures a browser looks at so many pages.
func (f *Feature) keep(s site.Site, began time.Time, looks int) (*keeping, error) {
	if err := running.Room(f.Machine.Home.Dir, int64(looks)*mostOfPictures); err != nil {
		return nil, err
	}
	k := &keeping{f: f, site: s, id: began.UTC().Format("20060102-150405") + "-" + running.RandomHex(4)}
	if !k.there() {
		return nil, k.left()
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.going == nil {
		f.going = map[string]bool{}
	}
	f.going[k.id] = true
	if err := ownfile.Make(f.dir(s.Name, k.id), 0o700); err != nil {
		delete(f.going, k.id)
		return nil, err
	}
	return k, nil
}

// there tells whether the site is still the one that was walked through, under its name.
func (k *keeping) there() bool {
	now, known := k.f.Machine.Registry.Site(k.site.Name)
	return known && now.CreatedAt.Equal(k.site.CreatedAt) && now.State != site.Retiring
}

// left says in words that a walk's folder went with its site.
func (k *keeping) left() error {
	return fmt.Errorf("%s was retired or renamed meanwhile; walk once more", site.Shown(k.site.Name))
}

func (k *keeping) add(name string, picture []byte) error {
	err := ownfile.Write(k.f.dir(k.site.Name, k.id, name), picture, 0o600)
	if errors.Is(err, fs.ErrNotExist) {
		return k.left()
	}
	return err
}

func (k *keeping) finish(walked walk.Walked) error {
	err := k.f.write(k.site.Name, walked)
	if k.whole = err == nil && k.there(); !k.whole && (err == nil || errors.Is(err, fs.ErrNotExist)) {
		return k.left()
	}
	return err
}

func (f *Feature) write(name string, walked walk.Walked) error {
	text, err := json.Marshal(walked)
	if err != nil {
		return err
	}
	return ownfile.Write(f.dir(name, walked.ID, described), text, 0o600)
}

// end removes what has not become whole, and walks that are more than are kept.
func (k *keeping) end() {
	k.f.mu.Lock()
	defer k.f.mu.Unlock()
	delete(k.f.going, k.id)
	if !k.whole {
		ownfile.RemoveAll(k.f.dir(k.site.Name, k.id))
	}
	all, _ := ownfile.List(k.f.dir(k.site.Name))
	slices.Reverse(all) // by name, and so by time
	seen := 0
	for _, each := range all {
		path := k.f.dir(k.site.Name, each.Name())
		whole := ownfile.Size(filepath.Join(path, described)) > 0
		if whole {
			seen++
		}
		if !k.f.going[each.Name()] && (!whole || seen > mostKept) {
			ownfile.RemoveAll(path)
		}
	}
	ownfile.Remove(k.f.dir(k.site.Name)) // only if empty
}

// ids are the walks of a site that are whole, the newest first.
func (f *Feature) ids(name string) []string {
	ids := []string{}
	for _, path := range ownfile.Find(f.dir(name, "*", described)) {
		if id := filepath.Base(filepath.Dir(path)); walkID.MatchString(id) {
			ids = append(ids, id)
		}
	}
	slices.SortFunc(ids, func(a, b string) int { return strings.Compare(b, a) })
	return ids
}

// List are the walks of a site that are kept, the newest first.
func (f *Feature) List(name string) ([]wire.WalkEnd, error) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return nil, site.NoSite(name)
	}
	all := []wire.WalkEnd{}
	for _, id := range f.ids(s.Name) {
		if walked, err := f.read(s.Name, id); err == nil {
			all = append(all, wire.WalkEndOf(walked))
		}
	}
	return all, nil
}

// Earlier is a walk that is kept, by its id; last is the newest.
func (f *Feature) Earlier(name, id string) (walked walk.Walked, err error) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return walked, site.NoSite(name)
	}
	ids := f.ids(s.Name)
	if id == "last" && len(ids) > 0 {
		id = ids[0]
	}
	if !slices.Contains(ids, id) {
		remedy := "there is none yet; walk with: vessik walk " + s.Name
		if len(ids) > 0 {
			remedy = "choose last, or one of " + strings.Join(ids, ", ")
		}
		return walked, site.Problems{{Site: s.Name, Field: "id", Message: fmt.Sprintf("there is no walk %q", id), Remedy: remedy}}
	}
	return f.read(s.Name, id)
}

func (f *Feature) read(name, id string) (walked walk.Walked, err error) {
	text, err := ownfile.Read(f.dir(name, id, described))
	if err != nil {
		return walked, err
	}
	return walked, json.Unmarshal(text, &walked)
}

// Picture is the file of a picture; ok is false where there is none of that name.
func (f *Feature) Picture(name, id, picture string) (file string, ok bool) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known || !walkID.MatchString(id) || !pictureName.MatchString(picture) {
		return "", false
	}
	file = f.dir(s.Name, id, picture)
	return file, ownfile.Size(file) > 0
}

// Drop forgets a walk.
func (f *Feature) Drop(name, id string) error {
	walked, err := f.Earlier(name, id)
	if err != nil {
		return err
	}
	return ownfile.RemoveAll(f.dir(site.ASCII(name), walked.ID))
}
