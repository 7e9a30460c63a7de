package recording

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
)

// HAR is an HTTP Archive, version 1.2. Names that begin with _ are additions,
// as the format allows them.
type HAR struct {
	Log HARLog `json:"log"`
}

// HARLog is the one part of an archive.
type HARLog struct {
	Version string     `json:"version"`
	Creator HARCreator `json:"creator"`
	Browser HARCreator `json:"browser"`
	Entries []HAREntry `json:"entries"`
	Comment string     `json:"comment,omitempty"`
}

// HARCreator names a program.
type HARCreator struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// HAREntry is one request with its answer. Times are milliseconds.
type HAREntry struct {
	Started  string      `json:"startedDateTime"` // RFC 3339
	Time     float64     `json:"time"`
	Request  HARRequest  `json:"request"`
	Response HARResponse `json:"response"`
	Cache    struct{}    `json:"cache"`
	Timings  HARTimings  `json:"timings"`
	Comment  string      `json:"comment,omitempty"`
	AtMS     float64     `json:"_at_ms"` // since the session's clock began
	Error    string      `json:"_error,omitempty"`
}

// HARPair is a header or a parameter.
type HARPair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// HARBody is what a request carried.
type HARBody struct {
	Media   string    `json:"mimeType"`
	Params  []HARPair `json:"params"`
	Text    string    `json:"text"`
	Comment string    `json:"comment,omitempty"`
}

// HARRequest is a request. Sizes are bytes, -1 when unknown.
type HARRequest struct {
	Method      string    `json:"method"`
	URL         string    `json:"url"`
	Version     string    `json:"httpVersion"`
	Cookies     []HARPair `json:"cookies"`
	Headers     []HARPair `json:"headers"`
	Query       []HARPair `json:"queryString"`
	Body        *HARBody  `json:"postData,omitempty"`
	HeadersSize int       `json:"headersSize"`
	BodySize    int       `json:"bodySize"`
}

// HARContent is the body of an answer.
type HARContent struct {
	Size     int    `json:"size"`
	Media    string `json:"mimeType"`
	Text     string `json:"text,omitempty"`
	Encoding string `json:"encoding,omitempty"`
	Comment  string `json:"comment,omitempty"`
}

// HARResponse is an answer; its status is 0 when none came.
type HARResponse struct {
	Status      int        `json:"status"`
	StatusText  string     `json:"statusText"`
	Version     string     `json:"httpVersion"`
	Cookies     []HARPair  `json:"cookies"`
	Headers     []HARPair  `json:"headers"`
	Content     HARContent `json:"content"`
	RedirectURL string     `json:"redirectURL"`
	HeadersSize int        `json:"headersSize"`
	BodySize    int        `json:"bodySize"`
}

// HARTimings are the parts of an entry's time; -1 where one does not apply.
type HARTimings struct {
	Blocked float64 `json:"blocked"`
	DNS     float64 `json:"dns"`
	Connect float64 `json:"connect"`
	SSL     float64 `json:"ssl"`
	Send    float64 `json:"send"`
	Wait    float64 `json:"wait"`
	Receive float64 `json:"receive"`
}

// Limits of an archive.
const (
	MaxEntries = 20_000
	MaxBody    = 1 << 20  // bytes of one body
	MaxBodies  = 64 << 20 // bytes of all bodies
	maxData    = 120      // bytes of an address that carries its own data
)

// Network gathers an archive from the network events of W3C WebDriver BiDi,
// section 7.8. It is safe for concurrent use.
type Network struct {
	began   time.Time
	browser HARCreator

	mu      sync.Mutex
	entries []*HAREntry
	open    map[string]*HAREntry // by request and number of redirects
	bodies  int
	lost    int
}

// NewNetwork returns an empty archive whose clock began at a time.
func NewNetwork(began time.Time, browser, version string) *Network {
	return &Network{began: began, browser: HARCreator{browser, version}, open: map[string]*HAREntry{}}
}

type bytesValue struct {
	Type  string `json:"type"`
	Value string `json:"value"`
}

type header struct {
	Name  string     `json:"name"`
	Value bytesValue `json:"value"`
}

type exchange struct {
	RedirectCount int     `json:"redirectCount"`
	Timestamp     float64 `json:"timestamp"`
	ErrorText     string  `json:"errorText"`
	Request       struct {
		Request     string             `json:"request"`
		URL         string             `json:"url"`
		Method      string             `json:"method"`
		Headers     []header           `json:"headers"`
		HeadersSize *int               `json:"headersSize"`
		BodySize    *int               `json:"bodySize"`
		Timings     map[string]float64 `json:"timings"`
	} `json:"request"`
	Response *struct {
		Protocol    string   `json:"protocol"`
		Status      int      `json:"status"`
		StatusText  string   `json:"statusText"`
		FromCache   bool     `json:"fromCache"`
		Headers     []header `json:"headers"`
		Media       string   `json:"mimeType"`
		HeadersSize *int     `json:"headersSize"`
		BodySize    *int     `json:"bodySize"`
		Content     struct {
			Size int `json:"size"`
		} `json:"content"`
	} `json:"response"`
}

