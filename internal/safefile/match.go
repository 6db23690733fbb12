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

// Compare tells what Match would do.
func Compare(ctx context.Context, from, to string, leaveOut ...string) (Difference, error) {
	difference, _, err := compare(ctx, from, to, leaveOut)
	return difference, err
}

// Match makes a folder that a site can write like another one, in place: what differs is put into it, what it has alone is removed. What is
// neither file, folder nor link stays, and what leaveOut names. It can be broken off and done again.
func Match(ctx context.Context, from, to string, leaveOut ...string) (Difference, error) {
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
func put(root *os.Root, from, to string, e Entry) error {
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
	source, err := Open(from, e.Path)
	if err != nil {
		return err
	}
	defer source.Close()
	return Write(to, e.Path, 0o644|e.Type.Perm()&0o111, func(w io.Writer) error { _, err := io.Copy(w, source); return err })
}

// compare walks through both folders; wanted is what is to be put into the second, folders before what is in them.
func compare(ctx context.Context, from, to string, leaveOut []string) (d Difference, wanted []Entry, err error) {
	all, there := []Entry{}, map[string]Entry{}
	known := map[string]bool{}
	if err := Walk(ctx, from, leaveOut, func(e Entry) error {
		all, known[e.Path] = append(all, e), true
		return nil
	}); err != nil {
		return d, nil, err
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
		case !ok:
			d.New, wanted = append(d.New, e.Path), append(wanted, e)
		case !alike(from, to, e, now):
			d.Changed, wanted = append(d.Changed, e.Path), append(wanted, e)
		}
	}
	return d, wanted, nil
}

// holds tells whether something that is left out lies in a folder.
func holds(leaveOut []string, folder string) bool {
	return slices.ContainsFunc(leaveOut, func(path string) bool { return strings.HasPrefix(path, folder+"/") })
}

func alike(from, to string, a, b Entry) bool {
	const executable = 0o111
	if a.Type.Type() != b.Type.Type() || a.Link != b.Link {
		return false
	}
	if !a.Type.IsRegular() {
		return true
	}
	return a.Size == b.Size && a.Type.Perm()&executable == b.Type.Perm()&executable && sameContent(from, to, a.Path)
}

func sameContent(from, to, path string) bool {
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
