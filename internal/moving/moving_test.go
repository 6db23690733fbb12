package moving

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cms"
	"vessik/internal/core/rowset"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/home"
	"vessik/internal/hosting"
	"vessik/internal/parcel"
	"vessik/internal/records"
	"vessik/internal/running"
)

var ctx = context.Background()

// at is the time that a host's files have here, to the second.
var at = time.Date(2026, 11, 29, 6, 0, 0, 0, time.UTC)

func wordpress(t *testing.T) *cms.Definition { return definition(t, "wordpress") }

func definition(t *testing.T, name string) *cms.Definition {
	t.Helper()
	definitions, faults := cms.All(t.TempDir())
	require.Empty(t, faults)
	return definitions[name]
}

// lay writes files into a folder, by their paths.
func lay(t *testing.T, folder string, files map[string]string) {
	t.Helper()
	for path, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, path), []byte(text), 0o644))
	}
}

// read reads all files of a folder.
func read(t *testing.T, folder string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		name, _ := filepath.Rel(folder, path)
		text, err := os.ReadFile(path)
		all[name] = string(text)
		return err
	}))
	return all
}

// compared compares a site's folder with a host's, of which was is what both had in common.
func compared(t *testing.T, here, there, was map[string]string, asked wire.Push, edit ...func(*comparing)) *comparing {
	t.Helper()
	m := mirror{t.TempDir()}
	folder := t.TempDir()
	lay(t, folder, here)
	lay(t, m.files(), there)
	require.NoError(t, os.MkdirAll(m.files(), 0o755))
	before := t.TempDir()
	lay(t, before, was)
	sums := map[string]string{}
	for path := range was {
		sum, err := sumOf(before, path)
		require.NoError(t, err)
		sums[path] = sum
	}
	c := &comparing{m: m, s: site.Site{Name: "orchard", Folder: folder}, asked: asked, base: base{Files: sums}, preview: &wire.Pushed{}}
	for _, each := range edit {
		each(c)
	}
	require.NoError(t, c.files(ctx, definition(t, cmp.Or(c.said.CMS.Name, "wordpress"))))
	return c
}

// becomes says in a word what becomes of each file.
func becomes(c *comparing) map[string]string {
	all := map[string]string{}
	for _, f := range c.preview.Files {
		all[f.Path] = f.What
		if f.Conflict {
			all[f.Path] += "!"
		}
	}
	return all
}

type tree = map[string]string

