package cms

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"vessik/internal/cell"
	"vessik/internal/core/dump"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// Releases lists the versions of each definition, the default first: those of the engine catalogue, and those on the user's shelf.
func (k Definitions) Releases(store engine.Store) map[string][]string {
	releases := map[string][]string{}
	for name, cms := range k {
		if cms.Version != "" {
			releases[name] = []string{cms.Version}
		}
	}
	for _, id := range store.IDs(engine.Release) {
		name, version, _ := strings.Cut(id, "-")
		if k[name] != nil {
			releases[name] = append(releases[name], version)
		}
	}
	return releases
}

// FromCatalogue tells whether the definition's files are a release of the engine catalogue.
func (k *Definition) FromCatalogue() bool { return k.Layout.Root != "" }

// preparedBase is the address in a prepared database image; .invalid is reserved (RFC 2606), so nothing else is named so.
const preparedBase = "http://prepared.vessik.invalid"

// Prepared is a release made ready once: a whole tree of files, and a database image to draw copies from.
type Prepared struct {
	Definition *Definition
	Tree       string
	Bytes      int64 // size of the tree
	statements []string
}

// Stock keeps prepared releases in one folder, which several services may share.
type Stock struct {
	Dir  string
	mu   sync.Mutex
	kept map[string]*Prepared
}

// fingerprint tells one state of a definition's files from another.
func (k *Definition) fingerprint() string {
	hash := sha256.New()
	fs.WalkDir(k.files, ".", func(path string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			text, _ := fs.ReadFile(k.files, path)
			fmt.Fprintf(hash, "%s %d\n%s", path, len(text), text)
		}
		return nil
	})
	return hex.EncodeToString(hash.Sum(nil)[:4])
}

// Source is where a release's files are: in the unpacked packages of the engine catalogue, in a folder of its own, or in the definition
// itself where both are empty.
type Source struct {
	Packages string
	Folder   func() (dir string, done func(), err error) // asked only if the release has not been made ready before
	ID       string                                      // tells one release of a version from another
}

// Prepare returns a release made ready, from the stock where it is there. It runs the definition's install script on a scratch database;
// version is what it is in full.
func (s *Stock) Prepare(ctx context.Context, k *Definition, source Source, version string, php *engine.Engine,
	database *engine.DatabaseServer) (*Prepared, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	release := k.Name + "-" + version + source.ID + "-"
	id := release + k.fingerprint()
	place := filepath.Join(s.Dir, id)
	now := time.Now()
	err := ownfile.Touch(place, now) // it is in use
	missing := errors.Is(err, fs.ErrNotExist)
	if p := s.kept[id]; p != nil && !missing {
		return p, nil
	}
	if missing {
		if err := s.make(ctx, place, k, source, php, database); err != nil {
			return nil, fmt.Errorf("prepare %s %s: %w", k.Title, version, err)
		}
		s.forget(release, id)
	}
	image, err := ownfile.Read(filepath.Join(place, "image.sql"))
	if err != nil {
		return nil, fmt.Errorf("read the prepared %s: %w", id, err)
	}
	p := &Prepared{Definition: k, Tree: filepath.Join(place, "tree")}
	p.Bytes = safefile.Bytes(p.Tree)
	if p.statements, err = rewrite.Statements(string(image)); err != nil {
		return nil, fmt.Errorf("read the prepared %s: %w", id, err)
	}
	if s.kept == nil {
		s.kept = map[string]*Prepared{}
	}
	s.kept[id] = p
	return p, nil
}

// unusedFor is for how long what was made ready by an earlier state of a definition is kept: another service on the same store may use it.
const unusedFor = 7 * 24 * time.Hour

// forget removes what was made ready of a release by other states of its definition, and has not been used for long.
func (s *Stock) forget(release, id string) {
	entries, _ := ownfile.List(s.Dir)
	for _, entry := range entries {
		fingerprint, of := strings.CutPrefix(entry.Name(), release)
		if info, err := entry.Info(); of && entry.Name() != id && len(fingerprint) == 8 && err == nil && time.Since(info.ModTime()) > unusedFor {
			ownfile.RemoveAll(filepath.Join(s.Dir, entry.Name()))
		}
	}
}

