package standin

import (
	"bytes"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// page is a loaded document with its style and, once asked for, its layout.
type page struct {
	doc     *goquery.Document
	address string
	source  string
	sheet   sheet
	typed   map[*html.Node]string // what was entered into controls
	files   map[*html.Node][]string
	width   float64 // viewport, CSS pixels
	height  float64
	laid    *layout // nil after a change
	look    map[*html.Node]visibility
}

// newPage parses HTML. There is no script engine, so <noscript> counts.
func newPage(address string, body []byte) (*page, error) {
	root, err := html.ParseWithOptions(bytes.NewReader(body), html.ParseOptionEnableScripting(false))
	if err != nil {
		return nil, err
	}
	return &page{doc: goquery.NewDocumentFromNode(root), address: address, source: string(body),
		typed: map[*html.Node]string{}, files: map[*html.Node][]string{}}, nil
}

// blank is the page of a new window.
func blank() *page {
	p, _ := newPage("about:blank", nil) // parsing nothing cannot fail
	return p
}

// changed drops what was computed of the page.
func (p *page) changed() { p.laid, p.look = nil, nil }

// resize gives the page a viewport.
func (p *page) resize(width, height float64) {
	if p.width != width || p.height != height {
		p.width, p.height = width, height
		p.changed()
	}
}

func attr(n *html.Node, name string) (string, bool) {
	for _, a := range n.Attr {
		if a.Key == name && a.Namespace == "" {
			return a.Val, true
		}
	}
	return "", false
}

func attrOf(n *html.Node, name string) string { v, _ := attr(n, name); return v }

func has(n *html.Node, name string) bool { _, ok := attr(n, name); return ok }

func setAttr(n *html.Node, name, value string) {
	for i := range n.Attr {
		if n.Attr[i].Key == name {
			n.Attr[i].Val = value
			return
		}
	}
	n.Attr = append(n.Attr, html.Attribute{Key: name, Val: value})
}

func dropAttr(n *html.Node, name string) {
	for i := range n.Attr {
		if n.Attr[i].Key == name {
			n.Attr = append(n.Attr[:i], n.Attr[i+1:]...)
			return
		}
	}
}

func plain(s string) string { return strings.Join(strings.Fields(s), " ") }

func closest(n *html.Node, tags ...atom.Atom) *html.Node {
	for ; n != nil; n = n.Parent {
		for _, t := range tags {
			if n.Type == html.ElementNode && n.DataAtom == t {
				return n
			}
		}
	}
	return nil
}

func within(n, root *html.Node) bool {
	for ; n != nil; n = n.Parent {
		if n == root {
			return true
		}
	}
	return false
}

// elements walks the elements below a node in document order.
func elements(root *html.Node, f func(*html.Node)) {
	for c := root.FirstChild; c != nil; c = c.NextSibling {
		if c.Type == html.ElementNode {
			f(c)
		}
		elements(c, f)
	}
}

func collect(root *html.Node, want func(*html.Node) bool) (out []*html.Node) {
	elements(root, func(n *html.Node) {
		if want(n) {
			out = append(out, n)
		}
	})
	return out
}

func textOf(n *html.Node) string { return goquery.NewDocumentFromNode(n).Text() }

// inputType is the type of an input, text where it names none.
func inputType(n *html.Node) string {
	if n.DataAtom != atom.Input {
		return ""
	}
	if t := strings.ToLower(attrOf(n, "type")); t != "" {
		return t
	}
	return "text"
}

func control(n *html.Node) bool {
	return n.DataAtom == atom.Input || n.DataAtom == atom.Textarea || n.DataAtom == atom.Select || n.DataAtom == atom.Button
}

func disabled(n *html.Node) bool {
	if has(n, "disabled") {
		return true
	}
	f := closest(n.Parent, atom.Fieldset)
	return f != nil && has(f, "disabled") && control(n)
}

// value is what a control holds now.
func (p *page) value(n *html.Node) string {
	if v, ok := p.typed[n]; ok {
		return v
	}
	switch n.DataAtom {
	case atom.Textarea:
		return strings.TrimPrefix(textOf(n), "\n")
	case atom.Select:
		if o := p.chosen(n); len(o) > 0 {
			return optionValue(o[0])
		}
		return ""
	case atom.Input:
		if t := inputType(n); (t == "checkbox" || t == "radio") && !has(n, "value") {
			return "on"
		}
		if files := p.files[n]; len(files) > 0 {
			return `C:\fakepath\` + files[0][strings.LastIndexAny(files[0], `/\`)+1:]
		}
	}
	return attrOf(n, "value")
}

func optionValue(o *html.Node) string {
	if v, ok := attr(o, "value"); ok {
		return v
	}
	return plain(textOf(o))
}

func options(n *html.Node) []*html.Node {
	return collect(n, func(o *html.Node) bool { return o.DataAtom == atom.Option })
}

// chosen lists the selected options of a select; the first when none is.
func (p *page) chosen(n *html.Node) []*html.Node {
	all := options(n)
	var out []*html.Node
	for _, o := range all {
		if has(o, "selected") {
			out = append(out, o)
		}
	}
	if len(out) == 0 && len(all) > 0 && !has(n, "multiple") {
		return all[:1]
	}
	if !has(n, "multiple") && len(out) > 1 {
		out = out[len(out)-1:]
	}
	return out
}

// labels lists the labels of a control.
func (p *page) labels(n *html.Node) []*html.Node {
	if !control(n) && n.DataAtom != atom.Meter && n.DataAtom != atom.Output && n.DataAtom != atom.Progress {
		return nil
	}
	id := attrOf(n, "id")
	return collect(p.doc.Nodes[0], func(l *html.Node) bool {
		return l.DataAtom == atom.Label && ((id != "" && attrOf(l, "for") == id) || (!has(l, "for") && within(n, l)))
	})
}

// labelled finds the control of a label.
func (p *page) labelled(l *html.Node) *html.Node {
	if id, ok := attr(l, "for"); ok {
		return p.byID(id)
	}
	if c := collect(l, control); len(c) > 0 {
		return c[0]
	}
	return nil
}

func (p *page) byID(id string) *html.Node {
	if id == "" {
		return nil
	}
	if found := collect(p.doc.Nodes[0], func(n *html.Node) bool { return attrOf(n, "id") == id }); len(found) > 0 {
		return found[0]
	}
	return nil
}

func (p *page) title() string { return plain(p.doc.Find("title").First().Text()) }
