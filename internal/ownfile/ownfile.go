// Package ownfile is how the service touches its own files: those in folders in which no site's program can write. What lies below a
// site's folder is touched through safefile alone; the linter keeps the two apart, so that each place says which of them it means.
package ownfile

import (
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Open opens a file for reading.
func Open(path string) (*os.File, error) { return os.Open(path) }

// OpenFile is os.OpenFile.
func OpenFile(path string, flag int, mode fs.FileMode) (*os.File, error) {
	return os.OpenFile(path, flag, mode)
}

// Create makes a file that only the service may read.
func Create(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
}

// Read reads a whole file.
func Read(path string) ([]byte, error) { return os.ReadFile(path) }

// Write puts a file there in one step, in the place of one that is there.
func Write(path string, text []byte, mode fs.FileMode) error {
	next := path + ".next"
	if err := os.WriteFile(next, text, mode); err != nil {
		return err
	}
	return os.Rename(next, path)
}

// Size is how large a file is, in bytes; 0 where there is none.
func Size(path string) int64 {
	info, err := os.Lstat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

// IsThere tells whether a file or folder is there.
func IsThere(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// Changed is when a file or folder was changed last; zero where there is none.
func Changed(path string) time.Time {
	info, err := os.Lstat(path)
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// List lists a folder.
func List(path string) ([]fs.DirEntry, error) { return os.ReadDir(path) }

// Find lists the files that a pattern matches, see filepath.Glob.
func Find(pattern string) []string {
	found, _ := filepath.Glob(pattern) // only a malformed pattern is an error
	return found
}

// Make makes a folder and those that lead there.
func Make(path string, mode fs.FileMode) error { return os.MkdirAll(path, mode) }

// MakeNew makes a folder that must not be there.
func MakeNew(path string, mode fs.FileMode) error { return os.Mkdir(path, mode) }

// Rename moves a file or folder.
func Rename(from, to string) error { return os.Rename(from, to) }

// Symlink makes a symbolic link.
func Symlink(to, path string) error { return os.Symlink(to, path) }

// Link gives a file a second name, which must not be there.
func Link(from, to string) error { return os.Link(from, to) }

// Remove removes a file or an empty folder.
func Remove(path string) error { return os.Remove(path) }

// RemoveAll removes a folder with all in it. It follows no link in it or at its end.
func RemoveAll(path string) error { return os.RemoveAll(path) }

// SetMode changes who may read and write.
func SetMode(path string, mode fs.FileMode) error { return os.Chmod(path, mode) }

// Touch sets when a file was changed last.
func Touch(path string, at time.Time) error { return os.Chtimes(path, at, at) }

// Walk is filepath.WalkDir.
func Walk(root string, visit fs.WalkDirFunc) error { return filepath.WalkDir(root, visit) }

// CopyTree writes all of a file system into a folder.
func CopyTree(path string, tree fs.FS) error { return os.CopyFS(path, tree) }
