package engine

import (
	"archive/tar"
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// ErrArchive says that Debian's archive could not be asked.
var ErrArchive = errors.New("the Debian archive cannot be reached")

const keyring = "/usr/share/keyrings/debian-archive-keyring.gpg"

// fetch downloads, unpacks and patches the rows. The caller holds the store's lock.
func (s Store) fetch(ctx context.Context, rows []Row, progress Progress) error {
	const each, spare = 120 << 20, 200 << 20 // of an engine with its downloads; for everything else on that disk
	if free, err := FreeBytes(s.Dir); err == nil && free < uint64(len(rows)*each+spare) {
		return fmt.Errorf("the disk of the engine store %s has %d MB left, and %d MB are needed to fetch %d engines; make room on it, or name "+
			"another folder with VESSIK_ENGINES", s.Dir, free>>20, (len(rows)*each+spare)>>20, len(rows))
	}
	byGeneration := map[string][]Row{}
	for _, row := range rows {
		byGeneration[row.Generation] = append(byGeneration[row.Generation], row)
	}
	for generation, rows := range byGeneration {
		if err := s.fetchGeneration(ctx, generation, rows, progress); err != nil {
			return err
		}
	}
	return nil
}

func (s Store) fetchGeneration(ctx context.Context, generation string, rows []Row, progress Progress) error {
	apt, err := s.newApt(generation)
	if err != nil {
		return err
	}
	progress("asking the Debian archive ("+generation+")", 0)
	wanted, note, err := apt.bring(ctx, rows, progress)
	if err != nil {
		return err
	}
	tool, err := os.MkdirTemp(s.Dir, ".partial-patchelf-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(tool)
	if err := apt.unpack(ctx, wanted["patchelf"], tool); err != nil {
		return err
	}
	if err := s.keepPatcher(tool); err != nil {
		return err
	}
	for i, row := range rows {
		progress("unpacking "+row.ID, float64(i)/float64(len(rows)))
		if err := s.install(ctx, apt, row, wanted[row.ID], note); err != nil {
			return fmt.Errorf("unpack %s: %w", row.ID, err)
		}
	}
	apt.clean()
	return nil
}

// bring resolves and downloads the rows' packages, and patchelf. An archive for security updates lists now and then what it does not
// hold (yet, or any more): then everything is taken from the release itself, and the note says so.
func (a *apt) bring(ctx context.Context, rows []Row, progress Progress) (wanted map[string][]string, note string, err error) {
	for {
		wanted, err = a.bringOnce(ctx, rows, progress)
		if err == nil || ctx.Err() != nil || a.sources.security == "" || !errors.Is(err, errIncomplete) {
			return wanted, note, err
		}
		note = "the archive of " + a.generation + "'s security updates lists packages that it does not hold; taken from the release without them"
		progress(note, -1)
		if err := a.withoutSecurity(); err != nil {
			return nil, "", err
		}
	}
}

// errIncomplete says that the archive does not hold what it lists.
var errIncomplete = errors.New("a listed package is missing")

// FetchPackage unpacks one of Debian's packages, without what it depends on, into a folder; it is taken from the newest generation
// that has it. It returns the package's version.
func (s Store) FetchPackage(ctx context.Context, name, dir string) (version string, err error) {
	if !packageName.MatchString(name) {
		return "", fmt.Errorf("%q is not the name of a Debian package", name)
	}
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return "", err
	}
	unlock, err := s.lock(ctx, func(string, float64) {})
	if err != nil {
		return "", err
	}
	defer unlock()
	for _, generation := range slices.Backward(generations) {
		var a *apt
		if a, err = s.newApt(generation); err != nil {
			return "", err
		}
		row := Row{ID: name, Packages: []string{name}, WithoutDependencies: true}
		var wanted map[string][]string
		if wanted, _, err = a.bring(ctx, []Row{row}, func(string, float64) {}); err != nil {
			if strings.Contains(err.Error(), "Unable to locate package") || strings.Contains(err.Error(), "no installation candidate") {
				err = fmt.Errorf("Debian has no package %s", name)
				continue
			}
			return "", err
		}
		_, version, _ = strings.Cut(wanted[name][0], "=")
		err = a.unpack(ctx, wanted[name], dir)
		a.clean()
		return versionNumber.FindString(version + ".0.0"), err
	}
	return "", err
}

var packageName = regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]+$`)

func (a *apt) bringOnce(ctx context.Context, rows []Row, progress Progress) (map[string][]string, error) {
	if err := a.update(ctx); err != nil {
		return nil, err
	}
	wanted, all := map[string][]string{}, []string{}
	for _, row := range append([]Row{{ID: "patchelf", Packages: []string{"patchelf"}}}, rows...) {
		packages, err := a.resolve(ctx, row)
		if err != nil {
			return nil, err
		}
		wanted[row.ID] = packages
		all = append(all, packages...)
	}
	slices.Sort(all)
	err := a.download(ctx, slices.Compact(all), progress)
	if err != nil {
		a.forgetLists() // the archive may have moved on since they were read
	}
	return wanted, err
}

// install unpacks one row beside its place, makes it startable from that place, and renames it there.
func (s Store) install(ctx context.Context, apt *apt, row Row, packages []string, note string) error {
	partial, err := os.MkdirTemp(s.Dir, ".partial-"+row.ID+"-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(partial)
	if err := os.Chmod(partial, 0o755); err != nil {
		return err
	}
	final := &Engine{ID: row.ID, Kind: row.Kind, Generation: row.Generation, Packages: packages,
		FetchedAt: time.Now().UTC().Truncate(time.Second), Dir: filepath.Join(s.Dir, row.ID), Programs: row.Programs, Tools: row.Tools,
		Note: note}
	here := *final
	here.Dir = partial
	if err := apt.unpack(ctx, packages, here.Root()); err != nil {
		return err
	}
	// The loader paths are absolute: prove the programs here first, then name the final place.
	if err := s.patch(ctx, &here, here.Root()); err != nil {
		return err
	}
	if final.Version, err = readVersion(ctx, &here); err != nil {
		return err
	}
	if err := s.patch(ctx, &here, final.Root()); err != nil {
		return err
	}
	final.PatchedFor, final.SizeBytes = final.Dir, folderSize(partial)
	if err := s.share(partial, slices.Concat(row.Programs, row.Tools)); err != nil {
		return err
	}
	if old, err := readManifest(final.Dir); err == nil {
		return add(old, partial, packages)
	}
	if err := writeManifest(partial, final); err != nil {
		return err
	}
	os.RemoveAll(final.Dir) // no manifest inside, or Find had found it
	return os.Rename(partial, final.Dir)
}

// add gives an engine that is there, and perhaps in use, what a later catalogue has besides: nothing of it is replaced.
func add(e *Engine, partial string, packages []string) error {
	from := filepath.Join(partial, "root")
	err := filepath.WalkDir(from, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		relative, _ := filepath.Rel(from, path)
		to := filepath.Join(e.Root(), relative)
		if entry.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		if _, err := os.Lstat(to); err == nil {
			return nil
		}
		return os.Rename(path, to)
	})
	if err != nil {
		return err
	}
	e.Packages = slices.Compact(slices.Sorted(slices.Values(slices.Concat(e.Packages, packages))))
	e.SizeBytes = folderSize(e.Dir)
	return writeManifest(e.Dir, e)
}

func writeManifest(dir string, e *Engine) error {
	text, err := json.MarshalIndent(e, "", "  ")
	if err != nil {
		return err
	}
	next := filepath.Join(dir, "."+manifestFile) // an engine whose manifest breaks off would be fetched anew, under those that run on it
	if err := os.WriteFile(next, append(text, '\n'), 0o644); err != nil {
		return err
	}
	return os.Rename(next, filepath.Join(dir, manifestFile))
}

func folderSize(dir string) (size int64) {
	filepath.WalkDir(dir, func(_ string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			if info, err := entry.Info(); err == nil {
				size += info.Size()
			}
		}
		return nil
	})
	return size
}

// keepPatcher keeps patchelf in the store: it is needed again when the store has been moved.
func (s Store) keepPatcher(tool string) error {
	place := filepath.Join(s.Dir, ".patchelf")
	if _, err := os.Stat(place); err == nil {
		return nil
	}
	partial, err := os.MkdirTemp(s.Dir, ".partial-patchelf-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(partial)
	if err := os.CopyFS(filepath.Join(partial, "root"), os.DirFS(tool)); err != nil {
		return err
	}
	return os.Rename(filepath.Join(partial, "root"), place)
}

// patch makes the engine's programs use the loader and the libraries of the given root, wherever the machine's own are.
func (s Store) patch(ctx context.Context, e *Engine, root string) error {
	if len(e.Programs) == 0 {
		return nil
	}
	loader, libraries, err := loaderAndLibraries(e.Root())
	if err != nil {
		return err
	}
	toolRoot := filepath.Join(s.Dir, ".patchelf")
	toolLoader, toolLibraries, err := loaderAndLibraries(toolRoot)
	if err != nil {
		return err
	}
	for _, program := range append(slices.Clone(e.Programs), e.tools()...) {
		command := exec.CommandContext(ctx, filepath.Join(toolRoot, toolLoader), "--library-path", filepath.Join(toolRoot, toolLibraries),
			filepath.Join(toolRoot, "usr/bin/patchelf"), "--set-interpreter", filepath.Join(root, loader),
			"--force-rpath", "--set-rpath", filepath.Join(root, libraries), filepath.Join(e.Root(), program))
		if out, err := command.CombinedOutput(); err != nil {
			return fmt.Errorf("patchelf %s: %w: %s", program, err, bytes.TrimSpace(out))
		}
	}
	return nil
}

// repatch follows a store that was moved to another folder.
func (s Store) repatch(ctx context.Context, e *Engine) error {
	if err := s.patch(ctx, e, e.Root()); err != nil {
		return fmt.Errorf("the engine store has moved; adapt %s to %s: %w", e.ID, e.Dir, err)
	}
	e.PatchedFor = e.Dir
	return writeManifest(e.Dir, e)
}

// loaderAndLibraries finds the dynamic loader's real file and the library folder below a root.
func loaderAndLibraries(root string) (loader, libraries string, err error) {
	found, _ := filepath.Glob(filepath.Join(root, "usr/lib/*-linux-gnu*/ld-*.so*"))
	for _, path := range found {
		if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() {
			relative, _ := filepath.Rel(root, path)
			return relative, filepath.Dir(relative), nil
		}
	}
	return "", "", fmt.Errorf("no dynamic loader below %s", root)
}

// apt is a private apt root for one generation: own sources, lists, cache and an empty status file.
type apt struct {
	dir, generation string
	sources         sources
}

func (s Store) newApt(generation string) (*apt, error) {
	for _, program := range []string{"apt-get", "dpkg-deb"} {
		if _, err := exec.LookPath(program); err != nil {
			return nil, fmt.Errorf("engines come from Debian's packages, and %s is not on this machine: use a Debian system", program)
		}
	}
	a := &apt{dir: filepath.Join(s.Dir, ".apt", generation), generation: generation}
	for _, sub := range []string{"lists/partial", "cache/archives/partial"} {
		if err := os.MkdirAll(filepath.Join(a.dir, sub), 0o755); err != nil {
			return nil, err
		}
	}
	sources, err := machineSources(cmp.Or(s.Sources, "/etc/apt"))
	if err != nil {
		return nil, err
	}
	a.sources = sources
	configuration := fmt.Sprintf("Dir::Etc::sourcelist %q;\nDir::Etc::sourceparts \"-\";\nDir::State::lists %q;\nDir::Cache %q;\n"+
		"Dir::State::status %q;\n"+
		"APT::Install-Recommends \"false\";\nAPT::Update::Error-Mode \"any\";\nAcquire::Retries \"2\";\nAcquire::http::Timeout \"20\";\n"+
		"Acquire::Languages \"none\";\nAPT::Sandbox::User \"\";\nBinary::apt-get::Acquire::AllowInsecureRepositories \"false\";\n",
		a.dir+"/sources.list", a.dir+"/lists", a.dir+"/cache", a.dir+"/status")
	for name, content := range map[string]string{"sources.list": sources.list(generation), "apt.conf": configuration, "status": ""} {
		if err := os.WriteFile(filepath.Join(a.dir, name), []byte(content), 0o644); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// withoutSecurity goes on with the release alone.
func (a *apt) withoutSecurity() error {
	a.sources.security = ""
	a.forgetLists()
	return os.WriteFile(filepath.Join(a.dir, "sources.list"), []byte(a.sources.list(a.generation)), 0o644)
}

func (a *apt) command(ctx context.Context, arguments ...string) *exec.Cmd {
	command := exec.CommandContext(ctx, "apt-get", arguments...)
	command.Env = append(os.Environ(), "APT_CONFIG="+filepath.Join(a.dir, "apt.conf"), "LC_ALL=C", "DEBIAN_FRONTEND=noninteractive")
	command.WaitDelay = 2 * time.Second
	return command
}

// archiveError keeps apt's own words of what went wrong.
func archiveError(out []byte, err error) error {
	lines := []string{}
	for line := range strings.Lines(string(out)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "E:") || strings.HasPrefix(line, "Err:") {
			lines = append(lines, line)
		}
	}
	if len(lines) > 3 {
		lines = lines[:3]
	}
	kind := ErrArchive
	if strings.Contains(string(out), "404 ") {
		kind = fmt.Errorf("%w: %w", ErrArchive, errIncomplete)
	}
	return fmt.Errorf("%w: %v: %s. Check the network and this machine's apt sources, then run it again; engines fetched before keep working",
		kind, err, strings.Join(lines, " / "))
}

func (a *apt) stamp() string { return filepath.Join(a.dir, "updated") }

func (a *apt) forgetLists() { os.Remove(a.stamp()) }

// update asks for the package lists unless those of the last hour are there.
func (a *apt) update(ctx context.Context) error {
	stamp := a.stamp()
	if info, err := os.Stat(stamp); err == nil && time.Since(info.ModTime()) < time.Hour {
		return nil
	}
	if out, err := a.command(ctx, "update").CombinedOutput(); err != nil {
		return archiveError(out, err)
	}
	return os.WriteFile(stamp, nil, 0o644)
}

var plannedInstall = regexp.MustCompile(`(?m)^Inst (\S+) .*?\((\S+) `)

// resolve returns name=version of the packages that a row needs.
func (a *apt) resolve(ctx context.Context, row Row) ([]string, error) {
	out, err := a.command(ctx, append([]string{"--simulate", "install"}, row.Packages...)...).CombinedOutput()
	if err != nil {
		return nil, archiveError(out, err)
	}
	packages := []string{}
	for _, match := range plannedInstall.FindAllStringSubmatch(string(out), -1) {
		if asked := slices.Contains(row.Packages, match[1]); !asked && (row.WithoutDependencies || isLeftOut(match[1])) {
			continue
		}
		packages = append(packages, match[1]+"="+match[2])
	}
	return packages, nil
}

// download fetches packages; apt checks them against the signed lists. Files that are there and whole are kept.
func (a *apt) download(ctx context.Context, packages []string, progress Progress) error {
	reader, writer, err := os.Pipe()
	if err != nil {
		return err
	}
	command := a.command(ctx, append([]string{"download", "-o", "APT::Status-Fd=3"}, packages...)...)
	command.Dir = filepath.Join(a.dir, "cache/archives")
	command.ExtraFiles = []*os.File{writer}
	var out bytes.Buffer
	command.Stdout, command.Stderr = &out, &out
	if err := command.Start(); err != nil {
		return err
	}
	writer.Close()
	lines := bufio.NewScanner(reader)
	for lines.Scan() {
		if fields := strings.SplitN(lines.Text(), ":", 4); len(fields) == 4 && fields[0] == "dlstatus" {
			if percent, err := strconv.ParseFloat(fields[2], 64); err == nil {
				progress(fmt.Sprintf("downloading %d packages", len(packages)), percent/100)
			}
		}
	}
	reader.Close()
	if err := command.Wait(); err != nil {
		return archiveError(out.Bytes(), err)
	}
	return nil
}

func (a *apt) clean() { os.RemoveAll(filepath.Join(a.dir, "cache/archives")) }

// unpack writes the packages' files below root, without what nobody runs.
func (a *apt) unpack(ctx context.Context, packages []string, root string) error {
	for _, p := range packages {
		name, version, _ := strings.Cut(p, "=")
		pattern := filepath.Join(a.dir, "cache/archives", name+"_"+strings.ReplaceAll(version, ":", "%3a")+"_*.deb")
		found, _ := filepath.Glob(pattern)
		if len(found) != 1 {
			return fmt.Errorf("package %s was downloaded to %d files", p, len(found))
		}
		command := exec.CommandContext(ctx, "dpkg-deb", "--fsys-tarfile", found[0])
		stream, err := command.StdoutPipe()
		if err != nil {
			return err
		}
		if err := command.Start(); err != nil {
			return err
		}
		err = untar(stream, root)
		if err == nil {
			_, err = io.Copy(io.Discard, stream)
		} else {
			command.Process.Kill()
		}
		if waited := command.Wait(); err == nil {
			err = waited
		}
		if err != nil {
			return fmt.Errorf("package %s: %w", p, err)
		}
	}
	return nil
}

var notNeeded = regexp.MustCompile(`^usr/share/(doc|man|locale|lintian|bash-completion|info|bug|perl5|gcc|mysql-test|i18n)/|` +
	`^usr/lib/(systemd|udev)/|/gconv/|^(var|etc/(init\.d|systemd|apparmor\.d|logrotate\.d|cron))` +
	`|^usr/bin/(innochecksum|mariadb-(upgrade|install-db|access|binlog|conv|convert-table-format|dumpslow|find-rows|fix-extensions|` +
	`hotcopy|plugin|report|secure-installation|setpermission|slap|tzinfo-to-sql|waitpid)|innotop|mytop|msql2mysql|perror|` +
	`resolve_stack_dump|my_print_defaults|resolveip|mysql\w*)/|` +
	`^usr/share/(mysql|mariadb)/fill_help_tables`)

// untar writes a package's files below root, with /bin, /lib and so on merged into /usr and absolute links turned relative, so that
// the tree holds together wherever it lies.
func untar(stream io.Reader, root string) error {
	archive := tar.NewReader(stream)
	for {
		header, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		name := merged(header.Name)
		if name == "." || !filepath.IsLocal(name) || notNeeded.MatchString(name+"/") {
			continue
		}
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		switch header.Typeflag {
		case tar.TypeDir:
			err = os.MkdirAll(path, 0o755)
		case tar.TypeReg:
			os.Remove(path)
			err = writeFile(path, archive, fs.FileMode(header.Mode)&0o755|0o600)
		case tar.TypeSymlink:
			target := header.Linkname
			if filepath.IsAbs(target) {
				target, err = filepath.Rel(filepath.Dir(path), filepath.Join(root, merged(target)))
			}
			os.Remove(path)
			err = errors.Join(err, os.Symlink(target, path))
		case tar.TypeLink:
			os.Remove(path)
			err = os.Link(filepath.Join(root, merged(header.Linkname)), path)
		}
		if err != nil {
			return err
		}
	}
}

func merged(name string) string {
	name = strings.TrimPrefix(filepath.Clean("/"+name), "/")
	if first, _, _ := strings.Cut(name, "/"); slices.Contains([]string{"bin", "sbin", "lib", "lib64"}, first) {
		name = "usr/" + name
	}
	if name == "" {
		return "."
	}
	return name
}

func writeFile(path string, content io.Reader, mode fs.FileMode) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	if _, err := io.Copy(file, content); err != nil {
		file.Close()
		return err
	}
	return file.Close()
}
