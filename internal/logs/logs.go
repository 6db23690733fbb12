// Package logs reads and follows the logs of sites.
package logs

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Feature reads the logs of the sites of one machine.
type Feature struct{ Machine *running.Machine }

// Log is one of a site's logs.
type logFile struct{ name, about, path string }

// open opens a log; the site's own lies in a folder that the site can write.
func (l logFile) open(s site.Site) (*os.File, error) {
	if l.name == ownLog {
		return safefile.Open(s.Folder, filepath.Join("wp-content", "debug.log"))
	}
	return ownfile.Open(l.path)
}

// size is a log's length in bytes; ok is false where there is none.
func (l logFile) size(s site.Site) (bytes int64, ok bool) {
	file, err := l.open(s)
	if err != nil {
		return 0, false
	}
	defer file.Close()
	info, err := file.Stat()
	return info.Size(), err == nil
}

const (
	ownLog    = "own"
	accessLog = "access"
)

func (f *Feature) files(s site.Site) []logFile {
	dir := f.Machine.Home.SiteLogs(s.Name)
	logs := []logFile{{"php", "errors of PHP", filepath.Join(dir, "php-error.log")},
		{"fpm", "PHP's process manager", filepath.Join(dir, "php-fpm.log")},
		{accessLog, "requests to the web server", filepath.Join(dir, "access.log")},
		{"web", "errors of the web server", filepath.Join(dir, "web.log")},
		{"database", "the database server, which other sites may use too", f.Machine.Home.Path("logs", s.Stack.Database+".log")}}
	own := logFile{ownLog, "the site's own log", filepath.Join(s.Folder, "wp-content", "debug.log")}
	if _, there := own.size(s); there {
		logs = append(logs, own)
	}
	return logs
}

// List lists a site's logs.
func (f *Feature) List(name string) ([]wire.Log, error) {
	s, ok := f.Machine.Registry.Site(name)
	if !ok {
		return nil, site.NoSite(name)
	}
	listed := []wire.Log{}
	for _, log := range f.files(s) {
		entry := wire.Log{Name: log.name, About: log.about, Path: log.path}
		entry.SizeBytes, _ = log.size(s)
		listed = append(listed, entry)
	}
	return listed, nil
}

// Wanted is what somebody wants to see of a site's logs.
type Wanted struct {
	Logs   []string // names; all where empty
	Last   int      // how many lines of each
	Follow bool     // also those that are added
	Checks bool     // also requests that the service's own checks made
}

// sees tells whether a line is wanted.
func (w Wanted) sees(log, line string) bool {
	return w.Checks || log != accessLog || !strings.HasSuffix(line, ` "`+check.Agent+`"`)
}

// Follow sends the last lines of logs and, if asked to, those that are added, until ctx ends.
func (f *Feature) Follow(ctx context.Context, name string, wanted Wanted, send func(wire.LogLine) error) error {
	s, ok := f.Machine.Registry.Site(name)
	if !ok {
		return site.NoSite(name)
	}
	type reading struct {
		log    logFile
		offset int64
		rest   string
	}
	readings := []*reading{}
	known := []string{}
	for _, log := range f.files(s) {
		known = append(known, log.name)
		if len(wanted.Logs) == 0 || slices.Contains(wanted.Logs, log.name) {
			readings = append(readings, &reading{log: log})
		}
	}
	for _, asked := range wanted.Logs {
		if !slices.Contains(known, asked) {
			return site.Problems{{Site: name, Field: "log", Message: fmt.Sprintf("there is no log %q", asked),
				Remedy: "choose of " + strings.Join(known, ", ")}}
		}
	}
	tell := func(log, text string) error {
		if !wanted.sees(log, text) {
			return nil
		}
		return send(wire.LogLine{Log: log, Text: text})
	}
	for _, r := range readings {
		lines, end := r.log.lastLines(s, wanted)
		r.offset = end
		for _, line := range lines {
			if err := tell(r.log.name, line); err != nil {
				return err
			}
		}
	}
	for wanted.Follow {
		select {
		case <-ctx.Done():
			return nil
		case <-f.Machine.Work.Context().Done():
			return nil
		case <-time.After(250 * time.Millisecond):
		}
		for _, r := range readings {
			size, there := r.log.size(s)
			if !there || size == r.offset {
				continue
			}
			if size < r.offset { // it was rotated
				r.offset, r.rest = 0, ""
			}
			text, err := r.log.readFrom(s, r.offset, 1<<20)
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

func (l logFile) readFrom(s site.Site, offset, most int64) (string, error) {
	file, err := l.open(s)
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.NewSectionReader(file, offset, most))
	return string(text), err
}

// lastLines returns the last lines of a file and where it ended.
func (l logFile) lastLines(s site.Site, wanted Wanted) (lines []string, end int64) {
	size, there := l.size(s)
	if !there {
		return nil, 0
	}
	const window = 256 << 10
	text, err := l.readFrom(s, max(size-window, 0), window)
	if err != nil {
		return nil, 0
	}
	end = max(size-window, 0) + int64(strings.LastIndexByte(text, '\n')+1)
	lines = strings.Split(text[:strings.LastIndexByte(text, '\n')+1], "\n")
	lines = lines[:len(lines)-1]
	if size > window && len(lines) > 0 {
		lines = lines[1:] // cut in two
	}
	lines = slices.DeleteFunc(lines, func(line string) bool { return !wanted.sees(l.name, line) })
	return lines[max(len(lines)-wanted.Last, 0):], end
}