// Three sides tell what was changed where: what was changed here alone is pushed, what was changed there alone stays, both is a conflict.
func TestThreeSidesOfAFile(t *testing.T) {
	for name, each := range map[string]struct {
		here, there, was, pushed tree
		stays                    int
	}{
		"nothing was changed":         {tree{"a": "1"}, tree{"a": "1"}, tree{"a": "1"}, tree{}, 0},
		"changed here":                {tree{"a": "2"}, tree{"a": "1"}, tree{"a": "1"}, tree{"a": "changed"}, 0},
		"changed there":               {tree{"a": "1"}, tree{"a": "2"}, tree{"a": "1"}, tree{}, 1},
		"changed on both sides":       {tree{"a": "2"}, tree{"a": "3"}, tree{"a": "1"}, tree{"a": "changed!"}, 0},
		"changed alike":               {tree{"a": "2"}, tree{"a": "2"}, tree{"a": "1"}, tree{}, 0},
		"made here":                   {tree{"a": "1"}, tree{}, tree{}, tree{"a": "new"}, 0},
		"made there":                  {tree{}, tree{"a": "1"}, tree{}, tree{}, 1},
		"made on both sides":          {tree{"a": "1"}, tree{"a": "2"}, tree{}, tree{"a": "changed!"}, 0},
		"removed here":                {tree{}, tree{"a": "1"}, tree{"a": "1"}, tree{"a": "gone"}, 0},
		"removed there":               {tree{"a": "1"}, tree{}, tree{"a": "1"}, tree{}, 1},
		"removed here, changed there": {tree{}, tree{"a": "2"}, tree{"a": "1"}, tree{"a": "gone!"}, 0},
		"changed here, removed there": {tree{"a": "2"}, tree{}, tree{"a": "1"}, tree{"a": "new!"}, 0},
		"a folder is removed": {tree{}, tree{"x/a": "1", "x/y/b": "2"}, tree{"x/a": "1", "x/y/b": "2"}, tree{"x/a": "gone",
			"x/y/b": "gone"}, 0},
		"a folder holds what came":      {tree{}, tree{"x/a": "1", "x/new": "2"}, tree{"x/a": "1"}, tree{"x/a": "gone"}, 1},
		"a file became a folder":        {tree{"x/a": "1"}, tree{"x": "1"}, tree{"x": "1"}, tree{"x/a": "new"}, 0},
		"nor the configuration":         {tree{"wp-config.php": "here"}, tree{"wp-config.php": "there"}, tree{"wp-config.php": "was"}, tree{}, 0},
		"names that cannot be carried":  {tree{"a\nb": "1", "caf\xe9": "1"}, tree{}, tree{}, tree{}, 0},
		"names that only look the same": {tree{"A": "1"}, tree{"a": "1"}, tree{"a": "1"}, tree{"A": "new", "a": "gone"}, 0},
	} {
		t.Run(name, func(t *testing.T) {
			c := compared(t, each.here, each.there, each.was, wire.Push{})
			assert.Equal(t, each.pushed, becomes(c))
			assert.Equal(t, each.stays, c.preview.Stays)
			conflicts := 0
			for path, what := range becomes(c) {
				if strings.HasSuffix(what, "!") {
					conflicts++
				}
				if strings.HasPrefix(what, "gone") {
					assert.Contains(t, c.plan.Gone, path)
				} else {
					assert.Contains(t, c.plan.Put, path)
				}
			}
			assert.Equal(t, conflicts, c.preview.Conflicts)
			assert.Equal(t, len(each.pushed), c.preview.New+c.preview.Changed+c.preview.Gone)
		})
	}
}

// What is asked for bounds what is pushed: paths, what is kept, and one half of the site.
func TestWhatIsAskedForIsPushed(t *testing.T) {
	here := tree{"a": "2", "themes/hedge/style.css": "2", "themes/hedge-row/style.css": "2"}
	there := tree{"a": "1", "themes/hedge/style.css": "1", "themes/hedge-row/style.css": "1", "b": "1"}
	assert.Len(t, becomes(compared(t, here, there, there, wire.Push{})), 4)
	assert.Equal(t, tree{"themes/hedge/style.css": "changed"}, becomes(compared(t, here, there, there,
		wire.Push{Paths: []string{"themes/hedge"}})))
	assert.Equal(t, tree{"themes/hedge-row/style.css": "changed", "b": "gone"},
		becomes(compared(t, here, there, there, wire.Push{Keep: []string{"a", "themes/hedge"}})))
	assert.Empty(t, becomes(compared(t, here, there, there, wire.Push{Only: "database"})))
	c := compared(t, here, there, there, wire.Push{Keep: []string{"b"}})
	assert.NotContains(t, c.plan.Gone, "b")
	assert.Equal(t, tree{"IMG/a": "new"}, becomes(compared(t, tree{"local/a": "1", "IMG/a": "1"}, tree{"tmp/b": "1"}, tree{}, wire.Push{},
		func(c *comparing) { c.said.CMS.Name = "spip" })), "what is made again by itself is not pushed")
}

// Where a site was pulled without something, what has a name there stays, and what has none goes there.
func TestWhatWasLeftAtTheHostIsComparedByName(t *testing.T) {
	c := compared(t, tree{"uploads/new": "1", "uploads/old": "another"}, tree{}, tree{}, wire.Push{}, func(c *comparing) {
		c.plan.Without, c.said.LeftOut = []string{"uploads"}, []string{"uploads"}
		c.at.list.Entries = []hosting.Entry{{Path: "uploads", Folder: true}, {Path: "uploads/old", Regular: true, Size: 1}}
	})
	assert.Equal(t, tree{"uploads/new": "new"}, becomes(c))
}

