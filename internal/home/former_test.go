package home_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/home"
)

func TestFilesOfAnEarlierVersionAreTakenOn(t *testing.T) {
	h := home.Home{Dir: t.TempDir()}
	write := func(text string, path ...string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(h.Path(path...)), 0o700))
		require.NoError(t, os.WriteFile(h.Path(path...), []byte(text), 0o600))
	}
	read := func(path ...string) string {
		text, err := os.ReadFile(h.Path(path...))
		require.NoError(t, err)
		return string(text)
	}
	write("# Moss\nkit: moss\ncontent:\n  - UPDATE a SET b={{sql .Admin.User}}, c={{sql .Admin.Email}}, d={{sql .Admin.Password}}\n",
		"kits", "moss", "kit.yaml")
	write("<?php // kit: stays\n", "kits", "moss", "load.php")
	write("cms: fern\n", "cms", "fern", "cms.yaml")
	write("kit: fern\n", "kits", "fern", "kit.yaml")
	write("notes of its owner", "kits", "notes.txt")
	write("UPDATE a SET b={{sql .Admin.User}}", "touches", "own.sql")
	write("# Mine.\nadmin: ines\nphp: \"8.4\"\n# where it goes\nadmin_email: ines@fernhollow.example # "+
		"hers\nkit: wordpress\nkit_version: \"6.8\"\n"+
		"admin_password: 'a: gate'\n", "vessik.yaml")
	for range 2 { // and again, which changes nothing
		require.NoError(t, h.TakeOn())
		assert.Equal(t, "# Moss\ncms: moss\ncontent:\n  - UPDATE a SET b={{sql .Administrator.Name}}, c={{sql .Administrator.Mail}}, "+
			"d={{sql .Administrator.Password}}\n", read("cms", "moss", "cms.yaml"))
		assert.NoFileExists(t, h.Path("cms", "moss", "kit.yaml"))
		assert.Equal(t, "<?php // kit: stays\n", read("cms", "moss", "load.php"))
		assert.Equal(t, "cms: fern\n", read("cms", "fern", "cms.yaml"), "what is there already stays")
		assert.Equal(t, "notes of its owner", read("kits", "notes.txt"))
		assert.NoDirExists(t, h.Path("kits", "moss"))
		assert.Equal(t, "UPDATE a SET b={{sql .Administrator.Name}}", read("touches", "own.sql"))
		assert.Equal(t, "# Mine.\nadministrator:\n  name: ines\n  mail: ines@fernhollow.example # hers\n  password: 'a: gate'\nphp: \"8.4\"\n"+
			"# where it goes\ncms: wordpress\ncms_version: \"6.8\"\n", read("vessik.yaml"))
	}
	require.NoError(t, home.Home{Dir: t.TempDir()}.TakeOn(), "a new home has none")
}
