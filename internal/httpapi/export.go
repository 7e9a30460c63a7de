package httpapi

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"parallelpane/internal/api"
	"parallelpane/internal/report"
)

// form is a form in which something is written for others.
type form struct {
	name, media, suffix string
	shown               bool // by a browser, instead of being saved
}

var (
	textForm     = form{"text", "text/plain; charset=utf-8", "txt", true}
	markdownForm = form{"markdown", "text/markdown; charset=utf-8", "md", true}
	summaryForm  = form{"summary", "text/markdown; charset=utf-8", "md", true}
	htmlForm     = form{"html", "text/html; charset=utf-8", "html", false}
	junitForm    = form{"junit", "application/xml; charset=utf-8", "xml", true}
	tapForm      = form{"tap", "text/plain; charset=utf-8", "tap", true}
	csvForm      = form{"csv", "text/csv; charset=utf-8", "csv", false}
	xlsxForm     = form{"xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", "xlsx", false}
	pdfForm      = form{"pdf", "application/pdf", "pdf", false}
)

var (
	runForms   = []form{textForm, markdownForm, summaryForm, htmlForm, junitForm, tapForm, csvForm, xlsxForm, pdfForm}
	tableForms = []form{csvForm, xlsxForm}
)

// Inputs of operations that write something in a form.
type (
	formOf struct {
		Form string `path:"form" json:"-" description:"text, markdown, summary, html, junit, tap, csv, xlsx or pdf; of no run csv or xlsx"`
	}
	runAsIn struct {
		numberIn
		formOf
		Pictures int `query:"pictures" json:"-" description:"of html and pdf: how many at most; 20 if not given, 100 at most, -1 for none"`
	}
	causesAsIn struct {
		numberIn
		formOf
	}
	compareAsIn struct {
		api.CompareFilter
		formOf
	}
	trendsAsIn struct {
		api.TrendFilter
		formOf
	}
	labTrendsAsIn struct {
		api.LabTrendFilter
		formOf
	}
)

func (a *server) exportRoutes() {
	look := within(api.Viewer)
	add(a, "GET", "/runs/{number}/words", look, "What became of a run in a few words, for pasting",
		func(ctx context.Context, who api.Who, in *numberIn) (api.Words, error) {
			run, causes, err := a.told(ctx, who, in.Number)
			return report.Words(run, causes, ""), err
		})
	raw(a, "GET", "/runs/{number}/as/{form}", look.of(passing), "A run in a form for others", nil, a.runAs)
	raw(a, "GET", "/runs/{number}/causes/as/{form}", look.of(passing), "What the failures of a run come from, as a table", nil, a.causesAs)
	raw(a, "GET", "/compare/as/{form}", inAny(api.Viewer).of(passing), "What is different in a run against another, as a table", nil,
		func(c fiber.Ctx, who api.Who, in *compareAsIn) error {
			in.Among = who.Projects()
			return a.export(c, who, func() (writing, error) {
				got, err := a.service.Compare(c.Context(), in.CompareFilter)
				if err != nil {
					return writing{}, err
				}
				return tables(in.Form, fmt.Sprintf("run-%d-against-%d", got.Is.Number, got.Was.Number), report.Differences(got))
			})
		})
	raw(a, "GET", "/trends/as/{form}", inAny(api.Viewer).of(passing), "Trends as a table", nil,
		func(c fiber.Ctx, who api.Who, in *trendsAsIn) error {
			in.Among = who.Projects()
			return a.export(c, who, func() (writing, error) {
				got, err := a.service.Trends(c.Context(), in.TrendFilter, time.Now())
				if err != nil {
					return writing{}, err
				}
				return tables(in.Form, "trends-by-"+got.By, report.TrendRows(got))
			})
		})
	raw(a, "GET", "/trends/lab/as/{form}", inAny(api.Viewer).of(passing), "How the lab was used, as a table of days", nil,
		func(c fiber.Ctx, who api.Who, in *labTrendsAsIn) error {
			in.Among = who.Projects()
			return a.export(c, who, func() (writing, error) {
				got, err := a.service.LabTrends(c.Context(), in.LabTrendFilter, time.Now())
				if err != nil {
					return writing{}, err
				}
				return tables(in.Form, "lab", report.LabRows(got))
			})
		})
}

// told is a run with what its failures come from.
func (a *server) told(ctx context.Context, who api.Who, number int) (api.Run, api.Causes, error) {
	run, err := a.service.Run(ctx, number)
	if err != nil {
		return run, api.Causes{}, err
	}
	causes, err := a.causesFor(ctx, who, number)
	return run, causes, err
}

// causesFor are the causes of a run as somebody sees them: what is filed of them is for the
// team, and a share link shows none of it.
func (a *server) causesFor(ctx context.Context, who api.Who, number int) (api.Causes, error) {
	causes, err := a.service.Causes(ctx, number)
	for i := range causes.Causes {
		if who.Share != nil {
			causes.Causes[i].Defect = nil
		}
	}
	return causes, err
}

func formCalled(all []form, name string) (form, error) {
	if i := slices.IndexFunc(all, func(f form) bool { return f.name == name }); i >= 0 {
		return all[i], nil
	}
	names := make([]string, len(all))
	for i, f := range all {
		names[i] = f.name
	}
	return form{}, api.Errorf(api.Invalid, "form: expected %s, found %.40q", strings.Join(names, ", "), name)
}

// sent says what follows is a file of a form.
func sent(c fiber.Ctx, f form, name string) {
	how := "attachment"
	if f.shown {
		how = "inline"
	}
	c.Set(fiber.HeaderContentType, f.media)
	c.Set(fiber.HeaderContentDisposition, fmt.Sprintf(`%s; filename="%s.%s"`, how, fileSafe(name), f.suffix))
	c.Set(fiber.HeaderXContentTypeOptions, "nosniff")
	c.Set(fiber.HeaderCacheControl, "no-store")
}

