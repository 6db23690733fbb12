// Package uploads keeps files that were brought over the network for a while, and tells what they are, so that a browser can bring what
// otherwise is named by its path.
package uploads

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vessik/internal/archive"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/origin"
	"vessik/internal/ownfile"
	"vessik/internal/running"
	"vessik/internal/shelf"
	"vessik/internal/stencil"
)

// Most is how large one file may be, in bytes; KeptFor is for how long it stays when nothing is done with it.
const (
	Most    = 20 << 30
	KeptFor = 24 * time.Hour
)

// Feature is what was brought to one machine.
type Feature struct {
	Machine  *running.Machine
	Origins  *origin.Origins
	Shelf    *shelf.Shelf
	Stencils stencil.Shelf
}

func (f *Feature) dir(more ...string) string {
	return f.Machine.Home.Path(append([]string{"uploads"}, more...)...)
}

// Take keeps a file, and tells what it is. size is what it is said to be, below 0 where that is not known.
func (f *Feature) Take(name string, size int64, from io.Reader) (u wire.Upload, err error) {
	if name != filepath.Base(name) || strings.HasPrefix(name, ".") || strings.ContainsAny(name, "\x00/\\") || len(name) > 200 {
		return u, errors.New("its name cannot be a file's name here")
	}
	if size > Most {
		return u, fmt.Errorf("it is larger than %d GB", Most>>30)
	}
	if err := running.Room(f.Machine.Home.Dir, max(size, 0)); err != nil {
		return u, err
	}
	u.ID, u.Name = strings.ToLower(rand.Text()[:16]), name
	if err := ownfile.Make(f.dir(u.ID), 0o700); err != nil {
		return u, err
	}
	defer func() {
		if err != nil {
			ownfile.RemoveAll(f.dir(u.ID))
		}
	}()
	u.Path = f.dir(u.ID, name)
	file, err := ownfile.OpenFile(u.Path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return u, err
	}
	u.SizeBytes, err = io.Copy(file, io.LimitReader(from, Most+1))
	if err := errors.Join(err, file.Close()); err != nil {
		return u, err
	}
	switch {
	case u.SizeBytes > Most:
		return u, fmt.Errorf("it is larger than %d GB", Most>>30)
	case size >= 0 && u.SizeBytes != size:
		return u, fmt.Errorf("it broke off: %d of %d bytes came", u.SizeBytes, size)
	case u.SizeBytes == 0:
		return u, errors.New("it is empty")
	}
	return f.tell(u), nil
}

// tell says what a file is by what is in it.
func (f *Feature) tell(u wire.Upload) wire.Upload {
	name, text, err := archive.Find(u.Path, func(name string) bool { return name == "stencil.json" })
	var refused *archive.Refused
	switch {
	case err == nil && name != "" && bytes.Contains(text, []byte(stencil.Format)):
		u.Kind = wire.UploadStencil
		u.Suggested = strings.TrimSuffix(strings.TrimSuffix(u.Name, stencil.Suffix), ".zst")
		return u
	case err == nil || !errors.As(err, &refused):
		u.Kind = wire.UploadArchive
		if found, _ := f.Origins.Inspect(site.Origin{Kind: site.FromArchive, From: u.Path}); found.Parcel {
			u.Kind, u.What = wire.UploadParcel, fmt.Sprintf("%q, %s %s", found.Title, found.CMS.Name, found.CMS.Version)
		} else if found.CMS.Name != site.ArchiveCMS {
			u.What = f.Origins.Holds(site.Site{Origin: site.Origin{Kind: site.FromArchive, From: u.Path}})
		} else if shelf.CheckName(u.Name) == nil { // what the shelf would take; it is read whole for its checksum
			if item := shelf.Read(u.Path, f.Machine.CMS.Definitions()); item.Fault == "" && item.Kind != shelf.Release {
				u.Kind, u.What = wire.UploadPart, fmt.Sprintf("%s %s for %s", item.Title, item.Version, item.CMS)
			}
		}
		return u
	}
	if dump, err := origin.OpenDump("", u.Path); err == nil {
		defer dump.Close()
		head := make([]byte, 64<<10)
		n, _ := io.ReadFull(dump, head)
		if upper := bytes.ToUpper(head[:n]); bytes.Contains(upper, []byte("CREATE TABLE")) || bytes.Contains(upper, []byte("INSERT INTO")) ||
			bytes.Contains(upper, []byte("DUMP")) {
			u.Kind = wire.UploadDump
			return u
		}
	}
	u.Kind = wire.UploadUnknown
	return u
}

// Keep puts a file where it stays: on the shelf, or among the stencils under a name.
func (f *Feature) Keep(ctx context.Context, id string, asked wire.KeepUpload) error {
	file, path, err := f.open(id)
	if err != nil {
		return err
	}
	defer file.Close()
	if asked.As == wire.UploadStencil {
		_, err = f.Stencils.Import(ctx, asked.Name, file)
	} else {
		_, err = f.Shelf.Add(filepath.Base(path), file, f.Machine.CMS.Definitions())
	}
	if err != nil {
		return site.Problems{{Field: "name", Message: err.Error(), Remedy: "choose another name, or another file"}}
	}
	return f.Drop(id)
}

func (f *Feature) open(id string) (file *os.File, path string, err error) {
	if strings.Trim(id, "abcdefghijklmnopqrstuvwxyz234567") != "" || id == "" {
		return nil, "", fs.ErrNotExist
	}
	entries, err := ownfile.List(f.dir(id))
	if err != nil || len(entries) != 1 {
		return nil, "", fs.ErrNotExist
	}
	path = f.dir(id, entries[0].Name())
	file, err = ownfile.Open(path)
	return file, path, err
}

// Drop removes a file.
func (f *Feature) Drop(id string) error {
	file, _, err := f.open(id)
	if err != nil {
		return err
	}
	file.Close()
	return ownfile.RemoveAll(f.dir(id))
}

// LookAfter removes what was left behind, until the service ends.
func (f *Feature) LookAfter() {
	hourly := time.NewTicker(time.Hour)
	defer hourly.Stop()
	for {
		select {
		case <-hourly.C:
			f.Sweep(KeptFor)
		case <-f.Machine.Work.Context().Done():
			return
		}
	}
}

// Sweep removes what has been there for long.
func (f *Feature) Sweep(longer time.Duration) {
	entries, _ := ownfile.List(f.dir())
	for _, entry := range entries {
		if info, err := entry.Info(); err == nil && time.Since(info.ModTime()) > longer {
			ownfile.RemoveAll(f.dir(entry.Name()))
		}
	}
}
