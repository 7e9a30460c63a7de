// Package mailbox is a stand-in for a mail server, and for somebody to whom hooks are sent:
// it takes every mail and every event and delivers none, and shows what it has on a page that
// says so. It keeps the newest in memory, and nothing on disk.
package mailbox

import (
	"bytes"
	"cmp"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-smtp"
)

// Bounds of what is kept.
const (
	maxMails = 200
	maxMail  = 5 << 20
)

// Mail is one that was taken.
type Mail struct {
	Number            int
	At                time.Time
	From, To, Subject string
	Text, HTML        string
}

// Hooks is where events are posted.
const Hooks = "/hooks"

// Box takes mails by SMTP and events by HTTP, and shows them.
type Box struct {
	mu    sync.Mutex
	mails []Mail // the newest first
	last  int
	smtp  *smtp.Server
}

// New makes a box.
func New() *Box {
	b := &Box{}
	b.smtp = smtp.NewServer(b)
	b.smtp.Domain, b.smtp.MaxMessageBytes, b.smtp.MaxRecipients = "mailbox.saltmarsh.example", maxMail, 20
	b.smtp.ReadTimeout, b.smtp.WriteTimeout, b.smtp.ErrorLog = time.Minute, time.Minute, quiet{}
	return b
}

type quiet struct{}

func (quiet) Printf(string, ...any) {}
func (quiet) Println(...any)        {}

// Serve takes mails until it is closed.
func (b *Box) Serve(l net.Listener) error {
	if err := b.smtp.Serve(l); !errors.Is(err, smtp.ErrServerClosed) {
		return err
	}
	return nil
}

// Close ends it.
func (b *Box) Close() error { return b.smtp.Close() }

// NewSession begins a conversation with somebody who has mail.
func (b *Box) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{box: b}, nil }

type session struct {
	box  *Box
	from string
	to   []string
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m := read(raw)
	m.From, m.To = s.from, strings.Join(s.to, ", ")
	s.box.keep(m)
	return nil
}

// keep puts something on top of what there is.
func (b *Box) keep(m Mail) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.last++
	m.Number, m.At = b.last, time.Now()
	b.mails = slices.Insert(b.mails, 0, m)
	b.mails = b.mails[:min(maxMails, len(b.mails))]
}

// hook takes an event (CloudEvents 1.0, structured, as JSON), with its signature unread:
// nobody has told it the key.
func (b *Box) hook(w http.ResponseWriter, r *http.Request) {
	var event struct{ ID, Type, Source, Subject string }
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxMail))
	if err == nil {
		err = json.Unmarshal(raw, &event)
	}
	if err != nil || event.ID == "" || event.Type == "" {
		http.Error(w, "this is no CloudEvent as JSON", http.StatusBadRequest)
		return
	}
	var text bytes.Buffer
	for _, name := range []string{"Content-Type", "Content-Digest", "Signature-Input", "Signature"} {
		fmt.Fprintf(&text, "%s: %s\n", name, r.Header.Get(name))
	}
	text.WriteByte('\n')
	_ = json.Indent(&text, raw, "", "  ") // it was read as JSON
	b.keep(Mail{From: event.Source, To: Hooks, Subject: event.Type + " " + event.Subject, Text: text.String()})
	w.WriteHeader(http.StatusNoContent)
}

// read takes a mail apart: its text, and its HTML with the pictures that it has with it.
// One that cannot be read is its text.
func read(raw []byte) (m Mail) {
	mr, err := mail.CreateReader(bytes.NewReader(raw))
	if err != nil {
		return Mail{Subject: "a mail that cannot be read", Text: string(raw)}
	}
	defer mr.Close()
	m.Subject = cmp.Or(subjectOf(mr.Header), "no subject")
	pictures := map[string]string{}
	for {
		p, err := mr.NextPart()
		if err != nil {
			break
		}
		body, err := io.ReadAll(io.LimitReader(p.Body, maxMail))
		if err != nil {
			break
		}
		media, _, _ := mimeOf(p)
		switch {
		case media == "text/html":
			m.HTML = string(body)
		case strings.HasPrefix(media, "text/"):
			m.Text = string(body)
		case strings.HasPrefix(media, "image/"):
			id := strings.Trim(p.Header.Get("Content-Id"), "<>")
			pictures[id] = "data:" + media + ";base64," + base64.StdEncoding.EncodeToString(body)
		}
	}
	for id, data := range pictures {
		m.HTML = strings.ReplaceAll(m.HTML, "cid:"+id, data)
	}
	return m
}

func subjectOf(h mail.Header) string {
	s, err := h.Subject()
	if err != nil {
		return h.Get("Subject")
	}
	return s
}

func mimeOf(p *mail.Part) (media string, params map[string]string, err error) {
	switch h := p.Header.(type) {
	case *mail.InlineHeader:
		return h.ContentType()
	case *mail.AttachmentHeader:
		return h.ContentType()
	}
	return "", nil, errors.New("a part of no kind")
}

// Mails are those that are kept, the newest first.
func (b *Box) Mails() []Mail {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.mails)
}

//go:embed mailbox.html
var pageHTML string

var page = template.Must(template.New("mailbox").Parse(pageHTML))

// ServeHTTP takes events at Hooks, and shows the list of mails, /N one of them, and /N/html what it says as HTML, which
// may do nothing.
func (b *Box) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == Hooks && r.Method == http.MethodPost {
		b.hook(w, r)
		return
	}
	all := b.Mails()
	number, rest, _ := strings.Cut(strings.Trim(r.URL.Path, "/"), "/")
	h := w.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Type", "text/html; charset=utf-8")
	if number == "" {
		h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
		_ = page.Execute(w, map[string]any{"All": all})
		return
	}
	n, err := strconv.Atoi(number)
	i := slices.IndexFunc(all, func(m Mail) bool { return m.Number == n })
	if err != nil || i < 0 {
		http.Error(w, "there is no such mail", http.StatusNotFound)
		return
	}
	if rest == "html" {
		h.Set("Content-Security-Policy", "sandbox; default-src 'none'; img-src data:; style-src 'unsafe-inline'")
		_, _ = io.WriteString(w, `<!doctype html><meta charset="utf-8"><body style="font: 14px/1.5 system-ui, sans-serif">`+all[i].HTML)
		return
	}
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-src 'self'")
	_ = page.Execute(w, map[string]any{"One": all[i]})
}
