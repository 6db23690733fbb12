package engine

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/proc"
)

// PHPPlace says where one site's PHP has its files.
type PHPPlace struct {
	Dir    string // generated files, read only to the site
	Temp   string
	Logs   string // the site writes the two logs of PHP in there, and cannot touch another file or the folder
	Mail   string // where the mail that the site sends is kept
	Socket string // held by the service; in a folder that the site cannot reach
	Probe  string // the file that answers checks
}

// PHPMaster is one site's PHP: a listening socket that the service holds, and the FPM master that it is handed to.
type PHPMaster struct {
	listener  *net.UnixListener
	handed    *os.File // FPM's copy, kept for the next start
	process   *proc.Process
	closeOnce sync.Once
}

// StartPHP writes the site's configuration and starts its FPM master, confined to the site's own folders. givenUp is told when PHP
// keeps dying; by then the socket is closed, so that visitors are answered instead of waiting.
func StartPHP(ctx context.Context, supervisor *proc.Supervisor, e *Engine, s site.Site, place PHPPlace, abilities proc.Abilities, givenUp func(error)) (*PHPMaster, error) {
	if len(place.Socket) > 107 {
		return nil, fmt.Errorf("the socket path %s is %d bytes long, and 107 is the most: choose a shorter home folder", place.Socket, len(place.Socket))
	}
	for _, dir := range []string{place.Dir, place.Temp, place.Logs, place.Mail, filepath.Dir(place.Socket)} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
	}
	logs, err := ownLogs(place.Logs)
	if err != nil {
		return nil, err
	}
	extensionDir, extensions, err := extensionsOf(e)
	if err != nil {
		return nil, err
	}
	configuration := render.PHP{Site: s, Dir: place.Dir, Temp: place.Temp, Logs: place.Logs, Socket: place.Socket, ProbeFile: place.Probe,
		Children: 12, ExtensionDir: extensionDir, Extensions: extensions}
	if !abilities.Files {
		configuration.OpenBasedir = strings.Join([]string{s.Folder, place.Temp, place.Dir, place.Probe, place.Mail, "/usr/share"}, ":")
	}
	sink := "#!/bin/sh\n# Mail that this site sends is kept here and goes nowhere.\nexec cat > \"$(mktemp '" + place.Mail + "/XXXXXXXXXXXX.eml')\"\n"
	for name, text := range map[string]string{"php-fpm.conf": configuration.Pool(), "php.ini": configuration.Ini(), "prepend.php": configuration.Prepend(), "sendmail": sink} {
		mode := os.FileMode(0o600)
		if name == "sendmail" {
			mode = 0o700
		}
		if err := os.WriteFile(filepath.Join(place.Dir, name), []byte(text), mode); err != nil {
			return nil, err
		}
	}
	os.Remove(place.Socket) // of a service that was killed
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: place.Socket, Net: "unix"})
	if err != nil {
		return nil, fmt.Errorf("open the socket for PHP of %s: %w", s.Name, err)
	}
	master := &PHPMaster{listener: listener}
	if master.handed, err = listener.File(); err != nil {
		listener.Close()
		return nil, err
	}
	log := logs[0]
	started := logSize(log)
	master.process, err = supervisor.Start(ctx, proc.Spec{Name: "php of " + s.Name, Program: e.Program("php-fpm"),
		Arguments: []string{"--nodaemonize", "-c", filepath.Join(place.Dir, "php.ini"), "--fpm-config", filepath.Join(place.Dir, "php-fpm.conf")},
		Env:       []string{"FPM_SOCKETS=" + place.Socket + "=3", "PHP_INI_SCAN_DIR=", "PATH=/usr/local/bin:/usr/bin:/bin", "TMPDIR=" + place.Temp},
		Dir:       place.Temp, Log: filepath.Join(place.Dir, "start.log"), Files: []*os.File{master.handed},
		Confine: &proc.Confinement{ReadFolders: []string{e.Root(), place.Dir}, ReadFiles: []string{place.Probe},
			WriteFolders: []string{s.Folder, place.Temp, place.Mail}, WriteFiles: logs},
		Ready:       func(context.Context) error { return saysReady(log, &started) },
		StartWithin: 20 * time.Second, Grace: 3 * time.Second, Attempts: 6,
		GivenUp: func(err error) { master.closeSocket(); givenUp(err) },
	})
	if err != nil {
		master.closeSocket()
		return nil, err
	}
	return master, nil
}

// ownLogs makes the logs that a site's PHP writes. They are there before it starts, so that it needs no right to make files beside
// them: in a folder that it could change, it could turn the web server's logs into links to anything.
func ownLogs(folder string) ([]string, error) {
	logs := []string{filepath.Join(folder, "php-fpm.log"), filepath.Join(folder, "php-error.log")}
	for _, path := range logs {
		file, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, err
		}
		file.Close()
	}
	return logs, nil
}

// extensionsOf lists the shared extensions that an engine brings.
func extensionsOf(e *Engine) (dir string, ordered []string, err error) {
	found, _ := filepath.Glob(filepath.Join(e.Root(), "usr/lib/php/*/*.so"))
	if len(found) == 0 {
		return "", nil, fmt.Errorf("%s brings no extensions", e.ID)
	}
	names := []string{}
	for _, path := range found {
		names = append(names, strings.TrimSuffix(filepath.Base(path), ".so"))
	}
	return filepath.Dir(found[0]), render.Extensions(names), nil
}

// CommandIni is a php.ini for running an engine's PHP from the command line.
func CommandIni(e *Engine, temp string) (string, error) {
	dir, extensions, err := extensionsOf(e)
	if err != nil {
		return "", err
	}
	return render.PHP{ExtensionDir: dir, Extensions: extensions, Temp: temp}.Ini(), nil
}

func logSize(path string) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

// saysReady reads FPM's own log from an offset, which it moves on past the line that it waits for.
func saysReady(path string, from *int64) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	text := make([]byte, max(logSize(path)-*from, 0))
	n, _ := file.ReadAt(text, *from)
	at := strings.Index(string(text[:n]), "ready to handle connections")
	if at < 0 {
		return fmt.Errorf("PHP has not said that it is ready")
	}
	*from += int64(at) + 20
	return nil
}

// PID is the FPM master's process id.
func (m *PHPMaster) PID() int { return m.process.PID() }

// closeSocket makes new connections fail at once.
func (m *PHPMaster) closeSocket() { m.closeOnce.Do(func() { m.listener.Close(); m.handed.Close() }) }

// Stop ends PHP and gives the socket up.
func (m *PHPMaster) Stop() {
	m.closeSocket()
	m.process.Stop()
}
