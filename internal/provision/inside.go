package provision

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
)

// Info asks a site, through a request that it serves, on what it runs and with which settings in effect.
func (p *Provisioner) Info(ctx context.Context, name string) (wire.Info, error) {
	s, ok := p.Site(name)
	if !ok {
		return wire.Info{}, noSite(name)
	}
	if s.State != site.Running {
		return wire.Info{}, site.Problems{{Site: name, Field: "name", Message: "the site is " + string(s.State) + ", and only a running one can be asked", Remedy: "start it: vessik start " + name}}
	}
	transport := &http.Transport{DialContext: dialLoopback}
	defer transport.CloseIdleConnections()
	i := &inspection{p: p, ctx: ctx, site: s, base: s.URL(p.settings.GatewayPort), client: &http.Client{Transport: transport, Timeout: checkTimeout}}
	answer, server, err := i.askProbe(i.ownPort(), probeAsk{Database: i.credentials(), Info: true})
	if err != nil {
		return wire.Info{}, fmt.Errorf("the site does not answer: %w; see why with: vessik verify %s", err, name)
	}
	info := wire.Info{Site: name, At: time.Now().UTC().Truncate(time.Second), Entries: []wire.InfoEntry{}}
	add := func(section, name, value string) {
		info.Entries = append(info.Entries, wire.InfoEntry{Section: section, Name: name, Value: value})
	}
	all := func(section string, values map[string]string) {
		for _, name := range slices.Sorted(maps.Keys(values)) {
			add(section, name, values[name])
		}
	}
	add("stack", "PHP", answer.PHP)
	add("stack", "web server", server)
	add("stack", "database server", answer.Database)
	for _, id := range s.Stack.IDs() {
		if e, err := p.Store.Find(id); err == nil {
			add("stack", "engine "+id, e.Version+", from "+e.From())
		}
	}
	all("PHP", answer.About)
	all("extensions", answer.Extensions)
	all("php.ini", answer.Settings)
	all("database variables", answer.Variables)
	for number, line := range strings.Split(strings.TrimRight(p.virtualHost(s).Text, "\n"), "\n") {
		add("virtual host", fmt.Sprintf("line %03d", number+1), line)
	}
	return info, nil
}

// Log is one of a site's logs.
type logFile struct{ name, about, path string }

func (p *Provisioner) logFiles(s site.Site) []logFile {
	dir := p.Home.siteLogs(s.Name)
	logs := []logFile{{"php", "errors of PHP", filepath.Join(dir, "php-error.log")}, {"fpm", "PHP's process manager", filepath.Join(dir, "php-fpm.log")},
		{"access", "requests to the web server", filepath.Join(dir, "access.log")}, {"web", "errors of the web server", filepath.Join(dir, "web.log")},
		{"database", "the database server, which other sites may use too", p.Home.path("logs", s.Stack.Database+".log")}}
	own := filepath.Join(s.Folder, "wp-content", "debug.log")
	if info, err := os.Lstat(own); err == nil && info.Mode().IsRegular() {
		logs = append(logs, logFile{"own", "the site's own log", own})
	}
	return logs
}

// Logs lists a site's logs.
func (p *Provisioner) Logs(name string) ([]wire.Log, error) {
	s, ok := p.Site(name)
	if !ok {
		return nil, noSite(name)
	}
	listed := []wire.Log{}
	for _, log := range p.logFiles(s) {
		entry := wire.Log{Name: log.name, About: log.about, Path: log.path}
		if info, err := os.Stat(log.path); err == nil {
			entry.SizeBytes = info.Size()
		}
		listed = append(listed, entry)
	}
	return listed, nil
}

