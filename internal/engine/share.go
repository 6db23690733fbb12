package engine

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
)

// sharedFolder holds every file that engines have, once, by its checksum and mode; engines hold hard links to it.
const sharedFolder = ".shared"

// share replaces an engine's files by links to those that other engines brought already. The programs are patched for their own
// place, and so stay their own.
func (s Store) share(dir string, programs []string) error {
	root := filepath.Join(dir, "root")
	return filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() {
			return err
		}
		if relative, _ := filepath.Rel(root, path); slices.Contains(programs, relative) {
			return nil
		}
		info, err := entry.Info()
		if err != nil || info.Size() < 4096 {
			return err
		}
		sum, err := checksum(path)
		if err != nil {
			return err
		}
		kept := filepath.Join(s.Dir, sharedFolder, sum[:2], fmt.Sprintf("%s-%o", sum, info.Mode().Perm()))
		if _, err := os.Lstat(kept); err != nil {
			if err := os.MkdirAll(filepath.Dir(kept), 0o755); err != nil {
				return err
			}
			return os.Link(path, kept)
		}
		if err := os.Link(kept, path+".shared"); err != nil {
			return err
		}
		return os.Rename(path+".shared", path)
	})
}

func checksum(path string) (string, error) {
	file, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// pruneShared removes files that no engine holds any more.
func (s Store) pruneShared() {
	filepath.WalkDir(filepath.Join(s.Dir, sharedFolder), func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			if info, err := entry.Info(); err == nil && info.Sys().(*syscall.Stat_t).Nlink == 1 {
				os.Remove(path)
			}
		}
		return nil
	})
}

// DiskUse is how many bytes the engines of each generation take on disk, files that several hold counted once; releases of a CMS are
// not among them.
func (s Store) DiskUse() map[string]int64 {
	use := map[string]int64{}
	seen := map[string]map[uint64]bool{}
	for _, e := range s.List() {
		if e.Kind == Release || e.Adopted != "" {
			continue
		}
		if seen[e.Generation] == nil {
			seen[e.Generation] = map[uint64]bool{}
		}
		filepath.WalkDir(e.Dir, func(_ string, entry fs.DirEntry, err error) error {
			if err != nil || !entry.Type().IsRegular() {
				return nil
			}
			if info, err := entry.Info(); err == nil {
				if inode := info.Sys().(*syscall.Stat_t).Ino; !seen[e.Generation][inode] {
					seen[e.Generation][inode] = true
					use[e.Generation] += info.Size()
				}
			}
			return nil
		})
	}
	return use
}

// Drop removes an engine from the store; what an adopted one consists of stays where it is.
func (s Store) Drop(id string) error {
	e, err := s.Find(id)
	if err != nil {
		return err
	}
	gone, err := os.MkdirTemp(s.Dir, ".partial-drop-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(gone)
	if err := os.Rename(e.Dir, filepath.Join(gone, e.ID)); err != nil { // gone in one step, then removed
		return err
	}
	if err := os.RemoveAll(gone); err != nil {
		return err
	}
	s.pruneShared()
	return nil
}

// FreeBytes is how much an unprivileged account may still write to the file system of a path (statfs(2)).
func FreeBytes(path string) (uint64, error) {
	var s syscall.Statfs_t
	for {
		err := syscall.Statfs(path, &s)
		if err == nil {
			return s.Bavail * uint64(s.Bsize), nil
		}
		if parent := filepath.Dir(path); err == syscall.ENOENT && parent != path {
			path = parent
			continue
		}
		return 0, err
	}
}
