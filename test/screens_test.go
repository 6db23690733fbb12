package test

import (
	"encoding/json"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// Pages are pictured in every size, and what became of them since is told and marked.
func TestScreens(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "screens", CMS: "empty"}))
	defer s.retire(t, "screens")
	page := `<!doctype html><meta name="viewport" content="width=device-width"><style>body { margin: 0; height: 3000px; background: #fff }
@media (prefers-color-scheme: dark) { body { background: #000 } } @media (max-width: 600px) { body { height: 2000px } }</style>`
	front := filepath.Join(s.site(t, "screens").Folder, "public/index.php")
	write := func(more string) { require.NoError(t, os.WriteFile(front, []byte(page+more), 0o644)) }
	write("")
	dir := t.TempDir()
	before, now := filepath.Join(dir, "before"), filepath.Join(dir, "now")
	out, errs, code := s.cli("screens", "screens", "-sizes", "phone,1000x700", "-dark", "-o", before)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "390 x 2000")
	assert.Contains(t, out, "1000 x 3000")
	for name, dark := range map[string]bool{"front-phone": false, "front-phone-dark": true, "front-1000x700": false, "front-1000x700-dark": true} {
		file, err := os.Open(filepath.Join(before, name+".png"))
		require.NoError(t, err)
		picture, err := png.Decode(file)
		file.Close()
		require.NoError(t, err)
		r, _, _, _ := picture.At(100, 100).RGBA()
		assert.Equal(t, dark, r == 0, name)
	}
	assert.FileExists(t, filepath.Join(before, "sheet.png"))

	_, errs, code = s.cli("screens", "screens", "-sizes", "phone,1000x700", "-against", before, "-o", now)
	assert.Zero(t, code, errs)
	write(`<div style="width: 300px; height: 300px; background: red"></div>`)
	out, _, code = s.cli("screens", "screens", "-sizes", "phone,1000x700", "-against", before, "-o", now, "-json")
	assert.Equal(t, 3, code, "what differs is told by the exit code")
	var taken []struct {
		Size, Marked string
		Different    float64
	}
	require.NoError(t, json.Unmarshal([]byte(out), &taken))
	require.Len(t, taken, 2)
	assert.InDelta(t, 300.0*300/(390*2000), taken[0].Different, 0.001)
	assert.FileExists(t, taken[0].Marked)

	for want, arguments := range map[string][]string{"is no size": {"screens", "-sizes", "huge"}, "is no page": {"screens", "about"},
		"name another one": {"screens", "-against", now, "-o", now}, "no such site": {"nobody", "-o", now}} {
		_, errs, code := s.cli(append([]string{"screens"}, arguments...)...)
		assert.Equal(t, 2, code, errs)
		assert.Contains(t, errs, want)
	}
}
