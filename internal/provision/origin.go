package provision

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/klauspost/compress/zstd"

	"vessik/internal/archive"
	"vessik/internal/core/fleet"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/kit"
	"vessik/internal/picture"
	"vessik/internal/proc"
	"vessik/internal/records"
	"vessik/internal/stencil"
)

// found tells what an origin is; fault is why it cannot be used.
func (p *Provisioner) found(o site.Origin) (k site.Kit, root, fault string) {
	if o.SQL != "" {
		if fault := unreadable(o.SQL, false); fault != "" {
			return k, "", fault
		}
	}
	kits := p.Kits()
	switch o.Kind {
	case site.FromArchive:
		return site.Kit{Name: "archive", Version: "1"}, "", unreadable(o.From, false)
	case site.FromFolder:
		if fault := unreadable(o.From, true); fault != "" {
			return k, "", fault
		}
		if known, version := kits.Recognised(o.From); known != nil {
			return site.Kit{Name: known.Name, Version: version}, known.Layout.DocumentRoot, ""
		}
		root, ok := archive.DocumentRoot(o.From)
		if !ok {
			return k, "", o.From + " has no index.php, nor has public, web or htdocs in it"
		}
		return site.Kit{Name: "archive", Version: "1"}, root, ""
	case site.FromStencil:
		m, err := p.Stencils.Find(o.From)
		if err != nil {
			return k, "", fmt.Sprintf("there is no stencil %q", o.From)
		}
		return m.Kit, m.Root, ""
	case site.FromSite:
		s, ok := p.Site(o.From)
		if !ok {
			return k, "", fmt.Sprintf("there is no site %q", o.From)
		}
		return s.Kit, s.Root, ""
	}
	return k, "", ""
}

// networkOf tells whether a stencil or site is a network of sites.
func (p *Provisioner) networkOf(o site.Origin) (network string, subSites []string, newest bool) {
	switch o.Kind {
	case site.FromStencil:
		if m, err := p.Stencils.Find(o.From); err == nil {
			return m.Network, m.SubSites, m.NewestCMS
		}
	case site.FromSite:
		if s, ok := p.Site(o.From); ok {
			return s.Network, s.SubSites, false
		}
	}
	return "", nil, false
}

// unreadable says why the service's account cannot use a file or a folder.
func unreadable(path string, folder bool) string {
	if !filepath.IsAbs(path) {
		return fmt.Sprintf("%q is not absolute", path)
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return path + " is not there"
	case err != nil:
		return fmt.Sprintf("%s cannot be reached by the service's account (%v)", path, errors.Unwrap(err))
	case info.IsDir() != folder:
		return path + map[bool]string{true: " is no folder", false: " is a folder"}[folder]
	}
	const read, readAndEnter = 4, 4 | 1
	if syscall.Access(path, map[bool]uint32{true: readAndEnter, false: read}[folder]) != nil {
		return path + " cannot be read by the service's account"
	}
	return ""
}

