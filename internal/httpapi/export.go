package httpapi

import (
	"bufio"
	"bytes"
	"context"
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
		func(ctx context.Context, _ api.Who, in *numberIn) (api.Words, error) {
			run, causes, err := a.told(ctx, in.Number)
			return report.Words(run, causes, ""), err
		})
	raw(a, "GET", "/runs/{number}/as/{form}", look.of(fetching), "A run in a form for others", nil, a.runAs)
	raw(a, "GET", "/runs/{number}/causes/as/{form}", look.of(fetching), "What the failures of a run come from, as a table", nil, a.causesAs)
	raw(a, "GET", "/compare/as/{form}", inAny(api.Viewer).of(fetching), "What is different in a run against another, as a table", nil,
		func(c fiber.Ctx, who api.Who, in *compareAsIn) error {
			in.Among = who.Projects()
			got, err := a.service.Compare(c.Context(), in.CompareFilter)
			if err != nil {
				return err
			}
			return a.tables(c, in.Form, fmt.Sprintf("run-%d-against-%d", got.Is.Number, got.Was.Number), report.Differences(got))
		})
	raw(a, "GET", "/trends/as/{form}", inAny(api.Viewer).of(fetching), "Trends as a table", nil,
		func(c fiber.Ctx, who api.Who, in *trendsAsIn) error {
			in.Among = who.Projects()
			got, err := a.service.Trends(c.Context(), in.TrendFilter, time.Now())
			if err != nil {
				return err
			}
			return a.tables(c, in.Form, "trends-by-"+got.By, report.TrendRows(got))
		})
	raw(a, "GET", "/trends/lab/as/{form}", inAny(api.Viewer).of(fetching), "How the lab was used, as a table of days", nil,
		func(c fiber.Ctx, who api.Who, in *labTrendsAsIn) error {
			in.Among = who.Projects()
			got, err := a.service.LabTrends(c.Context(), in.LabTrendFilter, time.Now())
			if err != nil {
				return err
			}
			return a.tables(c, in.Form, "lab", report.LabRows(got))
		})
}

// told is a run with what its failures come from.
func (a *server) told(ctx context.Context, number int) (api.Run, api.Causes, error) {
	run, err := a.service.Run(ctx, number)
	if err != nil {
		return run, api.Causes{}, err
	}
	causes, err := a.service.Causes(ctx, number)
	return run, causes, err
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

// stream sends what write writes, as it comes.
func (a *server) stream(c fiber.Ctx, f form, name string, write func(io.Writer) error) error {
	sent(c, f, name)
	return c.SendStreamWriter(func(out *bufio.Writer) {
		if err := write(out); err != nil {
			a.log.Warn("an export broke off", "name", name, "form", f.name, "error", err)
		}
	})
}

func (a *server) tables(c fiber.Ctx, name, file string, tables ...report.Table) error {
	f, err := formCalled(tableForms, name)
	if err != nil {
		return err
	}
	return a.stream(c, f, file, func(w io.Writer) error { return tabled(w, f, tables...) })
}

// tabled writes tables: the last one as CSV, which holds one, all of them as a workbook.
func tabled(w io.Writer, f form, tables ...report.Table) error {
	if f == csvForm {
		return report.CSV(w, tables[len(tables)-1])
	}
	return report.XLSX(w, tables...)
}

func (a *server) causesAs(c fiber.Ctx, _ api.Who, in *causesAsIn) error {
	causes, err := a.service.Causes(c.Context(), in.Number)
	if err != nil {
		return err
	}
	return a.tables(c, in.Form, fmt.Sprintf("run-%d-causes", in.Number), report.CauseRows(causes.Causes))
}

// usualPictures is how many pictures a page of a run has when it is not said.
const usualPictures = 20

func (a *server) runAs(c fiber.Ctx, _ api.Who, in *runAsIn) error {
	f, err := formCalled(runForms, in.Form)
	if err != nil {
		return err
	}
	if in.Pictures < -1 || in.Pictures > report.MaxPictures {
		return api.Errorf(api.Invalid, "pictures: expected 1 to %d, or -1 for none, found %d", report.MaxPictures, in.Pictures)
	}
	run, causes, err := a.told(c.Context(), in.Number)
	if err != nil {
		return err
	}
	name, address := fmt.Sprintf("run-%d", in.Number), fmt.Sprintf("%s/runs/%d", c.BaseURL(), in.Number)
	words := report.Words(run, causes, address)
	page := report.Page{Run: run, Causes: causes, Address: address, At: time.Now(), Picture: a.pictures(c, in)}
	if f == pdfForm {
		var html bytes.Buffer
		if err := report.HTML(&html, page); err != nil {
			return err
		}
		pdf, err := a.service.Print(c.Context(), html.Bytes())
		if err != nil {
			return err
		}
		sent(c, f, name)
		return c.Send(pdf)
	}
	return a.stream(c, f, name, func(w io.Writer) error {
		switch f {
		case textForm:
			_, err := io.WriteString(w, words.Text)
			return err
		case markdownForm:
			_, err := io.WriteString(w, words.Markdown)
			return err
		case summaryForm:
			return report.Markdown(w, run, causes, address)
		case junitForm:
			return report.JUnit(w, run)
		case tapForm:
			return report.TAP(w, run)
		case htmlForm:
			return report.HTML(w, page)
		}
		tables := []report.Table{report.About(run, words), report.Panes(run), report.CauseRows(causes.Causes), report.Results(run)}
		return tabled(w, f, tables...)
	})
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