// NetworkEvents are the events that Event understands.
var NetworkEvents = []string{"network.beforeRequestSent", "network.responseCompleted", "network.fetchError"}

// Done is a request whose answer has come, so that its body can be asked for.
type Done struct {
	Request string // id in the protocol
	Method  string
	Media   string // of the answer
	Size    int    // of its body, in bytes
	key     string
}

// Event takes one event. done is not nil when an answer is complete.
func (n *Network) Event(method string, params json.RawMessage) (done *Done, err error) {
	var x exchange
	if err := json.Unmarshal(params, &x); err != nil {
		return nil, fmt.Errorf("%s: %w", method, err)
	}
	key := fmt.Sprintf("%s/%d", x.Request.Request, x.RedirectCount)
	n.mu.Lock()
	defer n.mu.Unlock()
	e := n.open[key]
	if e == nil {
		if len(n.entries) >= MaxEntries {
			n.lost++
			return nil, nil
		}
		e = n.start(x)
		n.open[key] = e
	}
	switch method {
	case "network.responseCompleted":
		e.answer(x, n.ms(x.Timestamp))
		delete(n.open, key)
		n.open["done:"+key] = e
		return &Done{x.Request.Request, x.Request.Method, e.Response.Content.Media, e.Response.Content.Size, "done:" + key}, nil
	case "network.fetchError":
		e.Error = x.ErrorText
		e.Response.StatusText = x.ErrorText
		e.finish(n.ms(x.Timestamp))
		delete(n.open, key)
	}
	return nil, nil
}

// ms is a time of the protocol, milliseconds since 1970, on the session's clock.
func (n *Network) ms(timestamp float64) float64 {
	return timestamp - float64(n.began.UnixMicro())/1000
}

func (n *Network) start(x exchange) *HAREntry {
	e := &HAREntry{AtMS: n.ms(x.Timestamp), Timings: HARTimings{-1, -1, -1, -1, 0, 0, 0}}
	e.Started = n.began.Add(time.Duration(e.AtMS * float64(time.Millisecond))).UTC().Format("2006-01-02T15:04:05.000Z07:00")
	address := x.Request.URL
	if strings.HasPrefix(address, "data:") && len(address) > maxData {
		address = address[:maxData] + "…"
	}
	if u, err := url.Parse(address); err != nil || !u.IsAbs() {
		e.Comment = fmt.Sprintf("the address was %.200q", address)
		address = "about:invalid" // the format wants one
	}
	e.Request = HARRequest{Method: x.Request.Method, URL: address, Version: "HTTP/1.1", Headers: pairs(x.Request.Headers),
		Cookies: cookies(x.Request.Headers), Query: query(address), HeadersSize: sizeOf(x.Request.HeadersSize),
		BodySize: sizeOf(x.Request.BodySize)}
	e.Response = HARResponse{Version: "HTTP/1.1", Cookies: []HARPair{}, Headers: []HARPair{}, HeadersSize: -1, BodySize: -1,
		Content: HARContent{Media: "x-unknown"}}
	n.entries = append(n.entries, e)
	return e
}

func (e *HAREntry) answer(x exchange, at float64) {
	r := x.Response
	if r == nil {
		e.finish(at)
		return
	}
	version := protocol(r.Protocol)
	e.Request.Version = version
	e.Request.Headers, e.Request.Cookies = pairs(x.Request.Headers), cookies(x.Request.Headers)
	e.Response = HARResponse{Status: r.Status, StatusText: r.StatusText, Version: version, Headers: pairs(r.Headers),
		Cookies:     setCookies(r.Headers),
		HeadersSize: sizeOf(r.HeadersSize), BodySize: sizeOf(r.BodySize), Content: HARContent{Size: r.Content.Size, Media: media(r.Media)}}
	for _, h := range r.Headers {
		if strings.EqualFold(h.Name, "location") {
			e.Response.RedirectURL = h.Value.Value
		}
	}
	if r.FromCache {
		e.Comment = strings.TrimPrefix(e.Comment+"; from the browser's cache", "; ")
	}
	e.timings(x.Request.Timings)
	e.finish(at)
}

// timings reads the parts of the time as Resource Timing names them; those that
// are 0 did not happen.
func (e *HAREntry) timings(t map[string]float64) {
	span := func(from, to string) float64 {
		if t[from] <= 0 || t[to] < t[from] {
			return -1
		}
		return t[to] - t[from]
	}
	e.Timings = HARTimings{Blocked: -1, DNS: span("dnsStart", "dnsEnd"), Connect: span("connectStart", "connectEnd"),
		SSL:  span("tlsStart", "connectEnd"),
		Wait: max(0, span("requestStart", "responseStart")), Receive: max(0, span("responseStart", "responseEnd"))}
}

// finish makes the parts of the time add up to the whole: ssl is within
// connect, and what is not known to be anything else was waiting.
func (e *HAREntry) finish(at float64) {
	e.Time = max(0, at-e.AtMS)
	known := e.Timings.Send + e.Timings.Receive + max(0, e.Timings.DNS) + max(0, e.Timings.Connect)
	if rest := e.Time - known - e.Timings.Wait; rest > 0 {
		e.Timings.Wait += rest
	} else {
		e.Time = known + e.Timings.Wait
	}
}