// ClearScratch drops what a preparation that was killed left on a server; keep are the databases of sites.
func ClearScratch(ctx context.Context, database *engine.DatabaseServer, keep []string) error {
	rows, err := database.Admin().QueryContext(ctx, "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME REGEXP "+
		"'^vessik_[0-9a-f]{8}$' UNION SELECT User FROM mysql.global_priv WHERE User REGEXP '^vessik_[0-9a-f]{8}$'")
	if err != nil {
		return fmt.Errorf("look for scratch databases: %w", err)
	}
	defer rows.Close()
	left := []string{}
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return err
		}
		if !slices.Contains(keep, name) {
			left = append(left, name)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, name := range left {
		if err := database.DropDatabase(ctx, name, name); err != nil {
			return fmt.Errorf("drop the scratch database %s: %w", name, err)
		}
	}
	return nil
}

func (s *Stock) make(ctx context.Context, place string, k *Definition, source Source, php *engine.Engine,
	database *engine.DatabaseServer) error {
	if err := ownfile.Make(s.Dir, 0o755); err != nil {
		return err
	}
	leftovers := ownfile.Find(filepath.Join(s.Dir, ".partial-*"))
	for _, path := range leftovers { // of a service that was killed; a young one may be at work
		if info, err := os.Stat(path); err == nil && time.Since(info.ModTime()) > time.Hour {
			ownfile.RemoveAll(path)
		}
	}
	partial, err := s.partial()
	if err != nil {
		return err
	}
	defer ownfile.RemoveAll(partial)
	tree := filepath.Join(partial, "tree")
	if err := k.layTree(ctx, source, tree); err != nil {
		return err
	}
	if k.Layout.Script != "" && source.Packages != "" {
		if out, err := k.Run(ctx, Script{PHP: php, Folder: tree, Root: tree, Names: []string{k.Layout.Script},
			Arguments: []string{tree}}); err != nil {
			return fmt.Errorf("its layout script: %w", said(err, out))
		}
	}
	image, err := ownfile.Create(filepath.Join(partial, "image.sql"))
	if err != nil {
		return err
	}
	defer image.Close()
	if k.Install.Script != "" {
		if err := k.install(ctx, tree, image, "", php, database); err != nil {
			return err
		}
	}
	err = ownfile.Rename(partial, place)
	if errors.Is(err, syscall.ENOTEMPTY) || errors.Is(err, fs.ErrExist) { // another service was first
		return nil
	}
	return err
}

// partial is a folder in the stock for what is being made; whoever asks removes it.
func (s *Stock) partial() (string, error) {
	dir, err := os.MkdirTemp(s.Dir, ".partial-")
	if err != nil {
		return "", err
	}
	if err := ownfile.SetMode(dir, 0o755); err != nil {
		return "", errors.Join(err, ownfile.RemoveAll(dir))
	}
	return dir, nil
}

