package main

import (
	"context"
	"os"
	"os/user"
	"path/filepath"

	"golang.org/x/sys/unix"

	"vessik/client"
)

// bring hands a file to a service whose account cannot read it, and has path, which is absolute, say where it lies then. Nothing is done
// where path is empty, where the service can read the file itself, or where links lead to it: a site may have laid them, and what this
// account may read is none of a site's. done drops what was brought.
func (c *call) bring(ctx context.Context, service *client.Client, path *string) (done func(), err error) {
	done = func() {}
	if *path == "" || readableByAll(*path) {
		return done, nil
	}
	status, err := service.Status(ctx)
	if err != nil {
		return done, err
	}
	if me, err := user.Current(); err != nil || me.Username == status.Account {
		return done, err
	}
	descriptor, err := unix.Openat2(unix.AT_FDCWD, *path, &unix.OpenHow{Flags: unix.O_RDONLY | unix.O_NONBLOCK | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_NO_SYMLINKS})
	if err != nil {
		return done, nil // the service says what it makes of it
	}
	file := os.NewFile(uintptr(descriptor), *path)
	defer file.Close()
	if info, err := file.Stat(); err != nil || !info.Mode().IsRegular() {
		return done, err
	}
	brought, err := service.Upload(ctx, filepath.Base(*path), file)
	if err != nil {
		return done, err
	}
	*path = brought.Path
	return func() { service.DropUpload(context.WithoutCancel(ctx), brought.ID) }, nil // else it goes after a day
}

// readableByAll tells whether every account can read a file; what is not there is for the service to judge.
func readableByAll(path string) bool {
	info, err := os.Lstat(path)
	if err != nil {
		return true
	}
	if info.Mode()&0o004 == 0 {
		return false
	}
	for folder := filepath.Dir(path); ; folder = filepath.Dir(folder) {
		if info, err := os.Stat(folder); err != nil || info.Mode()&0o001 == 0 {
			return false
		}
		if folder == filepath.Dir(folder) {
			return true
		}
	}
}
