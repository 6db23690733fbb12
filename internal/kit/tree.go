package kit

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"golang.org/x/sync/errgroup"
)

// CopyTree copies a release's files and folders, following links so that the copy is whole; several files at a time.
func CopyTree(ctx context.Context, from, to string) error { return copyTree(ctx, from, to, true) }

// CopySite copies a site's folder. Its links stay links: a site could lay one to a file that it may not read itself.
func CopySite(ctx context.Context, from, to string) error { return copyTree(ctx, from, to, false) }

func copyTree(ctx context.Context, from, to string, follow bool) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(2, runtime.NumCPU()))
	err := copyFolder(ctx, group, from, to, follow)
	if waited := group.Wait(); waited != nil {
		return waited
	}
	return err
}

func copyFolder(ctx context.Context, group *errgroup.Group, from, to string, follow bool) error {
	if err := os.Mkdir(to, 0o755); err != nil {
		return err
	}
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	files := []string{}
	for _, entry := range entries {
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
		if err := copyFolder(ctx, group, filepath.Join(from, entry.Name()), filepath.Join(to, entry.Name()), follow); err != nil {
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
