// Package screens reads the sizes that pages are shown in, tells where two pictures differ, and puts pictures side by side on a sheet.
package screens

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"slices"
	"strconv"
	"strings"

	xdraw "golang.org/x/image/draw"
	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"
)

// Size is that of a window, in CSS pixels.
type Size struct {
	Name          string
	Width, Height int
	Phone         bool // it is touched, and zooms as phones do
}

// Usual are the sizes that have names.
var Usual = []Size{{"phone", 390, 844, true}, {"tablet", 820, 1180, true}, {"laptop", 1280, 800, false}, {"wide", 1920, 1080, false}}

// Parse reads sizes such as phone,wide,390x844.
func Parse(text string) (sizes []Size, err error) {
	for each := range strings.SplitSeq(text, ",") {
		each = strings.TrimSpace(each)
		i := slices.IndexFunc(Usual, func(s Size) bool { return s.Name == each })
		if i >= 0 {
			sizes = append(sizes, Usual[i])
			continue
		}
		width, height, cut := strings.Cut(each, "x")
		w, errW := strconv.Atoi(width)
		h, errH := strconv.Atoi(height)
		if !cut || errW != nil || errH != nil || w < 200 || w > 3840 || h < 200 || h > 3840 {
			return nil, fmt.Errorf("%q is no size: say phone, tablet, laptop, wide, or one such as 390x844, from 200 to 3840", each)
		}
		sizes = append(sizes, Size{Name: each, Width: w, Height: h, Phone: w < 600})
	}
	return sizes, nil
}

// visible is the least difference of a colour that is seen, of 255: less is the smoothing of letters.
const visible = 24

// Compare tells the share of the pixels, 0 to 1, in which two pictures differ, and marks them in the second one. What one has beyond the
// other's edge counts as different.
func Compare(before, now image.Image) (different float64, marked *image.RGBA) {
	area := before.Bounds().Union(now.Bounds())
	a, b := flat(before, area), flat(now, area)
	marked = image.NewRGBA(area)
	count := 0
	for i := 0; i < len(a.Pix); i += 4 {
		p, q := a.Pix[i:i+4], b.Pix[i:i+4]
		if apart(p[0], q[0]) < visible && apart(p[1], q[1]) < visible && apart(p[2], q[2]) < visible && p[3] == q[3] {
			for c := range 3 { // what stayed is pale
				marked.Pix[i+c] = 255 - (255-q[c])/3
			}
			marked.Pix[i+3] = 255
			continue
		}
		count++
		copy(marked.Pix[i:i+4], []byte{200, 30, 60, 255})
	}
	if area.Empty() {
		return 0, marked
	}
	return float64(count) / float64(area.Dx()*area.Dy()), marked
}

func apart(a, b byte) byte { return max(a, b) - min(a, b) }

// flat is a picture in an area; what it does not fill is transparent.
func flat(picture image.Image, area image.Rectangle) *image.RGBA {
	whole := image.NewRGBA(area)
	draw.Draw(whole, picture.Bounds(), picture, picture.Bounds().Min, draw.Src)
	return whole
}

// Shown is a picture with what stands above it.
type Shown struct {
	Caption string
	Picture image.Image
}

// Of a sheet, in pixels.
const (
	margin   = 24
	captions = 26
	scale    = 3    // a pixel of a sheet stands for so many, each way
	tallest  = 1600 // what is longer is cut
)

// Sheet puts pictures side by side, a row a page, all in the same scale.
func Sheet(rows [][]Shown) image.Image {
	width, height := margin, margin
	tall := make([]int, len(rows))
	for i, row := range rows {
		across := margin
		for _, each := range row {
			across += each.Picture.Bounds().Dx()/scale + margin
			tall[i] = max(tall[i], min(each.Picture.Bounds().Dy()/scale, tallest))
		}
		width, height = max(width, across), height+captions+tall[i]+margin
	}
	sheet := image.NewRGBA(image.Rect(0, 0, width, height))
	draw.Draw(sheet, sheet.Bounds(), image.NewUniform(color.RGBA{0xf6, 0xf3, 0xec, 0xff}), image.Point{}, draw.Src)
	y := margin
	for i, row := range rows {
		x := margin
		for _, each := range row {
			write(sheet, x, y+captions-10, each.Caption)
			from := each.Picture.Bounds()
			from.Max.Y = min(from.Max.Y, from.Min.Y+tallest*scale)
			to := image.Rect(x, y+captions, x+from.Dx()/scale, y+captions+from.Dy()/scale)
			xdraw.ApproxBiLinear.Scale(sheet, to, each.Picture, from, draw.Src, nil)
			x += to.Dx() + margin
		}
		y += captions + tall[i] + margin
	}
	return sheet
}

func write(on draw.Image, x, y int, text string) {
	d := font.Drawer{Dst: on, Src: image.NewUniform(color.RGBA{0x22, 0x28, 0x2b, 0xff}), Face: basicfont.Face7x13, Dot: fixed.P(x, y)}
	d.DrawString(text)
}
