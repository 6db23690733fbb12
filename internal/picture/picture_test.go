package picture

import (
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cell"
	"vessik/internal/core/screens"
)

// takerOf has a browser that reaches one server's pages.
func takerOf(t *testing.T, pages *httptest.Server) *Taker {
	t.Helper()
	cells, err := cell.Open(t.TempDir())
	require.NoError(t, err)
	address, err := url.Parse(pages.URL)
	require.NoError(t, err)
	port, err := strconv.Atoi(address.Port())
	require.NoError(t, err)
	taker := &Taker{Dir: t.TempDir(), Cells: cells, Ports: []int{port}}
	t.Cleanup(taker.Close)
	return taker
}

func TestPagesAreComparedInARealBrowser(t *testing.T) {
	if Browser() == "" {
		t.Skip("there is no Chromium on this machine")
	}
	pages := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		shade := map[string]string{"/fern": "#335533", "/moss": "#335533", "/frost": "#ffffff"}[r.URL.Path]
		fmt.Fprintf(w, `<body style="margin:0;background:%s"><h1>Same words</h1></body>`, shade)
	}))
	defer pages.Close()
	taker := takerOf(t, pages)
	ctx := context.Background()
	compared, err := taker.Compare(ctx, pages.URL+"/fern", pages.URL+"/moss")
	require.NoError(t, err)
	assert.Zero(t, compared.Different)
	compared, err = taker.Compare(ctx, pages.URL+"/fern", pages.URL+"/frost")
	require.NoError(t, err)
	assert.Greater(t, compared.Different, 0.9)
	kept := filepath.Join(t.TempDir(), "frost.jpg")
	require.NoError(t, Save(kept, compared.Picture))
	file, err := os.Open(kept)
	require.NoError(t, err)
	defer file.Close()
	again, err := jpeg.Decode(file)
	require.NoError(t, err)
	different, _ := screens.Compare(compared.Picture, again)
	assert.Less(t, different, 0.05)
	picture, err := taker.Take(ctx, pages.URL+"/fern", Upper)
	require.NoError(t, err)
	assert.Equal(t, image.Pt(Upper.Width, Upper.Height), picture.Bounds().Size())
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	_, err = taker.Take(cancelled, pages.URL+"/fern", Upper)
	assert.Error(t, err)
	_, err = taker.Take(ctx, pages.URL+"/fern", Upper)
	assert.NoError(t, err, "one that was cancelled spoils nothing")
	taker.Close()
	left, err := os.ReadDir(taker.Dir)
	require.NoError(t, err)
	assert.Empty(t, left, "the browser leaves nothing")
}

// What a page shows of other sites of the machine is not in a picture that is taken of it alone.
func TestAPictureOfOnePageAloneShowsNoOther(t *testing.T) {
	if Browser() == "" {
		t.Skip("there is no Chromium on this machine")
	}
	var pages *httptest.Server
	pages = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		switch {
		case r.URL.Path == "/away":
			http.Redirect(w, r, strings.Replace(pages.URL, "127.0.0.1", "other.localhost", 1), http.StatusFound)
		case strings.HasPrefix(r.Host, "other"):
			io.WriteString(w, `<body style="background:#f00">`)
		case r.URL.Path == "/own":
			io.WriteString(w, `<body style="background:#00f">`)
		default:
			fmt.Fprintf(w, `<body style="margin:0;background:#0f0"><iframe src="http://other.localhost:%s/" width=1200 height=400>
				</iframe><iframe src="/own" width=1200 height=300></iframe>`, strings.Split(r.Host, ":")[1])
		}
	}))
	defer pages.Close()
	taker := takerOf(t, pages)
	red := func(picture image.Image) bool {
		r, g, _, _ := picture.At(300, 100).RGBA()
		return r > 0xf000 && g < 0x1000
	}
	seen, err := taker.Take(t.Context(), pages.URL+"/", Upper)
	require.NoError(t, err)
	require.True(t, red(seen), "otherwise this test says nothing")
	alone, err := taker.TakeAlone(t.Context(), pages.URL+"/", Upper)
	require.NoError(t, err)
	assert.False(t, red(alone))
	_, g, _, _ := alone.At(1240, 700).RGBA()
	assert.Greater(t, g, uint32(0xf000), "the page itself is there")
	_, _, b, _ := alone.At(300, 600).RGBA()
	assert.Greater(t, b, uint32(0xf000), "and what it shows of its own site")
	_, err = taker.TakeAlone(t.Context(), pages.URL+"/away", Upper)
	assert.Error(t, err)
	_, err = taker.Take(t.Context(), pages.URL+"/away", Upper)
	assert.ErrorContains(t, err, "leads on")
}
