package results

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/andybalholm/cascadia"
	"github.com/antchfx/htmlquery"
	"golang.org/x/net/html"

	"parallelpane/internal/api"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/source"
	"parallelpane/internal/script"
	"parallelpane/internal/walls"
)

// Bounds of a locator that is tried, in bytes, and of what is told of what it finds.
const (
	maxLocator = 1000
	maxLocated = 50
)

// Locate tries a locator on a page that was kept of an attempt.
func (r *Results) Locate(ctx context.Context, attempt, name string, f api.LocateFilter) (api.Located, error) {
	if len(f.Locator) > maxLocator {
		return api.Located{}, api.Errorf(api.Invalid, "locator: it has %d bytes; at most %d are taken", len(f.Locator), maxLocator)
	}
	l, err := script.ParseLocator(f.Locator)
	if err != nil {
		return api.Located{}, api.Errorf(api.Invalid, "%v", err)
	}
	file, err := r.store.FileOf(ctx, attempt, name)
	if err != nil {
		return api.Located{}, walls.NotFound(err, "attempt %s has no file %q", attempt, name)
	}
	page, err := r.readPage(file)
	if err != nil {
		return api.Located{}, err
	}
	if page == nil {
		return api.Located{}, api.Errorf(api.NotFound, "%q is no page, or is no longer kept", name)
	}
	row, err := r.store.AttemptByID(ctx, attempt)
	if err != nil {
		return api.Located{}, err
	}
	run, _, err := r.whole(ctx, row.Run)
	if err != nil {
		return api.Located{}, err
	}
	marker := r.marker(run.Request.Bundle)
	find, err := l.Find(marker)
	if err != nil {
		return api.Located{}, api.Errorf(api.Invalid, "%v", err)
	}
	at, err := onPage(page, find)
	if err != nil {
		return api.Located{}, api.Errorf(api.Invalid, "%v", err)
	}
	out := api.Located{Address: page.Address, Title: page.Title, Width: page.Width, Height: page.Height, Left: page.Left, Top: page.Top,
		Total: len(at), Found: []api.LocatedElement{}}
	for _, i := range at {
		e := &page.Elements[i]
		if e.Hidden == "" {
			out.Visible++
		}
		if len(out.Found) < maxLocated {
			x := api.LocatedElement{Portrait: *e}
			if better, ok := likeness.Propose(page.Elements, i, marker); ok {
				x.Better = better.YAML()
			}
			out.Found = append(out.Found, x)
		}
	}
	out.Words = located(l, out.Total, out.Visible)
	out.Lines = r.changed(run.Request.Bundle, f)
	return out, nil
}

// located says what comes of a locator in a step that needs one element.
func located(l *script.Locator, total, visible int) string {
	switch {
	case total == 0:
		return "It finds nothing on this page."
	case visible == 0:
		return fmt.Sprintf("It finds %s, and none of them can be seen.", counted(total, "element"))
	case l.Number > 0 && visible >= l.Number:
		return fmt.Sprintf("It finds %s that can be seen, and means number %d.", counted(visible, "element"), l.Number)
	case visible == 1:
		return "It finds one element that can be seen: a step would take it."
	}
	return fmt.Sprintf("It finds %s that can be seen: a step needs one; say which with within, name or number.", counted(visible, "element"))
}

// onPage are the places of the elements that a locator finds.
func onPage(page *likeness.Page, f script.Find) (at []int, err error) {
	if f.By != "css" && f.By != "xpath" {
		l := likeness.Locator{By: f.By, Value: f.Value, Attr: f.Attr, Name: f.Name}
		for i := range page.Elements {
			if l.Finds(&page.Elements[i]) {
				at = append(at, i)
			}
		}
		return at, nil
	}
	if err := affordable(f.By, f.Value); err != nil {
		return nil, err
	}
	if page.Source == "" {
		return nil, fmt.Errorf("%s: the page's source is too long to be kept: try another way", f.By)
	}
	root, err := html.Parse(strings.NewReader(page.Source))
	if err != nil {
		return nil, fmt.Errorf("the page's source: %w", err)
	}
	var nodes []*html.Node
	if f.By == "css" {
		s, err := cascadia.ParseGroup(f.Value)
		if err != nil {
			return nil, fmt.Errorf("css: %w", err)
		}
		nodes = cascadia.QueryAll(root, s)
	} else if nodes, err = htmlquery.QueryAll(root, f.Value); err != nil {
		return nil, fmt.Errorf("xpath: %w", err)
	}
	for _, n := range nodes {
		for _, a := range n.Attr {
			if i, err := strconv.Atoi(a.Val); a.Key == surveyedMark && err == nil && i >= 0 && i < len(page.Elements) {
				at = append(at, i)
			}
		}
	}
	return at, nil
}

var (
	walksAll = regexp.MustCompile(`//|\b(descendant|following|preceding|ancestor)\b`)
	noCSS    = regexp.MustCompile(`:(contains|containsOwn|matches|matchesOwn|haschild)\(`)
)

// affordable refuses selectors that walk the page within walks of the page: whoever tries
// one is a stranger, and what it may cost has a bound. Elements of a page are at most some
// thousands: two walks within each other are some millions of steps.
func affordable(by, value string) error {
	switch {
	case by == "xpath" && len(walksAll.FindAllString(value, -1)) > 2:
		return errors.New("xpath: it walks the page more than twice (// and the axes that reach far): try a part of it")
	case noCSS.MatchString(value) && by == "css":
		return errors.New("css: that is no selector of CSS")
	case by == "css" && (strings.Count(value, ":has(") > 1 || strings.Count(value, ":not(")+strings.Count(value, " ") > 16):
		return errors.New("css: it has too many parts: try a part of it")
	}
	return nil
}

// surveyedMark is the attribute by which a kept page's source names each element's place.
const surveyedMark = "data-surveyed"

// marker is the attribute that marks elements for the tests of a bundle's project.
func (r *Results) marker(bundle string) string {
	text, err := r.source(bundle, "pane.yaml")
	if err != nil {
		return script.DefaultMarker
	}
	root, problem := script.Document("pane.yaml", []byte(text))
	if problem != nil {
		return script.DefaultMarker
	}
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Value == "marker" {
			return root.Content[i+1].Value
		}
	}
	return script.DefaultMarker
}

// changed are the lines of a step with another locator; empty where that cannot be said.
func (r *Results) changed(bundle string, f api.LocateFilter) string {
	line, column, _ := strings.Cut(f.Step, ":")
	step := source.Position{File: f.Test}
	var err error
	if step.Line, err = strconv.Atoi(line); err != nil {
		return ""
	}
	if step.Column, err = strconv.Atoi(column); err != nil {
		return ""
	}
	text, err := r.source(bundle, f.Test)
	if err != nil {
		return ""
	}
	at, ok := script.TargetAt([]byte(text), step)
	if !ok {
		return ""
	}
	now, err := script.Rewrite([]byte(text), at, f.Locator)
	if err != nil {
		return ""
	}
	was, is := bytes.Split([]byte(text), []byte("\n")), bytes.Split(now, []byte("\n"))
	from := 0
	for from < min(len(was), len(is)) && bytes.Equal(was[from], is[from]) {
		from++
	}
	to := 0
	for to < min(len(was), len(is))-from && bytes.Equal(was[len(was)-1-to], is[len(is)-1-to]) {
		to++
	}
	return string(bytes.Join(is[from:len(is)-to], []byte("\n")))
}
