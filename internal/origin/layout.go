package origin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// laidOut is what lay-out leaves for its undo.
type laidOut struct {
	Inode   uint64   `json:"inode"`
	Existed bool     `json:"existed"` // an empty folder stood in its place
	Parents []string `json:"parents"` // folders made on the way, outermost first
}

// wholeSuffix ends the name of a folder in which something is unpacked before a part of it becomes the site's.
const wholeSuffix = "-whole"

func partialFolder(operation string, s site.Site) string {
	return filepath.Join(filepath.Dir(s.Folder), "."+filepath.Base(s.Folder)+".vessik-"+operation)
}

// LayOut has a tree made beside the site's folder and renames it there: the folder is whole or absent, and one that was filled
// meanwhile is not touched.
func (g *Origins) LayOut(ctx context.Context, w *operation.Part, s site.Site, bytes int64, fill func(partial string) error) error {
	if err := running.Room(s.Folder, bytes); err != nil {
		return err
	}
	left := laidOut{}
	for dir := filepath.Dir(s.Folder); ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(dir); err == nil {
			break
		}
		left.Parents = append([]string{dir}, left.Parents...)
	}
	if _, err := os.Stat(s.Folder); err == nil {
		left.Existed = true
	}
	partial := partialFolder(w.ID(), s)
	keep := func() error {
		text, err := json.Marshal(left)
		return errors.Join(err, w.Note(string(text)))
	}
	if err := keep(); err != nil { // what is not noted could not be undone
		return err
	}
	if err := ownfile.Make(filepath.Dir(s.Folder), 0o755); err != nil {
		return err
	}
	if err := ownfile.RemoveAll(partial); err != nil {
		return err
	}
	if err := fill(partial); err != nil {
		return err
	}
	info, err := os.Stat(partial)
	if err != nil {
		return err
	}
	left.Inode = info.Sys().(*syscall.Stat_t).Ino
	if err := keep(); err != nil {
		return err
	}
	if err := syscall.Rename(partial, s.Folder); err != nil {
		return fmt.Errorf("the folder %s was filled meanwhile (%w); empty it, or choose another", s.Folder, err)
	}
	return nil
}

func undoLayOut(operation string, s site.Site, note string) error {
	if note == "" {
		return nil
	}
	var left laidOut
	if err := json.Unmarshal([]byte(note), &left); err != nil {
		return err
	}
	for _, path := range []string{partialFolder(operation, s), partialFolder(operation, s) + wholeSuffix} {
		if err := ownfile.RemoveAll(path); err != nil {
			return err
		}
	}
	if info, err := os.Stat(s.Folder); err == nil && left.Inode != 0 && info.Sys().(*syscall.Stat_t).Ino == left.Inode {
		if err := ownfile.RemoveAll(s.Folder); err != nil {
			return err
		}
		if left.Existed {
			if err := ownfile.MakeNew(s.Folder, 0o755); err != nil {
				return err
			}
		}
	}
	for _, dir := range slices.Backward(left.Parents) {
		ownfile.Remove(dir) // only if empty
	}
	return nil
}

// CopyFolder copies a folder that a site can write.
func CopyFolder(ctx context.Context, from, to string, leaveOut ...string) error {
	_, err := safefile.Copy(ctx, from, to, leaveOut...)
	return err
}

// moveFile moves a file, also to another disk.
func moveFile(from, to string) error {
	if err := ownfile.Rename(from, to); !errors.Is(err, syscall.EXDEV) {
		return err
	}
	source, err := ownfile.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := ownfile.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(target, source)
	return errors.Join(err, target.Close())
}
