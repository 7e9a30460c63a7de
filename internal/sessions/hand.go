package sessions

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"unicode/utf8"

	"parallelpane/internal/core/record"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
	"parallelpane/internal/webdriver"
)

// keys are the keys that can be pressed by name, with their code points (W3C
// WebDriver, section 17.4.2 "Keyboard actions").
var keys = map[string]string{
	"Backspace": "\ue003", "Tab": "\ue004", "Enter": "\ue007", "Escape": "\ue00c", "PageUp": "\ue00e", "PageDown": "\ue00f", "End": "\ue010",
	"Home": "\ue011", "ArrowLeft": "\ue012", "ArrowUp": "\ue013", "ArrowRight": "\ue014", "ArrowDown": "\ue015", "Delete": "\ue017",
}

const maxTyped = 2000 // characters at once

// ByHand carries out what a person does. What it says is for that person: with
// source, the page's.
func (s *Session) ByHand(ctx context.Context, h link.Hand) (said string, err error) {
	switch h.Do {
	case "click":
		x, y, err := s.place(ctx, h)
		if err != nil {
			return "", err
		}
		return "", s.Perform(ctx, webdriver.Action{Type: "pointer", ID: "hand pointer", Parameters: map[string]any{"pointerType": "mouse"},
			Actions: []map[string]any{
				{"type": "pointerMove", "duration": 0, "x": x, "y": y, "origin": "viewport"}, {"type": "pointerDown", "button": 0},
				{"type": "pointerUp", "button": 0}}})
	case "scroll":
		x, y, err := s.place(ctx, h)
		if err != nil {
			return "", err
		}
		return "", s.Perform(ctx, webdriver.Action{Type: "wheel", ID: "hand wheel", Actions: []map[string]any{
			{"type": "scroll", "duration": 0, "x": x, "y": y, "deltaX": math.Round(h.DeltaX),
				"deltaY": math.Round(h.DeltaY), "origin": "viewport"}}})
	case "type":
		if n := utf8.RuneCountInString(h.Text); n == 0 || n > maxTyped {
			return "", fmt.Errorf("text: expected 1 to %d characters, found %d", maxTyped, n)
		}
		a := webdriver.Action{Type: "key", ID: "hand keyboard"}
		for _, r := range h.Text {
			a.Actions = append(a.Actions, map[string]any{"type": "keyDown", "value": string(r)}, map[string]any{"type": "keyUp", "value": string(r)})
		}
		return "", s.Perform(ctx, a)
	case "key":
		code, ok := keys[h.Key]
		if !ok {
			return "", fmt.Errorf("there is no key %q by name; characters are typed", h.Key)
		}
		return "", s.Perform(ctx, webdriver.Action{Type: "key", ID: "hand keyboard", Actions: []map[string]any{{"type": "keyDown",
			"value": code}, {"type": "keyUp", "value": code}}})
	case "source":
		return s.Source(ctx)
	}
	return "", fmt.Errorf("nothing is called %q: there are reach, let-go, click, scroll, type, key and source", h.Do)
}

// place turns a place in the picture into one in the viewport, in CSS pixels.
func (s *Session) place(ctx context.Context, h link.Hand) (x, y int, err error) {
	if h.X < 0 || h.X > 1 || h.Y < 0 || h.Y > 1 {
		return 0, 0, fmt.Errorf("x and y: expected parts of the picture from 0 to 1, found %g and %g", h.X, h.Y)
	}
	var size [2]float64
	if s.Capabilities[webdriver.NoScript] == true {
		r, err := s.WindowRect(Quiet(ctx))
		if err != nil {
			return 0, 0, err
		}
		size = [2]float64{r.Width, r.Height}
	} else if err := s.Execute(Quiet(ctx), "return [innerWidth, innerHeight]", &size); err != nil {
		return 0, 0, err
	}
	return int(h.X * size[0]), int(h.Y * size[1]), nil
}

// SoFar returns the lines of a recording after the first ones, as they stand.
func (r *Recording) SoFar(kind record.Kind, from int) ([]byte, error) {
	name, lines := recording.CommandsFile, r.commands
	if kind == record.Console {
		name, lines = recording.ConsoleFile, r.console
	}
	if lines == nil || (kind != record.Commands && kind != record.Console) {
		return nil, fmt.Errorf("%s is not recorded here", kind)
	}
	r.settled()
	if err := lines.Flush(); err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(filepath.Join(r.dir, name))
	for ; from > 0 && len(raw) > 0; from-- {
		_, raw, _ = bytes.Cut(raw, []byte("\n"))
	}
	return raw, err
}