// layOutOrigin fills a site's folder from where it comes; done is false for a kit's own release.
func (p *Provisioner) layOutOrigin(ctx context.Context, o *operation, s site.Site, note func(string)) (done bool, err error) {
	switch s.Origin.Kind {
	case site.FromFolder:
		return true, nil
	case site.FromSite:
		source, ok := p.Site(s.Origin.From)
		if !ok {
			return true, fmt.Errorf("the site %s is gone", s.Origin.From)
		}
		return true, p.layOut(ctx, o.recorded.ID, s, kit.TreeBytes(source.Folder), note, func(partial string) error { return p.copySite(ctx, source, partial) })
	case site.FromStencil:
		m, err := p.Stencils.Find(s.Origin.From)
		if err != nil {
			return true, err
		}
		return true, p.layOut(ctx, o.recorded.ID, s, m.FileBytes+2*m.DatabaseBytes, note, func(partial string) error {
			files, database, err := p.Stencils.Open(ctx, s.Origin.From, partial+"-whole")
			defer os.RemoveAll(partial + "-whole")
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(p.dumpFile(s)), 0o700); err != nil {
				return err
			}
			if err := moveFile(database, p.dumpFile(s)); err != nil {
				return err
			}
			if s.Origin.Newest {
				if err := p.exchangeCMS(ctx, s, files, partial+"-whole/newest"); err != nil {
					return err
				}
				files = partial + "-whole/newest"
			}
			if err := errors.Join(p.kitOf(s).ClearCaches(files), p.layLanguage(s, files)); err != nil {
				return err
			}
			return os.Rename(files, partial)
		})
	case site.FromArchive:
		info, err := os.Stat(s.Origin.From)
		if err != nil {
			return true, err
		}
		root := ""
		err = p.layOut(ctx, o.recorded.ID, s, 4*info.Size(), note, func(partial string) error {
			defer os.RemoveAll(partial + "-whole")
			if err := archive.Unpack(ctx, s.Origin.From, partial+"-whole", archive.Usual); err != nil {
				return err
			}
			top, ok := archive.Top(partial+"-whole"), false
			if root, ok = archive.DocumentRoot(top); !ok {
				return fmt.Errorf("%s holds no index.php at its top, nor in public, web or htdocs: it is no release of a PHP CMS", filepath.Base(s.Origin.From))
			}
			return os.Rename(top, partial)
		})
		if err != nil {
			return true, err
		}
		return true, p.change(ctx, s.Name, func(s *site.Site) error { s.Root = root; return nil })
	}
	return false, nil
}

// copySite copies a site's folder, without what its CMS makes again by itself.
func (p *Provisioner) copySite(ctx context.Context, source site.Site, to string) error {
	k := p.kitOf(source)
	if err := kit.CopySite(ctx, source.Folder, to, k.Layout.Caches...); err != nil {
		return err
	}
	return k.ClearCaches(to)
}

// moveFile moves a file, also to another disk.
func moveFile(from, to string) error {
	if err := os.Rename(from, to); !errors.Is(err, syscall.EXDEV) {
		return err
	}
	source, err := os.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(target, source)
	return errors.Join(err, target.Close())
}

// dumpFile is where the dump of a stencil waits to be loaded.
func (p *Provisioner) dumpFile(s site.Site) string {
	return p.Home.path("tmp", s.Name, "stencil.sql")
}

// keptConfiguration is where the configuration of an adopted folder is kept as it was.
func (p *Provisioner) keptConfiguration(s site.Site) string {
	return p.Home.path("kept", s.Name+".configuration")
}

// configureOrigin has a site that is not a new release name its own database.
func (p *Provisioner) configureOrigin(ctx context.Context, s site.Site, port int, note func(string)) (done bool, err error) {
	k, facts := p.kitOf(s), p.kitFacts(s)
	facts.Port = port
	switch s.Origin.Kind {
	case "":
		return false, nil
	case site.FromStencil, site.FromSite:
		if k.Configuration.File == "" {
			return true, nil
		}
		return true, k.DrawConfiguration(s.Folder, facts)
	case site.FromFolder:
		if k.Configuration.File == "" {
			return true, nil
		}
		file := k.ConfigurationFile(s)
		before, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			note("wrote " + k.Configuration.File)
			return true, k.Configure(facts)
		}
		if err != nil {
			return true, err
		}
		if err := os.WriteFile(p.keptConfiguration(s), before, 0o600); err != nil {
			return true, err
		}
		note("changed " + k.Configuration.File + " to name the site's own database")
		values, err := k.Values(s.Folder)
		if err != nil {
			return true, err
		}
		if err := k.Reconfigure(s.Folder, s.Database, port); err != nil {
			return true, err
		}
		return true, p.change(ctx, s.Name, func(s *site.Site) error {
			if values["prefix"] != "" {
				s.Prefix = values["prefix"]
			}
			return nil
		})
	}
	return true, nil
}

// giveBack puts an adopted folder back to what it was.
func (p *Provisioner) giveBack(s site.Site) error {
	if s.Origin.Kind != site.FromFolder {
		return nil
	}
	k := p.kitOf(s)
	before, err := os.ReadFile(p.keptConfiguration(s))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := k.GiveBack(s.Folder, before); err != nil {
		return err
	}
	return os.Remove(p.keptConfiguration(s))
}

