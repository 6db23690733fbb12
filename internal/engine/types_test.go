package engine

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An engine of the user's own brings its list of media types, has it beside its folder as Debian's do, or is given one.
func TestAListOfMediaTypesIsFound(t *testing.T) {
	machine, folder := t.TempDir(), t.TempDir()
	w := &WebServer{Engine: &Engine{ID: "nginx-1.22-own", Adopted: filepath.Join(machine, "usr")}}
	read := func() string {
		path, err := w.mediaTypes(folder, "etc/nginx/mime.types", "conf/mime.types")
		require.NoError(t, err)
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		return string(text)
	}
	assert.Contains(t, read(), "types {\ntext/html html htm;\n")
	for path, text := range map[string]string{"etc/nginx/mime.types": "beside", "usr/conf/mime.types": "within"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(machine, path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(machine, path), []byte(text), 0o600))
	}
	assert.Equal(t, "within", read())
	require.NoError(t, os.Remove(filepath.Join(machine, "usr/conf/mime.types")))
	assert.Equal(t, "beside", read())
	w.Engine.ID = "apache-2.4-own"
	require.NoError(t, os.Remove(filepath.Join(machine, "etc/nginx/mime.types")))
	assert.Contains(t, read(), "text/html html htm\n", "as Apache writes it")
}
