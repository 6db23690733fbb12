package points

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/home"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// garden is a site's folder, and the points of a home of its own.
func garden(t *testing.T) (*Points, site.Site) {
	t.Helper()
	p := &Points{Machine: &running.Machine{Home: home.Home{Dir: t.TempDir()}}}
	s := site.Site{Name: "moss", Folder: filepath.Join(t.TempDir(), "moss")}
	require.NoError(t, os.MkdirAll(filepath.Join(s.Folder, "beds/empty"), 0o755))
	for path, text := range map[string]string{"index.php": "<?php", "beds/fern.txt": "fern", "beds/none": ""} {
		require.NoError(t, os.WriteFile(filepath.Join(s.Folder, path), []byte(text), 0o644))
	}
	require.NoError(t, os.Chmod(filepath.Join(s.Folder, "index.php"), 0o755))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(s.Folder, "out")))
	return p, s
}

// take keeps a point's files, and a text in the place of its database.
func take(t *testing.T, p *Points, s site.Site, id, dump string) manifest {
	t.Helper()
	place := p.dir(s.Name, id)
	require.NoError(t, os.MkdirAll(place, 0o700))
	files, err := keepFiles(context.Background(), s.Folder, p.newest(s), p.store(s.Name))
	require.NoError(t, err)
	refs, err := p.store(s.Name).Put(context.Background(), strings.NewReader(dump))
	require.NoError(t, err)
	kept := manifest{Files: files, Database: refs}
	text, err := json.Marshal(kept)
	require.NoError(t, err)
	encoder, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(place, manifestName), encoder.EncodeAll(text, nil), 0o600))
	about, err := json.Marshal(Point{At: time.Now(), Folder: s.Folder})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(place, described), about, 0o600))
	return kept
}