// fileSafe is a name as a file may have it everywhere.
func fileSafe(name string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '.' {
			return r
		}
		return '-'
	}, name)
}

// writing is something to be written in a form, under a name.
type writing struct {
	form  form
	name  string
	write func(io.Writer) error
}

// export makes a writing and sends it as it comes. Both are a fetch of whoever asks, until
// the last of it is sent.
func (a *server) export(c fiber.Ctx, who api.Who, make func() (writing, error)) error {
	leave, err := a.enter(c, who, fetching)
	if err != nil {
		return err
	}
	d, err := make()
	if err != nil {
		leave()
		return err
	}
	sent(c, d.form, d.name)
	return c.SendStreamWriter(func(out *bufio.Writer) {
		defer leave()
		if err := d.write(out); err != nil {
			a.log.Warn("an export broke off", "name", d.name, "form", d.form.name, "error", err)
		}
	})
}

// tables is a writing of tables.
func tables(name, file string, all ...report.Table) (writing, error) {
	f, err := formCalled(tableForms, name)
	return writing{f, file, func(w io.Writer) error { return tabled(w, f, all...) }}, err
}

// tabled writes tables: the last one as CSV, which holds one, all of them as a workbook.
func tabled(w io.Writer, f form, tables ...report.Table) error {
	if f == csvForm {
		return report.CSV(w, tables[len(tables)-1])
	}
	return report.XLSX(w, tables...)
}

func (a *server) causesAs(c fiber.Ctx, who api.Who, in *causesAsIn) error {
	return a.export(c, who, func() (writing, error) {
		causes, err := a.causesFor(c.Context(), who, in.Number)
		if err != nil {
			return writing{}, err
		}
		return tables(in.Form, fmt.Sprintf("run-%d-causes", in.Number), report.CauseRows(causes.Causes))
	})
}

// usualPictures is how many pictures a page of a run has when it is not said.
const usualPictures = 20

func (a *server) runAs(c fiber.Ctx, who api.Who, in *runAsIn) error {
	return a.export(c, who, func() (writing, error) {
		f, err := formCalled(runForms, in.Form)
		if err != nil {
			return writing{}, err
		}
		if in.Pictures < -1 || in.Pictures > report.MaxPictures {
			return writing{}, api.Errorf(api.Invalid, "pictures: expected 1 to %d, or -1 for none, found %d", report.MaxPictures, in.Pictures)
		}
		if f == pdfForm && who.Share != nil { // it takes a slot
			return writing{}, api.Errorf(api.Forbidden, "this link shows %s; PDF is printed for those who have an account: take html",
				who.Share.About)
		}
		run, causes, err := a.told(c.Context(), who, in.Number)
		if err != nil {
			return writing{}, err
		}
		page := report.Page{Run: run, Causes: causes, Address: fmt.Sprintf("%s/runs/%d", c.BaseURL(), in.Number), At: time.Now(),
			Picture: a.pictures(c, in)}
		write, err := a.runIn(c.Context(), f, page)
		return writing{f, fmt.Sprintf("run-%d", in.Number), write}, err
	})
}

// runIn is what writes a run in a form. PDF is printed before anything is sent: it may be
// that nobody can, and that it is drawn without a browser.
func (a *server) runIn(ctx context.Context, f form, page report.Page) (func(io.Writer) error, error) {
	run, causes, address := page.Run, page.Causes, page.Address
	words := report.Words(run, causes, address)
	plain := func(text string) func(io.Writer) error {
		return func(w io.Writer) error { _, err := io.WriteString(w, text); return err }
	}
	switch f {
	case textForm:
		return plain(words.Text), nil
	case markdownForm:
		return plain(words.Markdown), nil
	case summaryForm:
		return func(w io.Writer) error { return report.Markdown(w, run, causes, address) }, nil
	case junitForm:
		return func(w io.Writer) error { return report.JUnit(w, run) }, nil
	case tapForm:
		return func(w io.Writer) error { return report.TAP(w, run) }, nil
	case htmlForm:
		return func(w io.Writer) error { return report.HTML(w, page) }, nil
	case pdfForm:
		var html bytes.Buffer
		page.Printed = true
		if err := report.HTML(&html, page); err != nil {
			return nil, err
		}
		printed, err := a.service.Print(ctx, html.Bytes())
		if e, ok := errors.AsType[*api.Error](err); ok && e.Kind == api.Conflict { // nobody has a Chromium that is free
			return func(w io.Writer) error { return report.PDF(w, page) }, nil
		}
		return plain(string(printed)), err
	}
	return func(w io.Writer) error {
		return tabled(w, f, report.About(run, words), report.Panes(run), report.CauseRows(causes.Causes), report.Results(run))
	}, nil
}

// pictures finds pictures of what did not pass, as many as are wanted. It outlives the
// request: a page is sent after its handler has returned.
func (a *server) pictures(c fiber.Ctx, in *runAsIn) func(pane, test int) ([]byte, string) {
	left, number, ctx := in.Pictures, in.Number, context.WithoutCancel(c.Context())
	if left == 0 {
		left = usualPictures
	}
	return func(pane, test int) ([]byte, string) {
		if left <= 0 {
			return nil, ""
		}
		body, media, err := a.service.FailurePicture(ctx, number, pane, test)
		if err != nil {
			a.log.Warn("a picture is left out of a page", "run", number, "error", err)
			return nil, ""
		}
		if body != nil {
			left--
		}
		return body, media
	}
}
