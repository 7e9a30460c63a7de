package outcome

import (
	"bytes"
	"regexp"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/unicode"
)

var declared = regexp.MustCompile(`^\s*<\?xml[^>]*\bencoding\s*=\s*["']([A-Za-z0-9._:-]+)["']`)

// decoded is a file in UTF-8, by its byte order mark or else by its XML declaration. odd
// says what could not be known of it.
func decoded(src []byte) (text []byte, odd string) {
	switch {
	case bytes.HasPrefix(src, []byte{0xEF, 0xBB, 0xBF}):
		return src[3:], ""
	case bytes.HasPrefix(src, []byte{0xFF, 0xFE}), bytes.HasPrefix(src, []byte{0xFE, 0xFF}):
		out, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(src)
		if err != nil {
			return src, "the file says it is UTF-16 and is not"
		}
		return out, ""
	}
	found := declared.FindSubmatch(src[:min(len(src), 300)])
	if found == nil || utf8.Valid(src) && !bytes.Contains(src, []byte{0x1b}) { // whatever it says it is
		return src, ""
	}
	name := string(found[1])
	e, err := htmlindex.Get(name)
	if err != nil {
		return src, "the encoding " + name + " is not known; what is no UTF-8 is shown as \uFFFD"
	}
	if canonical, _ := htmlindex.Name(e); canonical == "utf-8" || canonical == "utf-16le" || canonical == "utf-16be" {
		return src, "" // the declaration was read as single bytes, so it is not UTF-16
	}
	out, err := e.NewDecoder().Bytes(src)
	if err != nil {
		return src, "the file is not in its encoding " + name
	}
	return out, ""
}