// loadOrigin fills the database of a site that is not a new release.
func (p *Provisioner) loadOrigin(ctx context.Context, o *operation, s site.Site) (done bool, err error) {
	if s.Origin.Kind == "" {
		return false, nil
	}
	s, _ = p.Site(s.Name) // its prefix may have been found since
	to, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return true, err
	}
	k, facts := p.kitOf(s), p.kitFacts(s)
	pool := to.Open(s.Database.Name)
	defer pool.Close()
	fit := kit.Fitting(ctx, to, func(string, string) {})
	var report rewrite.Tally
	switch {
	case s.Origin.Kind == site.FromStencil:
		m, err := p.Stencils.Find(s.Origin.From)
		if err != nil {
			return true, err
		}
		dump, err := os.Open(p.dumpFile(s))
		if err != nil {
			return true, err
		}
		defer os.Remove(dump.Name())
		defer dump.Close()
		facts.Hash = k.HashOf(s.Kit.Version, s.Admin.Password)
		report, err = k.DrawContent(ctx, pool, dump, m.URL, m.Prefix, facts, fit)
		if err != nil {
			return true, err
		}
	case s.Origin.Kind == site.FromSite:
		source, ok := p.Site(s.Origin.From)
		if !ok {
			return true, fmt.Errorf("the site %s is gone", s.Origin.From)
		}
		from, err := p.pool(ctx, source)
		if err != nil {
			return true, err
		}
		defer from.Close()
		reader, writer := io.Pipe()
		go func() { writer.CloseWithError(kit.Dump(ctx, from, writer)) }()
		facts.Hash = k.HashOf(s.Kit.Version, s.Admin.Password)
		report, err = k.DrawContent(ctx, pool, reader, p.kitFacts(source).URL, p.Prefix(source), facts, fit)
		reader.CloseWithError(err)
		if err != nil {
			return true, err
		}
	case s.Origin.SQL != "":
		if report, err = p.loadDump(ctx, s, s.Origin.SQL, s.Origin.Address); err != nil {
			return true, err
		}
	default:
		return true, nil
	}
	o.p.Log.Info("re-addressed", "site", s.Name, "report", report.String())
	return true, p.change(ctx, s.Name, func(s *site.Site) error { s.AdminHash = facts.Hash; return nil })
}

// openDump opens a dump, plain or compressed with gzip or Zstandard.
func openDump(file string) (io.ReadCloser, error) {
	source, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	buffered := bufio.NewReaderSize(source, 1<<20)
	head, _ := buffered.Peek(4)
	var from io.Reader = buffered
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		if from, err = gzip.NewReader(buffered); err != nil {
			source.Close()
			return nil, err
		}
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		expanded, err := zstd.NewReader(buffered, zstd.WithDecoderMaxMemory(512<<20))
		if err != nil {
			source.Close()
			return nil, err
		}
		from = expanded
	}
	return struct {
		io.Reader
		io.Closer
	}{from, source}, nil
}

// loadDump loads somebody's dump into a site's empty database, re-addressed to the site.
func (p *Provisioner) loadDump(ctx context.Context, s site.Site, file, address string) (report rewrite.Tally, err error) {
	to, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return report, err
	}
	k, facts := p.kitOf(s), p.kitFacts(s)
	dump, err := openDump(file)
	if err != nil {
		return report, err
	}
	found, prefix, err := k.Dumped(dump)
	dump.Close()
	if err != nil {
		return report, fmt.Errorf("read %s: %w", file, err)
	}
	if address == "" {
		address = found
	}
	if prefix == "" {
		prefix = facts.Prefix
	}
	if dump, err = openDump(file); err != nil {
		return report, err
	}
	defer dump.Close()
	pool := to.Open(s.Database.Name)
	defer pool.Close()
	report, err = k.DrawContent(ctx, pool, dump, address, prefix, facts, foreign(kit.Fitting(ctx, to, func(string, string) {})))
	if err != nil {
		return report, fmt.Errorf("load %s: %w", file, err)
	}
	return report, nil
}

