// Package kit knows a CMS: how it is laid out, configured, installed, re-addressed, and signed in to. WordPress is the first.
package kit

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	_ "embed"
	"encoding/hex"
	"errors"
	"fmt"
	"html"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/engine"
)

//go:embed prepare.php
var prepareScript string

// TaskPath is the address that runs a site's scheduled tasks.
const TaskPath = "/wp-cron.php?doing_wp_cron"

var taskTime = regexp.MustCompile(`i:(\d{10});a:`)

// NextTask is when a site's next scheduled task is due; zero where there is none.
func NextTask(ctx context.Context, pool *sql.DB) (time.Time, error) {
	var stored string
	if err := pool.QueryRowContext(ctx, "SELECT option_value FROM wp_options WHERE option_name='cron'").Scan(&stored); err != nil {
		return time.Time{}, err
	}
	next := int64(0)
	for _, match := range taskTime.FindAllStringSubmatch(stored, -1) {
		if at, err := strconv.ParseInt(match[1], 10, 64); err == nil && (next == 0 || at < next) {
			next = at
		}
	}
	if next == 0 {
		return time.Time{}, nil
	}
	return time.Unix(next, 0), nil
}

// What a web server needs to know of WordPress.
const FrontController = "/index.php?$args"

// NoPHP are folders that hold uploads: PHP in them is never run.
var NoPHP = []string{"/wp-content/uploads/"}

// Releases lists the versions of each kit, the default first, as the catalogue has them.
func Releases(store engine.Store) map[string][]string {
	releases := map[string][]string{}
	for _, id := range store.IDs(engine.Release) {
		name, version, _ := strings.Cut(id, "-")
		releases[name] = append(releases[name], version)
	}
	return releases
}

// supported are the PHP versions that a WordPress is said to work with, from its readme and its makers' table of PHP compatibility.
var supported = []struct{ version, from, to string }{{"6.7", "7.2", "8.4"}, {"6.4", "7.0", "8.3"}, {"6.1", "5.6", "8.2"}, {"5.9", "5.6", "8.1"}, {"5.6", "5.6", "8.0"}}

// Supports tells whether a CMS's version is known to work on a PHP engine; range says on which ones.
func Supports(k site.Kit, php string) bool {
	from, to := Range(k)
	version := site.MajorMinor(php)
	return from == "" || site.CompareVersions(version, from) >= 0 && site.CompareVersions(version, to) <= 0
}

// Range is the lowest and the highest PHP that a CMS's version is known to work on; empty where nothing is known.
func Range(k site.Kit) (from, to string) {
	for _, s := range supported {
		if k.Name == "wordpress" && site.CompareVersions(k.Version, s.version) >= 0 {
			return s.from, s.to
		}
	}
	return "", ""
}

// preparedBase is the address in a prepared database image; .invalid is reserved (RFC 2606), so nothing else is named so.
const preparedBase = "http://prepared.vessik.invalid"

