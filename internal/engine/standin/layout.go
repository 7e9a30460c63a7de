package standin

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// box is where an element lies, in CSS pixels from the page's top left.
type box struct{ x, y, w, h float64 }

func (b box) union(o box) box {
	if b.w == 0 && b.h == 0 {
		return o
	}
	x, y := min(b.x, o.x), min(b.y, o.y)
	return box{x, y, max(b.x+b.w, o.x+o.w) - x, max(b.y+b.h, o.y+o.h) - y}
}

// layout is a plain arrangement of a page: blocks one below another, text in
// lines, controls as boxes.
type layout struct {
	p      *page
	boxes  map[*html.Node]box
	words  []word
	frames []frame
	height float64

	x0, x1, x, y float64 // of the line that is being filled
	lh           float64
	pendingSpace bool
}

type word struct {
	x, y float64 // of the baseline
	text string
	face font.Face
	ink  color.Color
}

type frame struct {
	box
	fill, line color.Color
}

var (
	ink   = color.RGBA{0x22, 0x2b, 0x33, 0xff}
	blue  = color.RGBA{0x14, 0x53, 0x9a, 0xff}
	grey  = color.RGBA{0x8a, 0x96, 0xa1, 0xff}
	paper = color.RGBA{0xff, 0xff, 0xff, 0xff}
	field = color.RGBA{0xf4, 0xf6, 0xf8, 0xff}
	sash  = color.RGBA{0xff, 0xf0, 0xc2, 0xff}
)

// faces are loaded once. A face is not safe for concurrent use, so what uses
// one holds fontMu.
var (
	fontMu sync.Mutex
	faces  = map[string]font.Face{}
)

func face(bold bool, size float64) font.Face {
	key := string(rune(int(size))) + map[bool]string{true: "b"}[bold]
	if f := faces[key]; f != nil {
		return f
	}
	ttf := goregular.TTF
	if bold {
		ttf = gobold.TTF
	}
	parsed, err := opentype.Parse(ttf)
	if err != nil {
		panic("standin: a font that is built in cannot be read: " + err.Error())
	}
	f, err := opentype.NewFace(parsed, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		panic("standin: a font that is built in cannot be used: " + err.Error())
	}
	faces[key] = f
	return f
}

func measure(f font.Face, s string) float64 { return float64(font.MeasureString(f, s)) / 64 }

var headings = map[atom.Atom]float64{atom.H1: 26, atom.H2: 21, atom.H3: 18, atom.H4: 16, atom.H5: 15, atom.H6: 15}

const (
	textSize = 15
	margin   = 8
)

// layout arranges the page for its viewport.
func (p *page) layout() *layout {
	if p.laid != nil {
		return p.laid
	}
	fontMu.Lock()
	defer fontMu.Unlock()
	l := &layout{p: p, boxes: map[*html.Node]box{}}
	p.laid = l
	for n := p.doc.Nodes[0].FirstChild; n != nil; n = n.NextSibling {
		if n.Type == html.ElementNode {
			l.block(n, 0, max(p.width, 1), style{size: textSize, ink: ink})
		}
	}
	l.height = l.y + margin
	return l
}

type style struct {
	size   float64
	bold   bool
	ink    color.Color
	hidden bool
}

// block lays an element out below what is there.
func (l *layout) block(n *html.Node, x0, x1 float64, s style) {
	l.newline()
	gap := 0.0
	switch n.DataAtom {
	case atom.Body:
		x0, x1, gap = x0+margin, x1-margin, margin
	case atom.P, atom.Form, atom.Fieldset, atom.Table, atom.Details, atom.H1, atom.H2, atom.H3, atom.H4, atom.H5, atom.H6:
		gap = 6
	case atom.Ul, atom.Ol, atom.Dd, atom.Blockquote:
		x0 += 24
	}
	if size, ok := headings[n.DataAtom]; ok {
		s.size, s.bold = size, true
	}
	if n.DataAtom == atom.Th || n.DataAtom == atom.Legend || n.DataAtom == atom.Caption {
		s.bold = true
	}
	s.hidden = l.p.seen(n).hidden
	l.y += gap
	top := l.y
	saved := [2]float64{l.x0, l.x1}
	l.x0, l.x1, l.x = x0, x1, x0
	if n.DataAtom == atom.Hr {
		l.frames = append(l.frames, frame{box{x0, top + 3, x1 - x0, 1}, grey, nil})
		l.y += 6
	}
	if l.p.seen(n).display == "table-row" {
		l.row(n, s)
	} else {
		if n.DataAtom == atom.Li && !s.hidden {
			l.words = append(l.words, word{x0 - 14, top + s.size, "•", face(false, s.size), s.ink})
		}
		l.children(n, s)
		l.newline()
	}
	l.boxes[n] = box{x0, top, max(0, x1-x0), l.y - top}
	l.x0, l.x1, l.x = saved[0], saved[1], saved[0]
	l.y += gap
}