// foreign leaves out of somebody's dump what would lead to another database.
func foreign(fit func(string) (string, error)) func(string) (string, error) {
	return func(statement string) (string, error) {
		for _, word := range []string{"USE ", "CREATE DATABASE", "DROP DATABASE", "GRANT ", "SET @@GLOBAL", "SET GLOBAL", "LOCK TABLES", "UNLOCK TABLES"} {
			if len(statement) >= len(word) && strings.EqualFold(statement[:len(word)], word) {
				return "", nil
			}
		}
		return fit(statement)
	}
}

// touch applies the finishing touches that a site was asked to be made with, as the site's own database user.
func (p *Provisioner) touch(ctx context.Context, o *operation, s site.Site) error {
	database, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	pool := database.OpenAs(s.Database.Name, s.Database.User, s.Database.Password)
	defer pool.Close()
	php, err := p.Store.Find(s.Stack.PHP)
	if err != nil {
		return err
	}
	toucher := kit.Toucher{Kit: p.kitOf(s), Own: kit.OwnTouches(p.TouchFolder()), Pool: pool, PHP: php, Site: s, Facts: p.kitFacts(s),
		Command: func(ctx context.Context, file string) ([]byte, error) { return p.inEnvironment(ctx, s, file) }}
	for _, asked := range s.Touches {
		o.progress(s.Name, asked, -1)
		if err := toucher.Apply(ctx, asked); err != nil {
			return err
		}
	}
	return nil
}

// TouchFolder is where the user's own finishing touches are put.
func (p *Provisioner) TouchFolder() string { return p.Home.path("touches") }

// inEnvironment runs a shell script as a site's own command, held to the site's folder, and returns what it prints.
func (p *Provisioner) inEnvironment(ctx context.Context, s site.Site, file string) ([]byte, error) {
	environment, err := p.Environment(s.Name)
	if err != nil {
		return nil, err
	}
	place := p.phpPlace(s)
	confine := proc.Confinement{ReadFiles: []string{file}, WriteFolders: append([]string{s.Folder, place.Temp, place.Mail, filepath.Dir(environment.Path)}, s.Settings.Allow...)}
	for _, id := range s.Stack.IDs() {
		if e, err := p.Store.Find(id); err == nil {
			confine.ReadFolders = append(confine.ReadFolders, e.Root())
		}
	}
	if s.Settings.Offline {
		confine.OnlyPorts = []uint16{uint16(place.Port)}
	}
	command, err := confine.Command(ctx, "/bin/sh", file)
	if err != nil {
		return nil, err
	}
	command.Dir = s.Folder
	command.Env = []string{"PATH=" + environment.Path + ":/usr/local/bin:/usr/bin:/bin", "HOME=" + place.Temp, "LANG=C.UTF-8"}
	for name, value := range environment.Variables {
		command.Env = append(command.Env, name+"="+value)
	}
	return command.CombinedOutput()
}

// SaveStencil saves a site as a stencil; the operation goes on after it returns.
func (p *Provisioner) SaveStencil(ctx context.Context, name, as, description string, newestCMS bool) (records.Operation, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	if _, ok := p.Site(name); !ok {
		return records.Operation{}, noSite(name)
	}
	problem := func(message, remedy string) error {
		return site.Problems{{Site: name, Field: "as", Message: message, Remedy: remedy}}
	}
	if err := stencil.CheckName(as); err != nil {
		return records.Operation{}, problem(err.Error(), "choose a name such as garden-basics")
	}
	if _, err := p.Stencils.Find(as); err == nil {
		return records.Operation{}, problem(fmt.Sprintf("there is a stencil %q already", as), "drop it first, or choose another name")
	}
	return p.begin(ctx, records.Operation{Kind: plan.Save, Stencil: &plan.Saving{Name: as, Description: description, NewestCMS: newestCMS}}, nil, []string{name}, map[string][]plan.Step{name: {plan.SaveStencil}})
}

