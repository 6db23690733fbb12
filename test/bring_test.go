package test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
)

// Files come from the browser: what they are is told, and what can be done with them; nothing of them is left.
func TestTheConsoleTakesFiles(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days"}, client.Request{Name: "moss-archive", CMS: "empty"}))
	defer s.retire(t, "orchard-days", "moss-archive")
	defer s.cli("shelf", "drop", "ice.1.2.zip")
	ctx := page(t, s, 1280, 800)
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	do := steps(t, ctx)
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	drop := func(paths ...string) chromedp.Action[chromedp.Void] {
		return chromedp.SetUploadFiles(chromedp.CSS(`input[name=bring]`), paths)
	}

	do("nothing that is known", chromedp.Navigate(console+"/"), chromedp.WaitReady(chromedp.CSS(`input[name=bring]`)),
		drop(file("notes.txt", "buy seeds"), ice(t, "1.2", "add_action('wp_footer', function () { echo '<p>it snows</p>'; });")),
		chromedp.WaitVisible(`//p[contains(., "Nothing that Vessik knows")]`), chromedp.WaitVisible(`//p[.="1 more after this one"]`),
		chromedp.Click(`//button[text()="leave it"]`))
	do("a plugin, which waited",
		chromedp.WaitVisible(`//p[contains(., "A plugin or theme: Ice & Snow 1.2 for wordpress")]`),
		chromedp.Click(`//button[text()="Put it on the shelf"]`), chromedp.WaitVisible(chromedp.CSS(`[data-item="ice.1.2.zip"]`)))
	do("into the site", chromedp.Navigate(console+"/sites/orchard-days"), chromedp.WaitVisible(`//a[text()="plugins and themes"]`),
		chromedp.Click(`//a[text()="plugins and themes"]`), chromedp.WaitVisible(`//button[text()="add"]`),
		chromedp.Click(`//button[text()="add"]`),
		chromedp.WaitVisible(`//li[contains(., "Ice & Snow")]//button[text()="switch off"]`))
	settled(t, s)
	_, text, _ := get(t, s.site(t, "orchard-days").URL)
	assert.Contains(t, text, "it snows")

	do("a dump", chromedp.Navigate(console+"/"), chromedp.WaitReady(chromedp.CSS(`input[name=bring]`)),
		drop(file("words.sql", "CREATE TABLE words (said TEXT);\nINSERT INTO words VALUES ('https://old.example/fern');\n")),
		chromedp.WaitVisible(chromedp.CSS(`select[name=into]`)), setValue("select[name=into]", "HTMLSelectElement", "moss-archive"),
		setValue("input[name=upload-address]", "HTMLInputElement", "https://old.example"),
		chromedp.WaitVisible(`//button[text()="Preview changes"][not(@disabled)]`), chromedp.Click(`//button[text()="Preview changes"]`),
		chromedp.WaitVisible(`//p[contains(., "1 addresses would change")]`), chromedp.Click(`//button[text()="Load"]`),
		chromedp.WaitVisible(`//h1[text()="Moss Archive"]`), chromedp.WaitVisible(`//li[contains(., "load-sql") and contains(., "done")]`))
	moss := s.secrets(t, "moss-archive")
	assert.Equal(t, moss.URL+"fern", query(t, moss, "SELECT said FROM words"))

	do("its restore point", chromedp.Click(`//a[text()="restore points"]`),
		chromedp.WaitVisible(`//li[contains(., "before the loaded dump")]`),
		chromedp.Click(`//li[contains(., "before the loaded dump")]//button[text()="Preview changes"]`),
		chromedp.WaitVisible(`//dd[contains(., "words")]`), chromedp.SendKeys(chromedp.CSS(`input[name=note]`), "with words"),
		chromedp.Click(`//button[text()="Take one now"]`), chromedp.WaitVisible(`//li[contains(., "with words") and contains(., "kept")]`),
		chromedp.WaitVisible(`//li[contains(., "before the loaded dump")]//button[text()="go back"][not(@disabled)]`),
		chromedp.Click(`//li[contains(., "before the loaded dump")]//button[text()="go back"]`),
		chromedp.WaitVisible(`//li[contains(., "before going back")]`), chromedp.WaitVisible(`//button[text()="Take one now"][not(@disabled)]`))
	settled(t, s)
	_, err := pool(t, moss).Exec("SELECT said FROM words")
	assert.ErrorContains(t, err, "doesn't exist")

	require.NoError(t, os.WriteFile(filepath.Join(moss.Folder, "later.txt"), nil, 0o644))
	parcel := parcelOf(t, s, "moss-archive")
	require.NoError(t, os.Remove(filepath.Join(moss.Folder, "later.txt")))
	do("a parcel over the site", chromedp.Navigate(console+"/"), chromedp.WaitReady(chromedp.CSS(`input[name=bring]`)), drop(parcel),
		chromedp.WaitVisible(`//p[contains(., 'A parcel, a whole site: "Moss Archive", empty')]`),
		setValue("select[name=into]", "HTMLSelectElement", "moss-archive"),
		chromedp.Click(`//button[normalize-space(.)="Unpack it over moss-archive"]`), chromedp.WaitVisible(`//h1[text()="Moss Archive"]`),
		chromedp.WaitVisible(`//li[contains(., "unpack") and contains(., "done")]`))
	assert.FileExists(t, filepath.Join(moss.Folder, "later.txt"))

	moved := filepath.Join(dir, "moss-cms.zip")
	require.NoError(t, os.Rename(mossCMS(t, dir), moved))
	do("an archive", chromedp.Navigate(console+"/"), chromedp.WaitReady(chromedp.CSS(`input[name=bring]`)), drop(moved),
		chromedp.WaitVisible(`//button[text()="Make a site of it…"]`), chromedp.Click(`//button[text()="Make a site of it…"]`),
		chromedp.WaitVisible(chromedp.CSS(`input[name=name]`)), chromedp.SendKeys(chromedp.CSS(`input[name=name]`), "reed"),
		chromedp.WaitVisible(chromedp.CSS(`button[type=submit]:enabled`)), chromedp.Click(`//button[normalize-space(.)="Make this site"]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-site=reed][data-state=running]`)))
	settled(t, s)
	s.retire(t, "reed")

	extra := zipped(t, filepath.Join(dir, "extra.zip"), map[string]string{"uploads/fern.txt": "fern", "uploads/moss.txt": "moss"})
	do("archives that belong together", chromedp.Navigate(console+"/"), chromedp.WaitReady(chromedp.CSS(`input[name=bring]`)),
		drop(extra, moved), chromedp.Click(`//button[normalize-space(.)="the next one belongs to it"]`),
		chromedp.WaitVisible(`//p[contains(., "Together with extra.zip")]`), chromedp.Click(`//button[text()="Make a site of it…"]`),
		chromedp.WaitVisible(`//textarea[contains(., "extra.zip")]`), chromedp.SendKeys(chromedp.CSS(`input[name=name]`), "reed"),
		chromedp.WaitVisible(`//p[contains(., "none of these archives holds a CMS that Vessik knows")]`))

	do("a fleet file", chromedp.Navigate(console+"/"), chromedp.WaitReady(chromedp.CSS(`input[name=bring]`)),
		drop(file("vessik-fleet.yaml", "fleet: 1\nsites:\n  - {name: moss-archive, cms: empty, note: brought}\n")),
		chromedp.WaitReady(`//textarea[contains(., "brought")]`), chromedp.Click(`//button[text()="Preview changes"]`),
		chromedp.WaitVisible(`//b[text()="label"]`))

	operation, err := s.SaveStencil(context.Background(), "moss-archive", client.SaveStencil{As: "moss-basics"})
	require.NoError(t, err)
	require.Equal(t, plan.OperationDone, s.watch(t, operation).State)
	defer s.cli("stencil", "drop", "moss-basics")
	defer s.cli("stencil", "drop", "moss-again")
	packed := filepath.Join(dir, "basics.stencil.tar.zst")
	_, errs, code := s.cli("stencil", "export", "moss-basics", packed)
	require.Zero(t, code, errs)
	do("a stencil", chromedp.Navigate(console+"/"), chromedp.WaitReady(chromedp.CSS(`input[name=bring]`)), drop(packed),
		chromedp.WaitVisible(chromedp.CSS(`input[name=stencil-name]`)),
		setValue("input[name=stencil-name]", "HTMLInputElement", "moss-again"), chromedp.Click(`//button[text()="Keep the stencil"]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-stencil="moss-again"]`)))

	left, err := os.ReadDir(filepath.Join(s.home, "uploads"))
	require.NoError(t, err)
	assert.Len(t, left, 5, "the dump, the parcel and the archives, which stay for a day")
	for _, name := range []string{"../x", ".hidden", strings.Repeat("x", 300)} {
		_, err := s.Upload(context.Background(), name, strings.NewReader("x"))
		require.ErrorContains(t, err, "its name cannot be a file's name here", name)
	}
	_, err = s.Upload(context.Background(), "empty.zip", strings.NewReader(""))
	require.ErrorContains(t, err, "it is empty")
	now, err := os.ReadDir(filepath.Join(s.home, "uploads"))
	require.NoError(t, err)
	assert.Len(t, now, 5, "nothing is left of what was refused")
}
