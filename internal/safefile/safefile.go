// Package safefile is how the service touches what lies in a folder that a site can write: beneath an open folder, never through a link
// that leads out of it, never waiting for a pipe, and written by a name that nobody could have laid before.
package safefile

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
)

// Most is how much is read of a file that a site's folder holds and the service reads whole, in bytes: configuration and the like.
const Most = 8 << 20

// ErrNotRegular says that something is there that is no file: a link, a pipe, a device, a socket.
var ErrNotRegular = errors.New("it is a link, a pipe or the like: put the file itself there")

// Open opens a file in a folder for reading. No component of its name may be a link; see openat2(2).
func Open(folder, name string) (*os.File, error) {
	base, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	defer base.Close()
	return openBeneath(int(base.Fd()), name, filepath.Join(folder, name))
}

func openBeneath(folder int, name, path string) (*os.File, error) {
	how := unix.OpenHow{Flags: unix.O_RDONLY | unix.O_CLOEXEC | unix.O_NONBLOCK | unix.O_NOFOLLOW | unix.O_NOCTTY,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS}
	fd, err := unix.Openat2(folder, name, &how)
	for err == unix.EINTR || err == unix.EAGAIN {
		fd, err = unix.Openat2(folder, name, &how)
	}
	if errors.Is(err, unix.ELOOP) || errors.Is(err, unix.EXDEV) || errors.Is(err, unix.ENXIO) {
		return nil, &fs.PathError{Op: "open", Path: path, Err: ErrNotRegular}
	}
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	file := os.NewFile(uintptr(fd), path)
	var info unix.Stat_t
	if err := unix.Fstat(fd, &info); err != nil || info.Mode&unix.S_IFMT != unix.S_IFREG {
		file.Close()
		return nil, &fs.PathError{Op: "open", Path: path, Err: ErrNotRegular}
	}
	return file, nil
}

// List names what is in a folder in a folder. No component of its name may be a link, and nothing but a folder is opened.
func List(folder, name string) (names []string, err error) {
	base, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	defer base.Close()
	path := filepath.Join(folder, name)
	how := unix.OpenHow{Flags: unix.O_RDONLY | unix.O_CLOEXEC | unix.O_DIRECTORY | unix.O_NOFOLLOW,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS}
	fd, err := unix.Openat2(int(base.Fd()), filepath.Clean(name), &how)
	for errors.Is(err, unix.EINTR) || errors.Is(err, unix.EAGAIN) {
		fd, err = unix.Openat2(int(base.Fd()), filepath.Clean(name), &how)
	}
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	dir := os.NewFile(uintptr(fd), path)
	defer dir.Close()
	return dir.Readdirnames(-1)
}

// ReadFile reads a file in a folder, up to Most bytes of it.
func ReadFile(folder, name string) ([]byte, error) {
	file, err := Open(folder, name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, Most+1))
	if err == nil && len(text) > Most {
		err = fmt.Errorf("%s is longer than %d MB", file.Name(), Most>>20)
	}
	return text, err
}

// WriteFile puts a file with a text into a folder, in the place of one that is there.
func WriteFile(folder, name string, text []byte, mode fs.FileMode) error {
	return Write(folder, name, mode, func(w io.Writer) error { _, err := w.Write(text); return err })
}

// Write puts a file into a folder in one step, in the place of one that is there: it is written by a name of its own, and what lay in
// its place, be it a link, is replaced and not followed. Folders that lead there are made.
func Write(folder, name string, mode fs.FileMode, write func(io.Writer) error) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	if dir := filepath.Dir(name); dir != "." {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	next := filepath.Join(filepath.Dir(name), "."+filepath.Base(name)+"-"+strings.ToLower(rand.Text()[:12]))
	file, err := root.OpenFile(next, os.O_CREATE|os.O_EXCL|os.O_WRONLY|syscall.O_NOFOLLOW, mode)
	if err != nil {
		return err
	}
	if err := errors.Join(write(file), file.Sync(), file.Close()); err != nil {
		root.Remove(next)
		return err
	}
	if err := root.Rename(next, name); err != nil {
		root.Remove(next)
		return err
	}
	return nil
}

