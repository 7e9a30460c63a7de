package triage

import (
	"hash/fnv"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Limits of what is read of one message.
const (
	maxRead  = 16 << 10 // bytes
	maxLine  = 600      // bytes of its first line
	maxTitle = 200      // characters
)

// Signature is what failures of one kind have in common: a message without its changing
// parts.
type Signature struct {
	Key   string // equal for failures of one kind, in every run
	Title string // for people: the message's first line, the changing parts replaced
}

// Hash is a short name of the signature, the same at all times.
func (s Signature) Hash() string {
	h := fnv.New64a()
	h.Write([]byte(s.Key))
	return strconv.FormatUint(h.Sum64(), 36)
}

// mute reports whether the failures said nothing at all.
func (s Signature) mute() bool { return s.Key == silence }

const silence = "\x00"

// Gap stands in a title where failures of one kind differ.
const Gap = "…"

// Sign takes the changing parts out of a message: numbers, ids, times, addresses and
// quoted values, except for those that name an element. place stands for where it
// happened (a step, or a test): it is part of the signature where the message says
// nothing of its own, such as "expected 3, got 4".
func Sign(message, place string) Signature {
	lines := linesOf(message)
	if len(lines) == 0 {
		return Signature{Key: silence, Title: "no message"}
	}
	head, frames := split(lines)
	parts := scan(head)
	key := parts.key()
	if !parts.telling() {
		if len(frames) > 0 {
			key += "\n" + strings.Join(frames[:min(2, len(frames))], "\n")
		} else {
			key += "\n" + place
		}
	} else if len(frames) > 0 {
		key += "\n" + frames[0]
	}
	return Signature{Key: key, Title: parts.title()}
}

var (
	escapes = regexp.MustCompile("\x1b\\[[0-9;?]*[ -/]*[@-~]")
	tail    = regexp.MustCompile(`\s*\((?:waited|after|took) [^()]{1,20}\)$`)
)

// linesOf are the lines of a message that say something, without control characters.
func linesOf(message string) (out []string) {
	if len(message) > maxRead {
		message = message[:maxRead]
	}
	if strings.IndexByte(message, 0x1b) >= 0 {
		message = escapes.ReplaceAllString(message, "")
	}
	for line := range strings.Lines(message) {
		line = line[:min(len(line), 4*maxLine)]
		if !utf8.ValidString(line) {
			line = strings.ToValidUTF8(line, "\uFFFD")
		}
		line = strings.TrimSpace(strings.Map(func(r rune) rune {
			switch {
			case r == '\t' || r == '\u00a0':
				return ' '
			case unicode.IsControl(r) || unicode.Is(unicode.Cf, r):
				return -1
			}
			return r
		}, line))
		if line != "" {
			out = append(out, line)
		}
		if len(out) == 60 {
			break
		}
	}
	return out
}

var frameForms = []*regexp.Regexp{
	regexp.MustCompile(`^at (?:async )?(?:new )?([^\s(]+) \(?(?:file://)?([^()\s]+?)(?::\d+){1,2}\)?$`), // JavaScript
	regexp.MustCompile(`^at ((?:file://)?[^()\s]+?)(?::\d+){1,2}$`),                                     // JavaScript, no name
	regexp.MustCompile(`^at ([\w.$/<>@-]+)\(([\w.$ ]+?)(?::\d+)?\)$`),                                   // Java
	regexp.MustCompile(`^File "([^"]+)", line \d+, in (\S+)$`),                                          // Python
	regexp.MustCompile(`^([\w./-]+\.py):\d+: (?:in )?(\w+)$`),                                           // pytest
	regexp.MustCompile(`^(?:Error Trace: *)?([\w./-]+\.go):\d+`),                                        // Go
	regexp.MustCompile(`^([\w.$<>-]+)@(\S+?)(?::\d+){1,2}$`),                                            // Gecko, WebKit
	regexp.MustCompile(`^at ([\w.<>\[\],` + "`" + `+ ]+\([^)]*\)) in (\S+?):line \d+$`),                 // .NET
}

// foreign marks frames of runtimes and runners, which say nothing of the failure.
var foreign = regexp.MustCompile(`(?i)^(node:|internal/|java\.|javax\.|jdk\.|sun\.|org\.junit|junit\.|testing\.|runtime\.|unittest|` +
	`.*[/\\]` +
	`(unittest|_pytest|pluggy|node_modules|site-packages|dist-packages|lib/python[\d.]*)[/\\])`)

// split parts the line that says what happened from the frames of a stack, innermost
// first. Of a Python traceback the last line says it, and the innermost frame comes last.
func split(lines []string) (head string, frames []string) {
	var rest []string
	python := false
	for _, line := range lines {
		if strings.HasPrefix(line, "Traceback (") {
			python = true
			continue
		}
		frame := ""
		for _, f := range frameForms {
			if m := f.FindStringSubmatch(line); m != nil {
				frame = strings.Join(m[1:], " ")
				break
			}
		}
		if frame == "" {
			rest = append(rest, line)
			continue
		}
		python = python || strings.HasPrefix(line, "File ")
		if !foreign.MatchString(frame) {
			words := strings.Fields(frame)
			for i, w := range words {
				words[i] = w[strings.LastIndexAny(w, `/\`)+1:]
			}
			frames = append(frames, scan(strings.Join(words, " ")).key())
		}
	}
	if len(rest) == 0 {
		return lines[0], frames
	}
	head = rest[0]
	if python {
		slices.Reverse(frames)
		for _, line := range rest {
			if exception.MatchString(line) {
				head = line
			}
		}
	}
	// "Not equal:" says nothing without what follows.
	for i := 1; i < len(rest) && i < 4 && len(head) < maxLine && (strings.HasSuffix(head, ":") || !scan(head).telling()); i++ {
		head += " " + rest[i]
	}
	head = tail.ReplaceAllString(head, "")
	if len(head) > maxLine {
		head = strings.ToValidUTF8(head[:maxLine], "")
	}
	return head, frames
}

var exception = regexp.MustCompile(`^[A-Za-z_][\w.]*(?:Error|Exception|Failure|Warning|Timeout|Interrupt|Exit)\b`)

// part is a piece of a line: words that stay, or something that changes.
type part struct {
	text string
	kind byte // 0 words, n number, i id, t time, a address, q quoted value, e quoted name of an element
}

type parts []part

// key joins what stays. Lists of changing parts count as one, however long.
func (ps parts) key() string {
	var b strings.Builder
	for i, p := range ps {
		switch {
		case p.kind == 0:
			b.WriteString(strings.Join(strings.Fields(p.text), " "))
			continue
		case p.kind == 'e':
			b.WriteString(" «" + scan(strings.Trim(p.text, quotes)).key() + "» ")
			continue
		case i >= 2 && ps[i-1].kind == 0 && ps[i-2].kind == p.kind && separator(ps[i-1].text):
			s := strings.TrimRight(b.String(), ", ;|")
			b.Reset()
			b.WriteString(s + " ")
			continue
		}
		b.WriteString(" <" + string(p.kind) + "> ")
	}
	return strings.Join(strings.Fields(b.String()), " ")
}

func separator(s string) bool { return strings.Trim(s, " ,;|") == "" && s != "" }

func (ps parts) title() string {
	var b strings.Builder
	for _, p := range ps {
		switch p.kind {
		case 0, 'e', 'q':
			b.WriteString(p.text)
		case 'n':
			b.WriteString(p.text)
		default:
			b.WriteString(Gap)
		}
	}
	s := strings.TrimSpace(strings.Join(strings.Fields(b.String()), " "))
	if utf8.RuneCountInString(s) > maxTitle {
		s = string([]rune(s)[:maxTitle-1]) + Gap
	}
	return s
}

// Generic words are those that every assertion has.
var generic = func() map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(`a an the is are be been was were to of in on at by for with and or not no but than that this it
		assert assertion assertionerror assertionfailederror assertfalse assertequal asserttrue error errors err exception fail failed
		failure fails expected expect expecting actual actually got want wanted received found should equal equals strictly deeply deep
		loosely values value same true false null none nil undefined test tests line column exit code status comparison
		java lang org opentest4j java.lang.assertionerror org.opentest4j.assertionfailederror truthy falsy result returned
		instead greater less match matches contain contains include includes have has`) {
		m[w] = true
	}
	return m
}()

var word = regexp.MustCompile(`\pL[\pL\pN_.]*`)

// telling reports whether a line says something of its own, besides what any assertion says.
func (ps parts) telling() bool {
	for _, p := range ps {
		if p.kind == 'e' {
			return true
		}
		if p.kind != 0 {
			continue
		}
		for _, w := range word.FindAllString(strings.ToLower(p.text), -1) {
			if w = strings.Trim(w, "._"); len(w) > 1 && !generic[w] && !generic[w[strings.LastIndexByte(w, '.')+1:]] {
				return true
			}
		}
	}
	return false
}

const quotes = "\"'`“”‘’«»<>"

// elementWord ends what stands before a quoted text that names an element, not a value.
var elementWord = regexp.MustCompile(`(?i)\b(css|xpath|selector|locator|element|elements|marked|label|labelled|placeholder|role|id|` +
	`name|tag|` +
	`button|link|field|textbox|searchbox|checkbox|radio|combobox|listbox|option|tab|tabpanel|menu|menuitem|menubar|dialog|alert|alertdialog|` +
	`heading|image|img|list|listitem|table|row|cell|columnheader|rowheader|grid|gridcell|tree|treeitem|region|navigation|main|banner|` +
	`complementary|contentinfo|form|search|article|figure|group|slider|spinbutton|progressbar|status|switch|tooltip|frame|window|` +
	`attribute|property|method|function|module|file|command|program|key|column|header|reading|read|variable|class|interface)\s*[:=]?\s*\(?$`)

var changing = regexp.MustCompile(
	`(?P<a>\b(?:https?|wss?|ftp|file|blob|data|chrome|about)://?[^\s"'<>)\]]+)` +
		`|(?P<t>\b\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?` +
		`|\b\d{1,2}:\d\d(?::\d\d(?:[.,]\d+)?)?(?: ?[AP]M)?\b` +
		`|\b(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun)[a-z]*,? (?:\d{1,2} )?(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]* \d{1,4}` +
		`|\b\d{1,2}[./]\d{1,2}[./]\d{2,4}\b)` +
		`|(?P<i>\b[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}\b|\b0x[0-9a-fA-F]+\b|\b[\w.+-]+@[\w-]+\.[\w.-]+` +
		`|\b(?:\d{1,3}\.){3}\d{1,3}(?::\d+)?|\[[0-9a-fA-F]*:[0-9a-fA-F:]*:[0-9a-fA-F]*\](?::\d+)?|\blocalhost:\d+)` +
		`|(?P<n>[+-]?\b\d[\d,.'’_]*(?:[eE][+-]?\d+)?(?:\s?(?:ms|µs|ns|s|min|m|h|%|px|kB|KB|MB|GB|B|bytes))?\b)` +
		`|(?P<w>[\pL\pN_$][\pL\pN_$-]*)`)

var names = changing.SubexpNames()

// scan cuts a line into what stays and what changes.
func scan(line string) (out parts) {
	plain := func(s string) {
		if s == "" {
			return
		}
		if n := len(out); n > 0 && out[n-1].kind == 0 {
			out[n-1].text += s
			return
		}
		out = append(out, part{text: s})
	}
	for line != "" {
		at, end := quoted(line)
		before := line
		if at >= 0 {
			before = line[:at]
		}
		loose(before, &out, plain)
		if at < 0 {
			break
		}
		kind, text := byte('q'), line[at:end]
		lead := ""
		if n := len(out); n > 0 && out[n-1].kind == 0 {
			lead = out[n-1].text
		}
		inner := strings.Trim(text, quotes)
		if elementWord.MatchString(lead) || selectorForm.MatchString(inner) {
			kind = 'e'
		}
		out = append(out, part{text: text, kind: kind})
		line = line[end:]
	}
	return out
}

// selectorForm is the look of a CSS selector or an XPath.
var selectorForm = regexp.MustCompile(`^(?:[#.][A-Za-z][\w-]*|//?[a-z*].*\[.*|[a-z][a-z0-9]*(?:[#.\[][\w-]+.*))$`)

// loose cuts text without quotes.
func loose(s string, out *parts, plain func(string)) {
	last := 0
	for _, m := range changing.FindAllStringSubmatchIndex(s, -1) {
		kind := byte(0)
		for i := 1; i < len(names); i++ {
			if m[2*i] >= 0 {
				kind = names[i][0]
			}
		}
		text := s[m[0]:m[1]]
		if kind == 'w' {
			if kind = wordKind(text); kind == 0 {
				continue
			}
		}
		if kind == 'd' { // a word that ends in a number, such as berth-12
			i := strings.IndexFunc(text, unicode.IsDigit)
			plain(s[last : m[0]+i])
			*out = append(*out, part{text: text[i:], kind: 'n'})
			last = m[1]
			continue
		}
		plain(s[last:m[0]])
		*out = append(*out, part{text: text, kind: kind})
		last = m[1]
	}
	plain(s[last:])
}

// wordKind tells ids from words: 0 for a word, i for an id, d for a word with a number at
// its end.
func wordKind(w string) byte {
	digits, letters, changes := 0, 0, 0
	was := 0
	for _, r := range w {
		is := 0
		switch {
		case unicode.IsDigit(r):
			digits++
			is = 1
		case unicode.IsLetter(r):
			letters++
			is = 2
		}
		if is != 0 && was != 0 && is != was {
			changes++
		}
		if is != 0 {
			was = is
		}
	}
	switch {
	case digits == 0:
		if letters >= 24 && !strings.ContainsAny(w, "_-") && mixed(w) {
			return 'i'
		}
		return 0
	case changes >= 3 && len(w) >= 6 || digits+letters >= 20 && digits >= 4:
		return 'i'
	case changes == 1 && was == 1:
		return 'd'
	case unicode.IsDigit(firstRune(w)) && digits >= 3:
		return 'i'
	case len(w) >= 8 && digits >= 2 && hexOnly(w):
		return 'i'
	}
	return 0
}

func hexOnly(w string) bool { return strings.Trim(w, "0123456789abcdefABCDEF") == "" }

// mixed reports whether capitals stand in places where no name has them.
func mixed(w string) bool {
	ups := 0
	for _, r := range w {
		if unicode.IsUpper(r) {
			ups++
		}
	}
	return ups > len(w)/3
}

var pairs = map[rune]rune{'"': '"', '\'': '\'', '`': '`', '“': '”', '‘': '’', '«': '»'}

// quoted finds the first quoted text of a line; -1 when there is none. An apostrophe
// within a word is none. What stands in angle brackets behind a colon, or to the end of the
// line behind "expected:" and its like, counts as quoted.
func quoted(s string) (from, to int) {
	prev := ' '
	for i, r := range s {
		if shut, opens := pairs[r]; opens && !(r == '\'' && (unicode.IsLetter(prev) || unicode.IsDigit(prev))) {
			rest := s[i+utf8.RuneLen(r):]
			for j, q := range rest {
				if q != shut || j > 0 && rest[j-1] == '\\' {
					continue
				}
				end := j + utf8.RuneLen(q)
				next, _ := utf8.DecodeRuneInString(rest[end:])
				if r == '\'' && (unicode.IsLetter(next) || unicode.IsDigit(next)) {
					continue
				}
				return i, i + utf8.RuneLen(r) + end
			}
		}
		if r == '<' && strings.HasSuffix(strings.TrimSpace(s[:i]), ":") {
			if j := strings.IndexByte(s[i:], '>'); j > 0 {
				return i, i + j + 1
			}
		}
		if r == ':' {
			if m := saidValue.FindString(s[:i]); m != "" {
				if rest := s[i+1:]; strings.HasPrefix(rest, " ") {
					if trimmed := strings.TrimLeft(rest, " "); trimmed != "" && !strings.ContainsRune(quotes, firstRune(trimmed)) {
						end := len(s)
						for _, stop := range []string{", but ", " but was", ", actual", ", got", " actual:", " Actual:", " received:", " Received:"} {
							if j := strings.Index(trimmed, stop); j >= 0 {
								end = min(end, len(s)-len(trimmed)+j)
							}
						}
						return len(s) - len(trimmed), end
					}
				}
			}
		}
		prev = r
	}
	return -1, -1
}

var saidValue = regexp.MustCompile(`(?i)(?:^|[\s,(])(?:expected|actual|received|got|want|wanted|was)\s*$`)

func firstRune(s string) rune {
	r, _ := utf8.DecodeRuneInString(s)
	return r
}
