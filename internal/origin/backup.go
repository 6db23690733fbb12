package origin

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"vessik/internal/archive"
	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
)

// backup is what an archive was found to hold: a CMS, at any depth, and dumps of its database.
type backup struct {
	cms     *cms.Definition // nil where none is known
	version string
	top     string // the folder in which the CMS stands; "." for the archive's top
	dumps   []dumped
}

// dumped is a database in an archive: in one file, or in one for each table.
type dumped struct {
	names           []string
	prefix, address string
}

// words say what it is.
func (d dumped) words() string {
	words := d.names[0]
	if len(d.names) > 1 {
		words = fmt.Sprintf("%d files in %s/", len(d.names), path.Dir(d.names[0]))
	}
	return fmt.Sprintf("%s (%s)", words, strings.Trim(cmp.Or(d.prefix, "no prefix")+", "+d.address, ", "))
}

// words say what an archive holds, for somebody who decides whether to make a site of it.
func (b backup) words() string {
	if b.cms == nil {
		return ""
	}
	words := b.cms.Title + " " + b.version
	if b.top != "." {
		words += " in " + b.top + "/"
	}
	all := []string{}
	for _, d := range b.dumps {
		all = append(all, d.words())
	}
	switch len(all) {
	case 0:
		return words + ", no database"
	case 1:
		return words + ", a database in " + all[0]
	}
	return words + ", several databases: " + strings.Join(all, ", ")
}

// backupIn looks through an archive; what was found is kept, since it is asked at every key that is typed.
func (g *Origins) backupIn(from string) (found backup) {
	definitions, key, all := g.Machine.CMS.Definitions(), "", Archives(from)
	for _, file := range all {
		info, err := os.Stat(file)
		if err != nil {
			return found
		}
		key += fmt.Sprintln(file, info.Size(), info.ModTime().UnixNano())
	}
	if seen, ok := g.seen.Load(key); ok {
		found = seen.(backup)
		if found.cms != nil { // it may have been changed
			found.cms = definitions[found.cms.Name]
		}
		return found
	}
	look, whole := &looking{definitions: definitions, left: mostOfAll}, true
	for i, file := range all {
		at := look.at
		if len(all) > 1 {
			at = func(name string, content io.Reader) error { return look.at(path.Join(strconv.Itoa(i), name), content) }
		}
		whole = archive.Each(file, at) == nil && whole
	}
	if whole {
		found = look.found()
	}
	g.seen.Store(key, found)
	return found
}

// looking comes by the entries of an archive.
type looking struct {
	definitions cms.Definitions
	best        backup
	dumps       []lookedAt
	left        int64 // how much more is read
}