func TestAFolderBecomesWhatItWas(t *testing.T) {
	p, s := garden(t)
	take(t, p, s, "1", "CREATE TABLE beds;")
	require.NoError(t, os.RemoveAll(s.Folder))
	require.NoError(t, os.MkdirAll(filepath.Join(s.Folder, "later"), 0o755))
	opened, err := p.Open(context.Background(), s.Name, "1")
	require.NoError(t, err)
	_, err = safefile.Match(context.Background(), opened.Files, s.Folder)
	require.NoError(t, err)
	again, err := safefile.Compare(context.Background(), opened.Files, s.Folder)
	require.NoError(t, err)
	assert.Equal(t, safefile.Difference{}, again)
	text, err := os.ReadFile(filepath.Join(s.Folder, "beds/fern.txt"))
	require.NoError(t, err)
	assert.Equal(t, "fern", string(text))
	dump, err := os.ReadFile(opened.Dump)
	require.NoError(t, err)
	assert.Equal(t, "CREATE TABLE beds;", string(dump))
	link, err := os.Readlink(filepath.Join(s.Folder, "out"))
	require.NoError(t, err)
	assert.Equal(t, "/etc/passwd", link, "a link stays one")
	assert.DirExists(t, filepath.Join(s.Folder, "beds/empty"))
	none, err := os.Stat(filepath.Join(s.Folder, "beds/none"))
	require.NoError(t, err)
	assert.Zero(t, none.Size())
	index, err := os.Stat(filepath.Join(s.Folder, "index.php"))
	require.NoError(t, err)
	assert.NotZero(t, index.Mode()&0o111)
	opened.Close()
	left, err := filepath.Glob(p.dir(s.Name, laidMark+"*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	require.NoError(t, os.MkdirAll(p.dir(s.Name, "2", copied), 0o700))
	_, err = p.Open(context.Background(), s.Name, "2")
	require.NoError(t, err, "one without a manifest is of a version that kept copies")
}

// Nothing of a folder is touched where a blob of what it is to hold is damaged.
func TestAFolderStaysWhereAPointIsDamaged(t *testing.T) {
	p, s := garden(t)
	kept := take(t, p, s, "1", "x")
	fern := filepath.Join(s.Folder, "beds/fern.txt")
	for _, each := range kept.Files {
		if each.Path == "beds/fern.txt" {
			require.NoError(t, os.WriteFile(p.dir(s.Name, blobsFolder, each.Refs[0].Sum[:2], each.Refs[0].Sum), []byte("spoilt"), 0o600))
		}
	}
	opened, err := p.Open(context.Background(), s.Name, "1")
	require.NoError(t, err)
	defer opened.Close()
	require.NoError(t, os.WriteFile(fern, []byte("moss"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "later.txt"), nil, 0o644))
	difference, err := safefile.Compare(context.Background(), opened.Files, s.Folder)
	assert.ErrorContains(t, err, "beds/fern.txt: the blob ", "who previews it is told as well")
	assert.Equal(t, safefile.Difference{Changed: []string{"beds/fern.txt"}, Gone: []string{"later.txt"}}, difference)
	_, err = safefile.Match(context.Background(), opened.Files, s.Folder)
	assert.ErrorContains(t, err, "beds/fern.txt: the blob ")
	text, err := os.ReadFile(fern)
	require.NoError(t, err)
	assert.Equal(t, "moss", string(text))
	assert.FileExists(t, filepath.Join(s.Folder, "later.txt"))
}

func TestRulesStayWithASitesPoints(t *testing.T) {
	p, s := garden(t)
	assert.Equal(t, Rules{}, p.Rules(s.Name))
	rules := Rules{Every: time.Hour, Most: 5 << 30}
	require.NoError(t, p.SetRules(s.Name, rules))
	assert.Equal(t, rules, p.Rules(s.Name))
	take(t, p, s, "1", "x")
	all, err := p.List(s)
	require.NoError(t, err)
	assert.Len(t, all, 1, "rules are no point")
	require.NoError(t, p.SetRules(s.Name, Rules{}))
	assert.NoFileExists(t, p.dir(s.Name, rulesName))
	assert.Equal(t, int64(10<<30), Rules{}.MostBytes())
}

// What is as old as the clock's steps is read again, what is older is not, and what was exchanged is.
func TestWhatNobodyChangedIsNotReadAgain(t *testing.T) {
	p, s := garden(t)
	first := take(t, p, s, "1", "x")
	for _, each := range first.Files {
		assert.Zero(t, each.Changed, "%s is too new to be trusted", each.Path)
	}
	time.Sleep(2*time.Second + 100*time.Millisecond)
	second := take(t, p, s, "2", "x")
	known := p.newest(s)
	fern := known["beds/fern.txt"]
	assert.NotZero(t, fern.Changed)
	assert.NotEmpty(t, fern.Refs)
	info, err := os.Stat(filepath.Join(s.Folder, "beds/fern.txt"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "beds/fern.txt"), []byte("moss"), 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(s.Folder, "beds/fern.txt"), info.ModTime(), info.ModTime())) // as a site may
	third := take(t, p, s, "3", "x")
	sums := func(m manifest) map[string]string {
		all := map[string]string{}
		for _, each := range m.Files {
			for _, ref := range each.Refs {
				all[each.Path] += ref.Sum
			}
		}
		return all
	}
	assert.Equal(t, sums(first), sums(second))
	assert.NotEqual(t, sums(second)["beds/fern.txt"], sums(third)["beds/fern.txt"], "the time that a site may set is not believed")
	assert.Equal(t, sums(second)["index.php"], sums(third)["index.php"])
}

func TestWhatAPointAloneHasGoesWithIt(t *testing.T) {
	p, s := garden(t)
	take(t, p, s, "1", "one")
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "later.txt"), []byte("later"), 0o644))
	take(t, p, s, "2", "two")
	require.NoError(t, p.Remove(s.Name, "2"))
	damages, points, read, err := p.Verify(context.Background(), s)
	require.NoError(t, err)
	assert.Empty(t, damages, "the other one is whole")
	assert.Equal(t, 1, points)
	files, err := filepath.Glob(p.dir(s.Name, blobsFolder, "*", "*"))
	require.NoError(t, err)
	assert.Len(t, files, read, "nothing is left that no point is made of")

	// A manifest that cannot be read keeps all blobs from being swept, and is told; nothing else fails for it.
	take(t, p, s, "3", "three")
	require.NoError(t, os.WriteFile(p.dir(s.Name, "3", manifestName), []byte("spoilt"), 0o600))
	require.NoError(t, p.Remove(s.Name, "nothing"))
	damages, _, _, err = p.Verify(context.Background(), s)
	require.NoError(t, err)
	assert.Equal(t, []Damage{{ID: "3"}}, damages)
	_, err = p.Open(context.Background(), s.Name, "3")
	assert.ErrorContains(t, err, "the manifest of the restore point 3 is damaged")
	require.NoError(t, p.Remove(s.Name, "3"))
	require.NoError(t, p.Remove(s.Name, "1"))
	assert.NoDirExists(t, p.dir(s.Name, blobsFolder))
	cancelled, cancel := context.WithCancel(context.Background())
	take(t, p, s, "4", "four")
	cancel()
	_, _, _, err = p.Verify(cancelled, s)
	assert.ErrorIs(t, err, context.Canceled)
}
