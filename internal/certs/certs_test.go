package certs

import (
	"crypto/tls"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shakes tries a handshake of a client with a service.
func shakes(t *testing.T, c tls.Certificate, client *tls.Config) error {
	t.Helper()
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{c}})
	require.NoError(t, err)
	defer l.Close()
	go func() {
		if conn, err := l.Accept(); err == nil {
			_, _ = io.Copy(io.Discard, conn)
			conn.Close()
		}
	}()
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", l.Addr().String(), client)
	if err == nil {
		conn.Close()
	}
	return err
}

func TestACertificateOfOnesOwnIsPinned(t *testing.T) {
	dir, now := t.TempDir(), time.Now()
	names := []string{"localhost", "127.0.0.1"}
	c, err := SelfMade(dir, names, now)
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(dir, keyFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode())
	pinned, err := Config(PinOf(c))
	require.NoError(t, err)
	assert.NoError(t, shakes(t, c, pinned))
	trusting, err := Config("")
	require.NoError(t, err)
	assert.Error(t, shakes(t, c, trusting), "no authority has signed it")

	same, err := SelfMade(dir, names, now)
	require.NoError(t, err)
	assert.Equal(t, c.Certificate, same.Certificate)
	for name, again := range map[string]func() (tls.Certificate, error){
		"near its end":      func() (tls.Certificate, error) { return SelfMade(dir, names, now.Add(life-renewal/2)) },
		"with another name": func() (tls.Certificate, error) { return SelfMade(dir, append(names, "lab.example"), now) },
	} {
		renewed, err := again()
		require.NoError(t, err, name)
		assert.NotEqual(t, c.Certificate, renewed.Certificate, name)
		assert.Equal(t, PinOf(c), PinOf(renewed), name)
		assert.NoError(t, shakes(t, renewed, pinned), name)
	}
	other, err := SelfMade(t.TempDir(), names, now)
	require.NoError(t, err)
	assert.ErrorContains(t, shakes(t, other, pinned), "not the service that was pinned")
	for _, bad := range []string{"sha256:", "sha256:zz", "x", PinOf(c) + "00"} {
		_, err := Config(bad)
		assert.ErrorContains(t, err, "is not a pin", bad)
	}
	_, err = Files(filepath.Join(dir, certFile), filepath.Join(dir, "none"))
	assert.ErrorContains(t, err, "none")
}
