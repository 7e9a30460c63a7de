package httpapi_test

import (
	"log/slog"
	"net"
	"net/http"
	"testing"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/httpapi"
)

// Forwarded headers are believed of the proxies that were named, and only what these
// themselves have written.
func TestForwardedHeadersAreBelievedOfProxies(t *testing.T) {
	x := start(t, t.TempDir())
	behind := *x
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	app := httpapi.New(httpapi.Config{Service: x.svc, Log: slog.New(slog.DiscardHandler), Proxies: []string{"127.0.0.1", "10.1.0.0/16"}})
	served := make(chan error, 1)
	go func() { served <- app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true}) }()
	t.Cleanup(func() {
		http.DefaultClient.CloseIdleConnections()
		assert.NoError(t, app.Shutdown())
		<-served
	})
	behind.base = "http://" + l.Addr().String()
	used := func(x *yard, forwarded string) string {
		x.t.Helper()
		token := x.as("tern", in(api.Everywhere, api.Viewer))
		require.Equal(t, 200, x.do("GET", "/api/v1/me", token, nil, "X-Forwarded-For", forwarded).status)
		var all []api.Token
		x.get("/tokens", &all)
		for _, k := range all {
			if k.Owner == "tern" && k.UsedAt != nil {
				assert.NoError(t, func() error {
					_, err := x.svc.DropToken(t.Context(), api.Who{Rights: api.InLab(api.Admin)}, k.ID)
					return err
				}())
				return k.UsedFrom
			}
		}
		return ""
	}
	assert.Equal(t, "127.0.0.1", used(x, "192.0.2.1"), "nobody named a proxy")
	for forwarded, want := range map[string]string{"192.0.2.1": "192.0.2.1", "192.0.2.1, 10.1.2.3": "192.0.2.1",
		"198.51.100.7, 192.0.2.1, 10.1.2.3": "192.0.2.1", "": "127.0.0.1", "no address": "127.0.0.1", "10.1.9.9": "127.0.0.1"} {
		assert.Equal(t, want, used(&behind, forwarded), forwarded)
	}
	for list, fine := range map[string]bool{"10.0.0.1": true, "fd00::/8": true, "proxy.example": false, "10.0.0.0/99": false} {
		assert.Equal(t, fine, httpapi.CheckProxies([]string{list}) == nil, list)
	}
}

// Signing in from a foreign page is refused, whatever token it has.
func TestForeignPagesDoNotSignIn(t *testing.T) {
	x := start(t, t.TempDir())
	body := map[string]string{"token": x.token}
	for header, value := range map[string]string{"Origin": "http://evil.example", "Sec-Fetch-Site": "cross-site"} {
		assert.Equal(t, 403, x.do("POST", "/api/v1/console/session", "", body, header, value).status, header)
	}
	assert.Equal(t, 200, x.do("POST", "/api/v1/console/session", "", body, "Origin", x.base).status)
	assert.Equal(t, 200, x.do("POST", "/api/v1/console/session", "", body).status)
}

// What cannot be read as a request is answered without a word of it.
func TestWhatIsNoRequestIsNotRepeated(t *testing.T) {
	x := start(t, t.TempDir())
	for _, raw := range []string{"GET / HTTP/1.1\r\nHost: lab\r\nAuthorization tidewater\r\n\r\n", "tidewater\r\n\r\n",
		"GET /tidewater HTTP/1.1\r\nHost: lab\r\nContent-Length: tidewater\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: lab\r\nX: " + string(make([]byte, 10<<10)) + "tidewater\r\n\r\n"} {
		c, err := net.Dial("tcp", l(x))
		require.NoError(t, err)
		_, err = c.Write([]byte(raw))
		require.NoError(t, err)
		buf := make([]byte, 64<<10)
		n, _ := c.Read(buf)
		c.Close()
		assert.NotContains(t, string(buf[:n]), "tidewater", "%.60q", raw)
		assert.Contains(t, string(buf[:n]), "HTTP/1.1 4", "%.60q", raw)
	}
}

func l(x *yard) string { return x.base[len("http://"):] }
