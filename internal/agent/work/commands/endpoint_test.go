package commands

import (
	"log/slog"
	"net"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"parallelpane/internal/agent/work"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/record"
	"parallelpane/internal/engine/standin"
	"parallelpane/internal/link"
	"parallelpane/internal/sessions"
	"parallelpane/internal/webdriver"
)

// What the endpoint adds to a command: the same one straight to a stand-in's driver, and
// through it.
func BenchmarkEndpoint(b *testing.B) {
	host, err := sessions.NewHost(b.TempDir(), slog.New(slog.DiscardHandler), &standin.Family{Browsers: []fleet.Browser{{Name: "kestrel",
		Version: "12.1"}}})
	require.NoError(b, err)
	found := host.Found(b.Context()).Browsers
	require.NotEmpty(b, found)
	plain, err := device.Find("")
	require.NoError(b, err)
	e := &endpoint{Floor: &work.Floor{Host: host}, slice: link.Slice{Device: plain, Record: record.Policy{record.Commands: record.Never}},
		browser: found[0], dir: b.TempDir(), note: func(string, ...any) {}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	e.serve(b.Context(), l)
	defer e.close()
	s, err := webdriver.NewClient("http://"+l.Addr().String(), &http.Client{}).New(b.Context(), webdriver.Capabilities{})
	require.NoError(b, err)
	for name, to := range map[string]*webdriver.Session{"straight": e.all[0].Session.Session, "through": s} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, err := to.Window(b.Context()); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