func rows(texts ...string) rowset.Table {
	table, err := rowset.Read(strings.NewReader("INSERT INTO `t` VALUES\n("+strings.Join(texts, "),\n(")+");\n"), nil)
	if err != nil {
		panic(err)
	}
	return table["t"]
}

// So it is for tables; those that tell of people stay the host's unless they are asked for.
func TestThreeSidesOfATable(t *testing.T) {
	k := wordpress(t)
	judged := func(name string, here, there, was rowset.Table, asked wire.Push) (pushed *wire.PushedTable, stays bool) {
		c := &comparing{asked: asked, said: wire.Parcel{Prefix: "k_"}, base: base{Tables: map[string]string{}}, preview: &wire.Pushed{}}
		if was != nil {
			c.base.Tables[name] = was.Pack()
		}
		all := map[string]rowset.Table{}
		if there != nil {
			all[name] = there
		}
		c.table(k, name, here, all)
		assert.Equal(t, len(c.preview.Tables), len(c.plan.Tables))
		if len(c.preview.Tables) == 1 {
			return &c.preview.Tables[0], false
		}
		return nil, len(c.preview.StaysTables) == 1
	}
	one, two, three := rows("'1'"), rows("'1'", "'2'"), rows("'1'", "'3'")
	pushed, _ := judged("k_posts", two, one, one, wire.Push{})
	assert.Equal(t, &wire.PushedTable{Name: "k_posts", New: 1}, pushed)
	pushed, stays := judged("k_posts", one, two, one, wire.Push{})
	assert.Nil(t, pushed)
	assert.True(t, stays, "changed there alone")
	pushed, _ = judged("k_posts", two, three, one, wire.Push{})
	assert.Equal(t, &wire.PushedTable{Name: "k_posts", New: 1, Gone: 1, Lost: 1}, pushed)
	pushed, _ = judged("k_posts", two, one, nil, wire.Push{})
	assert.Equal(t, &wire.PushedTable{Name: "k_posts", New: 1}, pushed, "nothing of the host's would be lost")
	pushed, _ = judged("k_beds", one, nil, nil, wire.Push{})
	assert.Equal(t, &wire.PushedTable{Name: "k_beds", New: 1}, pushed, "a table that the host has not")
	for _, people := range []string{"k_users", "k_usermeta", "k_comments", "k_3_comments"} {
		pushed, stays = judged(people, two, one, one, wire.Push{})
		assert.Nil(t, pushed, people)
		assert.True(t, stays, people)
		pushed, _ = judged(people, two, one, one, wire.Push{People: true})
		assert.NotNil(t, pushed, people)
		pushed, _ = judged(people, two, one, one, wire.Push{Tables: []string{people}})
		assert.NotNil(t, pushed, people)
		assert.True(t, namesPeople(k, []string{people}))
	}
	assert.False(t, namesPeople(k, []string{"k_posts"}))
	pushed, _ = judged("k_posts", two, one, one, wire.Push{Tables: []string{"k_options"}})
	assert.Nil(t, pushed)
	pushed, _ = judged("k_posts", two, one, one, wire.Push{Keep: []string{"k_posts"}})
	assert.Nil(t, pushed)
}

func entry(path string, size int) hosting.Entry {
	return hosting.Entry{Path: path, Regular: true, Size: int64(size), Modified: at}
}

