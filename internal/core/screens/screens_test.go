package screens

import (
	"image"
	"image/color"
	"image/draw"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSizesAreRead(t *testing.T) {
	sizes, err := Parse("phone, wide,360x640")
	require.NoError(t, err)
	assert.Equal(t, []Size{Usual[0], Usual[3], {"360x640", 360, 640, true}}, sizes)
	for _, bad := range []string{"", "huge", "390", "390x", "10x10", "390x99999", "-390x844", "phone,,wide"} {
		_, err := Parse(bad)
		require.ErrorContains(t, err, "is no size", bad)
	}
}

func filled(width, height int, c color.Color) *image.RGBA {
	picture := image.NewRGBA(image.Rect(0, 0, width, height))
	draw.Draw(picture, picture.Bounds(), image.NewUniform(c), image.Point{}, draw.Src)
	return picture
}

func TestWhatDiffersIsMarked(t *testing.T) {
	before, now := filled(100, 100, color.White), filled(100, 100, color.White)
	draw.Draw(now, image.Rect(10, 10, 20, 20), image.NewUniform(color.Black), image.Point{}, draw.Src)
	now.Set(90, 90, color.RGBA{250, 250, 250, 255}) // nobody sees that
	different, marked := Compare(before, now)
	assert.InDelta(t, 0.01, different, 1e-9)
	assert.Equal(t, color.RGBA{200, 30, 60, 255}, marked.RGBAAt(15, 15))
	assert.Equal(t, color.RGBA{255, 255, 255, 255}, marked.RGBAAt(50, 50))
	different, _ = Compare(before, filled(100, 200, color.White))
	assert.InDelta(t, 0.5, different, 1e-9, "a page that became longer")
	different, _ = Compare(image.NewRGBA(image.Rectangle{}), image.NewRGBA(image.Rectangle{}))
	assert.Zero(t, different)
}

func TestASheetHasAllSideBySide(t *testing.T) {
	sheet := Sheet([][]Shown{{{"/ phone", filled(390, 900, color.Black)}, {"/ wide", filled(1920, 30000, color.Black)}},
		{{"/about/ phone", filled(390, 300, color.Black)}}})
	assert.Equal(t, image.Rect(0, 0, 24+130+24+640+24, 24+26+1600+24+26+100+24), sheet.Bounds())
	for at, want := range map[image.Point]bool{{30, 60}: true, {190, 60}: true, {190, 1640}: true, {30, 500}: false, {30, 1710}: true,
		{165, 60}: false} {
		r, _, _, _ := sheet.At(at.X, at.Y).RGBA()
		assert.Equal(t, want, r < 0x1000, "%v", at)
	}
}
