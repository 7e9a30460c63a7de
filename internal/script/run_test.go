package script

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/core/verdict"
)

// page is a Browser whose elements are set by the test; looks lets them change
// from one look to the next.
type page struct {
	looks   []Sight // one for each look, the last one for ever
	looked  int
	done    []string
	text    string
	address string
	fail    error
	stumble int // so many actions fail in a way that may pass
	saved   []string

	elements []likeness.Portrait // of its survey
	found    []int
	surveys  int
	lookAt   func(Query) Sight // in place of looks
}

func (p *page) act(format string, args ...any) error {
	if p.fail != nil {
		return p.fail
	}
	if p.stumble--; p.stumble >= 0 {
		return Retry(errors.New("the page went away"))
	}
	p.done = append(p.done, fmt.Sprintf(format, args...))
	return nil
}

func (p *page) Visit(_ context.Context, a string) error { p.address = a; return p.act("visit %s", a) }
func (p *page) Look(_ context.Context, q Query) (Sight, error) {
	if p.lookAt != nil {
		return p.lookAt(q), nil
	}
	s := p.looks[min(p.looked, len(p.looks)-1)]
	p.looked++
	if q.Within != nil && s.Within == 0 {
		s.Within = 1
	}
	return s, nil
}
func (p *page) Click(_ context.Context, m Match) error { return p.act("click %s", m.Ref) }
func (p *page) Enter(_ context.Context, m Match, t string) error {
	return p.act("enter %s %s", m.Ref, t)
}
func (p *page) Choose(_ context.Context, m Match, t string) error {
	return p.act("choose %s %s", m.Ref, t)
}
func (p *page) Press(_ context.Context, _ *Match, ks []Key) error { return p.act("press %d", len(ks)) }
func (p *page) Hover(_ context.Context, m Match) error            { return p.act("hover %s", m.Ref) }
func (p *page) Upload(_ context.Context, m Match, f string) error { return p.act("upload %s", f) }
func (p *page) Network(_ context.Context, s traffic.Shape) error  { return p.act("network %s", s) }
func (p *page) ScrollPage(_ context.Context, w string) error      { return p.act("scroll %s", w) }
func (p *page) Dialog(_ context.Context, yes bool, _ *string) error {
	return p.act("dialog %t", yes)
}
func (p *page) Read(_ context.Context, m Match, _, _ string) (string, error) { return m.Text, nil }
func (p *page) PageText(context.Context) (string, error)                     { return p.text, nil }
func (p *page) Address(context.Context) (string, error)                      { return p.address, nil }
func (p *page) Title(context.Context) (string, error)                        { return "Harbour", nil }
func (p *page) Screenshot(context.Context) ([]byte, error)                   { return []byte("png"), nil }

func (p *page) Survey(_ context.Context, _ Query, source bool) (Survey, error) {
	p.surveys++
	return Survey{Page: likeness.Page{Elements: p.elements}, Found: p.found}, nil
}

type notes struct {
	steps []attempt.Step
	shots []string
}

func (n *notes) Page(name string, _ likeness.Page) string { return name + ".page.json" }

func (n *notes) StepDone(r attempt.Step) { n.steps = append(n.steps, r) }
func (n *notes) Shot(name string, _ []byte) string {
	n.shots = append(n.shots, name)
	return name + ".png"
}

func seen(ms ...Match) Sight {
	s := Sight{Matches: ms, Total: len(ms)}
	for _, m := range ms {
		if m.Visible {
			s.Visible++
		}
	}
	return s
}

var (
	shown  = Match{Ref: "e1", Tag: "button", Text: "Hold", Visible: true, X: 1, Y: 2, W: 30, H: 40}
	hidden = Match{Ref: "e2", Tag: "a", Text: "Hold", Hidden: "display: none on its ancestor <nav class=wide>"}
)

func run(t *testing.T, p *page, steps string, set Setting) (Outcome, *notes) {
	t.Helper()
	s, err := Parse("t.pane.yaml", []byte("name: T\nwait: 60ms\nsteps:\n"+steps), nil)
	require.NoError(t, err)
	n := &notes{}
	if set.Base == "" {
		set.Base = "http://desk.example"
	}
	return Run(t.Context(), s, p, set, n), n
}

