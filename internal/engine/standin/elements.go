package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"parallelpane/internal/webdriver"
)

func addElements(add adder) {
	get, post := http.MethodGet, http.MethodPost
	for path, one := range map[string]bool{"element": true, "elements": false} {
		add(post, path, func(_ context.Context, s *session, _ []string, body json.RawMessage) (any, error) {
			return s.findWithin(s.page().doc.Nodes[0], body, one)
		})
		add(post, "element/{id}/"+path, on(func(_ context.Context, s *session, n *html.Node, _ []string, body json.RawMessage) (any, error) {
			return s.findWithin(n, body, one)
		}))
	}
	add(get, "element/active", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		if a := s.window().active; a != nil {
			return s.reference(a), nil
		}
		if body := collect(s.page().doc.Nodes[0], func(n *html.Node) bool { return n.DataAtom == atom.Body }); len(body) > 0 {
			return s.reference(body[0]), nil
		}
		return nil, failed(webdriver.NoSuchElement, "the page has no body")
	})
	read := func(path string, f func(s *session, n *html.Node, args []string) any) {
		add(get, "element/{id}/"+path, on(func(_ context.Context, s *session, n *html.Node, args []string, _ json.RawMessage) (any, error) {
			return f(s, n, args), nil
		}))
	}
	read("selected", func(s *session, n *html.Node, _ []string) any {
		if sel := closest(n, atom.Select); n.DataAtom == atom.Option && sel != nil {
			return slices.Contains(s.page().chosen(sel), n)
		}
		return has(n, "checked")
	})
	read("attribute/{name}", func(_ *session, n *html.Node, args []string) any {
		v, ok := attr(n, strings.ToLower(args[0]))
		switch {
		case !ok:
			return nil
		case slices.Contains(booleans, strings.ToLower(args[0])):
			return "true"
		}
		return v
	})
	read("property/{name}", func(s *session, n *html.Node, args []string) any { return s.page().property(n, args[0]) })
	read("css/{name}", func(s *session, n *html.Node, args []string) any {
		v := s.page().seen(n)
		return map[string]string{"display": v.display, "visibility": map[bool]string{true: "hidden", false: "visible"}[v.hidden],
			"opacity": map[bool]string{true: "0", false: "1"}[v.clear]}[args[0]]
	})
	read("text", func(s *session, n *html.Node, _ []string) any { return s.page().rendered(n) })
	read("name", func(_ *session, n *html.Node, _ []string) any { return n.Data })
	read("rect", func(s *session, n *html.Node, _ []string) any {
		b := s.page().layout().boxes[n]
		return map[string]float64{"x": b.x, "y": b.y, "width": b.w, "height": b.h}
	})
	read("enabled", func(_ *session, n *html.Node, _ []string) any { return !disabled(n) })
	read("displayed", func(s *session, n *html.Node, _ []string) any { return s.page().hiddenBecause(n) == "" })
	read("computedrole", func(s *session, n *html.Node, _ []string) any { return s.page().role(n) })
	read("computedlabel", func(s *session, n *html.Node, _ []string) any { return s.page().name(n) })
	add(get, "element/{id}/screenshot", on(func(_ context.Context, s *session, _ *html.Node, _ []string, _ json.RawMessage) (any, error) {
		return s.screenshot()
	}))
	add(post, "element/{id}/click", on(func(ctx context.Context, s *session, n *html.Node, _ []string, _ json.RawMessage) (any, error) {
		return nil, s.click(ctx, n)
	}))
	add(post, "element/{id}/clear", on(func(_ context.Context, s *session, n *html.Node, _ []string, _ json.RawMessage) (any, error) {
		if !control(n) || n.DataAtom == atom.Button || n.DataAtom == atom.Select || disabled(n) || has(n, "readonly") {
			return nil, failed(webdriver.InvalidElementState, "%s holds nothing that can be cleared", called(n))
		}
		if why := s.page().hiddenBecause(n); why != "" {
			return nil, failed(webdriver.NotInteractable, "%s cannot be seen: %s", called(n), why)
		}
		s.page().typed[n], s.page().files[n] = "", nil
		s.page().changed()
		return nil, nil
	}))
	add(post, "element/{id}/value", on(func(ctx context.Context, s *session, n *html.Node, _ []string, body json.RawMessage) (any, error) {
		var in struct {
			Text *string `json:"text"`
		}
		if err := decode(body, &in); err != nil {
			return nil, err
		}
		if in.Text == nil {
			return nil, failed(webdriver.InvalidArgument, "text: expected a string")
		}
		return nil, s.enter(ctx, n, *in.Text)
	}))
}

