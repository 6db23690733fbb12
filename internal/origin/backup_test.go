package origin

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"vessik/internal/cms"
	"vessik/internal/home"
	"vessik/internal/running"
)

const (
	version = "<?php\n$wp_version = '6.4.2';\n"
	whole   = "CREATE TABLE `wp_comments` (a INT);\nCREATE TABLE `wp_options` (a INT);\n" +
		"INSERT INTO `wp_options` VALUES (1,'siteurl','https://moss.example','yes');\n"
	options = "CREATE TABLE `fern_options` (a INT);\nINSERT INTO `fern_options` VALUES (1,'siteurl','https://fern.example/','yes');\n"
	posts   = "CREATE TABLE `fern_posts` (a INT);\n"
)

func packedAs(t *testing.T, how, text string) string {
	t.Helper()
	var out bytes.Buffer
	var to io.WriteCloser = gzip.NewWriter(&out)
	if how == "xz" {
		var err error
		to, err = xz.NewWriter(&out)
		require.NoError(t, err)
	}
	_, err := io.WriteString(to, text)
	require.NoError(t, err)
	require.NoError(t, to.Close())
	return out.String()
}

// endless is what a hostile archive may have inside.
type endless struct{}

func (endless) Read(text []byte) (int, error) { return len(text), nil }

func TestNoMoreIsReadOfAnArchiveThanItTakes(t *testing.T) {
	l := &looking{left: 3 << 20}
	for _, read := range []int64{2 << 20, 1 << 20, 0} {
		n, err := io.Copy(io.Discard, l.bounded(endless{}, 2<<20))
		require.NoError(t, err)
		assert.Equal(t, read, n)
	}
}

// Archives as hosts and backup programs write them: what is in them is told before anything is made.
func TestWhatABackupHolds(t *testing.T) {
	log := slog.New(slog.DiscardHandler)
	g := &Origins{Machine: &running.Machine{Home: home.Home{Dir: t.TempDir()}, CMS: &cms.Library{Dir: t.TempDir(), Log: log}, Log: log}}
	for name, c := range map[string]struct {
		files        map[string]string
		holds, asked string
		names        []string
		fault        string
	}{
		"at its top, no database": {files: map[string]string{"wp-includes/version.php": version}, holds: "WordPress 6.4.2, no database"},
		"deep, with a dump beside": {files: map[string]string{"home/moss/public_html/wp-includes/version.php": version,
			"home/moss/backup/db.sql.gz": packedAs(t, "gz", whole)}, names: []string{"home/moss/backup/db.sql.gz"},
			holds: "WordPress 6.4.2 in home/moss/public_html/, a database in home/moss/backup/db.sql.gz (wp_, https://moss.example)"},
		"compressed otherwise": {files: map[string]string{"a/wp-includes/version.php": version, "a/dump.sql.xz": packedAs(t, "xz", whole)},
			names: []string{"a/dump.sql.xz"}, holds: "WordPress 6.4.2 in a/, a database in a/dump.sql.xz (wp_, https://moss.example)"},
		"a file for each table, and a plugin's own": {files: map[string]string{"wp-includes/version.php": version,
			"sql/fern_options.sql": options,
			"sql/fern_posts.sql":   posts, "wp-content/plugins/seeds/schema.sql": "CREATE TABLE `seeds` (a INT);"},
			names: []string{"sql/fern_options.sql", "sql/fern_posts.sql"},
			holds: "WordPress 6.4.2, a database in 2 files in sql/ (fern_, https://fern.example)"},
		"several": {files: map[string]string{"wp-includes/version.php": version, "old.sql": whole, "new.sql": whole},
			holds: "WordPress 6.4.2, several databases: new.sql (wp_, https://moss.example), old.sql (wp_, https://moss.example)",
			fault: "several databases, of which one is to be named"},
		"one of several": {files: map[string]string{"wp-includes/version.php": version, "old.sql": whole, "new.sql": whole}, asked: "./old.sql",
			names: []string{"old.sql"},
			holds: "WordPress 6.4.2, several databases: new.sql (wp_, https://moss.example), old.sql (wp_, https://moss.example)"},
		"another than there are": {files: map[string]string{"wp-includes/version.php": version, "old.sql": whole}, asked: "new.sql",
			holds: "WordPress 6.4.2, a database in old.sql (wp_, https://moss.example)", fault: `it holds no dump "new.sql", but old.sql (wp_`},
		"one within another": {files: map[string]string{"site/wp-content/old/wp-includes/version.php": version,
			"site/wp-includes/version.php": version}, holds: "WordPress 6.4.2 in site/, no database"},
		"called a dump, and none": {files: map[string]string{"wp-includes/version.php": version, "notes.sql": "remember the hedge",
			"broken.sql.gz": "\x1f\x8bno"}, holds: "WordPress 6.4.2, no database"},
		"no CMS": {files: map[string]string{"index.php": "<?php", "dump.sql": whole}},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "backup.zip")
			to, err := os.Create(file)
			require.NoError(t, err)
			packed := zip.NewWriter(to)
			for _, path := range slices.Sorted(maps.Keys(c.files)) {
				entry, err := packed.Create(path)
				require.NoError(t, err)
				_, err = io.WriteString(entry, c.files[path])
				require.NoError(t, err)
			}
			require.NoError(t, packed.Close())
			require.NoError(t, to.Close())
			for range 2 { // the second time it is known
				found := g.backupIn(file)
				assert.Equal(t, c.holds, found.words())
				one, fault := found.dump(c.asked)
				if c.fault != "" {
					assert.Contains(t, fault, c.fault)
				} else {
					assert.Empty(t, fault)
				}
				assert.Equal(t, c.names, one.names)
			}
		})
	}
}