func TestActionsAreCarriedOutInOrder(t *testing.T) {
	p := &page{looks: []Sight{seen(shown)}, text: "Berth B3 is hold"}
	out, n := run(t, p, `
  - visit: /berths
  - click: Hold
  - enter: {at: {label: Boat}, text: "${vars.boat}"}
  - choose: {at: {label: Nights}, option: three}
  - hover: Hold
  - upload: {at: {label: Paper}, file: a.txt}
  - press: Control+a
  - scroll: bottom
  - dialog: dismiss
  - keep: {as: word, at: Hold}
  - capture: there
  - expect: "Berth B3 is ${lower(kept.word)}"
  - if: browser == "firefox"
    click: Never
  - expect: {address: /berths}
  - network: down=1500, delay=120
`, Setting{Root: "/bundle", Scope: Scope{Browser: "chromium", Vars: map[string]string{"boat": "Osprey"}}})
	require.Equal(t, verdict.Passed, out.Verdict, out.Message)
	assert.Equal(t, []string{"visit http://desk.example/berths", "click e1", "enter e1 Osprey", "choose e1 three", "hover e1",
		"upload /bundle/a.txt", "press 2", "scroll bottom", "dialog false", "network down=1500 delay=120"}, p.done)
	assert.Equal(t, []string{"there"}, n.shots)
	assert.Equal(t, "there.png", out.Steps[10].Shot)
	assert.Equal(t, attempt.Skipped, out.Steps[12].State)
}

func TestErrorsListTheMatches(t *testing.T) {
	disabled, moving, covered := shown, shown, shown
	disabled.Off, moving.Moving, covered.Covered = true, true, "<div class=veil>"
	for name, tc := range map[string]struct {
		sight Sight
		want  string
	}{
		"none":   {seen(), `reads "Hold": no element matches (waited 60ms)`},
		"hidden": {seen(hidden), "1 element matches, none visible\n  1. <a> \"Hold\" hidden: display: none on its ancestor <nav class=wide>"},
		"several": {seen(shown, shown), "2 visible elements match and 1 is wanted; say which with within, name or number\n  1. <button> " +
			"\"Hold\" visible at 1,2, 30×40\n  2."},
		"disabled": {seen(disabled), "is disabled"},
		"moving":   {seen(moving), "does not come to rest"},
		"covered":  {seen(covered), "is covered by <div class=veil>"},
	} {
		t.Run(name, func(t *testing.T) {
			out, n := run(t, &page{looks: []Sight{tc.sight}}, "  - click: Hold\n  - click: Never\n", Setting{})
			assert.Equal(t, verdict.Failed, out.Verdict)
			assert.Contains(t, out.Message, tc.want)
			assert.Equal(t, []attempt.State{attempt.Failed, attempt.Unrun}, []attempt.State{out.Steps[0].State, out.Steps[1].State})
			assert.Equal(t, []string{"failure"}, n.shots)
			assert.Equal(t, "failure.png", out.Steps[0].Shot)
		})
	}
}

func TestAHiddenCopyDoesNotMatter(t *testing.T) {
	p := &page{looks: []Sight{seen(hidden, shown)}}
	out, _ := run(t, p, "  - click: Hold\n", Setting{})
	assert.Equal(t, verdict.Passed, out.Verdict, out.Message)
	assert.Equal(t, []string{"click e1"}, p.done)
}

func TestStepsWaitForTheirElement(t *testing.T) {
	p := &page{looks: []Sight{seen(), seen(hidden), seen(shown)}}
	out, _ := run(t, p, "  - click: Hold\n    wait: 10s\n", Setting{})
	assert.Equal(t, verdict.Passed, out.Verdict, out.Message)
	assert.Equal(t, 3, p.looked)
}

func TestWhatMayPassIsTriedAgainInEveryStep(t *testing.T) {
	for _, step := range []string{"visit: /", "click: Hold", "press: Enter", "scroll: top", "dialog: accept", "hover: Hold"} {
		p := &page{looks: []Sight{seen(shown)}, stumble: 2}
		out, _ := run(t, p, "  - "+step+"\n    wait: 10s\n", Setting{}) // however busy the machine is
		assert.Equal(t, verdict.Passed, out.Verdict, "%s: %s", step, out.Message)
	}
}

func TestNumberAndWithin(t *testing.T) {
	two := shown
	two.Ref = "e9"
	p := &page{looks: []Sight{seen(shown, hidden, two)}}
	out, _ := run(t, p, "  - click: {reads: Hold, number: 2}\n    within: {css: form}\n", Setting{})
	assert.Equal(t, verdict.Passed, out.Verdict, out.Message)
	assert.Equal(t, []string{"click e9"}, p.done)
	out, _ = run(t, &page{looks: []Sight{{Within: 2}}}, "  - click: Hold\n    within: {css: form}\n", Setting{})
	assert.Contains(t, out.Message, `within css "form": 2 visible elements match and 1 is wanted`)
}

