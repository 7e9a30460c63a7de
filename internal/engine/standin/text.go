package standin

import (
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// rendered is the text of an element as it is shown, lines where blocks end.
func (p *page) rendered(n *html.Node) string {
	var b strings.Builder
	p.render(n, &b)
	var lines []string
	for _, line := range strings.Split(b.String(), "\n") {
		if line = plain(line); line != "" {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n")
}

func (p *page) render(n *html.Node, b *strings.Builder) {
	v := p.seen(n)
	if v.display == "none" || n.DataAtom == atom.Select || n.DataAtom == atom.Textarea {
		return
	}
	line := v.display == "block" || v.display == "table-row" || v.display == "list-item" || n.DataAtom == atom.Br
	if line {
		b.WriteString("\n")
	}
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		switch c.Type {
		case html.TextNode:
			if !v.hidden {
				b.WriteString(strings.ReplaceAll(c.Data, "\n", " "))
			}
		case html.ElementNode:
			if n.DataAtom != atom.Details || has(n, "open") || c.DataAtom == atom.Summary {
				p.render(c, b)
			}
		}
	}
	switch {
	case line:
		b.WriteString("\n")
	case v.display == "table-cell":
		b.WriteString(" ")
	}
}

var tagRoles = map[atom.Atom]string{atom.Button: "button", atom.Article: "article", atom.Aside: "complementary", atom.Dialog: "dialog",
	atom.Fieldset: "group", atom.Figure: "figure", atom.H1: "heading", atom.H2: "heading", atom.H3: "heading",
	atom.H4: "heading", atom.H5: "heading",
	atom.H6: "heading", atom.Hr: "separator", atom.Li: "listitem", atom.Main: "main", atom.Menu: "list",
	atom.Meter: "meter", atom.Nav: "navigation",
	atom.Ol: "list", atom.Option: "option", atom.Output: "status", atom.P: "paragraph", atom.Progress: "progressbar", atom.Summary: "button",
	atom.Table: "table", atom.Tbody: "rowgroup", atom.Td: "cell", atom.Textarea: "textbox", atom.Tfoot: "rowgroup", atom.Thead: "rowgroup",
	atom.Tr: "row", atom.Ul: "list", atom.Details: "group"}

var inputRoles = map[string]string{"button": "button", "submit": "button", "reset": "button", "image": "button", "checkbox": "checkbox",
	"radio": "radio", "range": "slider", "number": "spinbutton", "search": "searchbox", "hidden": "", "file": "textbox"}

// role of an element after HTML-AAM, for the elements pages are commonly made of.
func (p *page) role(n *html.Node) string {
	if own := strings.Fields(attrOf(n, "role")); len(own) > 0 {
		return own[0]
	}
	sectioned := func() bool {
		return closest(n.Parent, atom.Article, atom.Aside, atom.Main, atom.Nav, atom.Section) != nil
	}
	switch n.DataAtom {
	case atom.A, atom.Area:
		if has(n, "href") {
			return "link"
		}
		return ""
	case atom.Img:
		if alt, ok := attr(n, "alt"); ok && alt == "" {
			return "presentation"
		}
		return "img"
	case atom.Input:
		if r, ok := inputRoles[inputType(n)]; ok {
			return r
		}
		return "textbox"
	case atom.Select:
		if has(n, "multiple") {
			return "listbox"
		}
		return "combobox"
	case atom.Th:
		if attrOf(n, "scope") == "row" {
			return "rowheader"
		}
		return "columnheader"
	case atom.Section:
		if p.name(n) != "" {
			return "region"
		}
		return ""
	case atom.Form:
		if p.name(n) != "" {
			return "form"
		}
		return ""
	case atom.Header:
		if sectioned() {
			return ""
		}
		return "banner"
	case atom.Footer:
		if sectioned() {
			return ""
		}
		return "contentinfo"
	}
	return tagRoles[n.DataAtom]
}

var fromContent = map[string]bool{"button": true, "link": true, "heading": true, "option": true, "cell": true,
	"columnheader": true, "rowheader": true,
	"row": true, "tab": true, "menuitem": true, "checkbox": true, "radio": true, "switch": true, "treeitem": true,
	"tooltip": true, "listitem": true}

// name is the accessible name of an element.
func (p *page) name(n *html.Node) string {
	var parts []string
	for _, id := range strings.Fields(attrOf(n, "aria-labelledby")) {
		if l := p.byID(id); l != nil {
			if given := attrOf(l, "aria-label"); given != "" {
				parts = append(parts, given)
			} else {
				parts = append(parts, textOf(l))
			}
		}
	}
	if len(parts) > 0 {
		return plain(strings.Join(parts, " "))
	}
	if given := plain(attrOf(n, "aria-label")); given != "" {
		return given
	}
	if labels := p.labels(n); len(labels) > 0 {
		for _, l := range labels {
			parts = append(parts, labelText(l))
		}
		return plain(strings.Join(parts, " "))
	}
	child := func(tag atom.Atom) string {
		if c := collect(n, func(c *html.Node) bool { return c.DataAtom == tag }); len(c) > 0 {
			return plain(textOf(c[0]))
		}
		return ""
	}
	switch n.DataAtom {
	case atom.Img, atom.Area:
		return plain(attrOf(n, "alt"))
	case atom.Fieldset:
		return child(atom.Legend)
	case atom.Table:
		return child(atom.Caption)
	case atom.Input:
		if t := inputType(n); t == "submit" || t == "reset" || t == "button" || t == "image" {
			if v := plain(attrOf(n, "value") + attrOf(n, "alt")); v != "" {
				return v
			}
			return map[string]string{"submit": "Submit", "reset": "Reset"}[t]
		}
	}
	role := attrOf(n, "role")
	if role == "" {
		role = tagRoles[n.DataAtom]
	}
	if n.DataAtom == atom.A {
		role = "link"
	}
	if n.DataAtom == atom.Th {
		role = "columnheader"
	}
	if fromContent[role] {
		if c := plain(p.content(n)); c != "" {
			return c
		}
	}
	return plain(attrOf(n, "title") + attrOf(n, "placeholder"))
}

func (p *page) content(n *html.Node) string {
	var b strings.Builder
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		switch {
		case c.Type == html.TextNode:
			b.WriteString(c.Data)
		case c.Type == html.ElementNode && attrOf(c, "aria-hidden") != "true" && p.seen(c).display != "none":
			given := attrOf(c, "aria-label")
			if c.DataAtom == atom.Img {
				given += attrOf(c, "alt")
			}
			if given == "" {
				given = p.content(c)
			}
			if p.seen(c).display != "inline" {
				given = " " + given + " "
			}
			b.WriteString(given)
		}
	}
	return b.String()
}

// labelText is the text of a label without that of the controls in it.
func labelText(l *html.Node) string {
	var b strings.Builder
	var walk func(*html.Node)
	walk = func(n *html.Node) {
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			if c.Type == html.TextNode {
				b.WriteString(c.Data)
			} else if !control(c) {
				walk(c)
			}
		}
	}
	walk(l)
	return plain(b.String())
}
