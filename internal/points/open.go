package points

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"vessik/internal/blobs"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Opened is a point whose content can be read.
type Opened struct {
	Files safefile.Source
	Dump  string // a file
	Close func()
}

// Open makes a point's content readable until it is closed: its dump lies open, its files are read from the blobs. An error names what is
// damaged.
func (p *Points) Open(ctx context.Context, name, id string) (*Opened, error) {
	kept, err := p.manifest(name, id)
	if errors.Is(err, errOld) {
		files, err := safefile.Folder(ctx, p.dir(name, id, copied))
		return &Opened{Files: files, Dump: p.dir(name, id, dumped), Close: func() {}}, err
	}
	if err != nil {
		return nil, fmt.Errorf("the manifest of the restore point %s is damaged: %w", id, err)
	}
	if err := running.Room(p.Machine.Home.Dir, bytesOf(kept.Database)); err != nil {
		return nil, err
	}
	place := p.dir(name, laidMark+id+"-"+running.RandomHex(4))
	p.laid.Store(place, true)
	opened := &Opened{Files: p.source(name, kept), Dump: filepath.Join(place, dumped), Close: func() {
		ownfile.RemoveAll(place)
		p.laid.Delete(place)
	}}
	if err = ownfile.Make(place, 0o700); err == nil {
		err = write(p.store(name), kept.Database, opened.Dump)
	}
	if err != nil {
		opened.Close()
		if ownfile.Size(p.dir(name, id, manifestName)) == 0 {
			return nil, fmt.Errorf("the restore point %s was dropped meanwhile; choose another", id)
		}
		return nil, fmt.Errorf("open the restore point %s: its database: %w", id, err)
	}
	return opened, nil
}

func bytesOf(refs []blobs.Ref) (bytes int64) {
	for _, ref := range refs {
		bytes += int64(ref.Size)
	}
	return bytes
}

func write(store blobs.Store, refs []blobs.Ref, path string) error {
	target, err := ownfile.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(store.Read(refs, target), target.Close())
}

// entry is a file as a folder has it.
func (f file) entry() safefile.Entry {
	e := safefile.Entry{Path: f.Path, Name: filepath.Base(f.Path), Type: f.Mode, Link: f.Link, Inode: f.Inode, Changed: f.Changed,
		Size: bytesOf(f.Refs)}
	switch {
	case f.Folder:
		e.Type = fs.ModeDir
	case f.Link != "":
		e.Type = fs.ModeSymlink
	}
	return e
}

// source are a point's files. What is to be put into a folder is read, and compared with its sums, before anything is changed there.
func (p *Points) source(name string, kept manifest) (source safefile.Source) {
	store, refs := p.store(name), map[string][]blobs.Ref{}
	for _, each := range kept.Files {
		source.All = append(source.All, each.entry())
		refs[each.Path] = each.Refs
	}
	source.Same = func(to string, e, now safefile.Entry) bool {
		if !safefile.SameKind(e, now) {
			return false
		}
		if !e.Type.IsRegular() || e.Changed != 0 && e.Inode == now.Inode && e.Changed == now.Changed { // nobody changed it since
			return true
		}
		content, err := safefile.Open(to, e.Path)
		if err != nil {
			return false
		}
		defer content.Close()
		sums, err := blobs.Sums(content)
		return err == nil && blobs.Are(refs[e.Path], sums)
	}
	source.Write = func(e safefile.Entry, to io.Writer) error { return store.Read(refs[e.Path], to) }
	source.Ready = func(ctx context.Context, wanted []safefile.Entry) error {
		for _, e := range wanted {
			if err := errors.Join(ctx.Err(), store.Read(refs[e.Path], io.Discard)); err != nil {
				return fmt.Errorf("%s: %w", e.Path, err)
			}
		}
		return nil
	}
	return source
}

// Changed tells whether a site's files or database differ from its newest point, but for what leaveOut names; where there is none they do.
func (p *Points) Changed(ctx context.Context, s site.Site, leaveOut ...string) (bool, error) {
	all, err := p.List(s)
	if err != nil || len(all) == 0 {
		return true, err
	}
	kept, err := p.manifest(s.Name, all[0].ID)
	if err != nil { // another one is to be taken
		return true, nil
	}
	source := p.source(s.Name, kept)
	source.Ready = nil // nothing is to be put back
	difference, err := safefile.Compare(ctx, source, s.Folder, leaveOut...)
	if err != nil || len(difference.New)+len(difference.Changed)+len(difference.Gone) > 0 {
		return true, err
	}
	var sums []string
	err = p.dumpThrough(ctx, s, func(dump io.Reader) (err error) {
		sums, err = blobs.Sums(dump)
		return err
	})
	return !blobs.Are(kept.Database, sums), err
}