func TestExpectations(t *testing.T) {
	long := strings.Repeat("tide ", 200)
	for step, want := range map[string]string{
		"expect: gone":                                   `the page's text does not contain "gone"; it is "high water"`,
		"expect: {title: Other}":                         `title is not "Other"; it is "Harbour"`,
		"expect: {title: {matches: '^H'}}":               "",
		"expect: {shown: Hold}":                          "",
		"expect: {gone: Hold}":                           "expected to be gone, 1 visible",
		"expect: {number: 2, of: Hold}":                  "expected 2 visible, found 1",
		"expect: {reads: {equals: Hold}, at: {css: p}}":  "",
		"expect: {holds: Let go, at: {css: p}}":          `is not "Let go"; it is "Hold"`,
		"expect: {reads: a}\n    within: {css: p}":       `text of css "p" does not contain "a"; it is "Hold"`,
		"keep: {as: x, at: {css: p}}":                    "",
		`expect: {reads: {contains: "high   water"}}`:    "",
		`expect: {reads: "${kept.never}"}`:               "kept.never is not set",
		"visit: ${vars.nothing}":                         "vars.nothing is not set",
		`upload: {at: {css: i}, file: "${'../' + 'x'}"}`: "lies outside the project",
	} {
		out, _ := run(t, &page{looks: []Sight{seen(shown)}, text: "high  water\n"}, "  - "+step+"\n", Setting{})
		if want == "" {
			assert.Equal(t, verdict.Passed, out.Verdict, "%s: %s", step, out.Message)
		} else {
			assert.Contains(t, out.Message, want, step)
		}
	}
	out, _ := run(t, &page{looks: []Sight{seen(shown)}, text: long}, "  - expect: gone\n", Setting{})
	assert.Less(t, len(out.Message), 400, "long texts are cut")
}

func TestTheLabsFaultIsNoFailure(t *testing.T) {
	p := &page{looks: []Sight{seen(shown)}, fail: &LabError{Err: errors.New("chromedriver is gone")}}
	out, _ := run(t, p, "  - visit: /\n", Setting{})
	assert.Equal(t, verdict.LabFault, out.Verdict)
	assert.Equal(t, attempt.LabFault, out.Steps[0].State)
}

func TestTimeRunsOut(t *testing.T) {
	s, err := Parse("t", []byte("name: T\nwait: 1h\nsteps:\n  - click: Hold\n"), nil)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Millisecond)
	defer cancel()
	out := Run(ctx, s, &page{looks: []Sight{seen()}}, Setting{}, &notes{})
	assert.Equal(t, verdict.Failed, out.Verdict)
	assert.Contains(t, out.Message, "the test's time ran out in this step")
}

func TestResolve(t *testing.T) {
	for _, tc := range [][3]string{
		{"http://a.example/b/", "/c?d", "http://a.example/c?d"}, {"http://a.example", "", "http://a.example"},
		{"http://a.example", "https://z.example/", "https://z.example/"},
	} {
		got, err := Resolve(tc[0], tc[1])
		require.NoError(t, err)
		assert.Equal(t, tc[2], got)
	}
	_, err := Resolve("", "/c")
	assert.ErrorContains(t, err, "no base address")
}

func (p *page) Frame(_ context.Context, m *Match) error {
	if m == nil {
		return p.act("out")
	}
	return p.act("into %s", m.Ref)
}
func (p *page) Window(_ context.Context, which, want string) error {
	return p.act("window %s %s", which, want)
}
func (p *page) Saved(context.Context) ([]string, error) { return p.saved, nil }

func TestAStepActsWithinFrames(t *testing.T) {
	frame := Match{Ref: "f1", Tag: "iframe", Visible: true}
	p := &page{looks: []Sight{seen(frame), seen(shown)}}
	out, _ := run(t, p, "  - {click: Hold, frame: {css: iframe}}\n  - window: new\n  - window: {title: \"${vars.t}\"}\n", Setting{
		Scope: Scope{Vars: map[string]string{"t": "Tides"}}})
	require.Equal(t, verdict.Passed, out.Verdict, out.Message)
	assert.Equal(t, []string{"out", "into f1", "click e1", "out", "window new ", "window title Tides"}, p.done)

	out, _ = run(t, &page{looks: []Sight{seen(shown)}}, "  - {click: Hold, frame: [{css: iframe}]}\n", Setting{})
	assert.Equal(t, verdict.Failed, out.Verdict)
	assert.Contains(t, out.Message, "is no frame")
}

func TestAFileIsWaitedFor(t *testing.T) {
	p := &page{looks: []Sight{{}}, saved: []string{"berths.txt"}}
	out, _ := run(t, p, "  - expect: {saved: \"*.txt\"}\n", Setting{})
	assert.Equal(t, verdict.Passed, out.Verdict, out.Message)
	out, _ = run(t, p, "  - expect: {saved: \"*.csv\"}\n", Setting{})
	assert.Contains(t, out.Message, `no file "*.csv"; the browser has saved ["berths.txt"] (waited 60ms)`)
	out, _ = run(t, p, "  - expect: {saved: \"[\"}\n", Setting{})
	assert.Contains(t, out.Message, "syntax error in pattern")
}
