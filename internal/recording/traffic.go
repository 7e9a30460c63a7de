package recording

import (
	"encoding/base64"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Exchange is a request that somebody other than the browser saw, such as a
// proxy.
type Exchange struct {
	n    *Network
	e    *HAREntry // nil when the archive is full
	sent time.Time
}

// Start adds a request at the time it came.
func (n *Network) Start(method, address string, h http.Header, body []byte, at time.Time) *Exchange {
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.entries) >= MaxEntries {
		n.lost++
		return &Exchange{n: n}
	}
	var x exchange
	x.Timestamp = float64(at.UnixMicro()) / 1000
	x.Request.URL, x.Request.Method, x.Request.Headers = address, method, headersOf(h)
	e := n.start(x)
	e.Request.BodySize = len(body)
	if len(body) > 0 {
		e.Request.Body = &HARBody{Media: h.Get("Content-Type"), Params: []HARPair{}, Text: string(body)}
		if !utf8.Valid(body) || n.bodies+len(body) > MaxBodies {
			e.Request.Body.Text, e.Request.Body.Comment = "", "binary, not kept"
		}
		n.bodies += len(e.Request.Body.Text)
	}
	return &Exchange{n: n, e: e, sent: at}
}

func headersOf(h http.Header) (out []header) {
	for name, values := range h {
		for _, v := range values {
			out = append(out, header{name, bytesValue{"string", v}})
		}
	}
	slices.SortFunc(out, func(a, b header) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Answered adds the head of the answer.
func (x *Exchange) Answered(resp *http.Response, at time.Time) {
	if x.e == nil {
		return
	}
	x.n.mu.Lock()
	defer x.n.mu.Unlock()
	h := headersOf(resp.Header)
	_, text, _ := strings.Cut(resp.Status, " ")
	x.e.Response = HARResponse{Status: resp.StatusCode, StatusText: text, Version: resp.Proto, Headers: pairs(h), Cookies: setCookies(h),
		HeadersSize: -1, BodySize: -1,
		RedirectURL: resp.Header.Get("Location"), Content: HARContent{Media: media(resp.Header.Get("Content-Type"))}}
	x.e.Timings.Wait = ms(at.Sub(x.sent))
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// Ended adds the answer's body, as far as it was kept, with its whole size, or
// why none came.
func (x *Exchange) Ended(body []byte, size int, why string, at time.Time) {
	if x.e == nil {
		return
	}
	x.n.mu.Lock()
	defer x.n.mu.Unlock()
	e := x.e
	e.Error = why
	c := &e.Response.Content
	c.Size, e.Response.BodySize = size, size
	switch {
	case size == 0 || why != "":
	case !KeepsBody(c.Media):
		c.Comment = "not kept: " + c.Media
	case len(body) < size || x.n.bodies+len(body) > MaxBodies:
		c.Comment = "too long to keep"
	case utf8.Valid(body):
		c.Text = string(body)
	default:
		c.Text, c.Encoding = base64.StdEncoding.EncodeToString(body), "base64"
	}
	x.n.bodies += len(c.Text)
	e.Timings.Receive = max(0, ms(at.Sub(x.sent))-e.Timings.Wait)
	e.finish(ms(at.Sub(x.n.began)))
}
