package mailbox

import (
	"net"
	"net/http"
	"net/http/httptest"
	"net/smtp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const letter = "From: lab@saltmarsh.example\r\nSubject: =?utf-8?q?Tides_=E2=80=A6?= <b>\r\nMIME-Version: 1.0\r\n" +
	"Content-Type: multipart/related; boundary=x\r\n\r\n--x\r\nContent-Type: text/plain\r\n\r\n3 of 84 failed\r\n" +
	"--x\r\nContent-Type: text/html\r\n\r\n<script>alert(1)</script><img src=cid:wall.png>\r\n" +
	"--x\r\nContent-Type: image/png\r\nContent-Id: <wall.png>\r\nContent-Disposition: inline\r\n\r\npng\r\n--x--\r\n"

func TestMailsAreTakenAndShown(t *testing.T) {
	b := New()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- b.Serve(l) }()
	look := func(path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		b.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		return w
	}
	assert.Contains(t, look("/").Body.String(), "Nothing has come yet")
	for _, raw := range []string{letter, "no header at all"} {
		require.NoError(t, smtp.SendMail(l.Addr().String(), nil, "lab@saltmarsh.example", []string{"tern@saltmarsh.example"}, []byte(raw)))
	}
	require.Len(t, b.Mails(), 2)
	m := b.Mails()[1]
	assert.Equal(t, []string{"Tides … <b>", "3 of 84 failed", "tern@saltmarsh.example"}, []string{m.Subject, m.Text, m.To})
	list := look("/").Body.String()
	assert.Contains(t, list, "Tides … &lt;b&gt;")
	assert.Contains(t, list, "A stand-in: it takes every mail")
	assert.Contains(t, look("/1").Body.String(), `sandbox src="/1/html"`)
	html := look("/1/html")
	assert.Contains(t, html.Body.String(), `src=data:image/png;base64,cG5n`)
	assert.Contains(t, html.Header().Get("Content-Security-Policy"), "sandbox; default-src 'none'", "what a mail says runs nothing")
	assert.Equal(t, 404, look("/9").Code)
	post := func(body string) int {
		w, r := httptest.NewRecorder(), httptest.NewRequest(http.MethodPost, Hooks, strings.NewReader(body))
		r.Header.Set("Signature", "pane=:c2ln:")
		b.ServeHTTP(w, r)
		return w.Code
	}
	for _, body := range []string{"{", "[]", `{"id": "x"}`} {
		assert.Equal(t, 400, post(body), body)
	}
	assert.Equal(t, 204, post(`{"id": "x", "type": "run.ended", "subject": "runs/7", "data": {"words": "<b>"}}`))
	hook := look("/3").Body.String()
	assert.Contains(t, hook, "run.ended runs/7")
	assert.Contains(t, hook, "Signature: pane=:c2ln:")
	assert.Contains(t, hook, "&lt;b&gt;")
	require.NoError(t, b.Close())
	assert.NoError(t, <-served)
}