// Body adds the body of an answer, or says why it is not kept.
func (n *Network) Body(d *Done, text string, base64 bool, why string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	e := n.open[d.key]
	if e == nil {
		return
	}
	delete(n.open, d.key)
	c := &e.Response.Content
	switch {
	case why != "":
		c.Comment = why
	case len(text) > MaxBody || n.bodies+len(text) > MaxBodies:
		c.Comment = fmt.Sprintf("%d bytes, too long to keep", len(text))
	default:
		n.bodies += len(text)
		c.Text = text
		if base64 {
			c.Encoding = "base64"
		}
	}
}

// Sent adds what a request carried.
func (n *Network) Sent(d *Done, text string, base64 bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	e := n.open[d.key]
	if e == nil || text == "" {
		return
	}
	e.Request.Body = &HARBody{Params: []HARPair{}}
	for _, h := range e.Request.Headers {
		if strings.EqualFold(h.Name, "content-type") {
			e.Request.Body.Media = h.Value
		}
	}
	if base64 || len(text) > MaxBody || n.bodies+len(text) > MaxBodies {
		e.Request.Body.Comment = fmt.Sprintf("%d bytes, not kept", len(text))
		return
	}
	n.bodies += len(text)
	e.Request.Body.Text = text
}

// HAR is the archive as it stands, in the order in which the requests began.
func (n *Network) HAR(version string) HAR {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := HAR{HARLog{Version: "1.2", Creator: HARCreator{"Parallel Pane", version}, Browser: n.browser,
		Entries: make([]HAREntry, len(n.entries))}}
	for i, e := range n.entries {
		out.Log.Entries[i] = *e
	}
	for key, e := range n.open {
		if i := slices.Index(n.entries, e); i >= 0 && !strings.HasPrefix(key, "done:") {
			out.Log.Entries[i].Error = "no answer had come when the recording ended"
		}
	}
	if n.lost > 0 {
		out.Log.Comment = fmt.Sprintf("%d further requests were not kept: an archive holds %d", n.lost, MaxEntries)
	}
	slices.SortStableFunc(out.Log.Entries, func(a, b HAREntry) int { return int(1000 * (a.AtMS - b.AtMS)) })
	return out
}

// private are the headers whose values are credentials.
var private = []string{"authorization", "proxy-authorization", "cookie", "set-cookie"}

func pairs(headers []header) []HARPair {
	out := make([]HARPair, len(headers))
	for i, h := range headers {
		out[i] = HARPair{h.Name, h.Value.Value}
		if slices.Contains(private, strings.ToLower(h.Name)) {
			out[i].Value = Masked
		}
	}
	return out
}

// cookies lists the names of cookies; their values are credentials.
func cookies(headers []header) []HARPair {
	out := []HARPair{}
	for _, h := range headers {
		if !strings.EqualFold(h.Name, "cookie") {
			continue
		}
		if list, err := http.ParseCookie(h.Value.Value); err == nil {
			for _, c := range list {
				out = append(out, HARPair{c.Name, Masked})
			}
		}
	}
	return out
}

func setCookies(headers []header) []HARPair {
	out := []HARPair{}
	for _, h := range headers {
		if !strings.EqualFold(h.Name, "set-cookie") {
			continue
		}
		for _, line := range strings.Split(h.Value.Value, "\n") {
			if c, err := http.ParseSetCookie(line); err == nil {
				out = append(out, HARPair{c.Name, Masked})
			}
		}
	}
	return out
}

func query(address string) []HARPair {
	out := []HARPair{}
	u, err := url.Parse(address)
	if err != nil {
		return out
	}
	for _, part := range strings.Split(u.RawQuery, "&") {
		if part == "" {
			continue
		}
		name, value, _ := strings.Cut(part, "=")
		if s, err := url.QueryUnescape(name); err == nil {
			name = s
		}
		if s, err := url.QueryUnescape(value); err == nil {
			value = s
		}
		out = append(out, HARPair{name, value})
	}
	return out
}

func sizeOf(n *int) int {
	if n == nil {
		return -1
	}
	return *n
}

func media(s string) string {
	if s == "" {
		return "x-unknown"
	}
	return s
}

func protocol(s string) string {
	switch strings.ToLower(s) {
	case "h2", "http/2", "http/2.0":
		return "HTTP/2"
	case "h3", "http/3":
		return "HTTP/3"
	case "":
		return "HTTP/1.1"
	}
	return strings.ToUpper(s)
}

// KeepsBody says whether bodies of a media type are worth keeping: texts that a
// test's failure may hang on, not scripts, styles, pictures and fonts.
func KeepsBody(media string) bool {
	media, _, _ = strings.Cut(strings.ToLower(media), ";")
	switch {
	case strings.Contains(media, "javascript"), media == "text/css", strings.HasPrefix(media, "image/"):
		return false
	}
	return strings.HasPrefix(media, "text/") || strings.Contains(media, "json") || strings.Contains(media, "xml") ||
		media == "application/x-www-form-urlencoded"
}
