package results

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/recording"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// Bounds of what is looked at for evidence: causes of a run, cells of each that fail and
// that pass, bytes of a recording, things noticed in one.
const (
	explained   = 6
	looked      = 4
	maxTried    = 12 // cells of each, whether anything was kept of them or not
	maxEvidence = 4 << 20
	maxNoticed  = 200
)

// explain looks through recordings of a cause for what comes only where it fails.
func (r *Results) explain(ctx context.Context, v *api.Run, c *triage.Cause) error {
	failing, tests := [][]triage.Noticed{}, map[int]bool{}
	var slowly, quickly [][]triage.Timing
	for i, at := range c.Cells {
		tests[at.Test] = true
		if len(failing) == looked || i >= maxTried {
			continue
		}
		seen, times, kept, err := r.noticed(ctx, v.Number, at, func(a store.Attempt) bool { return a.Verdict != string(verdict.Passed) })
		if err != nil {
			return err
		}
		if kept {
			failing = append(failing, seen)
		}
		if times != nil {
			slowly = append(slowly, times)
		}
	}
	passing, tried := [][]triage.Noticed{}, 0
	for i, row := range v.Cells {
		for j, cell := range row {
			if !tests[j] || cell.Verdict != verdict.Passed || len(passing) == looked || tried == maxTried {
				continue
			}
			tried++
			seen, times, kept, err := r.noticed(ctx, v.Number, triage.At{Pane: i, Test: j}, func(store.Attempt) bool { return true })
			if err != nil {
				return err
			}
			if kept {
				passing = append(passing, seen)
			}
			if times != nil {
				quickly = append(quickly, times)
			}
		}
	}
	all := append(triage.Telling(failing, passing), triage.Slow(slowly, quickly)...)
	pages, err := r.unlikePages(ctx, v, c)
	if err != nil {
		return err
	}
	triage.Explain(c, append(all, pages...))
	return nil
}

// Bounds of what pages tell: passing cells that a failing one is held against, and what is
// said of one.
const (
	partners  = 3
	maxUnlike = 3
)

// outright says of two pages what a difference says of the one here and the one there.
var outright = strings.NewReplacer("\n", " ", " there only", " only where it passes", " here only", " only where it fails",
	"be seen here:", "be seen:", "seen here;", "seen where it fails;", "covered here", "covered", "edge here", "edge",
	"here and", "where it fails and", "; there", "; where it passes", "covered there", "covered where it passes", " there", " where it passes")

// unlikePages says what pages were made of where cells of a cause failed, and were not at the
// same step where the test passed: in each of the likest panes of which the page was kept.
func (r *Results) unlikePages(ctx context.Context, v *api.Run, c *triage.Cause) ([]triage.Evidence, error) {
	var failing [][]triage.Noticed
	held := partners
	for _, at := range c.Cells[:min(len(c.Cells), looked)] {
		a, here, err := r.pageAt(ctx, v.Number, at, "")
		if err != nil {
			return nil, err
		}
		if here == nil {
			continue
		}
		seen, against := map[string]int{}, 0
		var order []triage.Noticed
		for _, pane := range likest(v, at.Test, at.Pane, func(v verdict.Verdict) bool { return v == verdict.Passed }) {
			if against == partners {
				break
			}
			_, there, err := r.pageAt(ctx, v.Number, triage.At{Pane: pane, Test: at.Test}, a.title)
			if err != nil {
				return nil, err
			}
			if there == nil {
				continue
			}
			against++
			for _, d := range likeness.Differences(here, there, a.title) {
				text := d.Element + " " + outright.Replace(d.Text)
				if d.Kind == "moved" && !d.About {
					continue
				}
				if seen[text]++; against == 1 {
					order = append(order, triage.Noticed{Kind: triage.InPage, Text: text, Attempt: a.id})
				}
			}
		}
		if against == 0 {
			continue
		}
		held = min(held, against)
		order = slices.DeleteFunc(order, func(x triage.Noticed) bool { return seen[x.Text] < against })
		failing = append(failing, order[:min(len(order), maxUnlike)])
	}
	if len(failing) == 0 {
		return nil, nil
	}
	return triage.Telling(failing, make([][]triage.Noticed, held)), nil
}

// pageOf is the step of an attempt at which a page was kept.
type pageOf struct{ id, title string }

