package hosting_test

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cms"
	"vessik/internal/hosting"
	"vessik/test/ground"
)

func TestMain(m *testing.M) { os.Exit(ground.Main(m)) }

// folderLine is an account whose folder lies here.
type folderLine struct {
	hosting.Line
	folder string
}

func (l folderLine) List(_ context.Context, folder string) (all []hosting.Entry, err error) {
	found, err := os.ReadDir(filepath.Join(l.folder, folder))
	for _, each := range found {
		all = append(all, hosting.Entry{Path: filepath.Join(folder, each.Name()), Folder: each.IsDir(), Regular: each.Type().IsRegular()})
	}
	return all, err
}

func (l folderLine) Write(_ context.Context, name string, from io.Reader) error {
	text, err := io.ReadAll(from)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(l.folder, name), text, 0o644)
}

func (l folderLine) Remove(_ context.Context, name string) error {
	return os.Remove(filepath.Join(l.folder, name))
}

// served has PHP serve a folder, in which a helper lies.
func served(t *testing.T, id, folder string) (h *hosting.Helper, name string) {
	t.Helper()
	programs, err := filepath.Glob(filepath.Join(ground.Engine(t, id).Dir, "root/usr/bin/php[0-9].[0-9]"))
	require.NoError(t, err)
	require.Len(t, programs, 1)
	address := fmt.Sprintf("127.0.0.1:%d", ground.FreePort(t))
	flags := []string{"-n", "-S", address, "-t", folder}
	extensions, err := filepath.Glob(filepath.Join(ground.Engine(t, id).Dir, "root/usr/lib/php/*/json.so")) // a file of its own until 8.0
	require.NoError(t, err)
	for _, file := range extensions {
		flags = append(flags, "-d", "extension="+file)
	}
	php := exec.Command(programs[0], flags...)
	require.NoError(t, php.Start())
	t.Cleanup(func() {
		php.Process.Kill()
		php.Wait()
	})
	require.Eventually(t, func() bool {
		_, _, err := hosting.Get(context.Background(), "http://"+address+"/")
		return err == nil
	}, 20*time.Second, 10*time.Millisecond)
	name, key := hosting.HelperName()
	h, err = hosting.Lay(context.Background(), folderLine{folder: folder}, "http://"+address, name, key)
	require.NoError(t, err)
	return h, name
}

// phps are all that Vessik has.
var phps = []string{"php-7.4", "php-8.2", "php-8.4"}

func layAll(t *testing.T, folder string, files map[string]string) {
	t.Helper()
	for path, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, path), []byte(text), 0o644))
	}
}

// site is all that lies in a folder, but for what is ours.
func siteIn(t *testing.T, folder string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		name, _ := filepath.Rel(folder, path)
		if err != nil || d.IsDir() && path != folder && strings.HasPrefix(d.Name(), ".move-") {
			return errOr(err, fs.SkipDir)
		}
		if !d.Type().IsRegular() || strings.HasPrefix(d.Name(), "move-") {
			return nil
		}
		text, err := os.ReadFile(path)
		all[name] = string(text)
		return err
	}))
	return all
}

func errOr(err, other error) error {
	if err != nil {
		return err
	}
	return other
}

