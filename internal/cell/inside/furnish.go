package inside

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// What every cell has of the machine: libraries, commands, certificates, time zones, media types. The list of accounts, the machine's
// name servers and its hosts file are not among it.
var (
	SystemFolders = []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc/ssl", "/etc/alternatives", "/etc/fonts"}
	SystemFiles   = []string{"/etc/ld.so.cache", "/etc/localtime", "/etc/mime.types", "/etc/services", "/etc/protocols"}
	Devices       = []string{"/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom", "/dev/tty"}
)

// place is one thing that is bound into the cell's root.
type place struct {
	path  string
	bound bool // at another place than outside, in a folder that the program may write to
	tree  int  // from open_tree(2)
	file  bool
	write bool
}

// furnish builds the cell's root of what the spec names and changes into it. The way is by descriptors (open_tree(2), move_mount(2)),
// so that nothing is hidden by where the root is built, and flags that the machine's own mounts have stay.
func (s Spec) furnish() error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("part from the machine's mounts: %w", err)
	}
	places, links, err := s.gather()
	if err != nil {
		return err
	}
	const root = "/tmp"
	if err := unix.Mount("cell", root, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=0755,size=1m"); err != nil {
		return fmt.Errorf("make a root: %w", err)
	}
	if err := errors.Join(s.layEtc(root+"/etc"), layLinks(root, links)); err != nil {
		return err
	}
	for dir, size := range map[string]string{"/tmp": "256m", "/dev/shm": "64m"} {
		if err := os.MkdirAll(root+dir, 0o755); err != nil {
			return err
		}
		if err := unix.Mount("cell", root+dir, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=1777,nr_inodes=64k,size="+size); err != nil {
			return err
		}
	}
	for _, p := range places {
		if err := p.bind(root); err != nil {
			return fmt.Errorf("bind %s: %w", p.path, err)
		}
	}
	if err := os.MkdirAll(root+"/proc", 0o555); err != nil {
		return err
	}
	unix.Mount("proc", root+"/proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC,
		"") // where the outer one is masked it cannot be; a cell does without
	folder, err := os.Getwd()
	if err != nil {
		folder = "/"
	}
	if err := errors.Join(unix.Chdir(root), unix.PivotRoot(".", "."), unix.Unmount(".", unix.MNT_DETACH)); err != nil {
		return fmt.Errorf("change the root: %w", err)
	}
	if err := unix.MountSetattr(unix.AT_FDCWD, "/", 0, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}); err != nil {
		return fmt.Errorf("close the root: %w", err)
	}
	if os.Chdir(folder) != nil {
		if err := os.Chdir("/"); err != nil {
			return err
		}
	}
	return errors.Join(raiseLoopback(), unix.Sethostname([]byte(cmp.Or(s.Hostname, "cell"))))
}

// gather opens everything that will be bound, before the machine's own tree goes out of sight. What is missing of the machine is left
// out; what the cell is there for must be.
func (s Spec) gather() (places []place, links map[string]string, err error) {
	links = map[string]string{}
	add := func(paths []string, write, needed bool) error {
		for _, path := range paths {
			info, err := os.Lstat(path)
			if err == nil && !needed && info.Mode()&fs.ModeSymlink != 0 {
				if links[path], err = os.Readlink(path); err == nil && strings.HasPrefix(path, "/etc/") { // such as localtime
					if links[path], err = filepath.EvalSymlinks(path); err != nil {
						delete(links, path)
					}
				}
				continue
			}
			if err == nil {
				info, err = os.Stat(path)
			}
			if errors.Is(err, fs.ErrNotExist) && !needed {
				continue
			}
			if err != nil {
				return err
			}
			tree, err := unix.OpenTree(unix.AT_FDCWD, path, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_RECURSIVE)
			if err != nil {
				return fmt.Errorf("take %s: %w", path, err)
			}
			places = append(places, place{path: filepath.Clean(path), tree: tree, file: !info.IsDir(), write: write})
		}
		return nil
	}
	err = errors.Join(add(SystemFolders, false, false), add(SystemFiles, false, false), add(Devices, true, false),
		add(s.ReadFolders, false, true), add(s.ReadFiles, false, true), add(s.WriteFolders, true, true), add(s.WriteFiles, true, true))
	for _, b := range s.Binds {
		tree, takeErr := b.take()
		if takeErr != nil {
			return nil, nil, fmt.Errorf("take %s: %w", b.From, takeErr)
		}
		places = append(places, place{path: filepath.Clean(b.At), bound: true, tree: tree, write: b.Write})
	}
	slices.SortStableFunc(places, func(a, b place) int { return len(a.path) - len(b.path) }) // what holds others comes first
	return places, links, err
}

