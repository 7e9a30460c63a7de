package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"

	"parallelpane/internal/api"
	"parallelpane/internal/place"
)

// hooks sends CloudEvents (1.0, structured, as JSON) to addresses of the web, signed as RFC
// 9421 has it.
type hooks struct {
	client *http.Client
	allow  []netip.Prefix
}

// Bounds of a hook: how long it may take to answer, and how much of that is kept.
const (
	hookLimit = 15 * time.Second
	maxAnswer = 300
	maxHook   = 2000 // bytes of its address
	maxCauses = 10
)

func newHooks(allow []netip.Prefix) *hooks {
	h := &hooks{allow: allow}
	dialer := &net.Dialer{Timeout: 5 * time.Second, Control: h.guard}
	h.client = &http.Client{Timeout: hookLimit,
		Transport: &http.Transport{DialContext: dialer.DialContext, MaxIdleConnsPerHost: perHost, IdleConnTimeout: 30 * time.Second,
			ResponseHeaderTimeout: hookLimit, MaxResponseHeaderBytes: 64 << 10},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return h
}

// errForbidden is of an address to which nothing is sent.
var errForbidden = errors.New("it is an address of the service's own surroundings: an admin allows them with pane serve --hooks-to")

// guard refuses connections to the service's own machine and network, whatever name led
// there: it sees the address that is really connected to.
func (h *hooks) guard(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap()
	if slices.ContainsFunc(h.allow, func(p netip.Prefix) bool { return p.Contains(ip) }) {
		return nil
	}
	if place.Inward(ip) {
		return errForbidden
	}
	return nil
}

// check reports what is wrong with the address of a hook.
func (h *hooks) check(target string) (*url.URL, error) {
	u, err := url.Parse(target)
	switch {
	case len(target) > maxHook:
		return nil, api.Errorf(api.Invalid, "target: an address has at most %d characters", maxHook)
	case err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Hostname() == "" || u.Fragment != "":
		return nil, api.Errorf(api.Invalid, "target: expected an address such as https://chat.saltmarsh.example/lab, found %.80q", target)
	case u.User != nil:
		return nil, api.Errorf(api.Invalid, "target: leave the user and password out of the address: messages are signed instead")
	}
	if ip, err := netip.ParseAddr(u.Hostname()); err == nil {
		if err := h.guard("tcp", netip.AddrPortFrom(ip, 80).String(), nil); err != nil {
			return nil, api.Errorf(api.Invalid, "target: %s: %v", u.Hostname(), err)
		}
	}
	return u, nil
}

// send tries once.
func (h *hooks) send(ctx context.Context, target, key, id string, m *message) outcome {
	body, err := m.event()
	if err != nil {
		return outcome{answer: err.Error(), never: true}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, target, bytes.NewReader(body))
	if err != nil {
		return outcome{answer: "the address cannot be read", never: true}
	}
	req.Header.Set("Content-Type", event.ApplicationCloudEventsJSON+"; charset=utf-8")
	req.Header.Set("User-Agent", "parallel-pane")
	Sign(req, body, id, key, time.Now())
	resp, out := h.exchange(req)
	if resp == nil {
		return out
	}
	defer resp.Body.Close()
	body, _ = io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if resp.StatusCode < 300 || resp.StatusCode >= 400 {
		out.answer = strings.TrimSpace(out.answer + " " + strings.ToValidUTF8(string(body), "\uFFFD"))
	}
	return out
}

// exchange sends a request once. What it came to is told without the address, which may be a
// secret; there is no answer where nothing was reached.
func (h *hooks) exchange(req *http.Request) (*http.Response, outcome) {
	resp, err := h.client.Do(req)
	if err != nil {
		if u, ok := errors.AsType[*url.Error](err); ok {
			err = u.Err
		}
		return nil, outcome{answer: "not reached: " + err.Error(), never: errors.Is(err, errForbidden)}
	}
	out := outcome{answer: fmt.Sprintf("status %d", resp.StatusCode)}
	switch {
	case resp.StatusCode >= 200 && resp.StatusCode < 300:
		out.taken = true
	case resp.StatusCode >= 300 && resp.StatusCode < 400:
		out.answer, out.never = fmt.Sprintf("status %d: it sends elsewhere, which is not followed: give that address", resp.StatusCode), true
	case resp.StatusCode == http.StatusGone:
		out.never = true
	}
	if s, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil && s > 0 {
		out.after = time.Duration(min(s, int(longestPause.Seconds()))) * time.Second
	}
	return resp, out
}

// event is a message as a CloudEvent.
func (m *message) event() ([]byte, error) {
	e := event.New()
	e.SetID(m.id)
	e.SetSource("/api/v1/projects/" + url.PathEscape(m.source))
	e.SetTime(m.at)
	data := any(nil)
	switch {
	case m.run != nil:
		e.SetType("parallelpane.run.ended")
		e.SetSubject("runs/" + strconv.Itoa(m.run.Number))
		e.SetExtension("reason", m.of)
		causes := m.causes.Causes[:min(maxCauses, len(m.causes.Causes))]
		data = &api.RunNotice{Run: m.run.RunSummary, Words: m.words, Causes: causes, Was: m.was, Link: m.link}
	default:
		e.SetType("parallelpane.day.ended")
		e.SetSubject("days/" + m.day)
		data = &api.DayNotice{Day: m.day, Runs: m.runs, Words: m.words, Link: m.link}
	}
	api.Fill(data)
	if err := e.SetData(event.ApplicationJSON, data); err != nil {
		return nil, fmt.Errorf("make a CloudEvent: %w", err)
	}
	return json.Marshal(e)
}

// Sign signs a request with a key (RFC 9421, hmac-sha256, section 3.3.3): its method, its
// address, the digest of its body (RFC 9530) and its type, under the name pane. id is the
// subscription's, and tells the receiver which key it is.
func Sign(req *http.Request, body []byte, id, key string, at time.Time) {
	sum := sha256.Sum256(body)
	req.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest" "content-type");created=%d;keyid="%s";alg="hmac-sha256"`, at.Unix(), id)
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"content-type\": %s\n\"@signature-params\": %s",
		req.Method, req.URL, req.Header.Get("Content-Digest"), req.Header.Get("Content-Type"), params)
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(base))
	req.Header.Set("Signature-Input", "pane="+params)
	req.Header.Set("Signature", "pane=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