// Replace is WriteFile for a file that must be there, with the mode that it has. A link is not replaced, since its owner laid it.
func Replace(folder, name string, text []byte) error {
	file, err := Open(folder, name)
	if err != nil {
		return err
	}
	info, err := file.Stat()
	file.Close()
	if err != nil {
		return err
	}
	return WriteFile(folder, name, text, info.Mode().Perm())
}

// Remove removes a file or a folder with all in it; absence is no error.
func Remove(folder, name string) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	return root.RemoveAll(name)
}

// RemoveEmpty removes a folder if nothing is in it.
func RemoveEmpty(folder, name string) {
	if root, err := os.OpenRoot(folder); err == nil {
		defer root.Close()
		if info, err := root.Lstat(name); err == nil && info.IsDir() {
			_ = root.Remove(name) // fails where something is in it
		}
	}
}

// IsVacant tells whether nothing stands at a place in a folder, or an empty folder.
func IsVacant(folder, name string) bool {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return false
	}
	defer root.Close()
	info, err := root.Lstat(name)
	if err != nil {
		return errors.Is(err, fs.ErrNotExist)
	}
	if !info.IsDir() {
		return false
	}
	names, err := List(folder, name)
	return err == nil && len(names) == 0
}

// MakeFolder makes a folder in a folder, with those that lead there.
func MakeFolder(folder, name string) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	return root.MkdirAll(name, 0o755)
}

// Entry is one thing that a walk comes by.
type Entry struct {
	Path string // below the folder that was walked
	Name string
	Type fs.FileMode
	Size int64
	Link string // where a link leads

	Modified time.Time
	Inode    uint64
	Changed  int64 // when the inode was, in nanoseconds since 1970: nobody but the kernel sets that

	folder int // open
	whole  string
}

// Mark is by what a file is known again without being read: whatever changes it gives it another one.
type Mark struct {
	Inode   uint64 `json:"inode"`
	Changed int64  `json:"changed"` // nanoseconds since 1970
	Size    int64  `json:"size"`    // bytes
}

// markSettles is how old a change must be to be told from one that comes after it: the clocks of kernels and file systems have steps.
const markSettles = 2 * time.Second

// Mark is the entry's; none where it was changed so shortly before it was read, at a time, that a later change could have the same.
func (e Entry) Mark(read time.Time) (m Mark, ok bool) {
	return Mark{e.Inode, e.Changed, e.Size}, e.Type.IsRegular() && read.Sub(time.Unix(0, e.Changed)) >= markSettles
}

// Is tells whether an entry has a mark.
func (e Entry) Is(m Mark) bool { return m == Mark{e.Inode, e.Changed, e.Size} && e.Type.IsRegular() }

// Open opens a file; what was exchanged for something else meanwhile is refused.
func (e Entry) Open() (*os.File, error) { return openBeneath(e.folder, e.Name, e.whole) }

// Walk comes by everything in a folder, folders before what is in them, by descriptors: a folder that is exchanged for a link meanwhile is
// not entered. What leaveOut names, by paths below the folder, is passed by. visit must not keep an entry.
func Walk(ctx context.Context, folder string, leaveOut []string, visit func(Entry) error) error {
	base, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer base.Close()
	return walk(ctx, base, folder, "", leaveOut, visit)
}

func walk(ctx context.Context, dir *os.File, whole, below string, leaveOut []string, visit func(Entry) error) error {
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return err
	}
	slices.Sort(names)
	for _, name := range names {
		if err := ctx.Err(); err != nil {
			return err
		}
		e := Entry{Path: filepath.Join(below, name), Name: name, folder: int(dir.Fd()), whole: filepath.Join(whole, below, name)}
		if slices.Contains(leaveOut, e.Path) {
			continue
		}
		if err := e.look(); errors.Is(err, fs.ErrNotExist) { // it went away meanwhile
			continue
		} else if err != nil {
			return err
		}
		if err := visit(e); err != nil {
			return err
		}
		if !e.Type.IsDir() {
			continue
		}
		fd, err := unix.Openat(e.folder, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP) { // exchanged meanwhile
			continue
		}
		if err != nil {
			return &fs.PathError{Op: "open", Path: e.whole, Err: err}
		}
		inside := os.NewFile(uintptr(fd), e.whole)
		err = walk(ctx, inside, whole, e.Path, leaveOut, visit)
		inside.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func (e *Entry) look() error {
	var info unix.Stat_t
	if err := unix.Fstatat(e.folder, e.Name, &info, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return &fs.PathError{Op: "lstat", Path: e.whole, Err: err}
	}
	e.Size, e.Inode, e.Changed, e.Modified = info.Size, info.Ino, info.Ctim.Nano(), time.Unix(info.Mtim.Unix())
	switch info.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		e.Type = fs.FileMode(info.Mode & 0o777)
	case unix.S_IFDIR:
		e.Type = fs.ModeDir
	case unix.S_IFLNK:
		e.Type = fs.ModeSymlink
		target := make([]byte, unix.PathMax)
		n, err := unix.Readlinkat(e.folder, e.Name, target)
		if err != nil {
			return &fs.PathError{Op: "readlink", Path: e.whole, Err: err}
		}
		e.Link = string(target[:n])
	default:
		e.Type = fs.ModeIrregular
	}
	return nil
}

