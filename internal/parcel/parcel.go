// Package parcel is the form of a parcel: a whole site in one file, a zip archive or a tar archive compressed with Zstandard that holds
// parcel.json, database.sql, files/… and SHA256SUMS of all of them.
package parcel

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
	"sync"

	"vessik/internal/archive"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
	"vessik/internal/stencil"
)

// Format is what parcel.json says it is.
const Format = "vessik-parcel/1"

// ManifestName is the first entry of a parcel.
const (
	ManifestName = "parcel.json"
	databaseName = "database.sql"
	filesName    = "files"
)

// Suffix ends the names of parcels' files.
func Suffix(form archive.Form) string { return ".parcel." + string(form) }

// Content is what a parcel is made of.
type Content struct {
	Files    safefile.Source
	LeaveOut []string          // paths in the folder
	Replace  map[string][]byte // files by their paths, whose text is another one in the parcel
	Dump     string            // file; empty for none
}

// inMemory is how long a file may be to be read before its length is told, in bytes: a site may change it meanwhile.
const inMemory = 4 << 20

// Write writes a parcel. The manifest counts what is in it. progress is told of the bytes that were read; nil for nobody.
func Write(ctx context.Context, to io.Writer, form archive.Form, m wire.Parcel, content Content, progress func(bytes int64)) error {
	entries := []safefile.Entry{}
	m.Format, m.Files, m.FileBytes, m.LinksLeftOut = Format, 0, 0, 0
	for _, e := range content.Files.All {
		switch {
		case safefile.Within(content.LeaveOut, e.Path):
			continue
		case e.Type.IsRegular():
			m.Files++
			m.FileBytes += e.Size
		case e.Type == fs.ModeSymlink:
			m.LinksLeftOut++
			continue
		case !e.Type.IsDir():
			continue
		}
		entries = append(entries, e)
	}
	m.Database, m.DatabaseBytes = content.Dump != "", ownfile.Size(content.Dump)
	pack, err := archive.NewPacker(ctx, form, to)
	if err != nil {
		return err
	}
	pack.Progress = progress
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	if err := pack.Text(ManifestName, text); err != nil {
		return err
	}
	if content.Dump != "" {
		if err := addDump(pack, content.Dump); err != nil {
			return err
		}
	}
	if err := pack.Folder(filesName); err != nil {
		return err
	}
	if err := addAll(ctx, pack, content, entries); err != nil {
		return err
	}
	return pack.Close()
}

// one is an entry on its way into a parcel: a file that is not long was read and summed ahead.
type one struct {
	entry safefile.Entry
	head  archive.Head
	text  []byte
	sum   [sha256.Size]byte
	short bool // text is all of it
	gone  bool
	err   error
}

// ahead is how many files are read before those before them are packed.
const ahead = 8

