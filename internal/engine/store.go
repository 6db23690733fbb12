package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"vessik/internal/cell"
	"vessik/internal/core/site"
)

// Store is the folder in which engines lie unpacked. Several services may share one: a file lock orders the fetching.
type Store struct {
	Dir     string
	Sources string // folder of the apt sources to follow; /etc/apt, the machine's own, where empty
	Cells   *cell.Cells
}

// Engine is one that is there, ready to be started.
type Engine struct {
	ID         string    `json:"id"`
	Kind       Kind      `json:"kind"`
	Generation string    `json:"generation"`
	Version    string    `json:"version"`  // in full, as the program tells it
	Packages   []string  `json:"packages"` // name=version
	SizeBytes  int64     `json:"size_bytes"`
	FetchedAt  time.Time `json:"fetched_at"`
	PatchedFor string    `json:"patched_for"` // the folder that the programs' loader paths name
	Programs   []string  `json:"programs"`
	Tools      []string  `json:"tools,omitempty"`
	// Extras are extensions of a PHP that were fetched besides: each with all that are loaded where a site switches it on.
	Extras map[string][]string `json:"extras,omitempty"`
	// Adopted is the user's own folder that the engine stands in; empty for one that was fetched.
	Adopted string      `json:"adopted,omitempty"`
	Note    string      `json:"note,omitempty"` // what was out of the ordinary when it was fetched
	Dir     string      `json:"-"`
	Cells   *cell.Cells `json:"-"` // where its programs are run
}

const manifestFile = "engine.json"

// Root is the folder that holds the engine's usr, etc and so on.
func (e *Engine) Root() string {
	if e.Adopted != "" {
		return e.Adopted
	}
	return filepath.Join(e.Dir, "root")
}

// IsApache and so on tell programs of one kind apart.
func (e *Engine) IsApache() bool { return strings.HasPrefix(e.ID, "apache") }

// atLeast compares the full version with a number such as 1.19.5.
func (e *Engine) atLeast(version string) bool { return site.CompareVersions(e.Version, version) >= 0 }

// Program returns the path of a program of this engine by the start of its file name, e.g. "php-fpm".
func (e *Engine) Program(prefix string) string {
	other := map[string]string{"apache2": "httpd", "mariadbd": "mysqld"}[prefix]
	for _, p := range e.Programs {
		if filepath.Base(p) == prefix {
			return filepath.Join(e.Root(), p)
		}
	}
	for _, p := range e.Programs {
		if base := filepath.Base(p); strings.HasPrefix(base, prefix) || other != "" && base == other {
			return filepath.Join(e.Root(), p)
		}
	}
	return filepath.Join(e.Root(), "no-program-"+prefix)
}

// Rows are the catalogue and, after it, the engines that the user adopted.
func (s Store) Rows() []Row {
	rows := slices.Clone(Catalogue)
	found, _ := filepath.Glob(filepath.Join(s.Dir, "*", manifestFile))
	for _, path := range found {
		e, err := readManifest(filepath.Dir(path))
		if err == nil && e.Adopted != "" {
			rows = append(rows, Row{ID: e.ID, Kind: e.Kind, Generation: "own", Programs: e.Programs})
		}
	}
	return rows
}

// Lookup returns the row of an id, or an error that names what there is.
func (s Store) Lookup(id string) (Row, error) {
	rows := s.Rows()
	ids := []string{}
	for _, row := range rows {
		if row.ID == id {
			return row, nil
		}
		ids = append(ids, row.ID)
	}
	return Row{}, fmt.Errorf("there is no engine %q; there are %s", id, strings.Join(ids, ", "))
}

// IDs lists the ids of one kind, or all of them for an empty kind.
func (s Store) IDs(kind Kind) []string {
	ids := []string{}
	for _, row := range s.Rows() {
		if kind == "" || row.Kind == kind {
			ids = append(ids, row.ID)
		}
	}
	return ids
}