// Skipped is what a copy has left behind: pipes, devices and sockets.
type Skipped []string

// Copy copies a folder to one that does not exist yet, several files at a time. Links stay links. What is no file is left behind, and
// told.
func Copy(ctx context.Context, from, to string, leaveOut ...string) (skipped Skipped, err error) {
	if err := os.Mkdir(to, 0o755); err != nil {
		return nil, err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(2, runtime.NumCPU()))
	err = Walk(ctx, from, leaveOut, func(e Entry) error {
		target := filepath.Join(to, e.Path)
		switch {
		case e.Type.IsDir():
			return os.Mkdir(target, 0o755)
		case e.Type == fs.ModeSymlink:
			return os.Symlink(e.Link, target)
		case !e.Type.IsRegular():
			skipped = append(skipped, e.Path)
			return nil
		}
		source, err := e.Open()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if errors.Is(err, ErrNotRegular) {
			skipped = append(skipped, e.Path)
			return nil
		}
		if err != nil {
			return err
		}
		group.Go(func() error {
			defer source.Close()
			return copyFile(ctx, source, target, 0o644|e.Type.Perm()&0o111)
		})
		return nil
	})
	if waited := group.Wait(); waited != nil {
		return skipped, waited
	}
	return skipped, err
}

// copyFile copies in pieces, so that it can be cancelled in the middle of a long one.
func copyFile(ctx context.Context, source *os.File, to string, mode fs.FileMode) error {
	target, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY|syscall.O_NOFOLLOW, mode)
	if err != nil {
		return err
	}
	if err := copyAll(ctx, source, target); err != nil {
		target.Close()
		return err
	}
	return target.Close()
}

// buffer is for reading a file in pieces.
type buffer = [64 << 10]byte

var buffers = sync.Pool{New: func() any { return new(buffer) }}

// copyAll copies what is left of a file by copy_file_range(2), which shares blocks where the file system can, or else by reading it.
func copyAll(ctx context.Context, source, target *os.File) error {
	const piece = 64 << 20
	for {
		n, err := unix.CopyFileRange(int(source.Fd()), nil, int(target.Fd()), nil, piece, 0)
		switch {
		case err == unix.EINTR:
		case n == 0, err == unix.EXDEV, err == unix.EINVAL, err == unix.ENOSYS, err == unix.EOPNOTSUPP, err == unix.EPERM:
			return copyByReading(ctx, source, target) // also at the end, which some file systems claim too early
		case err != nil:
			return &fs.PathError{Op: "copy", Path: target.Name(), Err: err}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
}

func copyByReading(ctx context.Context, source, target *os.File) error {
	piece := buffers.Get().(*buffer)
	defer buffers.Put(piece)
	for ctx.Err() == nil {
		n, err := source.Read(piece[:])
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if _, err := target.Write(piece[:n]); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// Bytes is the size of a folder's files.
func Bytes(folder string) (bytes int64) {
	Walk(context.Background(), folder, nil, func(e Entry) error {
		if e.Type.IsRegular() {
			bytes += e.Size
		}
		return nil
	})
	return bytes
}

// Measure is what a folder takes of a disk, in bytes: its files, and a block for each name in it, for those take room even where they are
// empty. An error says that not all of it can be looked at.
func Measure(folder string) (bytes int64, err error) {
	const block = 4096
	err = Walk(context.Background(), folder, nil, func(e Entry) error {
		if bytes += block; e.Type.IsRegular() {
			bytes += e.Size
		}
		return nil
	})
	return bytes, err
}