// row shares a table row's width among its cells.
func (l *layout) row(n *html.Node, s style) {
	var cells []*html.Node
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		if c.Type == html.ElementNode && l.p.seen(c).display != "none" {
			cells = append(cells, c)
		}
	}
	top, bottom, x0 := l.y, l.y, l.x0
	each := (l.x1 - l.x0) / float64(max(1, len(cells)))
	for i, c := range cells {
		l.y = top
		l.block(c, x0+each*float64(i), x0+each*float64(i+1)-6, s)
		bottom = max(bottom, l.y)
	}
	l.y = bottom
}

func (l *layout) children(n *html.Node, s style) {
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		switch c.Type {
		case html.TextNode:
			l.text(n, c.Data, s)
		case html.ElementNode:
			if n.DataAtom == atom.Details && !has(n, "open") && c.DataAtom != atom.Summary {
				continue
			}
			l.element(c, s)
		}
	}
}

func (l *layout) element(n *html.Node, s style) {
	v := l.p.seen(n)
	s.hidden = v.hidden
	switch {
	case v.display == "none" || v.clear:
		return
	case n.DataAtom == atom.Br:
		l.newline()
	case control(n) || n.DataAtom == atom.Img || n.DataAtom == atom.Canvas || n.DataAtom == atom.Svg:
		l.piece(n, s)
	case v.display == "inline" || strings.HasPrefix(v.display, "inline") || v.display == "contents":
		if n.DataAtom == atom.A && has(n, "href") {
			s.ink = blue
		}
		if n.DataAtom == atom.B || n.DataAtom == atom.Strong || n.DataAtom == atom.Th {
			s.bold = true
		}
		l.children(n, s)
	default:
		l.block(n, l.x0, l.x1, s)
	}
}

// place puts something of a size into the line and tells every inline ancestor
// of its box.
func (l *layout) place(n *html.Node, w, h float64) box {
	if l.pendingSpace && l.x > l.x0 {
		l.x += 5
	}
	l.pendingSpace = false
	if l.x > l.x0 && l.x+w > l.x1 {
		l.newline()
	}
	b := box{l.x, l.y, w, h}
	l.x += w
	l.lh = max(l.lh, h)
	for a := n; a != nil && a.Type == html.ElementNode; a = a.Parent {
		if d := l.p.seen(a).display; a != n && d != "inline" && !strings.HasPrefix(d, "inline") {
			break
		}
		l.boxes[a] = l.boxes[a].union(b)
	}
	return b
}

func (l *layout) newline() {
	if l.x > l.x0 || l.lh > 0 {
		l.y += l.lh
	}
	l.x, l.lh, l.pendingSpace = l.x0, 0, false
}

func (l *layout) text(parent *html.Node, data string, s style) {
	f := face(s.bold, s.size)
	if strings.TrimLeft(data, " \t\n\r") != data {
		l.pendingSpace = true
	}
	for i, w := range strings.Fields(data) {
		if i > 0 {
			l.pendingSpace = true
		}
		b := l.place(parent, measure(f, w), s.size*1.4)
		if !s.hidden {
			l.words = append(l.words, word{b.x, b.y + s.size, w, f, s.ink})
		}
	}
	if strings.TrimRight(data, " \t\n\r") != data {
		l.pendingSpace = true
	}
}