// take opens the folder itself: where it lies in another one that a site may write to, a link may have been put in its place.
func (b Bind) take() (tree int, err error) {
	from, err := unix.Openat2(unix.AT_FDCWD, b.From, &unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_NO_SYMLINKS})
	if err != nil {
		return -1, err
	}
	defer unix.Close(from)
	return unix.OpenTree(from, "", unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_RECURSIVE|unix.AT_EMPTY_PATH)
}

func (p place) bind(root string) error {
	defer unix.Close(p.tree)
	attributes := unix.MountAttr{Attr_set: unix.MOUNT_ATTR_NOSUID}
	if !strings.HasPrefix(p.path, "/dev/") {
		attributes.Attr_set |= unix.MOUNT_ATTR_NODEV
	}
	if !p.write {
		attributes.Attr_set |= unix.MOUNT_ATTR_RDONLY
	}
	if err := unix.MountSetattr(p.tree, "", unix.AT_EMPTY_PATH|unix.AT_RECURSIVE, &attributes); err != nil {
		return err
	}
	if p.bound {
		return p.bindBeneath(root)
	}
	target := root + p.path
	if _, err := os.Lstat(target); err != nil { // else it is in a folder that is bound already
		if err := p.makeTarget(target); err != nil {
			return err
		}
	}
	return unix.MoveMount(p.tree, "", unix.AT_FDCWD, target, unix.MOVE_MOUNT_F_EMPTY_PATH)
}

// bindBeneath binds a folder where the program itself may have put something: no link on the way is followed.
func (p place) bindBeneath(root string) error {
	dir, err := unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(dir)
	target, err := unix.Openat2(dir, strings.TrimPrefix(p.path, "/"), &unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS})
	if err != nil {
		return err
	}
	defer unix.Close(target)
	return unix.MoveMount(p.tree, "", target, "", unix.MOVE_MOUNT_F_EMPTY_PATH|unix.MOVE_MOUNT_T_EMPTY_PATH)
}

func (p place) makeTarget(target string) error {
	if !p.file {
		return os.MkdirAll(target, 0o755)
	}
	if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
		return err
	}
	file, err := os.OpenFile(target, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	return file.Close()
}

func layLinks(root string, links map[string]string) error {
	for path, target := range links {
		if err := os.MkdirAll(filepath.Dir(root+path), 0o755); err != nil {
			return err
		}
		if err := os.Symlink(target, root+path); err != nil {
			return err
		}
	}
	return nil
}

// layEtc makes up what programs look for: one account, this machine by name, and the service's own resolver, wherever they look for it.
func (s Spec) layEtc(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	uid, gid, name := strconv.Itoa(os.Getuid()), strconv.Itoa(os.Getgid()), cmp.Or(s.Account, "site")
	for file, text := range map[string]string{
		"passwd": name + ":x:" + uid + ":" + gid + "::/tmp:/bin/sh\nnobody:x:65534:65534::/nonexistent:/usr/sbin/nologin\n", "group": name +
			":x:" + gid + ":\nnogroup:x:65534:\n",
		"hosts": "127.0.0.1 localhost\n::1 localhost\n", "resolv.conf": "nameserver 127.0.0.1\noptions timeout:5 attempts:1\n",
		"nsswitch.conf": "passwd: files\ngroup: files\nhosts: files dns\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// raiseLoopback brings the cell's own loopback up: nothing else is on it but what the cell itself opens.
func raiseLoopback() error {
	socket, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(socket)
	request, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	request.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(socket, unix.SIOCSIFFLAGS, request)
}
