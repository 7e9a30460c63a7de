package term

import (
	"fmt"
	"io"
	"os"
	"sync"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Progress shows a run as it goes: on a terminal one live line a combination,
// elsewhere a line whenever a combination ends.
type Progress struct {
	w     io.Writer
	watch bool
	quiet bool
	bars  *mpb.Progress

	mu    sync.Mutex
	panes []api.Pane
	lines []*mpb.Bar
	told  map[int]bool
	tests map[string]bool
}

// NewProgress tells of a run on w: with watch each pane has a line that is drawn
// anew, without it each pane a line once it is over; quiet says nothing.
func NewProgress(w io.Writer, watch, quiet bool) *Progress {
	p := &Progress{w: w, watch: watch, quiet: quiet, told: map[int]bool{}, tests: map[string]bool{}}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) && !watch && !quiet {
		p.bars = mpb.New(mpb.WithOutput(w), mpb.WithAutoRefresh())
	}
	return p
}

// Whole takes the run as it stands.
func (p *Progress) Whole(run api.Run) {
	p.mu.Lock()
	first := p.panes == nil
	p.panes = run.Panes
	p.mu.Unlock()
	if p.bars == nil {
		for i := range run.Panes {
			p.tell(run.Panes[i])
		}
		return
	}
	width := 0
	for _, pane := range run.Panes {
		width = max(width, len([]rune(pane.Label)))
	}
	for i := range run.Panes {
		if first {
			p.lines = append(p.lines, p.bars.New(int64(dealt(run.Panes[i])), mpb.NopStyle(), mpb.PrependDecorators(
				decor.Any(func(decor.Statistics) string { return p.line(i, width, len(run.Tests)) }))))
		}
		p.advance(i)
	}
}

// line is one combination: its panes of glass, its counts, its agents.
func (p *Progress) line(i, width, tests int) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	pane := p.panes[i]
	glass := ""
	for _, v := range []verdict.Verdict{verdict.Passed, verdict.Failed, verdict.Flaky, verdict.LabFault, verdict.Aside, verdict.Ended,
		verdict.Unsupported, verdict.Skipped, verdict.Pending} {
		for range pane.Counts[v] * min(tests, 30) / max(1, tests) {
			glass += Paint(v, Shapes[v])
		}
	}
	agent := ""
	if n := len(pane.Agents); n > 0 && pane.State == api.Running {
		agent = Faint("on " + pane.Agents[n-1])
	}
	return fmt.Sprintf("%-*s  %s  %s  %s", width, pane.Label, glass, Counts(pane.Counts), agent)
}

// advance completes a pane's line, which stops its being drawn anew.
func (p *Progress) advance(i int) {
	p.mu.Lock()
	pane := p.panes[i]
	p.mu.Unlock()
	done := 0
	for v, n := range pane.Counts {
		if v != verdict.Pending {
			done += n
		}
	}
	p.lines[i].SetCurrent(int64(done))
}

func (p *Progress) Event(e api.Event, run api.Run) {
	for _, pane := range e.Panes {
		p.mu.Lock()
		p.panes[pane.Index] = pane
		p.mu.Unlock()
	}
	if p.bars != nil {
		for _, pane := range e.Panes {
			p.advance(pane.Index)
		}
		return
	}
	for _, c := range e.Cells {
		key := fmt.Sprint(c.Pane, "/", c.Test)
		if !p.watch || p.quiet || c.State != api.Ended || p.tests[key] {
			continue
		}
		p.tests[key] = true
		fmt.Fprintf(p.w, "%s  %s  %s  %s\n", Paint(c.Verdict, Shapes[c.Verdict]+" "+c.Verdict.Words()),
			p.panes[c.Pane].Label, run.Tests[c.Test].Name,
			Faint(Millis(c.TookMS)))
	}
	for _, pane := range e.Panes {
		p.tell(pane)
	}
}

func (p *Progress) tell(pane api.Pane) {
	if p.quiet || pane.State != api.Ended || p.told[pane.Index] {
		return
	}
	p.told[pane.Index] = true
	fmt.Fprintf(p.w, "%s %s: %s\n", Paint(pane.Verdict, Shapes[pane.Verdict]), pane.Label, Counts(pane.Counts))
}

// Done leaves the last state on the screen.
func (p *Progress) Done() {
	if p.bars == nil {
		return
	}
	for i, l := range p.lines {
		p.advance(i)
		l.Abort(false) // a run that was interrupted has open lines
	}
	p.bars.Wait()
}