// What comes of a file stands under its name once it is whole; a line that is cut leaves a part, from which it is gone on with.
func TestAFileThatComesInParts(t *testing.T) {
	m := mirror{t.TempDir()}
	offered := []int64{}
	cut := func(bytes int) func(io.Writer, int64) error {
		return func(to io.Writer, from int64) error {
			offered = append(offered, from)
			text := "the whole text"[from:]
			if bytes > 0 && len(text) > bytes {
				io.WriteString(to, text[:bytes])
				return io.ErrUnexpectedEOF
			}
			_, err := io.WriteString(to, text)
			return err
		}
	}
	e := entry("a/b.txt", 14)
	require.ErrorIs(t, m.take(e, cut(5)), io.ErrUnexpectedEOF)
	require.ErrorIs(t, m.take(e, cut(5)), io.ErrUnexpectedEOF)
	assert.NoFileExists(t, filepath.Join(m.incoming(), "a/b.txt"))
	require.NoError(t, m.take(e, cut(0)))
	assert.Equal(t, []int64{0, 5, 10}, offered)
	assert.Equal(t, tree{"a/b.txt": "the whole text"}, read(t, m.incoming()))
	info, err := os.Stat(filepath.Join(m.incoming(), "a/b.txt"))
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(at), "so that it is known again")
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	offered = nil
	require.ErrorIs(t, m.take(entry("c", 14), cut(3)), io.ErrUnexpectedEOF)
	newer := entry("c", 14)
	newer.Modified = at.Add(time.Second)
	newer.Executable = true
	require.NoError(t, m.take(newer, cut(0)))
	assert.Equal(t, []int64{0, 0}, offered, "another file begins anew")
	info, err = os.Stat(filepath.Join(m.incoming(), "c"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o755), info.Mode().Perm())

	broken := errors.New("the disk is full")
	require.ErrorIs(t, m.take(entry("d", 1), func(io.Writer, int64) error { return broken }), broken)
	left, err := filepath.Glob(filepath.Join(m.dir, "coming/d/*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	counted := &counting{to: io.Discard, most: 10}
	_, err = counted.Write(bytes.Repeat([]byte("x"), 11))
	require.ErrorIs(t, err, errOther, "a file without an end")
}

// What has come stands in the mirror at once, or the mirror says that it is not whole.
func TestTheMirrorBecomesWhatCame(t *testing.T) {
	m := mirror{t.TempDir()}
	lay(t, m.dir, tree{"database.sql": "old"})
	lay(t, m.files(), tree{"stays": "1", "goes/a": "1", "was-a-file": "1", "was-a-folder/a": "1"})
	lay(t, m.incoming(), tree{"new/a": "2", "was-a-file/a": "2", "was-a-folder": "2"})
	lay(t, m.dir, tree{"database.sql.next": "new"})
	said := wire.Parcel{Format: parcel.Format, Site: "orchard", Title: "Orchard", CMS: site.CMS{Name: "wordpress", Version: "6.8"},
		Prefix: "k_",
		URL:    "https://orchard.example", Stack: site.Stack{PHP: "php-8.4", Web: "nginx-1.26", Database: "mariadb-11.8"}, MadeAt: at,
		Database: true}
	all := []hosting.Entry{entry("stays", 1), {Path: "new", Folder: true}, entry("new/a", 1), {Path: "was-a-file", Folder: true},
		entry("was-a-file/a", 1), entry("was-a-folder", 1), {Path: "empty", Folder: true}}
	require.Nil(t, m.fetched())
	require.NoError(t, m.put(ctx, []string{"goes", "goes/a", "was-a-file", "was-a-folder", "was-a-folder/a"}, all, said,
		wire.Fetched{Files: 4}))
	assert.Equal(t, tree{"stays": "1", "new/a": "2", "was-a-file/a": "2", "was-a-folder": "2"}, read(t, m.files()))
	assert.DirExists(t, filepath.Join(m.files(), "empty"))
	assert.NoDirExists(t, m.incoming())
	text, err := os.ReadFile(m.dump())
	require.NoError(t, err)
	assert.Equal(t, "new", string(text))
	require.NotNil(t, m.fetched())
	assert.Equal(t, 4, m.fetched().Files)
	got, err := parcel.Read(m.dir)
	require.NoError(t, err)
	assert.Equal(t, said, got)
	require.NoError(t, os.Remove(m.manifest())) // as a machine leaves it that dies in the middle
	assert.Nil(t, m.fetched())
	_, err = parcel.Read(m.dir)
	require.ErrorContains(t, err, "fetch it again")
}

// Nobody takes a thing twice, and what is given back is taken by somebody.
func TestAQueueGivesEachThingOnce(t *testing.T) {
	q := &queue[int]{}
	for i := range 500 {
		q.back(i)
	}
	var mu sync.Mutex
	taken := map[int]int{}
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for item, ok := q.next(); ok; item, ok = q.next() {
				mu.Lock()
				taken[item]++
				first := taken[item] == 1
				mu.Unlock()
				if first && item%7 == 0 {
					q.back(item)
				}
			}
		})
	}
	all.Wait()
	require.Len(t, taken, 500)
	for item, times := range taken {
		assert.Equal(t, map[bool]int{true: 2, false: 1}[item%7 == 0], times)
	}
}

