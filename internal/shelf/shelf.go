// Package shelf keeps releases of CMS, plugins and themes as zip archives in one folder of this machine, so that sites can be made of
// them without a network. What lies there was dropped by the user, or fetched; each archive is known by its SHA-256 from the moment it
// is first seen.
package shelf

import (
	"archive/zip"
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"html"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
)

// Kinds of things on the shelf.
const (
	Release = "release"
	Plugin  = "plugin"
	Theme   = "theme"
)

// sums is where the archives' checksums are kept, as sha256sum(1) writes them.
const sums = "SHA256SUMS"

// Shelf is that folder.
type Shelf struct {
	Dir string

	mu    sync.Mutex
	state string
	items []wire.ShelfItem
}

// fileName is what an archive may be called.
var fileName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]{0,119}\.zip$`)

// CheckName judges a file's name.
func CheckName(name string) error {
	if !fileName.MatchString(name) {
		return fmt.Errorf("%q is not a name for the shelf: letters, digits, . _ + and -, and .zip at its end", name)
	}
	return nil
}

// File is where an archive lies.
func (s *Shelf) File(name string) string { return filepath.Join(s.Dir, name) }

// Items lists what there is, by kind, name and version, the newest first. What is new in the folder is read and its checksum kept.
func (s *Shelf) Items(definitions cms.Definitions) []wire.ShelfItem {
	s.mu.Lock()
	defer s.mu.Unlock()
	found := ownfile.Find(filepath.Join(s.Dir, "*.zip"))
	state := fmt.Sprint(len(definitions))
	for _, file := range found {
		if info, err := os.Stat(file); err == nil {
			state += fmt.Sprintln(file, info.Size(), info.ModTime().UnixNano())
		}
	}
	if text, err := ownfile.Read(filepath.Join(s.Dir, sums)); err == nil {
		state += string(text)
	}
	if s.state == state {
		return slices.Clone(s.items)
	}
	known := s.sums()
	items := []wire.ShelfItem{}
	for _, file := range found {
		item := read(file, definitions)
		switch before, seen := known[item.File]; {
		case item.Fault != "":
		case !seen:
			known[item.File] = item.SHA256
		case before != item.SHA256:
			item.Fault = "it is not what it was when it was put there: its checksum is another one; drop it and add it again if that is right"
		}
		items = append(items, item)
	}
	for name := range known {
		if !slices.ContainsFunc(items, func(i wire.ShelfItem) bool { return i.File == name }) {
			delete(known, name)
		}
	}
	if err := s.keep(known); err != nil {
		return items
	}
	slices.SortFunc(items, func(a, b wire.ShelfItem) int {
		return cmpOr(strings.Compare(a.Kind, b.Kind), strings.Compare(a.Name, b.Name), -site.CompareVersions(a.Version, b.Version),
			strings.Compare(a.File, b.File))
	})
	s.items, s.state = items, "" // the sums have changed, perhaps: the next look says
	return slices.Clone(items)
}

func cmpOr(values ...int) int {
	for _, v := range values {
		if v != 0 {
			return v
		}
	}
	return 0
}

func (s *Shelf) sums() map[string]string {
	known := map[string]string{}
	text, _ := ownfile.Read(filepath.Join(s.Dir, sums))
	for line := range strings.Lines(string(text)) {
		if sum, name, ok := strings.Cut(strings.TrimSpace(line), "  "); ok {
			known[name] = sum
		}
	}
	return known
}

func (s *Shelf) keep(known map[string]string) error {
	lines := []string{}
	for name, sum := range known {
		lines = append(lines, sum+"  "+name+"\n")
	}
	slices.SortFunc(lines, func(a, b string) int { return strings.Compare(a[64:], b[64:]) })
	text := strings.Join(lines, "")
	path := filepath.Join(s.Dir, sums)
	if before, err := ownfile.Read(path); err == nil && string(before) == text || err != nil && text == "" {
		return nil
	}
	return ownfile.Write(path, []byte(text), 0o600)
}

// Read looks into an archive that is not on the shelf: what it is, or why it is nothing that belongs there.
func Read(file string, definitions cms.Definitions) wire.ShelfItem { return read(file, definitions) }

// read looks into an archive: what it is, by what the CMS definitions say of releases, plugins and themes.
func read(file string, definitions cms.Definitions) wire.ShelfItem {
	item := wire.ShelfItem{File: filepath.Base(file)}
	fault := func(format string, arguments ...any) wire.ShelfItem {
		item.Fault = fmt.Sprintf(format, arguments...)
		return item
	}
	if err := CheckName(item.File); err != nil {
		return fault("%v", err)
	}
	source, err := ownfile.Open(file)
	if err != nil {
		return fault("%v", err)
	}
	defer source.Close()
	hash := sha256.New()
	if item.SizeBytes, err = io.Copy(hash, source); err != nil {
		return fault("%v", err)
	}
	item.SHA256 = hex.EncodeToString(hash.Sum(nil))
	if info, err := source.Stat(); err == nil {
		item.AddedAt = info.ModTime().UTC().Truncate(time.Second)
	}
	archive, err := zip.NewReader(source, item.SizeBytes)
	if err != nil {
		return fault("it cannot be read as a zip archive: %v", err)
	}
	text := func(name string) string {
		entry, err := archive.Open(name)
		if err != nil {
			return ""
		}
		defer entry.Close()
		head, _ := io.ReadAll(io.LimitReader(entry, 64<<10))
		return string(head)
	}
	names := []string{}
	for _, entry := range archive.File {
		if !entry.FileInfo().IsDir() && fs.ValidPath(entry.Name) {
			names = append(names, entry.Name)
		}
	}
	top := topOf(names)
	for _, name := range definitions.Names() {
		k := definitions[name]
		if k.Recognise.File != "" && slices.Contains(names, path.Join(top, k.Recognise.File)) {
			version := k.VersionIn([]byte(text(path.Join(top, k.Recognise.File))))
			if version == "" {
				continue
			}
			item.Kind, item.CMS, item.Name, item.Title, item.Version, item.Main = Release, k.Name, k.Name, k.Title, version, top
			return item
		}
	}
	for _, name := range definitions.Names() {
		for _, part := range definitions[name].Parts {
			for _, entry := range names {
				if !part.Matches(entry) {
					continue
				}
				title, version := part.Read(text(entry))
				if title == "" {
					continue
				}
				item.Kind, item.CMS, item.Name, item.Title, item.Version, item.Main = part.Kind, name, path.Dir(entry), html.UnescapeString(title),
					version, entry
				return item
			}
		}
	}
	return fault("it is no release, plugin or theme that a CMS knows")
}

// topOf is the single folder that everything lies in; empty for none.
func topOf(names []string) string {
	if len(names) == 0 {
		return ""
	}
	first, _, found := strings.Cut(names[0], "/")
	if !found || slices.ContainsFunc(names, func(name string) bool { return !strings.HasPrefix(name, first+"/") }) {
		return ""
	}
	return first
}

// Find returns what a name means, NAME or NAME@VERSION: the newest of that kind that is good.
func Find(items []wire.ShelfItem, cmsName, kind, asked string) (wire.ShelfItem, bool) {
	name, version, exact := strings.Cut(asked, "@")
	for _, item := range items {
		if item.Fault == "" && item.CMS == cmsName && item.Kind == kind && item.Name == name && (!exact || item.Version == version) {
			return item, true
		}
	}
	return wire.ShelfItem{}, false
}

// largest is what one archive may take, in bytes.
const largest = 2 << 30

// Add puts an archive on the shelf, if it is something that a CMS knows.
func (s *Shelf) Add(name string, from io.Reader, definitions cms.Definitions) (wire.ShelfItem, error) {
	if err := CheckName(name); err != nil {
		return wire.ShelfItem{}, err
	}
	if err := ownfile.Make(s.Dir, 0o700); err != nil {
		return wire.ShelfItem{}, err
	}
	if _, err := os.Stat(s.File(name)); err == nil {
		return wire.ShelfItem{}, fmt.Errorf("there is a %s on the shelf already; drop it first, or give it another name", name)
	}
	partial, err := os.CreateTemp(s.Dir, ".partial-*")
	if err != nil {
		return wire.ShelfItem{}, err
	}
	defer ownfile.Remove(partial.Name())
	buffered := bufio.NewWriterSize(partial, 1<<20)
	written, err := io.Copy(buffered, io.LimitReader(from, largest+1))
	if err := errors.Join(err, buffered.Flush(), partial.Close()); err != nil {
		return wire.ShelfItem{}, err
	}
	if written > largest {
		return wire.ShelfItem{}, fmt.Errorf("it is larger than %d MB", largest>>20)
	}
	judged := filepath.Join(s.Dir, ".partial-judged-"+name)
	if err := ownfile.Rename(partial.Name(), judged); err != nil {
		return wire.ShelfItem{}, err
	}
	defer ownfile.Remove(judged)
	item := readAs(judged, name, definitions)
	if item.Fault != "" {
		return item, errors.New(item.Fault)
	}
	if err := ownfile.Rename(judged, s.File(name)); err != nil {
		return item, err
	}
	s.Items(definitions)
	return item, nil
}

// readAs reads an archive that is to have another name.
func readAs(file, name string, definitions cms.Definitions) wire.ShelfItem {
	dir, err := os.MkdirTemp(filepath.Dir(file), ".partial-")
	if err != nil {
		return wire.ShelfItem{Fault: err.Error()}
	}
	defer ownfile.RemoveAll(dir)
	if err := ownfile.Link(file, filepath.Join(dir, name)); err != nil {
		return wire.ShelfItem{Fault: err.Error()}
	}
	return read(filepath.Join(dir, name), definitions)
}

// Fetch puts an archive on the shelf from an address that the user gives.
func (s *Shelf) Fetch(ctx context.Context, address string, definitions cms.Definitions) (wire.ShelfItem, error) {
	request, err := http.NewRequestWithContext(ctx, "GET", address, nil)
	if err != nil || request.URL.Host == "" || request.URL.Scheme != "http" && request.URL.Scheme != "https" {
		return wire.ShelfItem{}, fmt.Errorf("%q is not an address: write it as https://host/name.zip", address)
	}
	client := http.Client{Timeout: 10 * time.Minute} // a large archive on a slow line
	defer client.CloseIdleConnections()
	response, err := client.Do(request)
	if err != nil {
		return wire.ShelfItem{}, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return wire.ShelfItem{}, fmt.Errorf("%s answers %s", address, response.Status)
	}
	return s.Add(path.Base(request.URL.Path), response.Body, definitions)
}

// Drop removes an archive.
func (s *Shelf) Drop(name string) error {
	if CheckName(name) != nil {
		return fs.ErrNotExist
	}
	return ownfile.Remove(s.File(name))
}