// manifests are the engines that were read, by the folder, with when and how long the file was.
var manifests sync.Map

type manifest struct {
	written time.Time
	size    int64
	engine  Engine
}

func readManifest(dir string) (*Engine, error) {
	path := filepath.Join(dir, manifestFile)
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if known, ok := manifests.Load(dir); ok {
		if m := known.(manifest); m.written.Equal(info.ModTime()) && m.size == info.Size() {
			return &m.engine, nil
		}
	}
	e := Engine{Dir: dir}
	text, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(text, &e)
	}
	if err == nil {
		manifests.Store(dir, manifest{info.ModTime(), info.Size(), e})
	}
	return &e, err
}

// PHPCommand is the path of a PHP's command-line program.
func (e *Engine) PHPCommand() string {
	for _, p := range e.Programs {
		if phpCommand.MatchString(filepath.Base(p)) {
			return filepath.Join(e.Root(), p)
		}
	}
	return filepath.Join(e.Root(), "no-php")
}

var phpCommand = regexp.MustCompile(`^php[0-9.]*$`)

// Find returns an engine that is there; errors.Is(err, fs.ErrNotExist) when it has not been fetched.
func (s Store) Find(id string) (*Engine, error) {
	if !validID.MatchString(id) {
		return nil, fmt.Errorf("%q is not an engine's id", id)
	}
	e, err := readManifest(filepath.Join(s.Dir, id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("engine %s has not been fetched: %w", id, fs.ErrNotExist)
	}
	if err != nil {
		return nil, fmt.Errorf("read engine %s: %w", id, err)
	}
	e.Cells = s.Cells
	for _, row := range Catalogue { // a store of an earlier version says less
		if row.ID == id {
			e.Programs, e.Tools = row.Programs, row.Tools
		}
	}
	return e, nil
}

var validID = regexp.MustCompile(`^[a-z]+-[a-z0-9.-]+$`)

// List returns the engines that are there, in the catalogue's order.
func (s Store) List() []*Engine {
	found := []*Engine{}
	for _, row := range s.Rows() {
		if e, err := s.Find(row.ID); err == nil {
			found = append(found, e)
		}
	}
	return found
}

// tools are those of the engine's tools that are there.
func (e *Engine) tools() (there []string) {
	for _, tool := range e.Tools {
		if _, err := os.Stat(filepath.Join(e.Root(), tool)); err == nil {
			there = append(there, tool)
		}
	}
	return there
}

// Lacking are the names of the engine's tools that were not fetched with it.
func (e *Engine) Lacking() (names []string) {
	for _, tool := range e.Tools {
		if !slices.Contains(e.tools(), tool) {
			names = append(names, filepath.Base(tool))
		}
	}
	return names
}

// Complete fetches what engines that are there lack, since they were fetched by an earlier version.
func (s Store) Complete(ctx context.Context, ids []string, progress Progress) error {
	if len(s.incomplete(ids)) == 0 {
		return nil
	}
	unlock, err := s.lock(ctx, progress)
	if err != nil {
		return err
	}
	defer unlock()
	lacking := s.incomplete(ids) // another service may have fetched it meanwhile
	if len(lacking) == 0 {
		return nil
	}
	return s.fetch(ctx, lacking, progress)
}

// incomplete are the rows of those engines that are there and lack something.
func (s Store) incomplete(ids []string) (rows []Row) {
	for _, row := range Catalogue {
		if e, err := s.Find(row.ID); slices.Contains(ids, row.ID) && err == nil && e.Adopted == "" && len(e.Lacking()) > 0 {
			rows = append(rows, row)
		}
	}
	return rows
}

// Progress tells what fetching is doing: a sentence, and how far it is (0 to 1; below 0 where that is not known).
type Progress func(text string, fraction float64)

// Ensure makes the named engines be there and returns them by id. What is there already is not fetched again. A fetch that was
// interrupted leaves nothing that would be used: an engine appears by one rename, whole.
func (s Store) Ensure(ctx context.Context, ids []string, progress Progress) (map[string]*Engine, error) {
	if progress == nil {
		progress = func(string, float64) {}
	}
	ready := map[string]*Engine{}
	if s.collect(ids, ready) {
		return ready, nil
	}
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return nil, fmt.Errorf("make the engine store: %w", err)
	}
	unlock, err := s.lock(ctx, progress)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if s.collect(ids, ready) { // another service fetched them meanwhile
		return ready, nil
	}
	s.removePartial()
	missing := []Row{}
	for _, id := range ids {
		row, err := s.Lookup(id)
		if err != nil {
			return nil, err
		}
		if e, err := s.Find(id); err == nil {
			if e.PatchedFor != e.Dir && e.Adopted == "" {
				if err := s.repatch(ctx, e); err != nil {
					return nil, err
				}
			}
			continue
		}
		missing = append(missing, row)
	}
	if err := s.fetch(ctx, missing, progress); err != nil {
		return nil, err
	}
	if !s.collect(ids, ready) {
		return nil, fmt.Errorf("the engine store %s does not hold what was just fetched", s.Dir)
	}
	return ready, nil
}

