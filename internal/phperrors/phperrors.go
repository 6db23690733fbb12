// Package phperrors tells what PHP of each site complained of: it reads their logs as they grow, and counts by place.
package phperrors

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"vessik/internal/core/phperrors"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/records"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Bounds of what is kept of one site (places), and of what is read of its log at a time, in bytes.
const (
	mostPlaces  = 300
	mostAtATime = 1 << 20
	lookEvery   = 2 * time.Second
	lookFor     = time.Minute
)

// Lines of a file that are shown around a place, and how much of the file is looked through for them, in bytes.
const (
	linesAround = 3
	longestFile = 2 << 20
	longestLine = 300
)

// Feature reads the logs of one machine's sites.
type Feature struct {
	Machine *running.Machine
	Records *records.Records

	looking sync.Mutex // one look at a time
	mu      sync.Mutex
	logs    map[string]records.PHPErrorLog // by one
}

// one is a site, and no other of its name before or after it.
func one(s site.Site) string { return s.Name + " " + s.CreatedAt.UTC().Format(time.RFC3339Nano) }

// LookAfter looks at the logs until the service ends.
func (f *Feature) LookAfter() {
	ctx := f.Machine.Work.Context()
	next := time.NewTicker(lookEvery)
	defer next.Stop()
	for {
		f.look(ctx)
		select {
		case <-next.C:
		case <-ctx.Done():
			return
		}
	}
}

// look reads what the logs have grown by.
func (f *Feature) look(ctx context.Context) {
	f.looking.Lock()
	defer f.looking.Unlock()
	ctx, cancel := context.WithTimeout(ctx, lookFor)
	defer cancel()
	sites := f.Machine.Registry.All()
	if err := f.load(ctx, sites); err != nil {
		return // the next look may
	}
	for _, s := range sites {
		if err := f.read(ctx, s); err != nil && ctx.Err() == nil {
			f.Machine.Log.Warn("read what PHP said", "site", s.Name, "reason", err)
		}
	}
}

// load reads how far the logs of sites have been read that were not known so far, by this name or at all; others are forgotten.
func (f *Feature) load(ctx context.Context, sites []site.Site) error {
	logs, recorded := map[string]records.PHPErrorLog{}, map[string]records.PHPErrorLog(nil)
	for _, s := range sites {
		log, known := f.known(s)
		if !known && recorded == nil {
			var err error
			if recorded, err = f.Records.PHPErrorLogs(ctx); err != nil {
				return err
			}
		}
		if !known {
			log = recorded[s.Name]
		}
		logs[one(s)] = log
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.logs = logs
	return nil
}

func (f *Feature) known(s site.Site) (log records.PHPErrorLog, known bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	log, known = f.logs[one(s)]
	return log, known
}

// read records what a site's log has grown by. Of one that grew by more than is read at a time, the end is read.
func (f *Feature) read(ctx context.Context, s site.Site) error {
	log, _ := f.known(s)
	info, err := os.Stat(f.path(s.Name))
	if err != nil || info.Size() == log.Bytes {
		return nil
	}
	if info.Size() < log.Bytes { // it begins anew
		log.Bytes = 0
	}
	file, err := ownfile.Open(f.path(s.Name))
	if err != nil {
		return err
	}
	defer file.Close()
	from := max(log.Bytes, info.Size()-mostAtATime)
	text, err := io.ReadAll(io.NewSectionReader(file, from, info.Size()-from))
	if err != nil {
		return err
	}
	whole := text[:strings.LastIndexByte(string(text), '\n')+1] // what is being written is read next time
	if len(whole) == 0 && len(text) < mostAtATime {
		return nil
	}
	said := phperrors.Read(string(whole), time.Now())
	log.Bytes = from + int64(len(whole))
	if len(whole) == 0 {
		log.Bytes = info.Size()
	}
	if err := f.Records.AddPHPErrors(ctx, s.Name, said, log.Bytes, mostPlaces); err != nil {
		return err
	}
	return f.count(ctx, s, log)
}

// count keeps how many places there are, and has it seen where it is another number.
func (f *Feature) count(ctx context.Context, s site.Site, log records.PHPErrorLog) error {
	all, err := f.Records.PHPErrorsOf(ctx, s.Name)
	if err != nil {
		return err
	}
	before := log.Places
	log.Places = len(all)
	f.mu.Lock()
	if f.logs != nil { // else the next look reads it
		f.logs[one(s)] = log
	}
	f.mu.Unlock()
	if before != log.Places {
		f.Machine.Registry.Announce(s.Name)
	}
	return nil
}

func (f *Feature) path(name string) string {
	return filepath.Join(f.Machine.Home.SiteLogs(name), "php-error.log")
}

// Places is in how many places PHP of a site complained.
func (f *Feature) Places(s site.Site) int {
	log, _ := f.known(s)
	return log.Places
}

// List is what PHP of a site said, the last first, with the lines around each place.
func (f *Feature) List(ctx context.Context, name string) ([]wire.PHPError, error) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return nil, site.NoSite(name)
	}
	f.look(ctx)
	found, err := f.Records.PHPErrorsOf(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	files, all := map[string][]string{}, []wire.PHPError{}
	for _, e := range found {
		one := wire.PHPError{Kind: string(e.Kind), Text: e.Text, File: e.File, Line: e.Line, Count: e.Count, Request: e.Request,
			FirstAt: e.FirstAt, LastAt: e.At}
		if inside, below := strings.CutPrefix(e.File, s.Folder+"/"); below {
			one.File = inside
			if _, read := files[inside]; !read {
				files[inside] = linesOf(s.Folder, inside)
			}
			one.Source = around(files[inside], e.Line)
		}
		all = append(all, one)
	}
	return all, nil
}

// linesOf are the lines of a file of a site; none where it cannot be read, or is long.
func linesOf(folder, inside string) []string {
	file, err := safefile.Open(folder, inside)
	if err != nil {
		return nil
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, longestFile+1))
	if err != nil || len(text) > longestFile {
		return nil
	}
	return strings.Split(string(text), "\n")
}

func around(lines []string, line int) []wire.SourceLine {
	source := []wire.SourceLine{}
	for number := max(1, line-linesAround); number <= min(len(lines), line+linesAround); number++ {
		text := strings.ToValidUTF8(strings.TrimRight(lines[number-1], "\r"), "\ufffd")
		if len(text) > longestLine {
			text = strings.ToValidUTF8(text[:longestLine], "") + "…"
		}
		source = append(source, wire.SourceLine{Line: number, Text: text})
	}
	return source
}

// Forget forgets what PHP of a site said.
func (f *Feature) Forget(ctx context.Context, name string) error {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return site.NoSite(name)
	}
	f.look(ctx)
	f.looking.Lock()
	defer f.looking.Unlock()
	if err := f.Records.ForgetPHPErrors(ctx, s.Name); err != nil {
		return err
	}
	log, _ := f.known(s)
	return f.count(ctx, s, log)
}
