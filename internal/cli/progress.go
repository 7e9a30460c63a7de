package cli

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

// progress shows a run as it goes: on a terminal one live line a combination,
// elsewhere a line whenever a combination ends.
type progress struct {
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

func newProgress(w io.Writer, watch, quiet bool) *progress {
	p := &progress{w: w, watch: watch, quiet: quiet, told: map[int]bool{}, tests: map[string]bool{}}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) && !watch && !quiet {
		p.bars = mpb.New(mpb.WithOutput(w), mpb.WithAutoRefresh())
	}
	return p
}

// whole takes the run as it stands.
func (p *progress) whole(run api.Run) {
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

// dealt is how many tests a pane has in its run.
func dealt(p api.Pane) (n int) {
	for _, k := range p.Counts {
		n += k
	}
	return n
}

// line is one combination: its panes of glass, its counts, its agents.
func (p *progress) line(i, width, tests int) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	pane := p.panes[i]
	glass := ""
	for _, v := range []verdict.Verdict{verdict.Passed, verdict.Failed, verdict.Flaky, verdict.LabFault, verdict.Ended, verdict.Unsupported, verdict.Skipped, verdict.Pending} {
		for range pane.Counts[v] * min(tests, 30) / max(1, tests) {
			glass += paint(v, shapes[v])
		}
	}
	agent := ""
	if n := len(pane.Agents); n > 0 && pane.State == api.Running {
		agent = faint("on " + pane.Agents[n-1])
	}
	return fmt.Sprintf("%-*s  %s  %s  %s", width, pane.Label, glass, counts(pane.Counts), agent)
}

// advance completes a pane's line, which stops its being drawn anew.
func (p *progress) advance(i int) {
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

func (p *progress) event(e api.Event, run api.Run) {
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
		fmt.Fprintf(p.w, "%s  %s  %s  %s\n", paint(c.Verdict, shapes[c.Verdict]+" "+c.Verdict.Words()), p.panes[c.Pane].Label, run.Tests[c.Test].Name,
			faint(millis(c.TookMS)))
	}
	for _, pane := range e.Panes {
		p.tell(pane)
	}
}

func (p *progress) tell(pane api.Pane) {
	if p.quiet || pane.State != api.Ended || p.told[pane.Index] {
		return
	}
	p.told[pane.Index] = true
	fmt.Fprintf(p.w, "%s %s: %s\n", paint(pane.Verdict, shapes[pane.Verdict]), pane.Label, counts(pane.Counts))
}

// done leaves the last state on the screen.
func (p *progress) done() {
	if p.bars == nil {
		return
	}
	for i, l := range p.lines {
		p.advance(i)
		l.Abort(false) // a run that was interrupted has open lines
	}
	p.bars.Wait()
}