// bounded bounds what is read of one entry, and of all together: an archive may come from anybody.
func (l *looking) bounded(from io.Reader, most int64) io.Reader {
	return readerFunc(func(text []byte) (int, error) {
		if most <= 0 || l.left <= 0 {
			return 0, io.EOF
		}
		n, err := from.Read(text[:min(int64(len(text)), most, l.left)])
		most, l.left = most-int64(n), l.left-int64(n)
		return n, err
	})
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(text []byte) (int, error) { return f(text) }

// lookedAt is one file of SQL.
type lookedAt struct {
	name   string
	tables int // that it makes, as far as it was read
	said   map[string]cms.DumpSaid
}

// How much is read to tell what there is, in bytes as they are expanded: of a dump, and of all files of an archive.
const (
	mostOfADump = 256 << 20
	mostOfAll   = 1 << 30
)

func (l *looking) at(name string, content io.Reader) error {
	for _, each := range l.definitions.Names() {
		k := l.definitions[each]
		top, ok := topOf(name, k.Recognise.File)
		if !ok || l.best.cms != nil && strings.Count(top+"/", "/") >= strings.Count(l.best.top+"/", "/") && top != "." {
			continue
		}
		head, err := io.ReadAll(l.bounded(content, 64<<10))
		if err != nil {
			return err
		}
		if version := k.VersionIn(head); version != "" {
			l.best.cms, l.best.version, l.best.top = k, version, top
		}
		return nil
	}
	plain := strings.ToLower(name)
	if !slices.ContainsFunc(dumpSuffixes, func(suffix string) bool { return strings.HasSuffix(plain, suffix) }) {
		return nil
	}
	expanded, end, err := expandDump(bufio.NewReaderSize(content, 1<<20))
	if err != nil { // called so, and none
		return nil
	}
	defer end()
	tables, said := l.definitions.Dumped(l.bounded(expanded, mostOfADump))
	if tables > 0 {
		l.dumps = append(l.dumps, lookedAt{name, tables, said})
	}
	return nil
}

var dumpSuffixes = []string{".sql", ".sql.gz", ".sql.zst", ".sql.xz", ".sql.bz2", ".gz.sql"}

// topOf is the folder in which a CMS stands, told by the place of the file by which it is known.
func topOf(name, known string) (top string, ok bool) {
	if known == "" || name == known {
		return ".", known != ""
	}
	return strings.CutSuffix(name, "/"+known)
}

// found sorts out what was come by: a dump that makes one table alone is a part of one, with those beside it.
func (l *looking) found() backup {
	b := l.best
	if b.cms == nil {
		return b
	}
	for _, each := range l.dumps {
		said, ok := each.said[b.cms.Name]
		if !ok || said.Prefix == "" {
			continue
		}
		one := dumped{names: []string{each.name}, prefix: said.Prefix, address: said.Address}
		if each.tables == 1 {
			one.names = []string{}
			for _, other := range l.dumps {
				if path.Dir(other.name) == path.Dir(each.name) && other.tables == 1 {
					one.names = append(one.names, other.name)
				}
			}
			slices.Sort(one.names)
		}
		b.dumps = append(b.dumps, one)
	}
	return b
}

// dump is the database that is loaded; fault is why it cannot be told.
func (b backup) dump(asked string) (one dumped, fault string) {
	words := []string{}
	for _, d := range b.dumps {
		if asked != "" && slices.Contains(d.names, path.Clean(asked)) {
			return d, ""
		}
		words = append(words, d.words())
	}
	switch {
	case asked != "":
		return one, fmt.Sprintf("it holds no dump %q, but %s", asked, cmp.Or(strings.Join(words, ", "), "none"))
	case len(words) > 1:
		return one, "it holds several databases, of which one is to be named with -dump: " + strings.Join(words, ", ")
	case len(words) == 0:
		return one, ""
	}
	return b.dumps[0], ""
}

// backupFolder is where the dump of an archive waits to be loaded.
func (g *Origins) backupFolder(s site.Site) string {
	return g.Machine.Home.Path("tmp", s.Name, "backup")
}

// keepBackup takes an archive's dump out of what was unpacked, so that no visitor is given it.
func (g *Origins) keepBackup(s site.Site, whole string, one dumped) error {
	if err := errors.Join(ownfile.RemoveAll(g.backupFolder(s)), ownfile.Make(g.backupFolder(s), 0o700)); err != nil {
		return err
	}
	for i, name := range one.names {
		to := filepath.Join(g.backupFolder(s), fmt.Sprintf("%06d-%s", i, path.Base(name)))
		if err := moveFile(filepath.Join(whole, filepath.FromSlash(name)), to); err != nil {
			return err
		}
	}
	return nil
}

// loadBackup loads it, re-addressed to the site.
func (g *Origins) loadBackup(ctx context.Context, s site.Site) error {
	files := ownfile.Find(filepath.Join(g.backupFolder(s), "*"))
	if len(files) == 0 {
		return nil
	}
	defer ownfile.RemoveAll(g.backupFolder(s))
	report, err := g.LoadDump(ctx, s, s.Origin.Address, files...)
	if err != nil {
		return err
	}
	return g.loaded(ctx, s, report, "")
}

// Holds says in words what an archive was found to hold of which a site is made.
func (g *Origins) Holds(s site.Site) string {
	if s.Origin.Kind != site.FromArchive {
		return ""
	}
	words := g.backupIn(s.Origin.From).words()
	if all := Archives(s.Origin.From); len(all) > 1 { // by their names, not by their numbers
		for i, each := range all {
			words = strings.ReplaceAll(words, " "+strconv.Itoa(i)+"/", " "+filepath.Base(each)+": ")
		}
	}
	return words
}
