package report

import (
	"image"
	"image/color"
	"image/png"
	"io"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Sizes of a wall's picture, in pixels: a cell with its edge, and the most cells that are drawn.
const (
	cellSize   = 14
	cellEdge   = 2
	maxWide    = 60
	maxTall    = 120
	groupSpace = 4
)

// inks are the colours of verdicts, the same as the console's light theme.
var inks = map[verdict.Verdict]color.RGBA{
	verdict.Passed: {0x2b, 0x8a, 0x63, 0xff}, verdict.Failed: {0xc0, 0x40, 0x2c, 0xff}, verdict.Aside: {0xc0, 0x40, 0x2c, 0xff},
	verdict.Flaky: {0xa0, 0x6b, 0x00, 0xff}, verdict.LabFault: {0x6b, 0x52, 0xbd, 0xff},
}

var (
	idleInk  = color.RGBA{0xc7, 0xd3, 0xd4, 0xff}
	paperInk = color.RGBA{0xfb, 0xfc, 0xfb, 0xff}
)

// WallPNG draws a run as a picture: tests down, combinations across, each cell a square of
// glass whose fill says its verdict by shape as well as colour. Of more than 120 tests or 60
// combinations it draws the first.
func WallPNG(w io.Writer, run api.Run) error {
	wide, tall := min(len(run.Panes), maxWide), min(len(run.Tests), maxTall)
	step := cellSize + cellEdge
	lefts, x, last := make([]int, wide), cellEdge, ""
	for i := range wide {
		if browser := run.Panes[i].Values["browser"]; i > 0 && browser != last {
			x += groupSpace
		}
		last = run.Panes[i].Values["browser"]
		lefts[i] = x
		x += step
	}
	img := image.NewRGBA(image.Rect(0, 0, max(x, 1), max(cellEdge+tall*step, 1)))
	for i := range img.Pix {
		img.Pix[i] = 0xff
	}
	for i := range wide {
		for j := range tall {
			if c := run.Cells[i][j]; c.State != api.Undealt {
				glass(img, lefts[i], cellEdge+j*step, c.Verdict)
			}
		}
	}
	return png.Encode(w, img)
}

// glass draws one cell: full for passed, cut by a diagonal for failed and set aside, half
// for flaky, a dashed outline for a lab fault, an empty one for what has no verdict.
func glass(img *image.RGBA, x, y int, v verdict.Verdict) {
	ink, known := inks[v]
	if !known {
		ink = idleInk
	}
	for dy := range cellSize {
		for dx := range cellSize {
			edge := dx == 0 || dy == 0 || dx == cellSize-1 || dy == cellSize-1
			full := edge
			switch v {
			case verdict.Passed:
				full = true
			case verdict.Failed:
				full = full || dx+dy < cellSize
			case verdict.Aside:
				full = full || dx+dy >= cellSize
			case verdict.Flaky:
				full = full || dx < cellSize/2
			case verdict.LabFault:
				full = edge && (dx+dy)/2%2 == 0
			}
			c := paperInk
			if full {
				c = ink
			}
			img.SetRGBA(x+dx, y+dy, c)
		}
	}
}