// saveStencil carries it out: the database is copied aside, freed of what is secret, and packed with the files.
func (p *Provisioner) saveStencil(ctx context.Context, o *operation, s site.Site) error {
	asked := o.Snapshot().Stencil
	if err := room(p.Home.Dir, kit.TreeBytes(s.Folder)+3*p.databaseBytes(ctx, s)); err != nil {
		return err
	}
	k, facts := p.kitOf(s), p.kitFacts(s)
	dir, err := os.MkdirTemp(p.Home.path("tmp"), "stencil-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	source := stencil.Source{Folder: s.Folder, LeaveOut: append(slices.Clone(k.Layout.Caches), k.Stencil.LeaveOut...), Replace: map[string][]byte{}, Database: filepath.Join(dir, "database.sql")}
	file, err := os.Create(source.Database)
	if err != nil {
		return err
	}
	o.progress(s.Name, "copying the database", -1)
	if err := errors.Join(p.dumpWithoutSecrets(ctx, s, file), file.Close()); err != nil {
		return err
	}
	if k.Configuration.File != "" {
		blank, err := k.Blank(s.Folder)
		if err != nil {
			return err
		}
		source.Replace[k.Configuration.File] = blank
	}
	if picture.Browser() != "" && s.State == site.Running {
		o.progress(s.Name, "taking a picture", -1)
		if taken, err := p.pictures.Take(ctx, s.URL(p.settings.GatewayPort)); err == nil {
			source.Picture = filepath.Join(dir, "picture.jpg")
			if err := picture.Save(source.Picture, taken); err != nil {
				return err
			}
		}
	}
	m := stencil.Manifest{Format: stencil.Format, Name: asked.Name, Description: asked.Description, NewestCMS: asked.NewestCMS, From: s.Name, Title: s.Title, Kit: s.Kit, Root: s.Root, Prefix: facts.Prefix, URL: facts.URL, Network: s.Network, SubSites: s.SubSites,
		Stack: s.Stack, CreatedAt: time.Now().UTC().Truncate(time.Second)}
	all := kit.TreeBytes(s.Folder) + p.databaseBytes(ctx, s)
	_, err = p.Stencils.Save(ctx, m, source, func(done int64) {
		o.progress(s.Name, "packing", min(float64(done)/float64(max(all, 1)), 1))
	})
	return err
}

// dumpWithoutSecrets dumps a copy of a site's database that was freed of what is secret.
func (p *Provisioner) dumpWithoutSecrets(ctx context.Context, s site.Site, file io.Writer) error {
	database, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	aside := "vessik_" + randomHex(4)
	if err := database.CreateDatabase(ctx, aside, aside, kit.Password()); err != nil {
		return err
	}
	defer database.DropDatabase(context.WithoutCancel(ctx), aside, aside)
	from, to := database.Open(s.Database.Name), database.Open(aside)
	defer from.Close()
	defer to.Close()
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(kit.Dump(ctx, from, writer)) }()
	err = kit.Load(ctx, to, reader, nil)
	reader.CloseWithError(err)
	if err != nil {
		return err
	}
	if err := p.kitOf(s).Empty(ctx, to, p.kitFacts(s)); err != nil {
		return err
	}
	return kit.Dump(ctx, to, file)
}

// SiteDump is what the dump beside a site's own file is called.
const SiteDump = "vessik-site.sql.zst"

// WriteSiteFile writes a site's own file into its folder, and beside it, if asked to, its content without passwords.
func (p *Provisioner) WriteSiteFile(ctx context.Context, name string, text []byte, content bool) ([]string, error) {
	s, ok := p.Site(name)
	if !ok {
		return nil, noSite(name)
	}
	replace := func(path string, write func(io.Writer) error) error {
		file, err := os.OpenFile(path+".next", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		defer os.Remove(file.Name())
		if err := errors.Join(write(file), file.Close()); err != nil {
			return err
		}
		return os.Rename(file.Name(), path)
	}
	files := []string{filepath.Join(s.Folder, fleet.SiteFileName)}
	if content {
		files = append(files, filepath.Join(s.Folder, SiteDump))
		if err := replace(files[1], func(w io.Writer) error {
			packed, err := zstd.NewWriter(w)
			if err != nil {
				return err
			}
			return errors.Join(p.dumpWithoutSecrets(ctx, s, packed), packed.Close())
		}); err != nil {
			return nil, err
		}
	}
	return files, replace(files[0], func(w io.Writer) error { _, err := w.Write(text); return err })
}
