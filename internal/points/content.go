package points

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"vessik/internal/blobs"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// manifest says of what a point is made: blobs, which all points of a site share.
type manifest struct {
	Files    []file      `json:"files"` // folders before what is in them
	Database []blobs.Ref `json:"database"`
}

// file is one of a point's, a folder or a link.
type file struct {
	Path   string      `json:"path"`
	Folder bool        `json:"folder,omitempty"`
	Link   string      `json:"link,omitempty"`
	Mode   fs.FileMode `json:"mode,omitempty"`
	Refs   []blobs.Ref `json:"blobs,omitempty"`

	// By these it is known again without being read.
	Inode   uint64 `json:"inode,omitempty"`
	Changed int64  `json:"changed,omitempty"`
	Size    int64  `json:"size,omitempty"`
}

// manifestName is the file of a manifest, JSON compressed by Zstandard; blobsFolder the folder of all blobs of a site's points.
const (
	manifestName = "manifest.json.zst"
	blobsFolder  = ".blobs"
	laidMark     = ".laid-"
)

func (p *Points) store(name string) blobs.Store { return blobs.Store{Dir: p.dir(name, blobsFolder)} }

// lock keeps others from a site's blobs: whoever puts some, and whoever sweeps, does so alone.
func (p *Points) lock(name string) (unlock func()) {
	p.mu.Lock()
	if p.locks == nil {
		p.locks = map[string]*sync.Mutex{}
	}
	if p.locks[name] == nil {
		p.locks[name] = &sync.Mutex{}
	}
	one := p.locks[name]
	p.mu.Unlock()
	one.Lock()
	return one.Unlock
}

// keep puts a site's files and database into its blobs. What the newest point has, and nobody changed since, is not read again.
func (p *Points) keep(ctx context.Context, s site.Site, place string) (stored int64, err error) {
	store, kept := p.store(s.Name), manifest{Files: []file{}}
	if kept.Database, err = p.keepDatabase(ctx, s, store); err != nil {
		return 0, err
	}
	if kept.Files, err = keepFiles(ctx, s.Folder, p.newest(s), store); err != nil {
		return 0, err
	}
	text, err := json.Marshal(kept)
	if err != nil {
		return 0, err
	}
	encoder, err := zstd.NewWriter(nil)
	if err != nil {
		return 0, err
	}
	defer encoder.Close()
	if err := ownfile.Write(filepath.Join(place, manifestName), encoder.EncodeAll(text, nil), 0o600); err != nil {
		return 0, err
	}
	for _, ref := range kept.refs() {
		stored += ref.Stored
	}
	return stored, store.Sync()
}

func (p *Points) keepDatabase(ctx context.Context, s site.Site, store blobs.Store) (refs []blobs.Ref, err error) {
	return refs, p.dumpThrough(ctx, s, func(dump io.Reader) (err error) {
		refs, err = store.Put(ctx, dump)
		return err
	})
}

// dumpThrough has a dump of a site's database read; what is written of it after that is waited for.
func (p *Points) dumpThrough(ctx context.Context, s site.Site, read func(dump io.Reader) error) error {
	reader, writer := io.Pipe()
	var dumping sync.WaitGroup
	dumping.Go(func() { writer.CloseWithError(p.Machine.DumpInto(ctx, s, writer)) })
	err := read(reader)
	reader.Close()
	dumping.Wait()
	return err
}

// room says how much there must be for a site's next point, in bytes: what no point has of its files, and its database.
func (p *Points) room(ctx context.Context, s site.Site) (bytes int64, err error) {
	known := p.newest(s)
	bytes = p.Machine.DatabaseBytes(ctx, s)
	return bytes, safefile.Walk(ctx, s.Folder, nil, func(e safefile.Entry) error {
		if e.Type.IsRegular() && !known[e.Path].is(e) {
			bytes += e.Size
		}
		return nil
	})
}