// FollowLog sends a log's last lines and, if asked to, those that are added, until ctx ends.
func (p *Provisioner) FollowLog(ctx context.Context, name string, logs []string, last int, follow bool, send func(wire.LogLine) error) error {
	s, ok := p.Site(name)
	if !ok {
		return noSite(name)
	}
	type reading struct {
		log    logFile
		offset int64
		rest   string
	}
	readings := []*reading{}
	known := []string{}
	for _, log := range p.logFiles(s) {
		known = append(known, log.name)
		if len(logs) == 0 || slices.Contains(logs, log.name) {
			readings = append(readings, &reading{log: log})
		}
	}
	for _, asked := range logs {
		if !slices.Contains(known, asked) {
			return site.Problems{{Site: name, Field: "log", Message: fmt.Sprintf("there is no log %q", asked), Remedy: "choose of " + strings.Join(known, ", ")}}
		}
	}
	tell := func(log, text string) error {
		if strings.Contains(text, linkPrefix) { // a check's own doing
			return nil
		}
		return send(wire.LogLine{Log: log, Text: text})
	}
	for _, r := range readings {
		lines, end := lastLines(r.log.path, last)
		r.offset = end
		for _, line := range lines {
			if err := tell(r.log.name, line); err != nil {
				return err
			}
		}
	}
	for follow {
		select {
		case <-ctx.Done():
			return nil
		case <-p.context.Done():
			return nil
		case <-time.After(250 * time.Millisecond):
		}
		for _, r := range readings {
			info, err := os.Stat(r.log.path)
			if err != nil || info.Size() == r.offset {
				continue
			}
			if info.Size() < r.offset { // it was rotated
				r.offset, r.rest = 0, ""
			}
			text, err := readFrom(r.log.path, r.offset, 1<<20)
			if err != nil {
				continue
			}
			r.offset += int64(len(text))
			lines := strings.Split(r.rest+text, "\n")
			r.rest = lines[len(lines)-1]
			for _, line := range lines[:len(lines)-1] {
				if err := tell(r.log.name, line); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func readFrom(path string, offset, most int64) (string, error) {
	file, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.NewSectionReader(file, offset, most))
	return string(text), err
}

// lastLines returns the last lines of a file and where it ended.
func lastLines(path string, count int) (lines []string, end int64) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, 0
	}
	const window = 256 << 10
	text, err := readFrom(path, max(info.Size()-window, 0), window)
	if err != nil {
		return nil, 0
	}
	end = max(info.Size()-window, 0) + int64(strings.LastIndexByte(text, '\n')+1)
	lines = strings.Split(text[:strings.LastIndexByte(text, '\n')+1], "\n")
	lines = lines[:len(lines)-1]
	if info.Size() > window && len(lines) > 0 {
		lines = lines[1:] // cut in two
	}
	return lines[max(len(lines)-count, 0):], end
}

// Environment makes what a command needs to run as one of a site's own: its PHP as php, its folder, its database's client settings.
func (p *Provisioner) Environment(name string) (wire.Environment, error) {
	s, ok := p.Site(name)
	if !ok {
		return wire.Environment{}, noSite(name)
	}
	php, err := p.Store.Find(s.Stack.PHP)
	if err != nil {
		return wire.Environment{}, err
	}
	place := p.phpPlace(s)
	dir := filepath.Join(place.Dir, "command")
	if err := errors.Join(os.MkdirAll(filepath.Join(dir, "bin"), 0o700), os.MkdirAll(place.Temp, 0o700), os.MkdirAll(place.Mail, 0o700)); err != nil {
		return wire.Environment{}, err
	}
	ini, err := engine.CommandIni(php, place.Temp, s.Settings)
	if err != nil {
		return wire.Environment{}, err
	}
	port := p.DatabasePort(s.Stack.Database)
	files := map[string]string{"php.ini": ini + "display_errors = On\nmemory_limit = -1\nmax_execution_time = 0\nsendmail_path = \"" + filepath.Join(dir, "sendmail") + " -t -i\"\n",
		"sendmail": "#!/bin/sh\nexec cat > \"$(mktemp '" + place.Mail + "/XXXXXXXXXXXX.eml')\"\n",
		"client.cnf": fmt.Sprintf("[client]\nhost = 127.0.0.1\nport = %d\nuser = %s\npassword = \"%s\"\ndefault-character-set = utf8mb4\n[mysql]\ndatabase = %s\n", port, s.Database.User,
			strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s.Database.Password), s.Database.Name),
		"bin/php": fmt.Sprintf("#!/bin/sh\nPHP_INI_SCAN_DIR= exec '%s' -c '%s' \"$@\"\n", php.PHPCommand(), filepath.Join(dir, "php.ini"))}
	if database, err := p.Store.Find(s.Stack.Database); err == nil {
		if client := database.Program("mariadb"); filepath.Base(client) == "mariadb" {
			files["bin/mariadb"] = fmt.Sprintf("#!/bin/sh\nexec '%s' --defaults-file='%s' \"$@\"\n", client, filepath.Join(dir, "client.cnf"))
		}
	}
	for name, text := range files {
		mode := os.FileMode(0o600)
		if strings.HasPrefix(name, "bin/") || name == "sendmail" {
			mode = 0o700
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), mode); err != nil {
			return wire.Environment{}, err
		}
	}
	if _, err := p.database(p.context, s.Stack.Database); err != nil {
		return wire.Environment{}, err
	}
	return wire.Environment{Site: name, Folder: s.Folder, Path: filepath.Join(dir, "bin"), Account: os.Geteuid(), Variables: map[string]string{
		"VESSIK_SITE": s.Name, "VESSIK_URL": s.URL(p.settings.GatewayPort), "TMPDIR": place.Temp, "PHP_INI_SCAN_DIR": "",
		"MYSQL_HOST": "127.0.0.1", "MYSQL_TCP_PORT": fmt.Sprint(port), "MYSQL_PWD": s.Database.Password, "MYSQL_USER": s.Database.User, "MYSQL_DATABASE": s.Database.Name}}, nil
}