func feature(t *testing.T) *Feature {
	t.Helper()
	place, err := home.New(t.TempDir(), "")
	require.NoError(t, err)
	return &Feature{Machine: &running.Machine{Home: place, Log: slog.New(slog.DiscardHandler), CMS: &cms.Library{Dir: t.TempDir()}}}
}

// What a push puts aside comes back by its undo, which is offered once the push stands, and knows what the host had then.
func TestWhatTakesAPushBack(t *testing.T) {
	f := feature(t)
	m := f.mirror("orchard")
	lay(t, m.files(), tree{"changed": "old", "gone": "old", "other": "old"})
	lay(t, m.dir, tree{"database.sql": "CREATE TABLE `k_posts` (id INT);\nINSERT INTO `k_posts` VALUES\n('1');\n", "base.json": "{}"})
	p := planned{CMS: "wordpress", Prefix: "k_", Before: 200, Said: &wire.Pushed{Site: "orchard"}}
	p.Put, p.Gone, p.Tables = []string{"changed", "new"}, []string{"gone"}, []string{"k_posts"}
	require.NoError(t, f.keepUndo(m, p))
	assert.NoDirExists(t, m.undoing(), "it does not stand yet")
	require.NoError(t, f.keepUndo(m, p), "and may be asked again")

	lay(t, m.files(), tree{"new": "new"})
	require.NoError(t, os.WriteFile(filepath.Join(m.dir, "x"), []byte("now"), 0o600))
	require.NoError(t, os.Rename(filepath.Join(m.dir, "x"), filepath.Join(m.files(), "changed")))
	require.NoError(t, os.Remove(filepath.Join(m.files(), "gone")))
	require.NoError(t, f.offerUndo(m))
	undo, err := readPlan(m.undoing("plan.json"))
	require.NoError(t, err)
	assert.True(t, undo.Undo)
	assert.ElementsMatch(t, []string{"changed", "gone"}, undo.Put)
	assert.Equal(t, []string{"new"}, undo.Gone)
	assert.Equal(t, []string{"k_posts"}, undo.Tables)
	assert.Equal(t, tree{"changed": "old", "gone": "old"}, read(t, undo.Folder))
	assert.FileExists(t, undo.Dump)
	assert.FileExists(t, m.undoing("base.json"))
	require.NoError(t, f.offerUndo(m), "a service that was killed here asks again")

	now, err := f.state(m, undo)
	require.NoError(t, err)
	assert.Empty(t, undo.After.changed(now))
	lay(t, m.files(), tree{"new": "another", "gone": "again", "other": "another"})
	require.NoError(t, os.WriteFile(m.dump(), []byte("INSERT INTO `k_posts` VALUES\n('2');\n"), 0o600))
	now, err = f.state(m, undo)
	require.NoError(t, err)
	assert.Equal(t, []string{"gone", "new", "the table k_posts"}, undo.After.changed(now), "what the push does not concern is nothing")
	assert.Equal(t, []string{"changed", "gone", "new", "the table k_posts"}, (&base{}).changed(now), "where nothing is known")
}

