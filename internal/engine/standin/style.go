package standin

import (
	"bytes"
	"regexp"
	"strconv"
	"strings"

	"github.com/andybalholm/cascadia"
	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// sheet is the part of a page's style that decides what can be seen.
type sheet struct{ rules []rule }

// rule is one selector with the properties it sets.
type rule struct {
	media     []string // conditions that must all hold
	selector  cascadia.Sel
	display   string
	visible   string
	opacity   string
	important bool
}

// add reads a style sheet. What cannot be understood is left out, as CSS
// Syntax Level 3 wants it.
func (s *sheet) add(source string) {
	p := css.NewParser(parse.NewInput(bytes.NewReader([]byte(source))), false)
	var media []string
	var selectors []cascadia.Sel
	var current rule
	text := func(values []css.Token) string {
		var b strings.Builder
		for _, v := range values {
			b.Write(v.Data)
		}
		return strings.TrimSpace(b.String())
	}
	selector := func(values []css.Token) {
		if sel, err := cascadia.Parse(text(values)); err == nil {
			selectors = append(selectors, sel)
		}
	}
	for {
		kind, _, data := p.Next()
		switch kind {
		case css.ErrorGrammar:
			return
		case css.BeginAtRuleGrammar:
			condition := "never"
			if bytes.EqualFold(data, []byte("@media")) {
				condition = text(p.Values())
			} else if bytes.EqualFold(data, []byte("@supports")) || bytes.EqualFold(data, []byte("@layer")) {
				condition = "all"
			}
			media = append(media, condition)
		case css.EndAtRuleGrammar:
			media = media[:max(0, len(media)-1)]
		case css.QualifiedRuleGrammar: // of a list of selectors, all but the last
			selector(p.Values())
		case css.BeginRulesetGrammar:
			selector(p.Values())
			current = rule{media: append([]string(nil), media...)}
		case css.DeclarationGrammar:
			value := strings.ToLower(text(p.Values()))
			if v, ok := strings.CutSuffix(value, "!important"); ok {
				value, current.important = strings.TrimSpace(v), true
			}
			current.set(strings.ToLower(string(data)), value)
		case css.EndRulesetGrammar:
			if current.display+current.visible+current.opacity != "" {
				for _, sel := range selectors {
					r := current
					r.selector = sel
					s.rules = append(s.rules, r)
				}
			}
			selectors = nil
		}
	}
}

func (r *rule) set(property, value string) {
	switch property {
	case "display":
		r.display = value
	case "visibility":
		r.visible = value
	case "opacity":
		r.opacity = value
	}
}

var feature = regexp.MustCompile(`\(\s*(min-width|max-width|min-height|max-height|orientation)\s*:\s*([^)]+)\)|` +
	`\(\s*(width|height)\s*(<=|>=|<|>)\s*([^)]+)\)`)

// holds evaluates a media query list of Media Queries Level 4, as far as sizes
// and orientation go; any other feature does not hold.
func holds(query string, width, height float64) bool {
	for _, q := range strings.Split(query, ",") {
		if holdsOne(strings.ToLower(strings.TrimSpace(q)), width, height) {
			return true
		}
	}
	return false
}

func holdsOne(q string, width, height float64) bool {
	if rest, ok := strings.CutPrefix(q, "not "); ok {
		return !holdsOne(rest, width, height)
	}
	q = strings.TrimPrefix(q, "only ")
	rest := feature.ReplaceAllString(q, "")
	for _, word := range strings.Fields(rest) {
		if word != "and" && word != "all" && word != "screen" {
			return false
		}
	}
	for _, m := range feature.FindAllStringSubmatch(q, -1) {
		ok := false
		switch {
		case m[1] == "orientation":
			ok = (strings.TrimSpace(m[2]) == "portrait") == (height >= width)
		case m[1] != "":
			have := map[bool]float64{true: width, false: height}[strings.HasSuffix(m[1], "width")]
			ok = compare(map[bool]string{true: ">=", false: "<="}[strings.HasPrefix(m[1], "min")], have, pixels(m[2]))
		default:
			ok = compare(m[4], map[bool]float64{true: width, false: height}[m[3] == "width"], pixels(m[5]))
		}
		if !ok {
			return false
		}
	}
	return true
}

func compare(op string, a, b float64) bool {
	switch op {
	case "<":
		return a < b
	case "<=":
		return a <= b
	case ">":
		return a > b
	}
	return a >= b
}

// pixels reads a length in px, or in em and rem of 16 px.
func pixels(s string) float64 {
	s = strings.TrimSpace(s)
	unit := 1.0
	for suffix, px := range map[string]float64{"rem": 16, "em": 16, "px": 1} {
		if n, ok := strings.CutSuffix(s, suffix); ok {
			s, unit = n, px
			break
		}
	}
	n, _ := strconv.ParseFloat(s, 64)
	return n * unit
}

// visibility is how an element is shown.
type visibility struct {
	display string // none, block, inline, inline-block, table-row …
	hidden  bool   // visibility, which children inherit
	clear   bool   // opacity 0
}

var blocks = map[atom.Atom]string{}

func init() {
	for _, a := range []atom.Atom{atom.Html, atom.Body, atom.Div, atom.P, atom.H1, atom.H2, atom.H3, atom.H4, atom.H5,
		atom.H6, atom.Ul, atom.Ol, atom.Li,
		atom.Form, atom.Main, atom.Nav, atom.Header, atom.Footer, atom.Section, atom.Article, atom.Aside, atom.Fieldset, atom.Legend, atom.Table,
		atom.Tbody, atom.Thead, atom.Tfoot, atom.Caption, atom.Details, atom.Summary, atom.Dl, atom.Dt, atom.Dd, atom.Figure, atom.Figcaption,
		atom.Hr, atom.Pre, atom.Blockquote, atom.Address, atom.Noscript, atom.Dialog, atom.Menu} {
		blocks[a] = "block"
	}
	for _, a := range []atom.Atom{atom.Head, atom.Script, atom.Style, atom.Title, atom.Meta, atom.Link,
		atom.Template, atom.Base, atom.Datalist} {
		blocks[a] = "none"
	}
	blocks[atom.Tr], blocks[atom.Td], blocks[atom.Th] = "table-row", "table-cell", "table-cell"
	for _, a := range []atom.Atom{atom.Input, atom.Button, atom.Select, atom.Textarea, atom.Img, atom.Canvas, atom.Svg, atom.Video} {
		blocks[a] = "inline-block"
	}
}

// seen computes how an element itself is shown, its ancestors apart.
func (p *page) seen(n *html.Node) visibility {
	if p.look == nil {
		p.look = map[*html.Node]visibility{}
	}
	if v, ok := p.look[n]; ok {
		return v
	}
	v := visibility{display: blocks[n.DataAtom]}
	if v.display == "" {
		v.display = "inline"
	}
	if has(n, "hidden") || inputType(n) == "hidden" || (n.DataAtom == atom.Dialog && !has(n, "open")) {
		v.display = "none"
	}
	if n.Parent != nil && n.Parent.Type == html.ElementNode {
		v.hidden = p.seen(n.Parent).hidden
	}
	p.cascade(n, &v)
	p.look[n] = v
	return v
}

// cascade applies the rules that match, weakest first (CSS Cascade Level 4).
func (p *page) cascade(n *html.Node, v *visibility) {
	type strength struct {
		important bool
		specific  cascadia.Specificity
	}
	var best [3]strength
	apply := func(i int, value string, s strength) {
		if value == "" || (best[i].important && !s.important) || (best[i].important == s.important && s.specific.Less(best[i].specific)) {
			return
		}
		best[i] = s
		switch i {
		case 0:
			v.display = value
		case 1:
			v.hidden = value == "hidden" || value == "collapse"
		case 2:
			v.clear = value == "0" || value == "0.0" || value == "0%"
		}
	}
	each := func(r rule, s strength) {
		apply(0, r.display, s)
		apply(1, r.visible, s)
		apply(2, r.opacity, s)
	}
	for _, r := range p.sheet.rules {
		ok := r.selector.Match(n)
		for _, m := range r.media {
			ok = ok && holds(m, p.width, p.height)
		}
		if ok {
			each(r, strength{r.important, r.selector.Specificity()})
		}
	}
	if style := attrOf(n, "style"); style != "" {
		var inline rule
		for _, d := range strings.Split(style, ";") {
			name, value, _ := strings.Cut(d, ":")
			inline.set(strings.ToLower(strings.TrimSpace(name)), strings.ToLower(strings.TrimSpace(value)))
		}
		each(inline, strength{false, cascadia.Specificity{1 << 20, 0, 0}})
	}
}

func called(n *html.Node) string {
	s := "<" + n.Data
	if id := attrOf(n, "id"); id != "" {
		s += " id=" + id
	} else if c := strings.Fields(attrOf(n, "class")); len(c) > 0 {
		s += " class=" + c[0]
	}
	return s + ">"
}

// hiddenBecause says why an element cannot be seen; "" when it can.
func (p *page) hiddenBecause(n *html.Node) string {
	for a := n; a != nil && a.Type == html.ElementNode; a = a.Parent {
		whose := ""
		if a != n {
			whose = " on its ancestor " + called(a)
		}
		v := p.seen(a)
		switch {
		case v.display == "none":
			return "display: none" + whose
		case v.clear:
			return "opacity: 0" + whose
		case a != n && a.DataAtom == atom.Details && !has(a, "open"):
			if s := closest(n, atom.Summary); s == nil || s.Parent != a {
				return "inside the closed " + called(a)
			}
		}
	}
	if p.seen(n).hidden {
		return "visibility: hidden"
	}
	if n.DataAtom == atom.Option {
		return ""
	}
	if b := p.layout().boxes[n]; b.w == 0 || b.h == 0 {
		return "its size is 0×0"
	}
	return ""
}