// piece draws a control or picture as a box.
func (l *layout) piece(n *html.Node, s style) {
	f := face(false, textSize)
	label, w, h := "", 180.0, 26.0
	switch t := inputType(n); {
	case t == "checkbox" || t == "radio":
		w, h = 16, 16
		if has(n, "checked") {
			label = "x"
		}
	case t == "submit" || t == "button" || t == "reset":
		if label = attrOf(n, "value"); label == "" {
			label = map[string]string{"submit": "Submit", "reset": "Reset"}[t]
		}
		w = measure(f, label) + 20
	case t == "file":
		label = "choose a file"
		if files := l.p.files[n]; len(files) > 0 {
			label = files[0][strings.LastIndexAny(files[0], `/\`)+1:]
		}
	case n.DataAtom == atom.Button:
		label = plain(textOf(n))
		w = max(24, measure(f, label)+20)
	case n.DataAtom == atom.Select:
		if o := l.p.chosen(n); len(o) > 0 {
			label = plain(textOf(o[0])) + " ▾"
		}
	case n.DataAtom == atom.Textarea:
		h = 60
		label = l.p.value(n)
	case n.DataAtom == atom.Img:
		label = attrOf(n, "alt")
		w, h = max(40, measure(f, label)+8), 40
	case n.DataAtom == atom.Input:
		if label = l.p.value(n); t == "password" {
			label = strings.Repeat("•", len([]rune(label)))
		}
	}
	b := l.place(n, w, h+4)
	l.boxes[n] = box{b.x, b.y, w, h}
	elements(n, func(c *html.Node) { l.boxes[c] = l.boxes[n] })
	if s.hidden {
		return
	}
	l.frames = append(l.frames, frame{l.boxes[n], field, grey})
	for label != "" && measure(f, label) > w-6 {
		r := []rune(label)
		label = string(r[:len(r)-1])
	}
	l.words = append(l.words, word{b.x + 4, b.y + min(h-6, 18), label, f, ink})
}

// picture draws the viewport. Its band says that this is a plain rendering of a
// simulated browser.
func (p *page) picture(who string, ratio float64) ([]byte, error) {
	l := p.layout()
	fontMu.Lock()
	defer fontMu.Unlock()
	w, h := int(p.width), int(p.height)
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	draw.Draw(img, img.Bounds(), image.NewUniform(paper), image.Point{}, draw.Src)
	for _, f := range l.frames {
		r := image.Rect(int(f.x), int(f.y), int(f.x+f.w), int(f.y+f.h))
		draw.Draw(img, r, image.NewUniform(f.fill), image.Point{}, draw.Src)
		if f.line != nil {
			for _, edge := range []image.Rectangle{{r.Min, image.Pt(r.Max.X, r.Min.Y+1)}, {image.Pt(r.Min.X, r.Max.Y-1), r.Max},
				{r.Min, image.Pt(r.Min.X+1, r.Max.Y)}, {image.Pt(r.Max.X-1, r.Min.Y), r.Max}} {
				draw.Draw(img, edge, image.NewUniform(f.line), image.Point{}, draw.Src)
			}
		}
	}
	write := func(x, y float64, s string, f font.Face, ink color.Color) {
		d := font.Drawer{Dst: img, Src: image.NewUniform(ink), Face: f, Dot: fixed.P(int(x), int(y))}
		d.DrawString(s)
	}
	for _, t := range l.words {
		write(t.x, t.y, t.text, t.face, t.ink)
	}
	draw.Draw(img, image.Rect(0, h-20, w, h), image.NewUniform(sash), image.Point{}, draw.Src)
	write(6, float64(h-6), "stand-in: "+who+", a simulated browser without scripts", face(false, 12), ink)
	var out bytes.Buffer
	err := png.Encode(&out, enlarge(img, ratio))
	return out.Bytes(), err
}

// enlarge repeats pixels, so that a picture has the size of the device's.
func enlarge(img *image.RGBA, ratio float64) *image.RGBA {
	if ratio <= 1 {
		return img
	}
	b := img.Bounds()
	w, h := int(float64(b.Dx())*ratio), int(float64(b.Dy())*ratio)
	out := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			out.SetRGBA(x, y, img.RGBAAt(int(float64(x)/ratio), int(float64(y)/ratio)))
		}
	}
	return out
}
