package picture

import (
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cell"
)

func plain(width, height int, shade uint8) *image.RGBA {
	picture := image.NewRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			picture.Set(x, y, color.RGBA{shade, shade, shade, 255})
		}
	}
	return picture
}

func TestTheShareOfDifferentPixels(t *testing.T) {
	white := plain(20, 10, 255)
	assert.Zero(t, Different(white, plain(20, 10, 255)))
	assert.Equal(t, 1.0, Different(white, plain(20, 10, 0)))
	assert.Zero(t, Different(white, plain(20, 10, 250)), "less than the smoothing of letters")
	spot := plain(20, 10, 255)
	for x := range 5 {
		spot.Set(x, 3, color.RGBA{255, 0, 0, 255})
	}
	assert.InDelta(t, 5.0/200, Different(white, spot), 1e-9)
	assert.InDelta(t, 0.5, Different(white, plain(20, 20, 255)), 1e-9, "what one has beyond the other's edge differs")
	assert.Equal(t, Different(white, spot), Different(spot, white))
	assert.Zero(t, Different(plain(0, 0, 0), plain(0, 0, 0)))
}

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
	assert.Greater(t, Different(compared.Model, again), 0.9)
	assert.Less(t, Different(compared.Picture, again), 0.05)
	picture, err := taker.Take(ctx, pages.URL+"/fern")
	require.NoError(t, err)
	assert.Equal(t, image.Pt(width, height), picture.Bounds().Size())
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	_, err = taker.Take(cancelled, pages.URL+"/fern")
	assert.Error(t, err)
	_, err = taker.Take(ctx, pages.URL+"/fern")
	assert.NoError(t, err, "one that was cancelled spoils nothing")
	taker.Close()
	left, err := os.ReadDir(taker.Dir)
	require.NoError(t, err)
	assert.Empty(t, left, "the browser leaves nothing")
}
