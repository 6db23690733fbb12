package cms

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"golang.org/x/sync/errgroup"

	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// CopyTree copies the files of packages and folders, following links so that the copy is whole; several files at a time. What leaveOut
// names, by paths below the folder, is not copied.
func CopyTree(ctx context.Context, from, to string, leaveOut ...string) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(2, runtime.NumCPU()))
	left := map[string]bool{}
	for _, name := range leaveOut {
		left[filepath.Join(from, name)] = true
	}
	err := copyFolder(ctx, group, from, to, left)
	if waited := group.Wait(); waited != nil {
		return waited
	}
	return err
}

// ClearCaches empties the folders that the definition's CMS fills again by itself, and makes those that are missing.
func (k *Definition) ClearCaches(folder string) error {
	for _, name := range k.Layout.Caches {
		if err := errors.Join(safefile.Remove(folder, name), safefile.MakeFolder(folder, name)); err != nil {
			return err
		}
		for _, f := range k.Layout.Files {
			if strings.HasPrefix(f.Path, name+"/") {
				if err := k.layFile(folder, f); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (k *Definition) layFile(folder string, f Text) error { return k.layFileWith(folder, f, Facts{}) }

func (k *Definition) layFileWith(folder string, f Text, facts Facts) error {
	text, err := k.write(f.Text, facts)
	if err != nil {
		return err
	}
	return safefile.WriteFile(folder, f.Path, []byte(text), 0o644)
}

func copyFolder(ctx context.Context, group *errgroup.Group, from, to string, left map[string]bool) error {
	if err := ownfile.MakeNew(to, 0o755); err != nil {
		return err
	}
	entries, err := ownfile.List(from)
	if err != nil {
		return err
	}
	files := []string{}
	for _, entry := range entries {
		if left[filepath.Join(from, entry.Name())] {
			continue
		}
		isFolder := entry.IsDir()
		if entry.Type()&fs.ModeSymlink != 0 {
			info, err := os.Stat(filepath.Join(from, entry.Name()))
			if err != nil {
				return fmt.Errorf("follow the link %s: %w", filepath.Join(from, entry.Name()), err)
			}
			isFolder = info.IsDir()
		}
		if !isFolder {
			files = append(files, entry.Name())
			continue
		}
		if err := copyFolder(ctx, group, filepath.Join(from, entry.Name()), filepath.Join(to, entry.Name()), left); err != nil {
			return err
		}
	}
	if len(files) > 0 {
		group.Go(func() error {
			for _, name := range files {
				if err := ctx.Err(); err != nil {
					return err
				}
				if err := copyFile(filepath.Join(from, name), filepath.Join(to, name)); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return ctx.Err()
}

func copyFile(from, to string) error {
	source, err := ownfile.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := ownfile.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	if _, err := io.Copy(target, source); err != nil { // copy_file_range(2): shares blocks where the file system can
		target.Close()
		return err
	}
	return target.Close()
}
