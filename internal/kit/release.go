package kit

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

	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/proc"
)

// Releases lists the versions of each kit, the default first: those of the engine catalogue, and those on the user's shelf.
func (k Kits) Releases(store engine.Store) map[string][]string {
	releases := map[string][]string{}
	for name, kit := range k {
		if kit.Version != "" {
			releases[name] = []string{kit.Version}
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

// FromCatalogue tells whether the kit's files are a release of the engine catalogue.
func (k *Kit) FromCatalogue() bool { return k.Layout.Root != "" }

// preparedBase is the address in a prepared database image; .invalid is reserved (RFC 2606), so nothing else is named so.
const preparedBase = "http://prepared.vessik.invalid"

// Prepared is a release made ready once: a whole tree of files, and a database image to draw copies from.
type Prepared struct {
	Kit        *Kit
	Tree       string
	Bytes      int64 // size of the tree
	statements []string
}

// Shelf keeps prepared releases in one folder, which several services may share.
type Shelf struct {
	Dir  string
	mu   sync.Mutex
	kept map[string]*Prepared
}

// fingerprint tells one state of a kit's files from another.
func (k *Kit) fingerprint() string {
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

// Prepare returns a release made ready, from the shelf where it is there. It runs the kit's install script on a scratch database;
// source is the release's folder, version what it is in full.
func (s *Shelf) Prepare(ctx context.Context, k *Kit, source, version string, php *engine.Engine, database *engine.DatabaseServer) (*Prepared, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	id := k.Name + "-" + version + "-" + k.fingerprint()
	if p := s.kept[id]; p != nil {
		return p, nil
	}
	place := filepath.Join(s.Dir, id)
	if _, err := os.Stat(place); errors.Is(err, fs.ErrNotExist) {
		if err := s.make(ctx, place, k, source, php, database); err != nil {
			return nil, fmt.Errorf("prepare %s %s: %w", k.Title, version, err)
		}
	}
	image, err := os.ReadFile(filepath.Join(place, "image.sql"))
	if err != nil {
		return nil, fmt.Errorf("read the prepared %s: %w", id, err)
	}
	p := &Prepared{Kit: k, Tree: filepath.Join(place, "tree")}
	p.Bytes = TreeBytes(p.Tree)
	if p.statements, err = rewrite.Statements(string(image)); err != nil {
		return nil, fmt.Errorf("read the prepared %s: %w", id, err)
	}
	if s.kept == nil {
		s.kept = map[string]*Prepared{}
	}
	s.kept[id] = p
	return p, nil
}

// ClearScratch drops what a preparation that was killed left on a server; keep are the databases of sites.
func ClearScratch(ctx context.Context, database *engine.DatabaseServer, keep []string) error {
	rows, err := database.Admin().QueryContext(ctx, "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME REGEXP '^vessik_[0-9a-f]{8}$' UNION SELECT User FROM mysql.global_priv WHERE User REGEXP '^vessik_[0-9a-f]{8}$'")
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

func (s *Shelf) make(ctx context.Context, place string, k *Kit, source string, php *engine.Engine, database *engine.DatabaseServer) error {
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return err
	}
	leftovers, _ := filepath.Glob(filepath.Join(s.Dir, ".partial-*"))
	for _, path := range leftovers { // of a service that was killed; a young one may be at work
		if info, err := os.Stat(path); err == nil && time.Since(info.ModTime()) > time.Hour {
			os.RemoveAll(path)
		}
	}
	partial, err := os.MkdirTemp(s.Dir, ".partial-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(partial)
	if err := os.Chmod(partial, 0o755); err != nil {
		return err
	}
	tree := filepath.Join(partial, "tree")
	if err := k.layTree(ctx, source, tree); err != nil {
		return err
	}
	image, err := os.Create(filepath.Join(partial, "image.sql"))
	if err != nil {
		return err
	}
	defer image.Close()
	if k.Install.Script != "" {
		if err := k.install(ctx, tree, image, php, database); err != nil {
			return err
		}
	}
	err = os.Rename(partial, place)
	if errors.Is(err, syscall.ENOTEMPTY) || errors.Is(err, fs.ErrExist) { // another service was first
		return nil
	}
	return err
}

// install fills a scratch database by the kit's own script, and keeps a dump of it.
func (k *Kit) install(ctx context.Context, tree string, image *os.File, php *engine.Engine, database *engine.DatabaseServer) error {
	name := "vessik_" + token(8)
	scratch := site.Database{Name: name, User: name, Password: Password()}
	if err := database.CreateDatabase(ctx, scratch.Name, scratch.User, scratch.Password); err != nil {
		return err
	}
	defer database.DropDatabase(context.WithoutCancel(ctx), scratch.Name, scratch.User)
	facts := Facts{Site: site.Site{Folder: tree}, URL: preparedBase, Domain: strings.TrimPrefix(preparedBase, "http://"), Prefix: k.Database.Prefix, Database: scratch, Host: "127.0.0.1", Port: database.Port}
	if err := k.Configure(facts); err != nil {
		return err
	}
	out, err := k.Run(ctx, Script{PHP: php, Folder: tree, Names: []string{k.Install.Script}, Arguments: []string{tree, preparedBase}})
	if err != nil || !bytes.Contains(out, []byte(k.Install.Answer)) {
		return fmt.Errorf("its install script: %v: %s", err, bytes.TrimSpace(out))
	}
	if k.Configuration.File != "" { // no secret stays
		if err := os.Remove(k.ConfigurationFile(facts.Site)); err != nil {
			return err
		}
	}
	pool := database.Open(scratch.Name)
	defer pool.Close()
	return Dump(ctx, pool, image)
}

// Script is PHP to be run for a site from the command line, held to the site's folder.
type Script struct {
	PHP       *engine.Engine
	Folder    string
	Settings  site.Settings
	Names     []string // the kit's own files, one after the other in one PHP
	Text      string   // and then this, without its opening tag
	Arguments []string
}

// Run carries a script out and returns what it prints.
func (k *Kit) Run(ctx context.Context, s Script) ([]byte, error) {
	dir, err := os.MkdirTemp("", "vessik-kit-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	ini, err := engine.CommandIni(s.PHP, dir, s.Settings)
	if err != nil {
		return nil, err
	}
	main := "<?php\n"
	for i, name := range s.Names {
		text, err := k.Script(name)
		if err != nil {
			return nil, err
		}
		own := filepath.Join(dir, fmt.Sprintf("%d.php", i))
		if err := os.WriteFile(own, text, 0o600); err != nil {
			return nil, err
		}
		main += "require " + phpString(own) + ";\n"
	}
	for name, text := range map[string]string{"main.php": main + s.Text, "php.ini": ini} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	confine := proc.Confinement{ReadFolders: []string{s.PHP.Root()}, WriteFolders: append([]string{s.Folder, dir}, s.Settings.Allow...)}
	command, err := confine.Command(ctx, s.PHP.PHPCommand(), append([]string{"-d", "error_reporting=0", "-c", filepath.Join(dir, "php.ini"), filepath.Join(dir, "main.php")}, s.Arguments...)...)
	if err != nil {
		return nil, err
	}
	command.Env = []string{"PHP_INI_SCAN_DIR=", "PATH=/usr/local/bin:/usr/bin:/bin", "TMPDIR=" + dir, "HOME=" + dir}
	command.Dir = s.Folder
	return command.CombinedOutput()
}

// layTree copies a release's files, its links into other packages resolved, without the packages' own configuration.
func (k *Kit) layTree(ctx context.Context, source, tree string) error {
	if k.Layout.Certificates {
		if err := layCertificates(source); err != nil {
			return err
		}
	}
	if source == "" {
		if err := os.Mkdir(tree, 0o755); err != nil {
			return err
		}
	} else if err := CopyTree(ctx, filepath.Join(source, k.Layout.Root), tree); err != nil {
		return err
	}
	for _, name := range k.Layout.LeaveOut {
		if err := os.RemoveAll(filepath.Join(tree, name)); err != nil {
			return err
		}
	}
	for _, name := range k.Layout.Folders {
		if err := os.MkdirAll(filepath.Join(tree, name), 0o755); err != nil {
			return err
		}
	}
	for _, f := range k.Layout.Files {
		text, err := k.write(f.Text, Facts{})
		if err != nil {
			return err
		}
		path := filepath.Join(tree, f.Path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// layCertificates makes the bundle that Debian makes on installation; ours is not installed.
func layCertificates(root string) error {
	bundle := filepath.Join(root, "etc/ssl/certs/ca-certificates.crt")
	certificates, _ := filepath.Glob(filepath.Join(root, "usr/share/ca-certificates/mozilla/*.crt"))
	var all bytes.Buffer
	for _, path := range certificates {
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		all.Write(text)
	}
	if err := os.MkdirAll(filepath.Dir(bundle), 0o755); err != nil {
		return err
	}
	return os.WriteFile(bundle, all.Bytes(), 0o644)
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

// prefixColumns changes the values that begin with a prefix, such as the names of capabilities.
func (k *Kit) prefixColumns(from, to string) []string {
	statements := []string{}
	for _, c := range k.Database.Columns {
		if from != to {
			column := engine.Identifier(c.Column)
			statements = append(statements, fmt.Sprintf("UPDATE %s SET %s=CONCAT(%s, SUBSTRING(%s, %d)) WHERE LEFT(%s, %d)=%s",
				engine.Identifier(to+c.Table), column, rewrite.Quote(to), column, len(from)+1, column, len(from), rewrite.Quote(from)))
		}
	}
	return statements
}

// Dumped is what a dump tells of itself, as far as the kit can read it: the base address in it, without a trailing slash, and the
// prefix of its tables.
func (k *Kit) Dumped(dump io.Reader) (address, prefix string, err error) {
	known := k.Content.Address == "" || k.Content.Marker == ""
	for scanner := rewrite.NewScanner(dump); !known; known = address != "" && prefix != "" {
		statement, err := scanner.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return "", "", err
		}
		if match := k.regexps[k.Content.Marker].FindSubmatch(statement[:min(len(statement), 300)]); match != nil && prefix == "" {
			prefix = string(match[1])
		}
		if address == "" && bytes.HasPrefix(statement, []byte("INSERT")) {
			if match := k.regexps[k.Content.Address].FindSubmatch(statement); match != nil {
				address = strings.TrimSuffix(string(match[1]), "/")
			}
		}
	}
	return address, prefix, nil
}

// DrawContent fills a site's empty database from a dump of another one: re-addressed, under its own prefix, with its own title and
// administrator where the facts have a hash for the password. fit changes each statement as the server needs it.
func (k *Kit) DrawContent(ctx context.Context, pool *sql.DB, dump io.Reader, from, prefix string, facts Facts, fit func(string) (string, error)) (rewrite.Report, error) {
	readdress := rewrite.New(from, facts.URL)
	err := Load(ctx, pool, dump, func(statement string) (string, error) {
		statement, err := fit(Reprefix(statement, prefix, facts.Prefix))
		if err != nil || from == "" {
			return statement, err
		}
		return readdress.Statement(statement)
	})
	if err != nil {
		return readdress.Report(), err
	}
	statements := k.prefixColumns(prefix, facts.Prefix)
	if facts.Hash != "" {
		own, err := k.writeAll(slices.Concat(k.Content.SetTitle, k.Administrator.HandOver), facts)
		if err != nil {
			return readdress.Report(), err
		}
		statements = append(statements, own...)
	}
	if len(statements) > 0 {
		_, err = pool.ExecContext(ctx, strings.Join(statements, ";\n"))
	}
	return readdress.Report(), err
}

// Empty removes from a stencil's database what does not belong into one.
func (k *Kit) Empty(ctx context.Context, pool *sql.DB, facts Facts) error {
	return k.execute(ctx, pool, k.Stencil.Empty, facts)
}

// Load fills a site's empty database from the image: re-addressed, with the site's own title and administrator. facts.Hash must be
// what the database is to hold for the administrator's password.
func (p *Prepared) Load(ctx context.Context, pool *sql.DB, facts Facts) (err error) {
	k := p.Kit
	readdress := rewrite.New(preparedBase, facts.URL)
	statements := slices.Clone(p.statements)
	for i := range statements {
		if statements[i], err = readdress.Statement(Reprefix(statements[i], k.Database.Prefix, facts.Prefix)); err != nil {
			return err
		}
	}
	statements = append(statements, k.prefixColumns(k.Database.Prefix, facts.Prefix)...)
	own, err := k.writeAll(slices.Concat(k.Content.Fill, k.Content.SetTitle, k.Administrator.HandOver), facts)
	if err != nil {
		return err
	}
	if statements = append(statements, own...); len(statements) == 0 {
		return nil
	}
	_, err = pool.ExecContext(ctx, strings.Join(statements, ";\n"))
	return err
}
