package kit

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"golang.org/x/sync/errgroup"
)

// CopyTree copies a release's files and folders, following links so that the copy is whole; several files at a time. What leaveOut
// names, by paths below the folder, is not copied.
func CopyTree(ctx context.Context, from, to string, leaveOut ...string) error {
	return copyTree(ctx, from, to, true, leaveOut)
}

// CopySite copies a site's folder. Its links stay links: a site could lay one to a file that it may not read itself.
func CopySite(ctx context.Context, from, to string, leaveOut ...string) error {
	return copyTree(ctx, from, to, false, leaveOut)
}

// ClearCaches empties the folders that the kit's CMS fills again by itself, and makes those that are missing.
func (k *Kit) ClearCaches(folder string) error {
	for _, name := range k.Layout.Caches {
		if err := os.RemoveAll(filepath.Join(folder, name)); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Join(folder, name), 0o755); err != nil {
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

func (k *Kit) layFile(folder string, f Text) error { return k.layFileWith(folder, f, Facts{}) }

func (k *Kit) layFileWith(folder string, f Text, facts Facts) error {
	text, err := k.write(f.Text, facts)
	if err != nil {
		return err
	}
	path := filepath.Join(folder, f.Path)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, []byte(text), 0o644)
}

func copyTree(ctx context.Context, from, to string, follow bool, leaveOut []string) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(2, runtime.NumCPU()))
	left := map[string]bool{}
	for _, name := range leaveOut {
		left[filepath.Join(from, name)] = true
	}
	err := copyFolder(ctx, group, from, to, follow, left)
	if waited := group.Wait(); waited != nil {
		return waited
	}
	return err
}

func copyFolder(ctx context.Context, group *errgroup.Group, from, to string, follow bool, left map[string]bool) error {
	if err := os.Mkdir(to, 0o755); err != nil {
		return err
	}
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	files := []string{}
	for _, entry := range entries {
		if left[filepath.Join(from, entry.Name())] {
			continue
		}
		isFolder := entry.IsDir()
		if entry.Type()&fs.ModeSymlink != 0 && !follow {
			target, err := os.Readlink(filepath.Join(from, entry.Name()))
			if err != nil {
				return err
			}
			if err := os.Symlink(target, filepath.Join(to, entry.Name())); err != nil {
				return err
			}
			continue
		}
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
		if err := copyFolder(ctx, group, filepath.Join(from, entry.Name()), filepath.Join(to, entry.Name()), follow, left); err != nil {
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
	source, err := os.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	if _, err := io.Copy(target, source); err != nil { // copy_file_range(2): shares blocks where the file system can
		target.Close()
		return err
	}
	return target.Close()
}

// TreeBytes is the size of a folder's files.
func TreeBytes(dir string) (bytes int64) {
	filepath.WalkDir(dir, func(_ string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			if info, err := entry.Info(); err == nil {
				bytes += info.Size()
			}
		}
		return nil
	})
	return bytes
}
