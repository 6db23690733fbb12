package running

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/cell"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/ownfile"
)

// Environment makes what a command needs to run as one of a site's own: its PHP as php, its folder, its database's client settings.
func (m *Machine) Environment(name string) (wire.Environment, error) {
	s, ok := m.Registry.Site(name)
	if !ok {
		return wire.Environment{}, site.NoSite(name)
	}
	php, err := m.Store.Find(s.Stack.PHP)
	if err != nil {
		return wire.Environment{}, err
	}
	place := m.PHPPlace(s)
	dir := filepath.Join(place.Dir, "command")
	if err := errors.Join(ownfile.Make(filepath.Join(dir, "bin"), 0o700), ownfile.Make(place.Temp, 0o700),
		ownfile.Make(place.Mail, 0o700)); err != nil {
		return wire.Environment{}, err
	}
	ini, err := engine.CommandIni(php, place.Temp, s.Settings)
	if err != nil {
		return wire.Environment{}, err
	}
	port := m.DatabasePort(s.Stack.Database)
	files := map[string]string{"php.ini": ini + "display_errors = On\nmemory_limit = -1\nmax_execution_time = 0\n" +
		"openssl.cafile = \"" + m.Trusted() + "\"\ncurl.cainfo = \"" + m.Trusted() + "\"\nsendmail_path = \"" +
		filepath.Join(dir, "sendmail") + " -t -i\"\n",
		"sendmail": engine.Sendmail(place.Mail),
		"client.cnf": fmt.Sprintf("[client]\nhost = 127.0.0.1\nport = %d\nuser = %s\npassword = \"%s\"\ndefault-character-set = utf8mb4\n"+
			"[mysql]\ndatabase = %s\n", port, s.Database.User,
			strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s.Database.Password), s.Database.Name),
		"bin/php": fmt.Sprintf("#!/bin/sh\n%sPHP_INI_SCAN_DIR= exec '%s' -c '%s' \"$@\"\n", exports(php.Environment()), php.PHPCommand(),
			filepath.Join(dir, "php.ini"))}
	if database, err := m.Store.Find(s.Stack.Database); err == nil {
		maps.Copy(files, clients(database, filepath.Join(dir, "client.cnf")))
	}
	for name, text := range files {
		mode := os.FileMode(0o600)
		if strings.HasPrefix(name, "bin/") || name == "sendmail" {
			mode = 0o700
		}
		if err := ownfile.Write(filepath.Join(dir, name), []byte(text), mode); err != nil {
			return wire.Environment{}, err
		}
	}
	if _, err := m.Database(m.Work.Context(), s.Stack.Database); err != nil {
		return wire.Environment{}, err
	}
	return wire.Environment{Site: name, Folder: s.Folder, Path: filepath.Join(dir, "bin"), Account: os.Geteuid(), Variables: map[string]string{
		"VESSIK_SITE": s.Name, "VESSIK_URL": s.URL(m.Gateway()), "TMPDIR": place.Temp, "PHP_INI_SCAN_DIR": "",
		"SSL_CERT_FILE": m.Trusted(), "MYSQL_HOST": "127.0.0.1", "MYSQL_TCP_PORT": fmt.Sprint(port), "MYSQL_PWD": s.Database.Password,
		"MYSQL_USER":     s.Database.User,
		"MYSQL_DATABASE": s.Database.Name}}, nil
}

// exports are a shell's lines that set variables, each with a value that has no quotes.
func exports(variables map[string]string) (lines string) {
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		lines += fmt.Sprintf("export %s='%s'\n", name, variables[name])
	}
	return lines
}

// clients are scripts that start a database server's own clients with a site's login, under their names and those that MySQL's have.
func clients(database *engine.Engine, defaults string) map[string]string {
	scripts := map[string]string{}
	put := func(name, text string) {
		scripts["bin/"+name] = text
		other := map[string]string{"mariadb": "mysql", "mariadb-dump": "mysqldump"}[name]
		if other == "" {
			other = strings.Replace(name, "mariadb-", "mysql", 1)
		}
		scripts["bin/"+other] = text
	}
	for _, name := range database.Lacking() {
		put(name, fmt.Sprintf("#!/bin/sh\necho '%s of %s has not been fetched; fetch it with: vessik engines fetch %s' >&2\nexit 127\n", name,
			database.ID, database.ID))
	}
	for _, path := range append(slices.Clone(database.Programs), database.Tools...) {
		name := filepath.Base(path)
		if strings.HasPrefix(name, "mariadb") && name != "mariadbd" && !slices.Contains(database.Lacking(), name) {
			put(name, fmt.Sprintf("#!/bin/sh\nexec '%s' --defaults-file='%s' \"$@\"\n", filepath.Join(database.Root(), path), defaults))
		}
	}
	return scripts
}

// CommandCell is the cell of a command that is run as one of a site's own.
func (m *Machine) CommandCell(s site.Site, environment wire.Environment) cell.Cell {
	place := m.PHPPlace(s)
	c := cell.Cell{Name: s.Name, Init: true, ReadFolders: []string{filepath.Dir(environment.Path)}, ReadFiles: []string{m.Trusted()},
		WriteFolders: append([]string{s.Folder, place.Temp, place.Mail}, s.Settings.Open()...),
		Binds:        engine.Binds(s.Folder, s.Settings.Bound(), true), Network: m.network(s), Limits: m.limits(s)}
	for _, id := range s.Stack.IDs() {
		if e, err := m.Store.Find(id); err == nil {
			c.ReadFolders = append(c.ReadFolders, e.Root())
		}
	}
	return c
}

// CommandEnv is what such a command finds in its environment; nothing of the service's or the caller's.
func CommandEnv(environment wire.Environment) []string {
	env := []string{"PATH=" + environment.Path + ":/usr/local/bin:/usr/bin:/bin", "HOME=" + environment.Variables["TMPDIR"], "LANG=C.UTF-8"}
	for name, value := range environment.Variables {
		env = append(env, name+"="+value)
	}
	return env
}

// RunScript runs a shell script as a site's own command, held to the site's folder, and returns what it prints.
func (m *Machine) RunScript(ctx context.Context, s site.Site, file string) ([]byte, error) {
	environment, err := m.Environment(s.Name)
	if err != nil {
		return nil, err
	}
	c := m.CommandCell(s, environment)
	c.ReadFiles = append(c.ReadFiles, file)
	command, err := m.Supervisor.Command(c, "/bin/sh", file)
	if err != nil {
		return nil, err
	}
	command.Dir, command.Env = s.Folder, CommandEnv(environment)
	return command.Run(ctx)
}