// What both sides have in common belongs to one site, whatever its name is later.
func TestWhatIsInCommonBelongsToOneSite(t *testing.T) {
	f := feature(t)
	m := f.mirror("orchard")
	require.NoError(t, os.MkdirAll(m.dir, 0o755))
	s := site.Site{Name: "orchard", CreatedAt: at}
	require.NoError(t, writeJSON(m.baseFile(), base{Site: identity(s), Masked: true, Files: map[string]string{"a": "1"}}))
	assert.True(t, m.base(s).Masked)
	s.Name = "renamed"
	assert.Len(t, m.base(s).Files, 1)
	assert.Empty(t, m.base(site.Site{Name: "orchard", CreatedAt: at.Add(time.Hour)}).Files, "another site of that name")
	require.NoError(t, os.WriteFile(m.baseFile(), []byte("{"), 0o600))
	assert.Empty(t, m.base(s).Files)
	here, there := t.TempDir(), t.TempDir()
	lay(t, here, tree{"same": "1", "changed-here": "2", "made-here": "1"})
	lay(t, there, tree{"same": "1", "changed-here": "1", "made-there": "1"})
	before := base{Files: map[string]string{"changed-here": "as it was", "long-gone": "x"}}
	sums, marks, err := same(ctx, there, here, before)
	require.NoError(t, err)
	assert.Len(t, sums, 2)
	assert.Equal(t, "as it was", sums["changed-here"])
	assert.Empty(t, marks, "what was written a moment ago may be written again at what is the same time for a file system")
}

// Files that were the same are not read again until one of them is written, with whatever time it says to have.
func TestFilesThatWereTheSameAreNotReadAgain(t *testing.T) {
	here, there := t.TempDir(), t.TempDir()
	lay(t, here, tree{"a": "pear", "b": "pear"})
	lay(t, there, tree{"a": "pear", "b": "pear"})
	time.Sleep(2100 * time.Millisecond)
	sums, marks, err := same(ctx, there, here, base{})
	require.NoError(t, err)
	require.Len(t, marks, 2)
	known := base{Files: maps.Clone(sums), Twins: marks}
	known.Files["a"], known.Files["b"] = "not read", "not read"
	info, err := os.Stat(filepath.Join(here, "b"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(here, "b"), []byte("plum"), 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(here, "b"), info.ModTime(), info.ModTime()))
	again, marks, err := same(ctx, there, here, known)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a": "not read", "b": "not read"}, again, "of one that differs, what was known before")
	assert.Len(t, marks, 1)
	require.NoError(t, os.WriteFile(filepath.Join(there, "b"), []byte("plum"), 0o644))
	again, _, err = same(ctx, there, here, known)
	require.NoError(t, err)
	assert.NotEqual(t, "not read", again["b"])
	assert.NotEqual(t, sums["b"], again["b"])
}

func TestWhenALiveSiteAnswersWorse(t *testing.T) {
	for _, each := range []struct {
		before, now int
		worse       bool
	}{{200, 200, false}, {200, 500, true}, {200, 0, true}, {500, 500, false}, {500, 0, false}, {0, 0, false}, {0, 500, true}, {0, 200, false},
		{404, 200, false}} {
		assert.Equal(t, each.worse, worse(each.before, each.now), "%+v", each)
	}
}

// What stays at the host: caches always, what is asked, and no path that leads out.
func TestWhatIsLeftAtAHost(t *testing.T) {
	k := wordpress(t)
	left, err := leftAtHost(k, []string{"uploads", "/big/", "wp-content/backups"})
	require.NoError(t, err)
	assert.Subset(t, left, append(append([]string{"big", "wp-content/backups"}, k.Layout.Caches...), k.Layout.Uploads...))
	for _, bad := range []string{"", ".", "..", "a/../b", "a\"b"} {
		_, err := leftAtHost(k, []string{bad})
		assert.ErrorContains(t, err, "is no path at the host", bad)
	}
	assert.Equal(t, "a.php .move-b", leftover(account("a.php", ".move-b")))
	assert.Empty(t, leftover(account("", "")))
	assert.Equal(t, "orchard-live", accountOf(part("orchard-live")))
}

func account(helper, stage string) (a records.Account) {
	a.Helper, a.Stage = helper, stage
	return a
}
