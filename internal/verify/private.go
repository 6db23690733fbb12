package verify

import (
	"cmp"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/running"
)

// databasePrivate tries, as the site's own PHP, what a broken-into site would try.
func (i *inspection) databasePrivate() outcome {
	const expected = "the site's database user sees its own database and can touch no other"
	if i.probed != nil {
		return failed(expected, "the site does not answer: "+i.probed.Error(), "see the check "+webAnswers)
	}
	own := i.site.Database.Name
	taken := map[string]bool{}
	others := []string{"mysql"}
	for _, s := range i.v.Machine.Registry.All() {
		if s.Stack.Database == i.site.Stack.Database {
			taken[s.Database.Name] = true
			if s.Name != i.site.Name && len(others) < 4 && s.State != site.Making && s.State != site.Retiring {
				others = append(others, s.Database.Name)
			}
		}
	}
	statements := []string{"SELECT * FROM mysql.global_priv", "SELECT 1 INTO OUTFILE '/tmp/vessik-probe-" + own + "'"}
	made := []string{}
	for _, other := range others {
		statements = append(statements, "USE "+engine.Identifier(other), "CREATE TABLE "+engine.Identifier(other)+".vessik_probe (a INT)")
	}
	if near := strings.ReplaceAll(own, "_", "x"); near != own && !taken[near] { // a grant whose _ is a wildcard would allow it
		statements = append(statements, "CREATE DATABASE "+engine.Identifier(near))
		made = append(made, near)
	}
	answer, _, err := i.askProbe(i.ownPort(), probeAsk{Database: i.credentials(), Statements: statements})
	if err != nil {
		return failed(expected, "the site does not answer: "+err.Error(), "see the check "+webAnswers)
	}
	if answer.Database == "" {
		return failed(expected, "the site cannot reach its database: "+answer.DatabaseError, "see the check "+databaseVersion)
	}
	seen := slices.DeleteFunc(answer.Databases, func(name string) bool { return name == own || name == "information_schema" })
	if len(seen) > 0 || len(answer.Touched) > 0 {
		i.cleanDatabases(others, made)
		return failed(expected, fmt.Sprintf("it sees %s; the server accepted %s", cmp.Or(strings.Join(seen, ", "), "no other"),
			cmp.Or(strings.Join(answer.Touched, "; "), "nothing")),
			"revoke the grants that were added to this user by hand")
	}
	return passed(expected, fmt.Sprintf("it sees %s only; %d statements against %s were refused", own, len(statements),
		strings.Join(others, ", ")))
}

// cleanDatabases removes what an attack that should have failed has made.
func (i *inspection) cleanDatabases(others, made []string) {
	database, err := i.v.Machine.Database(i.ctx, i.site.Stack.Database)
	if err != nil {
		return
	}
	for _, other := range others {
		database.Admin().ExecContext(i.ctx, "DROP TABLE IF EXISTS "+engine.Identifier(other)+".vessik_probe")
	}
	for _, name := range made {
		database.Admin().ExecContext(i.ctx, "DROP DATABASE IF EXISTS "+engine.Identifier(name))
	}
}

