package web

import (
	"fmt"
	"html/template"
	"strings"

	"github.com/boombuler/barcode"
	"github.com/boombuler/barcode/code128"
	"github.com/boombuler/barcode/qr"
)

// codeDrawing is a code that a camera or a scanner reads, as a path of an SVG drawing.
type codeDrawing struct {
	Text   string
	Path   template.HTMLAttr
	Across int // modules
	Down   int
}

// squareCode is a text as a QR code (ISO/IEC 18004) that is still read with a seventh of it spoiled.
func squareCode(text string) (codeDrawing, error) {
	code, err := qr.Encode(text, qr.M, qr.Auto)
	return asPath(text, code, err)
}

// barCode is a text as a bar code (Code 128, ISO/IEC 15417).
func barCode(text string) (codeDrawing, error) {
	code, err := code128.Encode(text)
	return asPath(text, code, err)
}

func asPath(text string, code barcode.Barcode, err error) (codeDrawing, error) {
	if err != nil {
		return codeDrawing{}, fmt.Errorf("%q cannot be drawn as a code: %w", text, err)
	}
	size := code.Bounds()
	d := codeDrawing{Text: text, Across: size.Dx(), Down: size.Dy()}
	var path strings.Builder
	for y := range d.Down {
		for x := 0; x < d.Across; x++ {
			from := x
			for x < d.Across && dark(code, size.Min.X+x, size.Min.Y+y) {
				x++
			}
			if x > from {
				fmt.Fprintf(&path, "M%d %dh%dv1h-%dz", from, y, x-from, x-from)
			}
		}
	}
	d.Path = template.HTMLAttr(`d="` + path.String() + `"`) // of numbers alone
	return d, nil
}

func dark(code barcode.Barcode, x, y int) bool {
	r, _, _, _ := code.At(x, y).RGBA()
	return r < 0x8000
}