// is tells whether nobody changed a file since it was kept.
func (f file) is(e safefile.Entry) bool {
	return f.Changed != 0 && f.Inode == e.Inode && f.Changed == e.Changed && f.Size == e.Size
}

// newest are the files of a site's newest point, by their paths; none where there is no such point.
func (p *Points) newest(s site.Site) map[string]file {
	known := map[string]file{}
	all, err := p.List(s)
	if err != nil || len(all) == 0 || all[0].Folder != s.Folder {
		return known
	}
	kept, err := p.manifest(s.Name, all[0].ID)
	if err != nil {
		return known
	}
	for _, each := range kept.Files {
		known[each.Path] = each
	}
	return known
}

func keepFiles(ctx context.Context, folder string, known map[string]file, store blobs.Store) ([]file, error) {
	kept, began := []file{}, time.Now()
	var mu sync.Mutex // of what has been put, which is noted at its place
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(2, runtime.NumCPU()))
	err := safefile.Walk(ctx, folder, nil, func(e safefile.Entry) error {
		one := file{Path: e.Path, Folder: e.Type.IsDir(), Link: e.Link, Inode: e.Inode, Changed: e.Changed, Size: e.Size}
		if e.Type.IsDir() || e.Type == fs.ModeSymlink {
			mu.Lock()
			defer mu.Unlock()
			kept = append(kept, file{Path: e.Path, Folder: one.Folder, Link: one.Link})
			return nil
		}
		one.Mode = e.Type.Perm()
		if _, marked := e.Mark(began); !marked {
			one.Changed = 0
		}
		if before := known[e.Path]; one.Changed != 0 && before.is(e) {
			one.Refs = before.Refs
			mu.Lock()
			defer mu.Unlock()
			kept = append(kept, one)
			return nil
		}
		content, err := e.Open()
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, safefile.ErrNotRegular) {
			return nil
		}
		if err != nil {
			return err
		}
		mu.Lock()
		at := len(kept)
		kept = append(kept, one)
		mu.Unlock()
		group.Go(func() error {
			defer content.Close()
			refs, err := store.Put(ctx, content)
			mu.Lock()
			defer mu.Unlock()
			kept[at].Refs = refs
			return err
		})
		return nil
	})
	if waited := group.Wait(); waited != nil {
		return nil, waited
	}
	return kept, err
}

func (m manifest) refs() (all []blobs.Ref) {
	seen := map[string]bool{}
	add := func(refs []blobs.Ref) {
		for _, ref := range refs {
			if !seen[ref.Sum] {
				seen[ref.Sum] = true
				all = append(all, ref)
			}
		}
	}
	add(m.Database)
	for _, each := range m.Files {
		add(each.Refs)
	}
	return all
}

// errOld says that a point is of a version that kept copies.
var errOld = errors.New("a copy")

func (p *Points) manifest(name, id string) (kept manifest, err error) {
	packed, err := ownfile.Read(p.dir(name, id, manifestName))
	if errors.Is(err, fs.ErrNotExist) {
		return kept, errOld
	}
	if err != nil {
		return kept, err
	}
	decoder, err := zstd.NewReader(bytes.NewReader(packed))
	if err != nil {
		return kept, err
	}
	defer decoder.Close()
	return kept, json.NewDecoder(decoder).Decode(&kept)
}

// sweep removes what no point of a site is made of any more.
func (p *Points) sweep(name string) error {
	named := map[string]bool{}
	for _, path := range ownfile.Find(p.dir(name, "*", manifestName)) {
		id := filepath.Base(filepath.Dir(path))
		if strings.HasPrefix(id, asideMark) {
			continue
		}
		kept, err := p.manifest(name, id)
		if err != nil { // its blobs cannot be told from others': they stay until it is dropped
			return nil
		}
		for _, ref := range kept.refs() {
			named[ref.Sum] = true
		}
	}
	return p.store(name).Sweep(named)
}