// filesPrivate tries to reach what is not the site's: from its PHP, from a command that its PHP starts, and looks into the cells of its
// PHP and web server for what should not be there. What it looks for is the service's and its neighbours'; nothing is written.
func (i *inspection) filesPrivate() outcome {
	const expected = "nothing outside the site's folder can be reached from it"
	if i.probed != nil {
		return failed(expected, "the site does not answer: "+i.probed.Error(), "see the check "+webAnswers)
	}
	home := i.v.Machine.Home
	paths := []string{home.TokenFile(), home.KeyFile(), home.Path("home.json"), home.Path("records"), home.Path("run", "sockets"),
		home.Path("databases")}
	sockets := []string{home.Path("run", "records", "db.sock"), i.v.Machine.Socket(i.site)}
	for _, s := range i.v.Machine.Registry.All() {
		if s.Name != i.site.Name && (s.State == site.Running || s.State == site.Stopped) {
			paths = append(paths, s.Folder, i.v.Machine.CMS.Of(s).ConfigurationFile(s))
			sockets = append(sockets, i.v.Machine.Socket(s))
			break
		}
	}
	paths = slices.DeleteFunc(paths, func(path string) bool { return !exists(path) || site.Inside(path, i.site.Folder) || i.allowed(path) })
	sockets = slices.DeleteFunc(sockets, func(path string) bool { return !exists(path) })
	answer, _, err := i.askProbe(i.ownPort(), probeAsk{Paths: append(slices.Clone(paths), accounts()...), Sockets: sockets})
	if err != nil {
		return failed(expected, "the site does not answer: "+err.Error(), "see the check "+webAnswers)
	}
	leaks := slices.Concat(answer.Read, answer.Sockets)
	walls := "Landlock and seccomp alone hold it, without cells (" + i.v.Machine.Abilities.Why + ")"
	if i.v.Machine.Abilities.Namespaces {
		leaks = append(leaks, i.insideCells(paths)...)
		walls = "they are not in its cells"
	}
	served, err := i.served()
	if err != nil {
		return failed(expected, "the site does not answer: "+err.Error(), "see the check "+webAnswers)
	}
	leaks = append(leaks, served...)
	if len(leaks) > 0 {
		remedy := "tell the people who make Vessik: this should not be possible"
		if !i.v.Machine.Abilities.Files() {
			remedy = "this kernel lacks the means (namespaces or Landlock, see vessik status): use a kernel of 5.19 or later"
		}
		return failed(expected, "reached: "+strings.Join(leaks, ", "), remedy)
	}
	whom := "neither PHP nor a command reaches"
	if !answer.Command {
		whom = "PHP, which may start no command, does not reach"
	}
	return passed(expected, fmt.Sprintf("%s %d places and %d sockets of others: %s; no dumps are handed out", whom, len(paths), len(sockets),
		walls))
}

// served asks for a dump, a backup and what lies in folders such as .git: the web server itself must say that there is none, whether there
// is one or not.
func (i *inspection) served() (leaks []string, err error) {
	for _, path := range []string{"backup-" + running.RandomHex(4) + ".sql", "wp-config.php.bak", ".git/config", "vessik-site.yaml"} {
		response, _, err := cms.Page(i.ctx, i.client, "GET", i.base+"/"+path, nil)
		if err != nil {
			return nil, plainError(err)
		}
		if response.StatusCode != http.StatusNotFound || response.Header.Get("X-Powered-By") != "" {
			leaks = append(leaks, "the web server hands out /"+path+" where there is one")
		}
	}
	return leaks, nil
}

func exists(path string) bool { _, err := os.Stat(path); return err == nil }

// accounts is the machine's list of accounts, where a cell has not one of its own.
func accounts() []string { return []string{"/etc/shadow", "/root"} }

// allowed tells whether the site's owner has let it use a place.
func (i *inspection) allowed(path string) bool {
	return slices.ContainsFunc(i.site.Settings.Allow, func(dir string) bool { return site.Inside(path, dir) || site.Inside(dir, path) })
}

// insideCells asks the kernel whether places are there in the cells of the site's PHP and web server (proc_pid_root(5)).
func (i *inspection) insideCells(paths []string) (found []string) {
	cells := map[string]int{}
	if master := i.v.Machine.Master(i.site.Name); master != nil {
		cells["PHP"] = master.PID()
	}
	if web, err := i.v.Machine.Web(i.site.Stack.Web); err == nil {
		cells["the web server"] = web.PID(i.site.Name)
	}
	for whose, pid := range cells {
		for _, path := range paths {
			inside := fmt.Sprintf("/proc/%d/root%s", pid, path)
			if info, err := os.Lstat(inside); pid != 0 && err == nil && (!info.IsDir() || !emptyFolder(inside)) {
				found = append(found, path+" in the cell of "+whose)
			}
		}
	}
	return found
}

// emptyFolder tells whether a folder has nothing but what leads to the site's own; only the way there is made up in a cell.
func emptyFolder(path string) bool {
	var there unix.Statfs_t
	return unix.Statfs(path, &there) == nil && there.Type == unix.TMPFS_MAGIC
}
