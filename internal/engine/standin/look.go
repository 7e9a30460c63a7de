package standin

import (
	"fmt"
	"strings"

	"github.com/andybalholm/cascadia"
	"github.com/antchfx/htmlquery"
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"parallelpane/internal/webdriver"
)

// query asks the extension command "look", which does for scripts what a page
// script does in other engines: it finds the elements of a locator and says of
// each whether a person could see it.
type query struct {
	Within  *find `json:"within"`
	Find    find  `json:"find"`
	Reach   bool  `json:"reach"`
	Matches int   `json:"matches"`
}

type find struct {
	By    string `json:"by"`
	Value string `json:"value"`
	Attr  string `json:"attr"`
	Name  string `json:"name"`
	Named bool   `json:"named"`
}

type sight struct {
	Matches []match `json:"matches"`
	Total   int     `json:"total"`
	Visible int     `json:"visible"`
	Within  int     `json:"within"`
}

type match struct {
	El      map[string]string `json:"el"`
	Tag     string            `json:"tag"`
	Type    string            `json:"type"`
	Text    string            `json:"text"`
	Visible bool              `json:"visible"`
	Hidden  string            `json:"hidden"`
	X       float64           `json:"x"`
	Y       float64           `json:"y"`
	W       float64           `json:"w"`
	H       float64           `json:"h"`
	Moving  bool              `json:"moving"`
	Covered string            `json:"covered"`
	Off     bool              `json:"off"`
}

func invalidSelector(format string, args ...any) error {
	return &webdriver.Error{Code: webdriver.InvalidSelector, Message: fmt.Sprintf(format, args...)}
}

// byCSS finds the elements below root that a selector matches.
func byCSS(root *html.Node, selector string) ([]*html.Node, error) {
	sel, err := cascadia.ParseGroup(selector)
	if err != nil {
		return nil, invalidSelector("css %q is not a valid selector: %v", selector, err)
	}
	return collect(root, sel.Match), nil
}

func byXPath(root *html.Node, path string) ([]*html.Node, error) {
	nodes, err := htmlquery.QueryAll(root, path)
	if err != nil {
		return nil, invalidSelector("XPath %q cannot be read: %v", path, err)
	}
	var out []*html.Node
	for _, n := range nodes {
		if n.Type == html.ElementNode {
			out = append(out, n)
		}
	}
	return out, nil
}

var unread = map[atom.Atom]bool{atom.Script: true, atom.Style: true, atom.Template: true, atom.Head: true, atom.Title: true}

// shown is the text of an element as a person reads it, or else all of it.
func (p *page) shown(n *html.Node) string {
	if s := plain(p.rendered(n)); s != "" {
		return s
	}
	return plain(textOf(n))
}

func (p *page) findIn(root *html.Node, f find) ([]*html.Node, error) {
	want := plain(f.Value)
	switch f.By {
	case "css":
		return byCSS(root, f.Value)
	case "xpath":
		return byXPath(root, f.Value)
	case "attribute":
		name := strings.ToLower(f.Attr)
		return collect(root, func(n *html.Node) bool { return has(n, name) && plain(attrOf(n, name)) == want }), nil
	case "role":
		return collect(root, func(n *html.Node) bool { return p.role(n) == f.Value && (!f.Named || p.name(n) == plain(f.Name)) }), nil
	case "label":
		return collect(root, func(n *html.Node) bool {
			for _, l := range p.labels(n) {
				if labelText(l) == want {
					return true
				}
			}
			return (control(n) || has(n, "role")) && (has(n, "aria-label") || has(n, "aria-labelledby")) && p.name(n) == want
		}), nil
	case "reads":
		hits := collect(root, func(n *html.Node) bool {
			if unread[n.DataAtom] || closest(n, atom.Head) != nil {
				return false
			}
			t := inputType(n)
			return p.shown(n) == want || ((t == "submit" || t == "button" || t == "reset") && plain(attrOf(n, "value")) == want)
		})
		var inner []*html.Node
		for _, n := range hits {
			holds := false
			for _, o := range hits {
				holds = holds || (o != n && within(o, n))
			}
			if !holds {
				inner = append(inner, n)
			}
		}
		return inner, nil
	}
	return nil, &webdriver.Error{Code: webdriver.InvalidArgument, Message: "unknown way to find: " + f.By}
}

func (s *session) look(q query) (sight, error) {
	p := s.page()
	root, n := p.doc.Nodes[0], 0
	out := sight{Matches: []match{}}
	if q.Within != nil {
		roots, err := p.findIn(root, *q.Within)
		if err != nil {
			return out, err
		}
		for _, r := range roots {
			if p.hiddenBecause(r) == "" {
				root = r
				n++
			}
		}
		if out.Within = n; n != 1 {
			return out, nil
		}
	}
	all, err := p.findIn(root, q.Find)
	if err != nil {
		return out, err
	}
	out.Total = len(all)
	for i, e := range all {
		hidden := p.hiddenBecause(e)
		if hidden == "" {
			out.Visible++
		}
		if i >= q.Matches && (hidden != "" || len(out.Matches) >= 2*q.Matches) {
			continue
		}
		b := p.layout().boxes[e]
		text := p.shown(e)
		if text == "" {
			text = p.name(e)
		}
		if r := []rune(text); len(r) > 80 {
			text = string(r[:80])
		}
		out.Matches = append(out.Matches, match{El: s.reference(e), Tag: e.Data, Type: inputType(e), Text: text,
			Visible: hidden == "", Hidden: hidden,
			X: b.x, Y: b.y, W: b.w, H: b.h, Off: disabled(e) || strings.EqualFold(attrOf(e, "aria-disabled"), "true")})
	}
	return out, nil
}