// pageAt reads what the page was made of at a step of the newest attempt of a cell: the one of
// a title, or with "" the one that failed. The page is nil where it was not kept.
func (r *Results) pageAt(ctx context.Context, run int, at triage.At, title string) (pageOf, *likeness.Page, error) {
	fail := func(err error) (pageOf, *likeness.Page, error) { return pageOf{}, nil, err }
	attempts, err := r.store.AttemptsIn(ctx, run, at.Pane, at.Test)
	if err != nil {
		return fail(err)
	}
	for _, head := range slices.Backward(attempts) {
		if (head.Verdict == string(verdict.Passed)) != (title != "") {
			continue
		}
		a, err := r.store.AttemptByID(ctx, head.ID)
		if err != nil {
			return fail(err)
		}
		d, err := walls.Unpack(a.Detail)
		if err != nil {
			return fail(fmt.Errorf("records of attempt %s: %w", a.ID, err))
		}
		i := slices.IndexFunc(d.Steps, func(s attempt.Step) bool {
			return s.Page != "" && (s.Title == title || title == "" && s.State == attempt.Failed)
		})
		if i < 0 {
			return fail(nil)
		}
		files, err := r.store.FilesOf(ctx, []string{a.ID})
		if err != nil {
			return fail(err)
		}
		j := slices.IndexFunc(files, func(f store.File) bool { return f.Name == d.Steps[i].Page })
		if j < 0 {
			return fail(nil)
		}
		page, err := r.readPage(files[j])
		return pageOf{a.ID, d.Steps[i].Title}, page, err
	}
	return fail(nil)
}

// noticed reads what was recorded of the newest attempt of a cell that is wanted; kept is
// false where neither console nor network were kept of it, times are nil where the latter
// was not.
func (r *Results) noticed(ctx context.Context, run int, at triage.At, wanted func(store.Attempt) bool) (all []triage.Noticed,
	times []triage.Timing, kept bool, err error) {
	attempts, err := r.store.AttemptsIn(ctx, run, at.Pane, at.Test)
	if err != nil {
		return nil, nil, false, err
	}
	for _, a := range slices.Backward(attempts) {
		if !wanted(a) {
			continue
		}
		files, err := r.store.FilesOf(ctx, []string{a.ID})
		if err != nil {
			return nil, nil, false, err
		}
		for _, f := range files {
			if f.Kind != string(record.Console) && f.Kind != string(record.Network) {
				continue
			}
			seen, took, err := r.readNoticed(f)
			if err != nil {
				return nil, nil, false, err
			}
			kept = true
			all, times = append(all, seen...), append(times, took...)
		}
		return all, times, kept, nil
	}
	return nil, nil, false, nil
}

func (r *Results) readNoticed(f store.File) (all []triage.Noticed, times []triage.Timing, err error) {
	body, err := r.blobs.Get(f.Hash)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil // it was not kept for ever
	}
	if err != nil {
		return nil, nil, err
	}
	defer body.Close()
	in := io.LimitReader(body, maxEvidence)
	x := triage.Noticed{Attempt: f.Attempt}
	if f.Session > 0 {
		x.Session = attempt.Session(f.Attempt, f.Session)
	}
	if f.Kind == string(record.Console) {
		return inConsole(in, x), nil, nil
	}
	all, times = inNetwork(in, x)
	return all, times, nil
}

// inConsole reads the errors of a console.
func inConsole(in io.Reader, x triage.Noticed) (all []triage.Noticed) {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, maxEvidence)
	for lines.Scan() && len(all) < maxNoticed {
		var l recording.Line
		if json.Unmarshal(lines.Bytes(), &l) != nil || l.Level != "error" {
			continue
		}
		x.Kind, x.Text, x.AtMS, x.Place = triage.InConsole, l.Text, l.AtMS, ""
		if name := fileOf(l.Address); name != "" {
			x.Place = fmt.Sprintf("%s:%d", name, l.Row)
		}
		all = append(all, x)
	}
	return all
}

// inNetwork reads the requests that failed, and what all of them took.
func inNetwork(in io.Reader, x triage.Noticed) (all []triage.Noticed, times []triage.Timing) {
	var har struct {
		Log struct {
			Entries []struct {
				Time    float64 `json:"time"`
				Request struct {
					Method string `json:"method"`
					URL    string `json:"url"`
				} `json:"request"`
				Response struct {
					Status int `json:"status"`
				} `json:"response"`
			} `json:"entries"`
		} `json:"log"`
	}
	if json.NewDecoder(in).Decode(&har) != nil {
		return nil, nil
	}
	for _, e := range har.Log.Entries {
		u, err := url.Parse(e.Request.URL)
		if err != nil {
			continue
		}
		if len(times) < maxNoticed {
			x.Kind, x.Text = triage.InTime, e.Request.Method+" "+u.Path
			times = append(times, triage.Timing{Noticed: x, MS: e.Time})
		}
		if len(all) == maxNoticed || e.Response.Status < 400 || path.Base(u.Path) == "favicon.ico" {
			continue
		}
		x.Kind, x.Text = triage.InNetwork, fmt.Sprintf("%s %s is answered with status %d", e.Request.Method, u.Path, e.Response.Status)
		all = append(all, x)
	}
	return all, times
}

// fileOf is the name of a script by its address.
func fileOf(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Path == "" || u.Path == "/" {
		return ""
	}
	return path.Base(u.Path)
}
