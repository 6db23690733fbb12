// Package shape keeps the code in the shape that docs/architecture.md describes: short lines, short functions, and arrows that run one way.
package shape

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

const (
	longestLine     = 140 // characters
	longestFunction = 80  // lines
	longestFile     = 600 // lines
	root            = "../.."
)

// file is a parsed one; its path is below the module's root.
type file struct {
	path   string
	text   string
	parsed *ast.File
	set    *token.FileSet
}

func files(t *testing.T) (all []file) {
	t.Helper()
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && (entry.Name() == "node_modules" || strings.HasPrefix(entry.Name(), ".g")) {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") {
			return nil
		}
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, path, nil, parser.ParseComments)
		require.NoError(t, err)
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		relative, err := filepath.Rel(root, path)
		all = append(all, file{filepath.ToSlash(relative), string(text), parsed, set})
		return err
	})
	require.NoError(t, err)
	require.Greater(t, len(all), 200)
	return all
}

func TestLinesAndFilesAreShort(t *testing.T) {
	for _, f := range files(t) {
		lines := strings.Split(f.text, "\n")
		if len(lines) > longestFile {
			t.Errorf("%s has %d lines, and %d are the most", f.path, len(lines), longestFile)
		}
		for n, line := range lines {
			if length := utf8.RuneCountInString(line); length > longestLine {
				t.Errorf("%s:%d is %d characters long", f.path, n+1, length)
			}
		}
	}
}

func TestFunctionsAreShort(t *testing.T) {
	for _, f := range files(t) {
		for _, declaration := range f.parsed.Decls {
			function, ok := declaration.(*ast.FuncDecl)
			if !ok || strings.HasSuffix(f.path, "_test.go") {
				continue
			}
			from, to := f.set.Position(function.Pos()).Line, f.set.Position(function.End()).Line
			if length := to - from + 1; length > longestFunction {
				t.Errorf("%s:%d: %s has %d lines, and %d are the most", f.path, from, function.Name.Name, length, longestFunction)
			}
		}
	}
}

// features are the rooms that never import each other: what they have in common lies below them.
var features = []string{"create", "lifecycle", "restack", "settings", "rename", "load", "trial", "engines", "hosts", "defaults", "users",
	"info",
	"logs", "command", "fleet", "saving", "sending", "restore", "parts", "uploads", "outgoing", "database", "phperrors", "helpers",
	"moving", "invite", "remarks", "screens", "standing"}

// ranks are the rooms by how far up they are: a room imports nothing that stands above it.
var ranks = [][]string{
	{"core/site", "core/check", "core/dump", "core/rewrite", "core/render", "core/plan", "core/fleet", "core/wire", "core/yamltext",
		"core/message", "core/outgoing", "core/grid", "core/phperrors", "core/walk", "core/retention", "core/rowset", "core/hosting",
		"core/screens"},
	{"ownfile", "safefile", "seal", "background", "page"},
	{"cell/launcher", "cell/inside", "cell", "proc", "home", "names", "archive", "picture", "engine", "gateway", "guest", "relay",
		"survey", "registry",
		"records", "blobs", "authority", "trust"},
	{"cms", "stencil", "parcel", "shelf"}, {"hosting"},
	{"operation"}, {"running"}, {"mailbox"}, {"origin", "verify", "points"}, {"walk"}, {"facts", "change"}, features, {"api"}, {"service"}}

func TestArrowsRunOneWay(t *testing.T) {
	rank := map[string]int{}
	for n, rooms := range ranks {
		for _, room := range rooms {
			rank[room] = n
		}
	}
	for _, f := range files(t) {
		here, inside := strings.CutPrefix(filepath.ToSlash(filepath.Dir(f.path)), "internal/")
		if strings.HasSuffix(f.path, "_test.go") || inside && strings.HasSuffix(here, "test") {
			continue
		}
		for _, each := range f.parsed.Imports {
			path, err := strconv.Unquote(each.Path.Value)
			require.NoError(t, err)
			there, ours := strings.CutPrefix(path, "vessik/internal/")
			if !ours {
				if inside && strings.HasPrefix(path, "vessik/") && here != "service" && path != "vessik/internal" {
					t.Errorf("%s imports %s", f.path, path)
				}
				continue
			}
			above, known := rank[there]
			if !known {
				t.Errorf("%s imports %s, whose rank nobody told", f.path, there)
			}
			switch {
			case strings.HasPrefix(f.path, "client/") && !strings.HasPrefix(there, "core/"),
				strings.HasPrefix(here, "core/") && !strings.HasPrefix(there, "core/"),
				inside && above > rank[here],
				inside && slices.Contains(features, here) && slices.Contains(features, there):
				t.Errorf("%s imports %s: arrows run the other way", f.path, there)
			}
		}
	}
}
