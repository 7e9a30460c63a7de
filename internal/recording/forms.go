package recording

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"strconv"
	"strings"
	"unicode/utf16"
)

// minCore is the shortest piece of base64 that counts as a secret's: shorter ones occur
// by chance in pictures.
const minCore = 6

// formsOf lists the forms in which a secret may come: as JSON with and without escapes
// of HTML and of what is not ASCII, as Go and HTML quote it, in addresses, in
// hexadecimal, in base64 wherever it stands in what was encoded, and in UTF-16.
func formsOf(s string) []string {
	out := []string{s, html.EscapeString(s), strings.ReplaceAll(html.EscapeString(s), "&#34;", "&quot;")}
	out = append(out, quotedForms(s)...)
	out = append(out, addressForms(s)...)
	for _, raw := range [][]byte{[]byte(s), inUTF16(s, binary.LittleEndian), inUTF16(s, binary.BigEndian)} {
		lower := hex.EncodeToString(raw)
		out = append(out, string(raw), lower, strings.ToUpper(lower))
		out = append(out, base64Forms(raw)...)
	}
	return out
}

func quotedForms(s string) []string {
	quoted, _ := json.Marshal(s)
	inside := func(quoted string) string { return quoted[1 : len(quoted)-1] }
	escaped := inside(string(quoted)) // with HTML's characters as \u003c
	plain := strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(escaped)
	var ascii, upper strings.Builder
	for _, r := range plain {
		if r < 0x80 {
			ascii.WriteRune(r)
			upper.WriteRune(r)
			continue
		}
		for _, unit := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(&ascii, `\u%04x`, unit)
			fmt.Fprintf(&upper, `\u%04X`, unit)
		}
	}
	return []string{escaped, plain, ascii.String(), upper.String(), strings.ReplaceAll(plain, "/", `\/`),
		inside(strconv.Quote(s)), inside(strconv.QuoteToASCII(s))}
}

// addressForms are those of RFC 3986, section 2.1, as libraries differ in what they
// leave as it is.
func addressForms(s string) []string {
	var all strings.Builder
	for _, b := range []byte(s) {
		fmt.Fprintf(&all, "%%%02X", b)
	}
	query := url.QueryEscape(s)
	component := strings.NewReplacer("+", "%20", "%21", "!", "%27", "'", "%28", "(", "%29", ")", "%2A", "*").Replace(query)
	out := []string{query, component, url.PathEscape(s), strings.ReplaceAll(query, "+", "%20"), all.String()}
	for _, form := range out[:len(out):len(out)] {
		out = append(out, lowerPercent(form))
	}
	return out
}

// lowerPercent writes the digits of percent-encoding in lower case.
func lowerPercent(s string) string {
	b := []byte(s)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			copy(b[i+1:i+3], strings.ToLower(string(b[i+1:i+3])))
			i += 2
		}
	}
	return string(b)
}

func inUTF16(s string, order binary.AppendByteOrder) (out []byte) {
	for _, unit := range utf16.Encode([]rune(s)) {
		out = order.AppendUint16(out, unit)
	}
	return out
}

// base64Forms are what base64 (RFC 4648) makes of bytes that stand by themselves, and
// what is the same of them whatever stands before and behind, in each of the three
// places in which they may begin.
func base64Forms(raw []byte) (out []string) {
	for _, e := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		out = append(out, e.EncodeToString(raw))
		for before := range 3 {
			text := e.EncodeToString(append(make([]byte, before), raw...))
			from := (before*8 + 5) / 6        // characters with bits of what stands before
			to := (before + len(raw)) * 8 / 6 // those with bits of what stands behind follow
			if to-from >= minCore {
				out = append(out, text[from:to])
			}
		}
	}
	return out
}
