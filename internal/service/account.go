package service

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// DefaultAccount is whom a service that root starts becomes where nothing speaks for another.
const DefaultAccount = "vessik"

// AccountFor chooses whom a service that root starts becomes: the owner of folders that are there already, else whoever started it with
// sudo, so that this person may edit the sites' files, else the account of Vessik's own.
func AccountFor(by string, folders ...string) string {
	for _, folder := range folders {
		entries, err := os.ReadDir(folder)
		info, statErr := os.Stat(folder)
		if err != nil || statErr != nil || len(entries) == 0 {
			continue
		}
		owner, err := user.LookupId(strconv.Itoa(int(info.Sys().(*syscall.Stat_t).Uid)))
		if err == nil && owner.Uid != "0" {
			return owner.Username
		}
	}
	if found, err := user.Lookup(by); by != "" && err == nil && found.Uid != "0" {
		return found.Username
	}
	return DefaultAccount
}

// Account finds the unprivileged account that root hands the service and all engines to, and gives it the folders. A system account
// of that name is made if there is none.
func Account(name string, folders ...string) (*syscall.Credential, error) {
	found, err := user.Lookup(name)
	var unknown user.UnknownUserError
	if errors.As(err, &unknown) {
		found, err = makeAccount(name)
	}
	if err != nil {
		return nil, fmt.Errorf("look up the account %s: %w", name, err)
	}
	uid, _ := strconv.Atoi(found.Uid)
	gid, _ := strconv.Atoi(found.Gid)
	if uid == 0 {
		return nil, fmt.Errorf("the account %s is root, and no engine may run as root; name another with -account", name)
	}
	for _, folder := range folders {
		if err := give(folder, uid, gid); err != nil {
			return nil, err
		}
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// makeAccount makes a system account, one service at a time: useradd looks before it locks, and of two at once the second gives the name
// another number.
func makeAccount(name string) (*user.User, error) {
	etc, err := os.Open("/etc")
	if err != nil {
		return nil, err
	}
	defer etc.Close()
	if err := syscall.Flock(int(etc.Fd()), syscall.LOCK_EX); err != nil {
		return nil, err
	}
	if found, err := user.Lookup(name); err == nil {
		return found, nil
	}
	out, failed := exec.Command("useradd", "--system", "--user-group", "--no-create-home", "--home-dir", "/nonexistent", "--shell",
		"/usr/sbin/nologin", name).CombinedOutput()
	found, err := user.Lookup(name)
	if err != nil {
		return nil, fmt.Errorf("make the account %s, which engines run as: %w: %s; make it yourself, or name another with -account", name,
			failed, out)
	}
	return found, nil
}

// become turns this process into an account, for good: no engine runs as root, and root never writes where a site could have laid
// something.
func become(account *syscall.Credential) error {
	if err := errors.Join(syscall.Setgroups(nil), syscall.Setgid(int(account.Gid)), syscall.Setuid(int(account.Uid))); err != nil {
		return fmt.Errorf("become the account %d: %w", account.Uid, err)
	}
	// Without this, /proc/self belongs to root after the change, and the launcher could not be found there.
	return unix.Prctl(unix.PR_SET_DUMPABLE, 1, 0, 0, 0)
}

// BecomeOwner turns this process, where it is root's, into the account that a folder belongs to, for good.
func BecomeOwner(folder string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	info, err := os.Stat(folder)
	if err != nil {
		return err
	}
	of := info.Sys().(*syscall.Stat_t)
	return become(&syscall.Credential{Uid: of.Uid, Gid: of.Gid})
}

// give makes a folder with all that leads to it, and lets the account have what was made. A folder that is there already must be
// the account's, or be empty.
func give(folder string, uid, gid int) error {
	info, err := os.Stat(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return makeFor(folder, uid, gid)
	}
	if err != nil {
		return err
	}
	owner := int(info.Sys().(*syscall.Stat_t).Uid)
	if owner == uid {
		return nil
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	if len(entries) > 0 {
		name := strconv.Itoa(owner)
		if found, err := user.LookupId(name); err == nil {
			name = found.Username
		}
		return fmt.Errorf("%s belongs to %s; start the service with -account %s, or choose another folder with -home", folder, name, name)
	}
	return os.Chown(folder, uid, gid)
}

func makeFor(folder string, uid, gid int) error {
	made := folder
	for parent := filepath.Dir(folder); parent != made; parent = filepath.Dir(parent) {
		if _, err := os.Stat(parent); err == nil {
			break
		}
		made = parent
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for path := folder; ; path = filepath.Dir(path) {
		if err := os.Chown(path, uid, gid); err != nil {
			return err
		}
		if path == made {
			return nil
		}
	}
}