// A helper tells what lies in its folder, and is not among it; links are passed by.
func TestWhatAHelperTells(t *testing.T) {
	for _, id := range phps {
		t.Run(id, func(t *testing.T) {
			t.Parallel()
			folder := ground.Folder(t)
			layAll(t, folder, map[string]string{"index.php": "<?php", "a/b/c.txt": "fern", "caf\u00e9 'x'.txt": "", ".htaccess": "x"})
			require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(folder, "a/link")))
			h, name := served(t, id, folder)
			looked, err := h.Look(context.Background(), hosting.Configuration{})
			require.NoError(t, err)
			assert.True(t, strings.HasPrefix(looked.PHP, id[len("php-"):]), looked.PHP)
			assert.Equal(t, folder, looked.Folder)
			assert.True(t, looked.Case)
			assert.True(t, looked.Writable)
			l, err := h.List(context.Background(), []string{".htaccess"})
			require.NoError(t, err)
			paths := []string{}
			for _, e := range l.Entries {
				paths = append(paths, e.Path)
			}
			assert.Equal(t, []string{"a", "a/b", "a/b/c.txt", "caf\u00e9 'x'.txt", "index.php"}, paths)
			assert.Equal(t, 1, l.Other)
			sums, err := h.Hashes(context.Background(), []string{"a/b/c.txt", "a/link", "nowhere"})
			require.NoError(t, err)
			fern := sha256.Sum256([]byte("fern"))
			assert.Equal(t, []string{hex.EncodeToString(fern[:]), "", ""}, sums)
			_, err = h.Query(context.Background(), hosting.Configuration{File: "wp-config.php"}, "SELECT 1")
			require.ErrorContains(t, err, "wp-config.php is not here")
			require.NoError(t, h.Remove(context.Background()))
			require.NoError(t, hosting.TakeAway(context.Background(), folderLine{folder: folder}, name))
			left, err := filepath.Glob(filepath.Join(folder, "move-*"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

// Nobody else is answered, and nobody twice; a helper that nobody asks takes itself away.
func TestWhomAHelperAnswers(t *testing.T) {
	folder := ground.Folder(t)
	h, name := served(t, "php-8.4", folder)
	address, secret, by := h.Secret()
	post := func(key string, asked map[string]any) (int, string) {
		body, err := json.Marshal(asked)
		require.NoError(t, err)
		signed := hmac.New(sha256.New, []byte(key))
		signed.Write(body)
		request, err := http.NewRequest("POST", address, bytes.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Vessik-Signature", hex.EncodeToString(signed.Sum(nil)))
		response, err := by.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	now := time.Now().Unix()
	status, text := post("guessed", map[string]any{"n": 1, "at": now, "do": "look"})
	assert.Equal(t, 403, status)
	assert.Empty(t, text)
	number := 1
	for says, asked := range map[string]map[string]any{
		"too old":              {"at": now - 3600, "do": "look"},
		"no request":           {"at": nil, "do": "look"},
		"nothing is called":    {"at": now, "do": "phpinfo"},
		"that is no stage":     {"at": now, "do": "back", "stage": "../../etc", "maintenance": "", "tables": []string{}},
		"nothing is called so": {"at": now, "do": "remove"},
	} {
		number++
		asked["n"] = number
		status, text := post(secret, asked)
		assert.Equal(t, 200, status)
		assert.Contains(t, text, says)
	}
	_, text = post(secret, map[string]any{"n": 9, "at": now, "do": "look"})
	assert.Contains(t, text, `"php":`)
	for _, n := range []int{9, 8} {
		_, text = post(secret, map[string]any{"n": n, "at": now, "do": "look"})
		assert.Contains(t, text, "was answered already")
	}
	long := time.Now().Add(-20 * time.Minute)
	for _, file := range hosting.HelperFiles(name) {
		require.NoError(t, os.Chtimes(filepath.Join(folder, file), long, long))
	}
	status, _ = post(secret, map[string]any{"n": 10, "at": now, "do": "look"})
	assert.Equal(t, 410, status)
	assert.NoFileExists(t, filepath.Join(folder, name))
}

// From wherever a turn was broken off, it goes on to its end, and goes back to what was.
func TestATurnThatIsBrokenOffAnywhere(t *testing.T) {
	before := map[string]string{"a.php": "old a", "b/c.php": "old c", "gone/x.txt": "old x", "stays.txt": "s", "folder/inside": "1"}
	put := map[string]string{"a.php": "new a", "b/c.php": "new c", "made/deep/d.txt": "new d", "folder/inside": "2"}
	after := maps.Clone(before)
	maps.Copy(after, put)
	delete(after, "gone/x.txt")
	names, folder := slices.Sorted(maps.Keys(put)), ground.Folder(t)
	h, _ := served(t, "php-7.4", folder)
	k := &cms.Definition{Maintenance: cms.Maintenance{File: ".maintenance", Text: "TIME"}}
	for broken := range 2*len(names) + 2 {
		for _, goesBack := range []bool{false, true} {
			require.NoError(t, os.RemoveAll(filepath.Join(folder, "made")))
			layAll(t, folder, before)
			turn := hosting.Turn{Stage: hosting.StageName(), Put: names, Gone: []string{"gone/x.txt"}}
			stage := filepath.Join(folder, turn.Stage)
			layAll(t, filepath.Join(stage, "new"), put)
			if broken > 0 {
				breakOff(t, folder, stage, turn, broken-1)
			}
			if goesBack {
				require.NoError(t, h.Back(context.Background(), hosting.Configuration{}, k, turn))
				assert.Equal(t, before, siteIn(t, folder), "broken off at %d", broken)
				assert.NoDirExists(t, stage)
				continue
			}
			require.NoError(t, h.Turn(context.Background(), hosting.Configuration{}, k, "", turn))
			assert.Equal(t, after, siteIn(t, folder), "broken off at %d", broken)
			assert.NoDirExists(t, filepath.Join(folder, "gone"), "nor an empty folder")
			require.NoError(t, h.Turn(context.Background(), hosting.Configuration{}, k, "", turn), "and may be asked again")
			assert.Equal(t, after, siteIn(t, folder))
			require.NoError(t, h.Clear(context.Background(), hosting.Configuration{}, k, turn))
			assert.NoDirExists(t, stage)
			assert.Equal(t, after, siteIn(t, folder))
			require.NoError(t, os.RemoveAll(filepath.Join(folder, "made")))
		}
	}
}

// breakOff leaves a turn as a host does that ends the request after so many renames.
func breakOff(t *testing.T, folder, stage string, turn hosting.Turn, renames int) {
	t.Helper()
	state, err := json.Marshal(map[string]any{"put": hosting.Encoded(turn.Put), "gone": hosting.Encoded(turn.Gone), "tables": []string{},
		"had": []string{}})
	require.NoError(t, err)
	layAll(t, stage, map[string]string{"turn.php": "<?php exit; ?>\n" + string(state)})
	layAll(t, folder, map[string]string{".maintenance": "1"})
	move := func(from, to string) {
		if renames--; renames < 0 {
			return
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(t, os.Rename(from, to))
	}
	for _, name := range turn.Put {
		if _, err := os.Stat(filepath.Join(folder, name)); err == nil {
			move(filepath.Join(folder, name), filepath.Join(stage, "old", name))
		}
		move(filepath.Join(stage, "new", name), filepath.Join(folder, name))
	}
}

// What is the live site's own stays so, in the tables of every sub-site, and in no other one.
func TestWhatIsKeptAtTheHost(t *testing.T) {
	definitions, faults := cms.All(t.TempDir())
	require.Empty(t, faults)
	kept := hosting.Keeping(definitions["wordpress"], []string{"k_options", "k_posts", "k_2_options", "other_options"}, "k_")
	require.Len(t, kept, 2)
	assert.Equal(t, "k_options", kept[0]["table"])
	assert.Equal(t, "k_2_options", kept[1]["table"])
	assert.Contains(t, kept[0]["sql"], "UPDATE {next} AS n JOIN {now} AS o ON n.`option_name`=o.`option_name` SET "+
		"n.`option_value`=o.`option_value`")
	assert.Contains(t, kept[0]["sql"], "'blog_public'")
	assert.Regexp(t, `^\.move-[a-z2-7]{20}$`, hosting.StageName())
}