var booleans = []string{"checked", "disabled", "hidden", "multiple", "novalidate", "open", "readonly", "required", "selected"}

// property reads a DOM property of those that tests look at.
func (p *page) property(n *html.Node, name string) any {
	switch name {
	case "value":
		if control(n) || n.DataAtom == atom.Option {
			if n.DataAtom == atom.Option {
				return optionValue(n)
			}
			return p.value(n)
		}
		return nil
	case "checked", "disabled", "required", "open", "multiple", "selected", "hidden":
		return has(n, name)
	case "text", "textContent", "innerText":
		if name == "innerText" {
			return p.rendered(n)
		}
		if name == "text" {
			return plain(textOf(n))
		}
		return textOf(n)
	case "tagName", "nodeName":
		return strings.ToUpper(n.Data)
	case "className":
		return attrOf(n, "class")
	case "href", "src":
		if v, ok := attr(n, name); ok {
			return p.resolve(v)
		}
		return ""
	case "type":
		return inputType(n)
	}
	if v, ok := attr(n, strings.ToLower(name)); ok {
		return v
	}
	return nil
}

// perform carries out actions as far as a page without scripts notices them:
// keys go to the active element, a press of the pointer clicks what lies under
// it.
func (s *session) perform(ctx context.Context, body json.RawMessage) error {
	var in struct {
		Actions []struct {
			Type    string `json:"type"`
			Actions []struct {
				Type   string          `json:"type"`
				Value  string          `json:"value"`
				Origin json.RawMessage `json:"origin"`
				X      float64         `json:"x"`
				Y      float64         `json:"y"`
			} `json:"actions"`
		} `json:"actions"`
	}
	if err := decode(body, &in); err != nil {
		return err
	}
	var x, y float64
	for _, source := range in.Actions {
		for _, a := range source.Actions {
			switch a.Type {
			case "pause", "keyUp", "pointerUp", "scroll":
			case "keyDown":
				if n := s.window().active; n != nil && within(n, s.page().doc.Nodes[0]) {
					if err := s.keys(ctx, n, a.Value); err != nil {
						return err
					}
				}
			case "pointerMove":
				x, y = a.X, a.Y
				var ref map[string]string
				if json.Unmarshal(a.Origin, &ref) == nil && ref[webdriver.WebElementIdentifier] != "" {
					n, err := s.element(ref[webdriver.WebElementIdentifier])
					if err != nil {
						return err
					}
					b := s.page().layout().boxes[n]
					x, y = b.x+b.w/2+a.X, b.y+b.h/2+a.Y
				}
			case "pointerDown":
				if n := s.page().at(x, y); n != nil {
					if err := s.click(ctx, n); err != nil {
						return err
					}
				}
			default:
				return failed(webdriver.InvalidArgument, "%q is not an action", fmt.Sprint(a.Type))
			}
		}
	}
	return nil
}

// at is the innermost visible element at a point.
func (p *page) at(x, y float64) (hit *html.Node) {
	l := p.layout()
	elements(p.doc.Nodes[0], func(n *html.Node) {
		if b, ok := l.boxes[n]; ok && x >= b.x && y >= b.y && x < b.x+b.w && y < b.y+b.h && n.DataAtom != atom.Option && !p.seen(n).hidden {
			hit = n
		}
	})
	return hit
}
