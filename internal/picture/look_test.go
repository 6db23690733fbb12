package picture

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/walk"
)

// A page may ask, open, lead away, take what scripts are made of away, and not be done: it is told, and the next page is looked at as if
// nothing had been.
func TestATabBearsWhatPagesDo(t *testing.T) {
	if Browser() == "" {
		t.Skip("there is no Chromium on this machine")
	}
	axe, err := os.ReadFile("../../console/dist/axe.min.js")
	require.NoError(t, err, "build the console: make build")
	texts := map[string]string{
		"/":      `<script>document.cookie = "seen=1"</script>`,
		"/asks":  `<script>for (let i = 0; i < 9; i++) alert(i); window.open("/"); onbeforeunload = () => "stay"</script>`,
		"/throw": `<script>for (let i = 0; i < 500; i++) setTimeout(() => { throw new Error(i + "x".repeat(9999)) })</script>`,
		"/away":  `<script>if (location.hostname !== "localhost") location.hostname = "localhost"</script>`,
		"/takes": `<img src="/x"><script>window.axe = {}; JSON.stringify = () => "[]"; Promise.prototype.then = () => 1</script>`,
		"/who":   `<script>if (document.cookie !== "who=keeper; seen=1") throw new Error(document.cookie)</script>`,
	}
	pages := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, known := texts[r.URL.Path]
		if !known {
			w.WriteHeader(http.StatusNotFound)
		}
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width"><title>x</title><p>x</p>`+text)
	}))
	defer pages.Close()
	taker := takerOf(t, pages)
	tab := taker.Open(pages.URL+"/", []*http.Cookie{{Name: "who", Value: "keeper"}}, string(axe))
	defer tab.Close()
	look := func(path string) walk.Look {
		t.Helper()
		seen, pictures, err := tab.Look(context.Background(), pages.URL+path)
		require.NoError(t, err)
		assert.Equal(t, seen.Fault == "", len(pictures) == len(Widths), seen.Fault)
		return seen
	}
	assert.Empty(t, look("/"))
	assert.Empty(t, look("/asks"))
	assert.Len(t, look("/throw").ScriptErrors, mostSeen)
	assert.Contains(t, look("/away").Fault, "it leads on to http://localhost:")
	taken := look("/takes")
	assert.Equal(t, "image-alt", taken.Unusable[0].Where)
	assert.Equal(t, []walk.Seen{{Where: pages.URL + "/x", Text: "answers 404"}}, taken.Failed)
	look("/") // in a profile of its own again
	assert.Empty(t, look("/who").ScriptErrors)
	cancelled, cancel := context.WithCancel(context.Background())
	cancel()
	_, _, err = tab.Look(cancelled, pages.URL+"/")
	assert.ErrorIs(t, err, context.Canceled)
	assert.Empty(t, look("/"))
}