// Prepared is a release made ready once: a whole tree of files, and a database image to draw copies from.
type Prepared struct {
	Release    *engine.Engine
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

// Prepare returns a release made ready, from the shelf where it is there. It runs WordPress's own installer on a scratch database.
func (s *Shelf) Prepare(ctx context.Context, release, php *engine.Engine, database *engine.DatabaseServer) (*Prepared, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	id := release.ID + "-" + release.Version
	if p := s.kept[id]; p != nil {
		return p, nil
	}
	place := filepath.Join(s.Dir, id)
	if _, err := os.Stat(place); errors.Is(err, fs.ErrNotExist) {
		if err := s.make(ctx, place, release, php, database); err != nil {
			return nil, fmt.Errorf("prepare %s: %w", release.ID, err)
		}
	}
	image, err := os.ReadFile(filepath.Join(place, "image.sql"))
	if err != nil {
		return nil, fmt.Errorf("read the prepared %s: %w", release.ID, err)
	}
	p := &Prepared{Release: release, Tree: filepath.Join(place, "tree"), Bytes: release.SizeBytes}
	if p.statements, err = rewrite.Statements(string(image)); err != nil {
		return nil, fmt.Errorf("read the prepared %s: %w", release.ID, err)
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

func (s *Shelf) make(ctx context.Context, place string, release, php *engine.Engine, database *engine.DatabaseServer) error {
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
	if err := layTree(ctx, release.Root(), tree); err != nil {
		return err
	}
	name := "vessik_" + token(8)
	scratch := site.Database{Name: name, User: name, Password: Password()}
	if err := database.CreateDatabase(ctx, scratch.Name, scratch.User, scratch.Password); err != nil {
		return err
	}
	defer database.DropDatabase(context.WithoutCancel(ctx), scratch.Name, scratch.User)
	ini, err := engine.CommandIni(php, partial, site.Settings{})
	if err != nil {
		return err
	}
	// WordPress also reads its configuration from the folder above: the tree stays as it will be copied.
	for name, text := range map[string]string{"wp-config.php": configuration(scratch, database.Port), "prepare.php": prepareScript, "php.ini": ini} {
		if err := os.WriteFile(filepath.Join(partial, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	command := exec.CommandContext(ctx, php.PHPCommand(), "-d", "error_reporting=0", "-c", filepath.Join(partial, "php.ini"), filepath.Join(partial, "prepare.php"), tree, preparedBase)
	command.Env = []string{"PHP_INI_SCAN_DIR=", "PATH=/usr/bin:/bin"}
	command.Dir = partial
	if out, err := command.CombinedOutput(); err != nil || !bytes.Contains(out, []byte("user ")) {
		return fmt.Errorf("WordPress's installer: %v: %s", err, bytes.TrimSpace(out))
	}
	pool := database.Open(scratch.Name)
	defer pool.Close()
	image, err := os.Create(filepath.Join(partial, "image.sql"))
	if err != nil {
		return err
	}
	defer image.Close()
	if err := Dump(ctx, pool, image); err != nil {
		return err
	}
	for _, name := range []string{"wp-config.php", "prepare.php", "php.ini"} {
		if err := os.Remove(filepath.Join(partial, name)); err != nil {
			return err
		}
	}
	err = os.Rename(partial, place)
	if errors.Is(err, syscall.ENOTEMPTY) || errors.Is(err, fs.ErrExist) { // another service was first
		return nil
	}
	return err
}

// layTree copies a release's files, its links into other packages resolved, without the packages' own configuration.
func layTree(ctx context.Context, root, tree string) error {
	bundle := filepath.Join(root, "etc/ssl/certs/ca-certificates.crt") // Debian makes it on installation; ours is not installed
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
	if err := os.WriteFile(bundle, all.Bytes(), 0o644); err != nil {
		return err
	}
	if err := CopyTree(ctx, filepath.Join(root, "usr/share/wordpress"), tree); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(tree, "wp-config.php")); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(tree, ".htaccess"), []byte(htaccess), 0o644)
}

// htaccess is what WordPress itself writes for readable permalinks: a site's folder is what may be deployed, also to Apache.
const htaccess = `# BEGIN WordPress
<IfModule mod_rewrite.c>
RewriteEngine On
RewriteRule .* - [E=HTTP_AUTHORIZATION:%{HTTP:Authorization}]
RewriteBase /
RewriteRule ^index\.php$ - [L]
RewriteCond %{REQUEST_FILENAME} !-f
RewriteCond %{REQUEST_FILENAME} !-d
RewriteRule . /index.php [L]
</IfModule>
# END WordPress
`

// Configure writes a site's wp-config.php.
func Configure(s site.Site, databasePort int) error {
	return os.WriteFile(filepath.Join(s.Folder, "wp-config.php"), []byte(configuration(s.Database, databasePort)), 0o600)
}

// Repoint has a site's configuration name another port of the database server; everything else in it stays.
func Repoint(folder string, port int) error {
	return redefine(folder, map[string]string{"DB_HOST": fmt.Sprintf("127.0.0.1:%d", port)})
}

// Reconfigure has a copy's configuration name its own database; everything else in it stays.
func Reconfigure(folder string, d site.Database, port int) error {
	return redefine(folder, map[string]string{"DB_HOST": fmt.Sprintf("127.0.0.1:%d", port), "DB_NAME": d.Name, "DB_USER": d.User, "DB_PASSWORD": d.Password})
}

// redefine changes the values of constants that wp-config.php defines.
func redefine(folder string, values map[string]string) error {
	path := filepath.Join(folder, "wp-config.php")
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	for name, value := range values {
		definition := regexp.MustCompile(`(define\(\s*['"]` + name + `['"]\s*,\s*)(?:'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*")`)
		if !definition.Match(text) {
			return fmt.Errorf("%s does not define %s with a text in quotes: write define( '%s', '…' ); into it", path, name, name)
		}
		text = definition.ReplaceAllFunc(text, func(found []byte) []byte {
			return append(slices.Clone(definition.FindSubmatch(found)[1]), phpString(value)...)
		})
	}
	return replaceFile(path, text)
}

// phpString writes a text as PHP has it in single quotes.
func phpString(value string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(value) + "'"
}

// replaceFile exchanges a file in one step, with the mode that it had.
func replaceFile(path string, text []byte) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if err := os.WriteFile(path+".vessik-next", text, info.Mode().Perm()); err != nil {
		os.Remove(path + ".vessik-next")
		return err
	}
	return os.Rename(path+".vessik-next", path)
}

// ConfigurationFile is the file that holds a site's secrets.
func ConfigurationFile(s site.Site) string { return filepath.Join(s.Folder, "wp-config.php") }

func configuration(d site.Database, port int) string {
	var text strings.Builder
	define := func(name, value string) {
		fmt.Fprintf(&text, "define( '%s', %s );\n", name, phpString(value))
	}
	text.WriteString("<?php\n")
	define("DB_NAME", d.Name)
	define("DB_USER", d.User)
	define("DB_PASSWORD", d.Password)
	define("DB_HOST", fmt.Sprintf("127.0.0.1:%d", port))
	define("DB_CHARSET", "utf8mb4")
	define("DB_COLLATE", "")
	text.WriteString("\n")
	for _, name := range []string{"AUTH_KEY", "SECURE_AUTH_KEY", "LOGGED_IN_KEY", "NONCE_KEY", "AUTH_SALT", "SECURE_AUTH_SALT", "LOGGED_IN_SALT", "NONCE_SALT"} {
		define(name, token(64))
	}
	text.WriteString("\n$table_prefix = 'wp_';\n\ndefine( 'WP_DEBUG', false );\ndefine( 'FS_METHOD', 'direct' );\n\n" +
		"if ( ! defined( 'ABSPATH' ) ) {\n\tdefine( 'ABSPATH', __DIR__ . '/' );\n}\nrequire_once ABSPATH . 'wp-settings.php';\n")
	return text.String()
}

// Load fills a site's empty database from the image: re-addressed, with the site's own title and administrator. It returns what the
// database now holds for the administrator's password.
func (p *Prepared) Load(ctx context.Context, pool *sql.DB, s site.Site, base string) (hash string, err error) {
	readdress := rewrite.New(rewrite.Addresses(preparedBase, strings.TrimSuffix(base, "/")))
	statements := slices.Clone(p.statements)
	for i := range statements {
		if statements[i], err = readdress.Statement(statements[i]); err != nil {
			return "", err
		}
	}
	hash = passwordHash(s.Kit, asPosted(s.Admin.Password))
	set := func(statement string, values ...string) {
		quoted := make([]any, len(values))
		for i, v := range values {
			quoted[i] = rewrite.Quote(v)
		}
		statements = append(statements, fmt.Sprintf(statement, quoted...))
	}
	set("UPDATE wp_options SET option_value=%s WHERE option_name='blogname'", escapeHTML(s.Title))
	set("UPDATE wp_options SET option_value=%s WHERE option_name IN ('admin_email','new_admin_email')", s.Admin.Email)
	set("UPDATE wp_users SET user_login=%s, user_pass=%s, user_nicename=%s, display_name=%s, user_email=%s, user_url=%s, user_registered=UTC_TIMESTAMP() WHERE ID=1",
		s.Admin.User, hash, nicename(s.Admin.User), s.Admin.User, s.Admin.Email, strings.TrimSuffix(base, "/"))
	set("UPDATE wp_usermeta SET meta_value=%s WHERE user_id=1 AND meta_key='nickname'", s.Admin.User)
	set("UPDATE wp_posts SET post_date=UTC_TIMESTAMP(), post_date_gmt=UTC_TIMESTAMP(), post_modified=UTC_TIMESTAMP(), post_modified_gmt=UTC_TIMESTAMP() WHERE post_status='publish'")
	set("UPDATE wp_comments SET comment_date=UTC_TIMESTAMP(), comment_date_gmt=UTC_TIMESTAMP()")
	_, err = pool.ExecContext(ctx, strings.Join(statements, ";\n"))
	return hash, err
}

// PasswordChanged tells whether the administrator's password in the database is no longer the one that the site was made with.
func PasswordChanged(ctx context.Context, pool *sql.DB, s site.Site) (bool, error) {
	var stored string
	err := pool.QueryRowContext(ctx, "SELECT user_pass FROM wp_users WHERE user_login=?", s.Admin.User).Scan(&stored)
	if err != nil {
		return false, err
	}
	return stored != s.AdminHash && !passwordMatches(asPosted(s.Admin.Password), stored), nil
}

// asPosted is a password as WordPress's login form sees it: with slashes before quotes and backslashes, which wp_signon does not take
// away again (wp-includes/user.php).
func asPosted(password string) string {
	return strings.NewReplacer(`\`, `\\`, `'`, `\'`, `"`, `\"`).Replace(password)
}

// Title is the title that the site has now, which its owner may have changed since it was made.
func Title(ctx context.Context, pool *sql.DB) (string, error) {
	var stored string
	err := pool.QueryRowContext(ctx, "SELECT option_value FROM wp_options WHERE option_name='blogname'").Scan(&stored)
	return html.UnescapeString(stored), err
}

// escapeHTML is what WordPress does to a title before it stores it (esc_html).
func escapeHTML(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&#039;").Replace(text)
}

func nicename(user string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-', r == '_':
			return r
		case r == ' ', r == '.', r == '@':
			return '-'
		}
		return -1
	}, strings.ToLower(user))
	return name[:min(len(name), 50)]
}

// Password makes a password of 28 characters, about 160 bits.
func Password() string {
	const letters = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"
	out := make([]byte, 28)
	for i := range out {
		for { // no remainder: every letter is as likely
			var b [1]byte
			rand.Read(b[:])
			if int(b[0]) < 256/len(letters)*len(letters) {
				out[i] = letters[int(b[0])%len(letters)]
				break
			}
		}
	}
	return string(out)
}

// token makes a random text of hexadecimal digits.
func token(digits int) string {
	raw := make([]byte, digits/2)
	rand.Read(raw)
	return hex.EncodeToString(raw)
}
