package moving

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/hosting"
	"vessik/internal/ownfile"
	"vessik/internal/parcel"
	"vessik/internal/safefile"
)

// mirror is what was fetched of an account: an open parcel, and beside it what has come since and is not in its place yet.
type mirror struct{ dir string }

func (f *Feature) mirror(name string) mirror {
	return mirror{f.Machine.Home.Path(parcel.Mirrors, name)}
}

func (m mirror) files() string    { return filepath.Join(m.dir, "files") }
func (m mirror) incoming() string { return filepath.Join(m.dir, "incoming") }
func (m mirror) dump() string     { return filepath.Join(m.dir, "database.sql") }
func (m mirror) nextDump() string { return filepath.Join(m.dir, "database.sql.next") }
func (m mirror) manifest() string { return filepath.Join(m.dir, parcel.ManifestName) }
func (m mirror) report() string   { return filepath.Join(m.dir, "fetched.json") }

// lock keeps others from reading or changing the mirror.
func (m mirror) lock(ctx context.Context) (unlock func(), err error) {
	if err := ownfile.Make(m.dir, 0o700); err != nil {
		return nil, err
	}
	return parcel.LockMirror(ctx, m.dir, true)
}

// fetched is what was fetched last; nil where nothing was, or where it is not whole.
func (m mirror) fetched() *wire.Fetched {
	text, err := ownfile.Read(m.report())
	var said wire.Fetched
	if err != nil || json.Unmarshal(text, &said) != nil || ownfile.Size(m.manifest()) == 0 {
		return nil
	}
	return &said
}

// here tells what is in the mirror, and in what has come since, by path.
func (m mirror) here(ctx context.Context) (files, come map[string]safefile.Entry, err error) {
	read := func(folder string) (map[string]safefile.Entry, error) {
		if err := ownfile.Make(folder, 0o700); err != nil {
			return nil, err
		}
		all := map[string]safefile.Entry{}
		return all, safefile.Walk(ctx, folder, nil, func(e safefile.Entry) error { all[e.Path] = e; return nil })
	}
	if files, err = read(m.files()); err == nil {
		come, err = read(m.incoming())
	}
	return files, come, err
}

// isCopy tells whether a file here is what a host has, by size and time.
func isCopy(here safefile.Entry, there hosting.Entry) bool {
	return here.Type.IsRegular() && here.Size == there.Size && here.Modified.Truncate(time.Second).Equal(there.Modified.Truncate(time.Second))
}

// take writes what comes of a host's file beside the mirror, from where it was cut off before. It is there under its name, with the host's
// time, once it is whole.
func (m mirror) take(e hosting.Entry, read func(to io.Writer, from int64) error) error {
	path := filepath.Join(m.incoming(), filepath.FromSlash(e.Path))
	if err := ownfile.Make(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	part := filepath.Join(m.dir, "coming", filepath.FromSlash(e.Path), fmt.Sprintf("%d-%d", e.Size, e.Modified.Unix()))
	if err := ownfile.Make(filepath.Dir(part), 0o700); err != nil {
		return err
	}
	file, err := ownfile.OpenFile(part, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	const more = 64 << 20 // bytes that a file may have grown since it was listed: it is what it is by now
	from := ownfile.Size(part)
	err = errors.Join(read(&counting{to: file, bytes: from, most: 2*e.Size + more}, from), file.Close())
	if hosting.Cut(err) {
		return err
	}
	if err != nil {
		return errors.Join(err, ownfile.Remove(part))
	}
	if e.Executable {
		if err := ownfile.SetMode(part, 0o755); err != nil {
			return err
		}
	}
	if err := ownfile.Touch(part, e.Modified); err != nil {
		return err
	}
	return ownfile.Rename(part, path)
}

// errOther says that a file at a host has no end.
var errOther = errors.New("the file at the host is far longer than it was listed")

// counting counts what is written, and takes no more than most bytes.
type counting struct {
	to          io.Writer
	bytes, most int64
}

func (c *counting) Write(text []byte) (int, error) {
	if c.bytes+int64(len(text)) > c.most {
		return 0, errOther
	}
	n, err := c.to.Write(text)
	c.bytes += int64(n)
	return n, err
}

// put has the mirror be what has come: gone is removed, what came stands in its place. Until the manifest is written at the end the
// mirror is not whole, and says so.
func (m mirror) put(ctx context.Context, gone []string, all []hosting.Entry, said wire.Parcel, report wire.Fetched) error {
	unlock, err := m.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	if err := ownfile.RemoveAll(m.manifest()); err != nil {
		return err
	}
	for _, path := range gone {
		if err := ownfile.RemoveAll(filepath.Join(m.files(), filepath.FromSlash(path))); err != nil {
			return err
		}
	}
	for _, e := range all {
		to := filepath.Join(m.files(), filepath.FromSlash(e.Path))
		if e.Folder {
			if err := ownfile.Make(to, 0o755); err != nil {
				return err
			}
			continue
		}
		from := filepath.Join(m.incoming(), filepath.FromSlash(e.Path))
		if !ownfile.IsThere(from) {
			continue
		}
		if err := ownfile.Make(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := ownfile.Rename(from, to); err != nil {
			return err
		}
	}
	if ownfile.IsThere(m.nextDump()) {
		if err := ownfile.Rename(m.nextDump(), m.dump()); err != nil {
			return err
		}
	}
	if err := errors.Join(ownfile.RemoveAll(m.incoming()), ownfile.RemoveAll(filepath.Join(m.dir, "coming"))); err != nil {
		return err
	}
	if err := writeJSON(m.report(), report); err != nil {
		return err
	}
	return writeJSON(m.manifest(), said)
}

func writeJSON(path string, value any) error {
	text, err := json.MarshalIndent(value, "", "  ")
	if err != nil {
		return err
	}
	return ownfile.Write(path, text, 0o600)
}

// Fetched is where the parcel lies that was fetched of an account; it is an error that none was.
func (f *Feature) Fetched(ctx context.Context, name string) (path string, err error) {
	if _, err := f.account(ctx, name); err != nil {
		return "", err
	}
	m := f.mirror(name)
	if m.fetched() == nil {
		return "", site.Problems{{Field: "account", Message: "nothing was fetched whole of " + name + " yet",
			Remedy: "fetch it: vessik pull " + name +
				" NAME does that first"}}
	}
	return m.dir, nil
}
