package outcome

import (
	"bytes"
	"fmt"
	"io"
	"strconv"
	"unicode/utf8"
)

// maxTag bounds one tag with its attributes, in bytes.
const maxTag = 1 << 20

// cleaner hands XML on with what XML may not hold replaced by U+FFFD: bytes that are no
// UTF-8, control characters, and references to such. A tag without an end is an error.
// What it hands on has the same lines.
type cleaner struct {
	src  []byte
	at   int
	out  []byte // handed on next
	in   place
	tag  int // where the current tag began
	line int
	lost int // characters replaced
}

// place is what surrounds a byte of XML.
type place int

const (
	inText place = iota
	inTag
	inCDATA
	inComment
)

var (
	cdata, cdataEnd     = []byte("<![CDATA["), []byte("]]>")
	comment, commentEnd = []byte("<!--"), []byte("-->")
	replacement         = []byte("\uFFFD")
)

// Read hands on some more.
func (c *cleaner) Read(p []byte) (int, error) {
	for len(c.out) == 0 {
		if c.at >= len(c.src) {
			return 0, io.EOF
		}
		if err := c.step(); err != nil {
			return 0, err
		}
	}
	n := copy(p, c.out)
	c.out = c.out[n:]
	return n, nil
}

// step takes a stretch of plain bytes, or one that is not.
func (c *cleaner) step() error {
	from := c.at
	for c.at < len(c.src) && c.at-from < 32<<10 {
		b := c.src[c.at]
		if b == '\n' {
			c.line++
		}
		if b >= utf8.RuneSelf || b < ' ' && b != '\n' && b != '\t' && b != '\r' {
			if r, n := utf8.DecodeRune(c.src[c.at:]); b >= utf8.RuneSelf && legal(r) && (r != utf8.RuneError || n > 1) {
				c.at += n
				continue
			}
			if c.at > from {
				c.out = c.src[from:c.at]
				return nil
			}
			_, n := utf8.DecodeRune(c.src[c.at:])
			c.at += n
			c.lost++
			c.out = replacement
			return nil
		}
		switch c.in {
		case inText:
			switch rest := c.src[c.at:]; {
			case b == '<' && bytes.HasPrefix(rest, cdata):
				c.in = inCDATA
			case b == '<' && bytes.HasPrefix(rest, comment):
				c.in = inComment
			case b == '<':
				c.in, c.tag = inTag, c.at
			}
		case inTag:
			if b == '>' {
				c.in = inText
			} else if c.at-c.tag > maxTag {
				return fmt.Errorf("a tag of more than %d bytes", maxTag)
			}
		case inCDATA:
			if b == '>' && bytes.HasSuffix(c.src[:c.at+1], cdataEnd) {
				c.in = inText
			}
		case inComment:
			if b == '>' && bytes.HasSuffix(c.src[:c.at+1], commentEnd) {
				c.in = inText
			}
		}
		if b == '&' && (c.in == inText || c.in == inTag) {
			if n := badReference(c.src[c.at:]); n > 0 {
				if c.at > from {
					c.out = c.src[from:c.at]
					return nil
				}
				c.at += n
				c.lost++
				c.out = replacement
				return nil
			}
		}
		c.at++
	}
	c.out = c.src[from:c.at]
	return nil
}

// legal says whether XML may hold a character (XML 1.0, section 2.2).
func legal(r rune) bool {
	return r == '\t' || r == '\n' || r == '\r' || r >= 0x20 && r <= 0xD7FF || r >= 0xE000 && r <= 0xFFFD || r >= 0x10000 && r <= 0x10FFFF
}

// badReference is the length of a reference to a character that XML may not hold, which
// the text begins with; 0 where it begins with none.
func badReference(b []byte) int {
	end := bytes.IndexByte(b[:min(len(b), 12)], ';')
	if end < 3 || b[1] != '#' {
		return 0
	}
	digits, base := string(b[2:end]), 10
	if digits[0] == 'x' || digits[0] == 'X' {
		digits, base = digits[1:], 16
	}
	n, err := strconv.ParseUint(digits, base, 32)
	if err != nil || legal(rune(n)) {
		return 0
	}
	return end + 1
}
