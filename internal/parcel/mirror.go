package parcel

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// Mirrors is the folder of a home in which open parcels lie, one for each hosting account: manifest, dump and files as they are.
const Mirrors = "hosting"

// IsMirror tells whether a path is that of an open parcel in the home folder. No other folder is read as a parcel: who can write into it
// might have it lead anywhere.
func IsMirror(home, path string) bool {
	return filepath.Dir(filepath.Clean(path)) == filepath.Join(home, Mirrors)
}

// errNotWhole says that what lies there is half of what was and half of what comes, or nothing at all.
var errNotWhole = errors.New("nothing was fetched whole of this account yet: fetch it again, what came already is kept")

// LockMirror waits until nobody changes an open parcel, or where it is to be changed, reads it.
func LockMirror(ctx context.Context, dir string, change bool) (unlock func(), err error) {
	file, err := ownfile.OpenFile(filepath.Join(dir, ".lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	how := syscall.LOCK_SH
	if change {
		how = syscall.LOCK_EX
	}
	for {
		err := syscall.Flock(int(file.Fd()), how|syscall.LOCK_NB)
		if err == nil {
			return func() { file.Close() }, nil
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			file.Close()
			return nil, err
		}
		select {
		case <-ctx.Done():
			file.Close()
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func readMirror(dir string) (m wire.Parcel, err error) {
	text, err := ownfile.Read(filepath.Join(dir, ManifestName))
	if errors.Is(err, os.ErrNotExist) {
		return m, errNotWhole
	}
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(text, &m); err != nil || m.Format != Format {
		return m, errNotWhole
	}
	if err := judge(m); err != nil {
		return m, fmt.Errorf("what was fetched is not to be trusted: its %s %w", ManifestName, err)
	}
	return m, nil
}

// openMirror copies an open parcel: it may be fetched anew as soon as that is done.
func openMirror(ctx context.Context, from, dir string) (opened Opened, err error) {
	unlock, err := LockMirror(ctx, from, false)
	if err != nil {
		return opened, err
	}
	defer unlock()
	m, err := readMirror(from)
	if err == nil {
		err = ownfile.MakeNew(dir, 0o755)
	}
	if err == nil {
		opened.Files = filepath.Join(dir, filesName)
		_, err = safefile.Copy(ctx, filepath.Join(from, filesName), opened.Files)
	}
	if err == nil && m.Database {
		opened.Dump = filepath.Join(dir, databaseName)
		err = ownfile.Link(filepath.Join(from, databaseName), opened.Dump)
	}
	return opened, err
}

func isFolder(path string) bool {
	info, err := os.Lstat(path)
	return err == nil && info.IsDir()
}
