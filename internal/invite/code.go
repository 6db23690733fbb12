package invite

import (
	"bytes"
	"image"
	"image/color"
	"image/png"

	"github.com/boombuler/barcode/qr"
)

const (
	codeSide   = 480 // pixels, about
	codeMargin = 4   // modules that readers need around it
)

// QR is the address of an invitation as a QR code (ISO/IEC 18004), a PNG.
func (f *Feature) QR(id string) ([]byte, error) {
	one, err := f.One(id)
	if err != nil {
		return nil, err
	}
	code, err := qr.Encode(one.Address, qr.M, qr.Auto)
	if err != nil {
		return nil, err
	}
	modules := code.Bounds().Dx()
	each := codeSide / (modules + 2*codeMargin)
	side := each * (modules + 2*codeMargin)
	drawn := image.NewPaletted(image.Rect(0, 0, side, side), color.Palette{color.White, color.Black})
	for y := range modules * each {
		for x := range modules * each {
			if code.At(x/each, y/each) == color.Black {
				drawn.SetColorIndex(x+codeMargin*each, y+codeMargin*each, 1)
			}
		}
	}
	var out bytes.Buffer
	err = png.Encode(&out, drawn)
	return out.Bytes(), err
}