// addAll adds what a site's folder has, in its order; a file that went away meanwhile is left out.
func addAll(ctx context.Context, pack *archive.Packer, content Content, entries []safefile.Entry) error {
	ctx, cancel := context.WithCancel(ctx)
	var reading sync.WaitGroup // nothing of the site is read any more once it returns
	defer reading.Wait()
	defer cancel()
	coming := make(chan chan one, ahead)
	reading.Go(func() {
		defer close(coming)
		for _, e := range entries {
			next := make(chan one, 1)
			select {
			case coming <- next:
			case <-ctx.Done():
				return
			}
			reading.Go(func() { next <- content.read(e) })
		}
	})
	for next := range coming {
		if err := content.add(pack, <-next); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func (c Content) read(e safefile.Entry) one {
	o := one{entry: e, head: archive.Head{Name: filesName + "/" + filepath.ToSlash(e.Path), Mode: e.Type.Perm(), Size: e.Size,
		Modified: e.Modified}}
	var other bool // however long the one in its place is
	if o.text, other = c.Replace[e.Path]; !other {
		if e.Type.IsDir() || e.Size > inMemory {
			return o
		}
		text := bytes.NewBuffer(make([]byte, 0, e.Size+bytes.MinRead))
		err := c.Files.Write(e, text)
		o.gone = errors.Is(err, fs.ErrNotExist) || errors.Is(err, safefile.ErrNotRegular)
		if err != nil && !o.gone {
			o.err = fmt.Errorf("%s: %w", e.Path, err)
		}
		o.text = text.Bytes()
	}
	o.short, o.sum = true, sha256.Sum256(o.text)
	return o
}

func (c Content) add(pack *archive.Packer, o one) error {
	switch {
	case o.err != nil || o.gone:
		return o.err
	case o.entry.Type.IsDir():
		return pack.Folder(o.head.Name)
	case o.short:
		return pack.Summed(o.head, o.text, o.sum)
	}
	return pack.File(o.head, func(to io.Writer) error { return c.Files.Write(o.entry, to) })
}

func addDump(pack *archive.Packer, path string) error {
	file, err := ownfile.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	return pack.File(archive.Head{Name: databaseName, Size: ownfile.Size(path)}, func(to io.Writer) error {
		_, err := io.Copy(to, file)
		return err
	})
}

// Read reads what a parcel says of itself, also an open one. The error is ErrNone where a file is none.
func Read(file string) (m wire.Parcel, err error) {
	if isFolder(file) {
		return readMirror(file)
	}
	name, text, err := archive.Find(file, func(string) bool { return true }) // it stands first
	var refused *archive.Refused
	var unread *fs.PathError
	switch {
	case errors.As(err, &unread):
		return m, err
	case err != nil && !errors.As(err, &refused):
		return m, fmt.Errorf("%s is not whole: %w", filepath.Base(file), err)
	case err != nil || name != ManifestName:
		return m, fmt.Errorf("%s: %w", filepath.Base(file), ErrNone)
	}
	if err := json.Unmarshal(text, &m); err != nil || m.Format != Format {
		return m, fmt.Errorf("%s is no parcel that this Vessik can read (%s)", filepath.Base(file), m.Format)
	}
	if err := judge(m); err != nil {
		return m, fmt.Errorf("%s is not to be trusted: its %s %w", filepath.Base(file), ManifestName, err)
	}
	return m, nil
}

// ErrNone says that a file is no parcel.
var ErrNone = errors.New("it does not begin with " + ManifestName + ": it is no parcel")

// judge looks at what becomes a path, configuration or SQL: a parcel may come from anybody.
func judge(m wire.Parcel) error {
	for _, path := range append(m.LeftOut, m.Configuration) {
		if path != "" && (!filepath.IsLocal(path) || site.UnsafeInPath(path)) {
			return fmt.Errorf("has %q, which is no place in a site", path)
		}
	}
	if m.FileBytes < 0 || m.DatabaseBytes < 0 {
		return errors.New("has sizes below nothing")
	}
	return stencil.Judge(stencil.Manifest{Name: m.Site, From: m.Site, Title: m.Title, CMS: m.CMS, Root: m.Root, Prefix: m.Prefix,
		Network: m.Network, SubSites: m.SubSites, URL: m.URL, Folder: m.Folder, Stack: m.Stack, Settings: m.Settings})
}

// Opened is a parcel that was unpacked.
type Opened struct {
	Files string // a folder
	Dump  string // a file; empty where the parcel holds no database
}

// Open unpacks a parcel into a folder that is not there yet. Every checksum is compared.
func Open(ctx context.Context, file, dir string) (opened Opened, err error) {
	if isFolder(file) {
		return openMirror(ctx, file, dir)
	}
	m, err := Read(file)
	if err == nil {
		err = archive.UnpackWhole(ctx, file, dir, limits(m))
	}
	if err != nil {
		return opened, err
	}
	opened.Files = filepath.Join(dir, filesName)
	if m.Database {
		opened.Dump = filepath.Join(dir, databaseName)
	}
	return opened, ownfile.Make(opened.Files, 0o755)
}

// limits are what a parcel says that it holds, with something more for what grew while it was packed: room was asked for that, and a site's
// content may be of a kind that compresses to next to nothing.
func limits(m wire.Parcel) archive.Limits {
	limits := archive.Usual
	limits.Bytes = min(limits.Bytes, m.FileBytes+m.FileBytes/8+m.DatabaseBytes+64<<20)
	limits.Ratio = 0
	return limits
}

// FileName is what a parcel of a site is called where nobody says otherwise.
func FileName(name string, form archive.Form) string { return strings.ToLower(name) + Suffix(form) }
