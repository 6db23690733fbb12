package safefile

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Difference is what leads from one folder to another, by paths below them.
type Difference struct{ New, Changed, Gone []string }

// Source is what a folder can be made like: all that it is to hold, folders before what is in them.
type Source struct {
	All   []Entry
	Same  func(to string, e, now Entry) bool         // whether now, in the folder to, is what e is to be
	Ready func(ctx context.Context, e []Entry) error // asked before anything is changed; nil for nothing
	Write func(e Entry, to io.Writer) error          // the content of a file
}

// Bytes is what all files of a source take.
func (s Source) Bytes() (bytes int64) {
	for _, e := range s.All {
		bytes += e.Size
	}
	return bytes
}

// Folder is a source that lies open in another folder.
func Folder(ctx context.Context, from string, leaveOut ...string) (source Source, err error) {
	source.Same = func(to string, e, now Entry) bool { return alike(from, to, e, now) }
	source.Write = func(e Entry, to io.Writer) error {
		file, err := Open(from, e.Path)
		if err != nil {
			return err
		}
		defer file.Close()
		_, err = io.Copy(to, file)
		return err
	}
	return source, Walk(ctx, from, leaveOut, func(e Entry) error { source.All = append(source.All, e); return nil })
}

// Compare tells what Match would do, and the error with which it would do nothing.
func Compare(ctx context.Context, from Source, to string, leaveOut ...string) (Difference, error) {
	difference, _, err := compare(ctx, from, to, leaveOut)
	return difference, err
}

// Match makes a folder that a site can write like a source, in place: what differs is put into it, what it has alone is removed. What is
// neither file, folder nor link stays, and what leaveOut names. It can be broken off and done again.
func Match(ctx context.Context, from Source, to string, leaveOut ...string) (Difference, error) {
	difference, wanted, err := compare(ctx, from, to, leaveOut)
	if err != nil {
		return difference, err
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		return difference, err
	}
	defer root.Close()
	for _, path := range difference.Gone {
		if err := root.RemoveAll(path); err != nil {
			return difference, err
		}
	}
	for _, e := range wanted {
		if err := ctx.Err(); err != nil {
			return difference, err
		}
		if err := put(root, from, to, e); err != nil {
			return difference, err
		}
	}
	return difference, nil
}

// put puts one thing of a folder into another, in the place of what is there.
func put(root *os.Root, from Source, to string, e Entry) error {
	there, err := root.Lstat(e.Path)
	if err == nil && (!e.Type.IsRegular() || !there.Mode().IsRegular()) {
		err = root.RemoveAll(e.Path)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	switch {
	case e.Type.IsDir():
		return root.Mkdir(e.Path, 0o755)
	case e.Type == fs.ModeSymlink:
		return root.Symlink(e.Link, e.Path)
	}
	return Write(to, e.Path, 0o644|e.Type.Perm()&0o111, func(w io.Writer) error { return from.Write(e, w) })
}

// compare tells what makes a folder what it is to be; wanted is what is to be put into it.
func compare(ctx context.Context, from Source, to string, leaveOut []string) (d Difference, wanted []Entry, err error) {
	there, known, all := map[string]Entry{}, map[string]bool{}, []Entry{}
	for _, e := range from.All {
		if !Within(leaveOut, e.Path) {
			all, known[e.Path] = append(all, e), true
		}
	}
	gone := ""
	if err := Walk(ctx, to, leaveOut, func(e Entry) error {
		there[e.Path] = e
		if !known[e.Path] && e.Type&fs.ModeIrregular == 0 && (gone == "" || !strings.HasPrefix(e.Path, gone)) &&
			!holds(leaveOut, e.Path) {
			d.Gone, gone = append(d.Gone, e.Path), e.Path+"/" // with all that is in it
		}
		return nil
	}); err != nil {
		return d, nil, err
	}
	for _, e := range all {
		now, ok := there[e.Path]
		switch {
		case ctx.Err() != nil:
			return d, nil, ctx.Err()
		case !ok:
			d.New, wanted = append(d.New, e.Path), append(wanted, e)
		case !from.Same(to, e, now):
			d.Changed, wanted = append(d.Changed, e.Path), append(wanted, e)
		}
	}
	if from.Ready != nil {
		err = from.Ready(ctx, wanted)
	}
	return d, wanted, err
}

// Within tells whether a path is one of those that are left out, or lies below one.
func Within(leaveOut []string, path string) bool {
	return slices.ContainsFunc(leaveOut, func(left string) bool { return path == left || strings.HasPrefix(path, left+"/") })
}

// holds tells whether something that is left out lies in a folder.
func holds(leaveOut []string, folder string) bool {
	return slices.ContainsFunc(leaveOut, func(path string) bool { return strings.HasPrefix(path, folder+"/") })
}

func alike(from, to string, a, b Entry) bool {
	return SameKind(a, b) && (!a.Type.IsRegular() || SameContent(from, to, a.Path))
}

// SameKind tells whether two entries are alike but for the content that files of the same length may have.
func SameKind(a, b Entry) bool {
	const executable = 0o111
	return a.Type.Type() == b.Type.Type() && a.Link == b.Link &&
		(!a.Type.IsRegular() || a.Size == b.Size && a.Type.Perm()&executable == b.Type.Perm()&executable)
}

// SameContent tells whether a file by a path below two folders holds the same.
func SameContent(from, to, path string) bool {
	a, err := Open(from, path)
	if err != nil {
		return false
	}
	defer a.Close()
	b, err := Open(to, path)
	if err != nil {
		return false
	}
	defer b.Close()
	left, right := buffers.Get().(*buffer), buffers.Get().(*buffer)
	defer buffers.Put(left)
	defer buffers.Put(right)
	for {
		n, errA := io.ReadFull(a, left[:])
		m, errB := io.ReadFull(b, right[:])
		if !bytes.Equal(left[:n], right[:m]) {
			return false
		}
		if errA != nil || errB != nil {
			return isEnd(errA) && isEnd(errB)
		}
	}
}

func isEnd(err error) bool { return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) }

// PutFolder copies a folder that nobody else writes into a site's, in the place of what is there by that name. It is written by a name of
// its own, and is whole before it stands there.
func PutFolder(ctx context.Context, from, folder, name string) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	dir := filepath.Dir(name)
	if err := root.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	next := filepath.Join(dir, ".vessik-"+strings.ToLower(rand.Text()[:12]))
	if err := root.Mkdir(next, 0o755); err != nil {
		return err
	}
	err = Walk(ctx, from, nil, func(e Entry) error {
		target := filepath.Join(next, e.Path)
		switch {
		case e.Type.IsDir():
			return root.Mkdir(target, 0o755)
		case e.Type == fs.ModeSymlink:
			return root.Symlink(e.Link, target)
		case !e.Type.IsRegular():
			return nil
		}
		source, err := e.Open()
		if err != nil {
			return err
		}
		defer source.Close()
		file, err := root.OpenFile(target, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644|e.Type.Perm()&0o111)
		if err != nil {
			return err
		}
		_, err = io.Copy(file, source)
		return errors.Join(err, file.Close())
	})
	if err == nil {
		err = root.RemoveAll(name)
	}
	if err == nil {
		err = root.Rename(next, name)
	}
	if err != nil {
		root.RemoveAll(next)
	}
	return err
}
