package notify

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"parallelpane/internal/report"
)

// Mail is the way to a mail server; the zero value sends none.
type Mail struct {
	Server   string // host
	Port     int
	TLS      gomail.TLSPolicy
	Implicit bool // TLS from the first byte on
	User     string
	Password string
	From     string
}

// mailLimit is how long a mail server may take.
const mailLimit = 30 * time.Second

// ParseMail reads the address of a mail server: smtp://[USER@]HOST[:PORT] with STARTTLS,
// smtps:// with TLS from the first byte on, and smtp+plain:// without any, which is meant
// for a server on the same machine. The password is given apart: it has no place in an
// address.
func ParseMail(address, from, password string) (Mail, error) {
	if address == "" {
		return Mail{}, nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" || u.Path != "" && u.Path != "/" || u.RawQuery != "" {
		return Mail{}, fmt.Errorf("expected smtp://[USER@]HOST[:PORT], smtps:// or smtp+plain://, found %.80q", address)
	}
	m := Mail{Server: u.Hostname(), Password: password, From: from}
	usual := 587
	switch u.Scheme {
	case "smtp":
		m.TLS = gomail.TLSMandatory
	case "smtps":
		m.Implicit, usual = true, 465
	case "smtp+plain":
		m.TLS, usual = gomail.NoTLS, 25
	default:
		return Mail{}, fmt.Errorf("expected smtp://, smtps:// or smtp+plain://, found %.80q", address)
	}
	if m.Port = usual; u.Port() != "" {
		if m.Port, err = strconv.Atoi(u.Port()); err != nil || m.Port < 1 || m.Port > 65535 {
			return Mail{}, fmt.Errorf("port %q: expected 1 to 65535", u.Port())
		}
	}
	if u.User != nil {
		if _, has := u.User.Password(); has {
			return Mail{}, errors.New("leave the password out of the address: give it in PANE_MAIL_PASSWORD")
		}
		m.User = u.User.Username()
	}
	if m.From == "" {
		m.From = "parallel-pane@" + m.Server
	}
	if a, err := mail.ParseAddress(m.From); err != nil || a.Name != "" {
		return Mail{}, fmt.Errorf("sender: expected a mail address such as lab@saltmarsh.example, found %.80q", m.From)
	}
	return m, nil
}

// send tries once. The message has the same Message-ID whenever it is sent.
func (m Mail) send(ctx context.Context, to, id string, what *message) outcome {
	if m.Server == "" {
		return outcome{answer: "this service sends no mail: start it with pane serve --mail smtp://…"}
	}
	msg := gomail.NewMsg()
	if err := errors.Join(msg.From(m.From), msg.To(to)); err != nil {
		return outcome{answer: err.Error(), never: true}
	}
	msg.Subject(what.subject())
	msg.SetDateWithValue(what.at)
	msg.SetMessageIDWithValue(strings.ReplaceAll(id, ":", ".") + "@" + m.Server)
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	msg.SetBodyString(gomail.TypeTextPlain, what.words.Text)
	html := what.words.HTML
	if what.run != nil {
		var png bytes.Buffer
		if err := report.WallPNG(&png, *what.run); err == nil {
			html += `<p><img src="cid:wall.png" alt="The wall: tests down, combinations across"></p>`
			if err := msg.EmbedReader("wall.png", &png); err != nil {
				return outcome{answer: err.Error(), never: true}
			}
		}
	}
	msg.AddAlternativeString(gomail.TypeTextHTML, html)
	options := []gomail.Option{gomail.WithPort(m.Port), gomail.WithTimeout(mailLimit), gomail.WithTLSPolicy(m.TLS)}
	if m.Implicit {
		options = append(options, gomail.WithSSL())
	}
	if m.User != "" {
		options = append(options, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover), gomail.WithUsername(m.User), gomail.WithPassword(m.Password))
	}
	c, err := gomail.NewClient(m.Server, options...)
	if err != nil {
		return outcome{answer: err.Error(), never: true}
	}
	ctx, cancel := context.WithTimeout(ctx, mailLimit)
	defer cancel()
	if err := c.DialAndSendWithContext(ctx, msg); err != nil {
		refused, ok := errors.AsType[*gomail.SendError](err)
		never := ok && !refused.IsTemp() && refused.ErrorCode() >= 500
		return outcome{answer: m.without(err), never: never}
	}
	return outcome{answer: "taken by " + net.JoinHostPort(m.Server, strconv.Itoa(m.Port)), taken: true}
}

// without is an error in which the password is not, whatever the server repeated.
func (m Mail) without(err error) string {
	text := err.Error()
	if m.Password != "" {
		text = strings.ReplaceAll(text, m.Password, "…")
	}
	if len(text) > maxAnswer {
		text = strings.ToValidUTF8(text[:maxAnswer], "") + "…"
	}
	return text
}