// InLanguage is a prepared release with the content that its CMS's own installer makes in a language; lay puts that language's files
// into a tree.
func (s *Stock) InLanguage(ctx context.Context, p *Prepared, language string, lay func(tree string) error, php *engine.Engine,
	database *engine.DatabaseServer) (*Prepared, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	place := filepath.Dir(p.Tree)
	file := filepath.Join(place, "image-"+language+".sql")
	id := filepath.Base(place) + " " + language
	image, err := ownfile.Read(file)
	if kept := s.kept[id]; kept != nil && err == nil {
		return kept, nil
	}
	if errors.Is(err, fs.ErrNotExist) {
		if err = s.translate(ctx, p, language, file, lay, php, database); err == nil {
			image, err = ownfile.Read(file)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("prepare %s in %s: %w", p.Definition.Title, language, err)
	}
	translated := *p
	if translated.statements, err = rewrite.Statements(string(image)); err != nil {
		return nil, fmt.Errorf("read the prepared %s in %s: %w", p.Definition.Title, language, err)
	}
	s.kept[id] = &translated
	return &translated, nil
}

// translate has the install script make the image of a language, in a tree that is gone afterwards.
func (s *Stock) translate(ctx context.Context, p *Prepared, language, file string, lay func(tree string) error, php *engine.Engine,
	database *engine.DatabaseServer) error {
	partial, err := s.partial()
	if err != nil {
		return err
	}
	defer ownfile.RemoveAll(partial)
	tree := filepath.Join(partial, "tree")
	if err := CopyTree(ctx, p.Tree, tree); err != nil {
		return err
	}
	if err := lay(tree); err != nil {
		return err
	}
	made := filepath.Join(partial, "image.sql")
	image, err := ownfile.Create(made)
	if err != nil {
		return err
	}
	if err := errors.Join(p.Definition.install(ctx, tree, image, language, php, database), image.Close()); err != nil {
		return err
	}
	return ownfile.Rename(made, file)
}

// install fills a scratch database by the definition's own script, and keeps a dump of it; in a language where one is named.
func (k *Definition) install(ctx context.Context, tree string, image *os.File, language string,
	php *engine.Engine, database *engine.DatabaseServer) error {
	name := "vessik_" + token(8)
	scratch := site.Database{Name: name, User: name, Password: Password()}
	if err := database.CreateDatabase(ctx, scratch.Name, scratch.User, scratch.Password); err != nil {
		return err
	}
	defer database.DropDatabase(context.WithoutCancel(ctx), scratch.Name, scratch.User)
	facts := Facts{Site: site.Site{Folder: tree}, URL: preparedBase, Domain: strings.TrimPrefix(preparedBase, "http://"),
		Prefix: k.Database.Prefix, Database: scratch, Host: "127.0.0.1", Port: database.Port}
	if err := k.Configure(facts); err != nil {
		return err
	}
	out, err := k.Run(ctx, Script{PHP: php, Folder: tree, Root: tree, Port: database.Port, Names: []string{k.Install.Script},
		Arguments: []string{tree, preparedBase, language}})
	if err != nil || !bytes.Contains(out, []byte(k.Install.Answer)) {
		return fmt.Errorf("its install script: %w", said(err, out))
	}
	if k.Configuration.File != "" { // no secret stays
		if err := k.RemoveConfiguration(facts.Site); err != nil {
			return err
		}
	}
	if err := k.ClearCaches(tree); err != nil {
		return err
	}
	pool := database.OpenAs(scratch)
	defer pool.Close()
	return Dump(ctx, pool, image)
}

// Script is PHP to be run for a site from the command line, held to the site's folder.
type Script struct {
	PHP       *engine.Engine
	Folder    string // the site's whole folder, which is all that the script has
	Root      string // the document root in it, where it runs
	Settings  site.Settings
	Port      int      // of the database server, the one thing that it may connect to
	Names     []string // the definition's own files, one after the other in one PHP
	Text      string   // and then this, without its opening tag
	First     string   // this comes before all of them
	Own       string   // text of own.php beside the script, with its opening tag
	Arguments []string
}

// Run carries a script out and returns what it prints.
func (k *Definition) Run(ctx context.Context, s Script) ([]byte, error) {
	dir, err := os.MkdirTemp("", "vessik-definition-")
	if err != nil {
		return nil, err
	}
	defer ownfile.RemoveAll(dir)
	ini, err := engine.CommandIni(s.PHP, dir, s.Settings)
	if err != nil {
		return nil, err
	}
	main := "<?php\n" + s.First
	for _, name := range s.Names {
		main += "require " + phpString(filepath.Join(dir, "cms", name)) + ";\n"
	}
	if k.files != nil {
		if err := ownfile.CopyTree(filepath.Join(dir, "cms"), k.files); err != nil {
			return nil, err
		}
	}
	for name, text := range map[string]string{"main.php": main + s.Text, "own.php": s.Own, "php.ini": ini} {
		if err := ownfile.Write(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	c := cell.Cell{Name: "script", Init: true, ReadFolders: []string{s.PHP.Root()},
		WriteFolders: append([]string{s.Folder, dir}, s.Settings.Open()...), Binds: engine.Binds(s.Folder, s.Settings.Bound(), true),
		Network: cell.OnlyPorts(s.Port)}
	command, err := s.PHP.Cells.Command(c, nil, s.PHP.PHPCommand(),
		append([]string{"-d", "error_reporting=0", "-c", filepath.Join(dir, "php.ini"), filepath.Join(dir, "main.php")}, s.Arguments...)...)
	if err != nil {
		return nil, err
	}
	command.Env = []string{"PHP_INI_SCAN_DIR=", "PATH=/usr/local/bin:/usr/bin:/bin", "TMPDIR=" + dir, "HOME=" + dir}
	command.Dir = s.Root
	return command.Run(ctx)
}

// layTree copies a release's files, its links into other packages resolved, without the packages' own configuration.
func (k *Definition) layTree(ctx context.Context, from Source, tree string) error {
	source := from.Packages
	if k.Layout.Certificates && source != "" {
		if err := layCertificates(source); err != nil {
			return err
		}
	}
	if from.Folder != nil {
		folder, done, err := from.Folder()
		if err != nil {
			return err
		}
		defer done()
		if err := CopyTree(ctx, folder, tree, k.Layout.LeaveOut...); err != nil {
			return err
		}
	} else if source == "" {
		if err := ownfile.MakeNew(tree, 0o755); err != nil {
			return err
		}
	} else if err := CopyTree(ctx, filepath.Join(source, k.Layout.Root), tree, k.Layout.LeaveOut...); err != nil {
		return err
	}
	for _, piece := range k.Layout.Also {
		if source == "" {
			break
		}
		if err := ownfile.Make(filepath.Dir(filepath.Join(tree, piece.To)), 0o755); err != nil {
			return err
		}
		if err := CopyTree(ctx, filepath.Join(source, piece.From), filepath.Join(tree, piece.To)); err != nil {
			return err
		}
	}
	for _, name := range k.Layout.Folders {
		if err := ownfile.Make(filepath.Join(tree, name), 0o755); err != nil {
			return err
		}
	}
	for _, f := range k.Layout.Files {
		if err := k.layFile(tree, f); err != nil {
			return err
		}
	}
	return nil
}

// layCertificates makes the bundle that Debian makes on installation; ours is not installed.
func layCertificates(root string) error {
	bundle := filepath.Join(root, "etc/ssl/certs/ca-certificates.crt")
	certificates := ownfile.Find(filepath.Join(root, "usr/share/ca-certificates/mozilla/*.crt"))
	var all bytes.Buffer
	for _, path := range certificates {
		text, err := ownfile.Read(path)
		if err != nil {
			return err
		}
		all.Write(text)
	}
	if err := ownfile.Make(filepath.Dir(bundle), 0o755); err != nil {
		return err
	}
	return ownfile.Write(bundle, all.Bytes(), 0o644)
}

var tableHead = regexp.MustCompile("^(?:CREATE TABLE|INSERT INTO|REPLACE INTO|DROP TABLE IF EXISTS|LOCK TABLES) `")

// Reprefix gives the table that a statement of a dump names another prefix.
func Reprefix(statement, from, to string) string {
	if from == to {
		return statement
	}
	head := tableHead.FindString(statement)
	if head == "" || !strings.HasPrefix(statement[len(head):], from) {
		return statement
	}
	return head + to + statement[len(head)+len(from):]
}

// prefixColumns changes the values that begin with a prefix, such as the names of capabilities; numbers are those of a network's
// sub-sites, each of which has tables of its own.
func (k *Definition) prefixColumns(from, to string, numbers ...string) []string {
	statements := []string{}
	for _, c := range k.Database.Columns {
		for _, number := range append([]string{""}, numbers...) {
			if from == to || number != "" && !c.PerSite {
				continue
			}
			column := engine.Identifier(c.Column)
			for _, value := range c.Values {
				statements = append(statements, fmt.Sprintf("UPDATE %s SET %s=%s WHERE %s=%s", engine.Identifier(to+number+c.Table), column,
					rewrite.Quote(to+number+value), column, rewrite.Quote(from+number+value)))
			}
			if len(c.Values) > 0 {
				continue
			}
			statements = append(statements, fmt.Sprintf("UPDATE %s SET %s=CONCAT(%s, SUBSTRING(%s, %d)) WHERE LEFT(%s, %d)=%s",
				engine.Identifier(to+number+c.Table), column, rewrite.Quote(to), column, len(from)+1, column, len(from), rewrite.Quote(from)))
		}
	}
	return statements
}

var tableMade = regexp.MustCompile("(?i)^CREATE TABLE (?:IF NOT EXISTS )?`([^`]+)`")

// numberOf finds the sub-site that a statement makes a table for, such as 3_ in k3xw_3_options.
func (k *Definition) numberOf(statement, prefix string) string {
	match := tableMade.FindStringSubmatch(statement[:min(len(statement), 200)])
	if match == nil || !strings.HasPrefix(match[1], prefix) {
		return ""
	}
	rest := match[1][len(prefix):]
	digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
	for _, c := range k.Database.Columns {
		if c.PerSite && digits > 0 && rest[digits:] == "_"+c.Table {
			return rest[:digits+1]
		}
	}
	return ""
}

// Place is where content was at home: its base address, without a trailing slash, and its folder. Where the address is not known, it is
// left as it is.
type Place struct{ URL, Folder string }

// DrawContent fills a site's empty database from a dump of another one: re-addressed, under its own prefix, with its own title and
// administrator where the facts have a hash for the password. fit changes each statement as the server needs it.
func (k *Definition) DrawContent(ctx context.Context, pool *sql.DB, text io.Reader, from Place, prefix string, facts Facts,
	fit Change) (rewrite.Tally, error) {
	readdress := rewrite.New(from.URL, facts.URL)
	readdress.Folders(from.Folder, facts.Site.Folder)
	readdress.SubDomains = facts.Site.Network == site.NetworkDomains
	numbers := []string{}
	judge := &dump.Judge{From: prefix, To: facts.Prefix}
	err := Load(ctx, pool, text, judge, fit, func(statement string, kind dump.Kind) (string, error) {
		if number := k.numberOf(statement, facts.Prefix); kind == dump.Definition && number != "" {
			numbers = append(numbers, number)
		}
		if from.URL == "" || kind != dump.Rows {
			return statement, nil
		}
		return readdress.Statement(statement)
	})
	readdress.LeaveOut(judge.Left())
	if err != nil {
		return readdress.Tally(), err
	}
	statements := k.prefixColumns(prefix, facts.Prefix, numbers...)
	if facts.Hash != "" {
		texts := slices.Concat(k.Content.SetTitle, k.Administrator.HandOver, k.localised(facts))
		if facts.Network != "" {
			texts = append(texts, k.Network.HandOver...)
		}
		own, err := k.writeAll(texts, facts)
		if err != nil {
			return readdress.Tally(), err
		}
		statements = append(statements, own...)
	}
	if len(statements) > 0 {
		_, err = pool.ExecContext(ctx, strings.Join(statements, ";\n"))
	}
	return readdress.Tally(), err
}

// SetTitle gives a site the title of the facts.
func (k *Definition) SetTitle(ctx context.Context, pool *sql.DB, facts Facts) error {
	return k.execute(ctx, pool, k.Content.SetTitle, facts)
}

// Empty removes from a stencil's database what does not belong into one.
func (k *Definition) Empty(ctx context.Context, pool *sql.DB, facts Facts) error {
	return k.execute(ctx, pool, k.Stencil.Empty, facts)
}

// Load fills a site's empty database from the image: re-addressed, with the site's own title and administrator. facts.Hash must be
// what the database is to hold for the administrator's password.
func (p *Prepared) Load(ctx context.Context, pool *sql.DB, facts Facts) (err error) {
	k := p.Definition
	readdress := rewrite.New(preparedBase, facts.URL)
	statements := slices.Clone(p.statements)
	for i := range statements {
		if statements[i], err = readdress.Statement(Reprefix(statements[i], k.Database.Prefix, facts.Prefix)); err != nil {
			return err
		}
	}
	statements = append(statements, k.prefixColumns(k.Database.Prefix, facts.Prefix)...)
	own, err := k.writeAll(slices.Concat(k.Content.Fill, k.Content.SetTitle, k.Administrator.HandOver, k.localised(facts)), facts)
	if err != nil {
		return err
	}
	if statements = append(statements, own...); len(statements) == 0 {
		return nil
	}
	_, err = pool.ExecContext(ctx, strings.Join(statements, ";\n"))
	return err
}
