package report

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Sizes of a page, in millimetres, and bounds of what a PDF tells of a run.
const (
	margin   = 14.0
	shotWide = 85.0
	shotTall = 70.0
	maxLost  = 500 // cells that did not pass
)

// PDF writes a run as PDF without a browser: what it came to, its wall, its causes, and what
// did not pass with pictures. It says at its foot that it was drawn so. Its letters are
// Latin, Greek and Cyrillic; others are boxes.
func PDF(w io.Writer, page Page) error {
	p := &pdf{Fpdf: fpdf.New("P", "mm", "A4", "")}
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(true, margin)
	p.AddUTF8FontFromBytes("go", "", goregular.TTF)
	p.AddUTF8FontFromBytes("go", "B", gobold.TTF)
	p.SetFooterFunc(func() {
		p.SetY(-10)
		p.say(7, "", "Drawn without a browser: an agent with Chromium prints it as the page looks.", grey)
	})
	p.AddPage()
	run, causes := page.Run, page.Causes
	words := Words(run, causes, page.Address)
	p.SetTitle(Clip(words.Title), true)
	p.say(15, "B", words.Title, ink)
	about := []string{"started by " + run.By}
	if run.CreatedAt != nil {
		about = append(about, run.CreatedAt.UTC().Format("2 January 2006 15:04 UTC"))
	}
	if page.Address != "" {
		about = append(about, page.Address)
	}
	p.say(9, "", strings.Join(about, ", "), grey)
	p.wall(run)
	p.combinations(run)
	p.causes(causes)
	p.lost(page)
	return p.Output(w)
}

var (
	ink  = [3]int{19, 40, 48}
	grey = [3]int{90, 110, 116}
)

type pdf struct {
	*fpdf.Fpdf
	pictures int
	bytes    int // of them
}

// say writes a text over as many lines as it takes.
func (p *pdf) say(size float64, style, text string, colour [3]int) {
	p.SetFont("go", style, size)
	p.SetTextColor(colour[0], colour[1], colour[2])
	p.MultiCell(0, size*0.5, drawable(Clip(text)), "", "L", false)
}

// drawable leaves out what the font's table cannot hold: characters beyond the first plane.
func drawable(s string) string {
	return strings.Map(func(r rune) rune {
		if r > 0xffff {
			return '\uFFFD'
		}
		return r
	}, s)
}

func (p *pdf) head(text string) {
	p.Ln(4)
	p.say(11, "B", text, ink)
	p.Ln(1)
}

// wall puts the picture of the wall on the page, as large as there is room for.
func (p *pdf) wall(run api.Run) {
	var png bytes.Buffer
	if len(run.Panes) == 0 || len(run.Tests) == 0 || WallPNG(&png, run) != nil {
		return
	}
	p.head("The wall: tests down, combinations across")
	info := p.RegisterImageOptionsReader("wall", fpdf.ImageOptions{ImageType: "PNG"}, &png)
	if info == nil || p.Err() {
		p.ClearError()
		return
	}
	scale := min(180/info.Width(), 110/info.Height(), 1)
	p.ImageOptions("wall", margin, p.GetY(), info.Width()*scale, info.Height()*scale, true, fpdf.ImageOptions{}, 0, "")
}

// room begins another page where there is too little left of this one, in millimetres.
func (p *pdf) room(tall float64) {
	if _, high := p.GetPageSize(); p.GetY()+tall > high-margin {
		p.AddPage()
	}
}

func (p *pdf) combinations(run api.Run) {
	p.head("Combinations")
	for _, x := range run.Panes {
		var parts []string
		for _, v := range []verdict.Verdict{verdict.Failed, verdict.LabFault, verdict.Flaky, verdict.Aside, verdict.Passed, verdict.Skipped,
			verdict.Unsupported, verdict.Ended} {
			if n := x.Counts[v]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, v.Words()))
			}
		}
		p.say(9, "", x.Label+": "+cmp.Or(strings.Join(parts, ", "), "nothing ran"), ink)
	}
}

func (p *pdf) causes(causes api.Causes) {
	if len(causes.Causes) == 0 {
		return
	}
	p.head(fmt.Sprintf("%s, %s", counted(causes.Failed, "failing cell"), counted(len(causes.Causes), "cause")))
	for _, c := range causes.Causes {
		p.say(9, "B", plainOf(itemOf(c)), ink)
		p.say(9, "", fmt.Sprintf("%s: %s. In %s.", c.Kind, c.Reason, strings.Join(few(c.Panes), ", ")), grey)
		p.Ln(1.5)
	}
}

// lost says what did not pass, with pictures.
func (p *pdf) lost(page Page) {
	run, n := page.Run, 0
	for i, x := range run.Panes {
		for j, t := range run.Tests {
			c := run.Cells[i][j]
			if !told(c) {
				continue
			}
			if n++; n == 1 {
				p.head("What did not pass")
			}
			if n > maxLost {
				continue
			}
			shot, wide, tall := p.shot(page, i, j)
			p.room(16 + tall)
			p.say(9, "B", fmt.Sprintf("%s, on %s: %s", t.Name, x.Label, c.Verdict.Words()), ink)
			p.say(8, "", cmp.Or(c.Message, c.Why), grey)
			if shot != "" {
				p.ImageOptions(shot, margin, p.GetY()+1, wide, tall, true, fpdf.ImageOptions{}, 0, "")
			}
			p.Ln(3)
		}
	}
	if n > maxLost {
		p.say(9, "", fmt.Sprintf("and %d more", n-maxLost), grey)
	}
}

// shot reads the picture of a cell, and says how large it is to be; "" where there is none
// that can be read.
func (p *pdf) shot(page Page, pane, test int) (name string, wide, tall float64) {
	if page.Picture == nil || p.pictures >= MaxPictures || p.bytes >= maxPictureBytes {
		return "", 0, 0
	}
	body, media := page.Picture(pane, test)
	kind := map[string]string{"image/png": "PNG", "image/jpeg": "JPG"}[media]
	if len(body) == 0 || kind == "" {
		return "", 0, 0
	}
	p.pictures, p.bytes = p.pictures+1, p.bytes+len(body)
	name = fmt.Sprintf("shot %d", p.pictures)
	info := p.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: kind}, bytes.NewReader(body))
	if p.Err() || info == nil { // a picture that is none spoils nothing else
		p.ClearError()
		return "", 0, 0
	}
	scale := min(shotWide/info.Width(), shotTall/info.Height(), 1)
	return name, info.Width() * scale, info.Height() * scale
}