// Repair makes all engines startable from where they are now, after the store has been moved.
func (s Store) Repair(ctx context.Context) error {
	moved := slices.DeleteFunc(s.List(), func(e *Engine) bool { return e.PatchedFor == e.Dir || e.Adopted != "" })
	if len(moved) == 0 {
		return nil
	}
	unlock, err := s.lock(ctx, func(string, float64) {})
	if err != nil {
		return err
	}
	defer unlock()
	for _, e := range moved {
		if err := s.repatch(ctx, e); err != nil {
			return err
		}
	}
	return nil
}

func (s Store) collect(ids []string, ready map[string]*Engine) bool {
	for _, id := range ids {
		e, err := s.Find(id)
		if err != nil || e.PatchedFor != e.Dir && e.Adopted == "" {
			return false
		}
		ready[id] = e
	}
	return true
}

func (s Store) lock(ctx context.Context, progress Progress) (unlock func(), err error) {
	file, err := os.OpenFile(filepath.Join(s.Dir, ".lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, fmt.Errorf("lock the engine store: %w", err)
	}
	for told := false; ; told = true {
		err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			return func() { file.Close() }, nil
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			file.Close()
			return nil, fmt.Errorf("lock the engine store: %w", err)
		}
		if !told {
			progress("waiting for engines that are being fetched already", -1)
		}
		select {
		case <-ctx.Done():
			file.Close()
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// removePartial clears what an interrupted fetch left; downloads stay, so that they are not repeated.
func (s Store) removePartial() {
	leftovers, _ := filepath.Glob(filepath.Join(s.Dir, ".partial-*"))
	for _, path := range leftovers {
		os.RemoveAll(path)
	}
}

var versionNumber = regexp.MustCompile(`\d+\.\d+\.\d+`)

// readVersion asks the program itself; for a release, its main package's version.
func readVersion(ctx context.Context, e *Engine) (string, error) {
	if len(e.Programs) == 0 {
		at := slices.IndexFunc(e.Packages, func(p string) bool { return strings.HasPrefix(p, strings.Split(e.ID, "-")[0]+"=") })
		main := e.Packages[max(at, 0)]
		return versionNumber.FindString(main[strings.Index(main, "="):]), nil
	}
	program := filepath.Join(e.Root(), e.Programs[0])
	arguments := map[Kind][]string{PHP: {"-n", "-v"}, Web: {"-v"}, Database: {"--no-defaults", "--version"}}[e.Kind]
	out, err := exec.CommandContext(ctx, program, arguments...).CombinedOutput()
	version := versionNumber.FindString(string(out))
	if version == "" {
		return "", fmt.Errorf("%s does not tell its version: %s (%v)", program, strings.TrimSpace(string(out)), err)
	}
	return version, nil
}
