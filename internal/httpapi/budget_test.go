package httpapi_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
)

// raw sends a request as it stands and gives the first line of the answer.
func (x *yard) raw(request string, body io.Reader) string {
	x.t.Helper()
	c, err := net.Dial("tcp", strings.TrimPrefix(x.base, "http://"))
	require.NoError(x.t, err)
	defer c.Close()
	_, err = io.WriteString(c, request)
	require.NoError(x.t, err)
	if body != nil {
		go func() { _, _ = io.Copy(c, body) }()
	}
	require.NoError(x.t, c.SetReadDeadline(time.Now().Add(10*time.Second)))
	line, _ := bufio.NewReader(c).ReadString('\n')
	return strings.TrimSpace(line)
}

// forever is a body without an end.
type forever struct{}

func (forever) Read(p []byte) (int, error) { return len(p), nil }

// Nobody's body is read, and none comes to disk, before it is known whose it is.
func TestNobodysBodyIsNotRead(t *testing.T) {
	x := start(t, t.TempDir())
	before := files(t, os.TempDir())
	var form bytes.Buffer
	w := multipart.NewWriter(&form)
	part, err := w.CreateFormFile("f", "f")
	require.NoError(t, err)
	_, _ = part.Write(make([]byte, 20<<20))
	w.Close()
	for path, want := range map[string]string{"/api/v1/runs": "401", "/api/v1/bundles/" + strings.Repeat("0", 64): "401",
		"/webdriver/session": "401", "/api/v1/console/session": "413", "/nowhere": "405"} {
		method := map[bool]string{true: "PUT", false: "POST"}[strings.Contains(path, "bundles")]
		line := x.raw(fmt.Sprintf("%s %s HTTP/1.1\r\nHost: lab\r\nContent-Type: %s\r\nContent-Length: %d\r\n\r\n", method, path,
			w.FormDataContentType(), 400<<20), io.MultiReader(bytes.NewReader(form.Bytes()), forever{}))
		if line != "" { // the answer may be lost with the connection, on which the client goes on sending
			assert.Contains(t, line, want, path)
		}
	}
	assert.Equal(t, before, files(t, os.TempDir()), "nothing is spooled")
}

// files lists what uploads would leave in a directory.
func files(t *testing.T, dir string) []string {
	all, err := filepath.Glob(filepath.Join(dir, "multipart-*"))
	require.NoError(t, err)
	return all
}

// Whoever shows wrong tokens, or tries codes, is listened to a few times in a minute;
// those with a right one are not kept out by it.
func TestSignInIsThrottled(t *testing.T) {
	x := start(t, t.TempDir())
	kinds := map[int]int{}
	for i := range 30 {
		kinds[x.do("POST", "/api/v1/console/session", "", map[string]string{"token": fmt.Sprint("pane_", i)}).status]++
	}
	assert.GreaterOrEqual(t, kinds[429], 8)
	assert.GreaterOrEqual(t, kinds[401], 20)
	assert.Equal(t, 401, x.do("GET", "/enter?code=x", "", nil).status)
	a := x.do("GET", "/api/v1/runs", "pane_wrong", nil)
	assert.Equal(t, 429, a.status)
	assert.NotEmpty(t, a.header.Get("Retry-After"))
	assert.Equal(t, 200, x.do("GET", "/api/v1/runs", x.token, nil).status)
	assert.Equal(t, 429, x.do("POST", "/api/v1/console/session", "", map[string]string{"token": x.token}).status)
	var log []api.AuditEntry
	x.get("/audit?act=sign+in&refused=yes", &log)
	require.NotEmpty(t, log)
	assert.Equal(t, []string{"", "127.0.0.1"}, []string{log[0].Who, log[0].From})
}

// A token has so many streams and no more, and its requests wait for one another.
func TestWhatATokenMayCost(t *testing.T) {
	x := start(t, t.TempDir())
	tern, gull := x.as("tern", in(api.Everywhere, api.Viewer)), x.as("gull", in(api.Everywhere, api.Viewer))
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	for range 100 {
		x.stream(ctx, "/events", tern)
	}
	a := x.do("GET", "/api/v1/events", tern, nil)
	assert.Equal(t, 429, a.status)
	assert.Contains(t, a.detail(), "100 streams open")
	x.stream(ctx, "/events", gull)
	stop()
	require.Eventually(t, func() bool {
		again, cancel := context.WithCancel(t.Context())
		defer cancel()
		req, _ := http.NewRequestWithContext(again, "GET", x.base+"/api/v1/events", nil)
		req.Header.Set("Authorization", "Bearer "+tern)
		resp, err := http.DefaultClient.Do(req)
		return err == nil && resp.Body.Close() == nil && resp.StatusCode == 200
	}, 20*time.Second, 100*time.Millisecond, "closed ones are no longer counted")

	var all sync.WaitGroup
	var mu sync.Mutex
	kinds := map[int]int{}
	for range 40 {
		all.Go(func() {
			for range 100 {
				s := x.do("GET", "/api/v1/me", tern, nil).status
				mu.Lock()
				kinds[s]++
				mu.Unlock()
			}
		})
	}
	all.Wait()
	assert.Equal(t, 4000, kinds[200]+kinds[429], "%v", kinds)
	assert.Positive(t, kinds[429], "more than it may in a second")
}

// A token that is dropped in the middle of an upload ends it, and nothing of it stays.
func TestATokenDroppedInTheMiddleOfAnUpload(t *testing.T) {
	x := start(t, t.TempDir())
	made, secret, err := x.svc.AddToken(t.Context(), api.TokenRequest{Name: "tern", Role: api.Runner})
	require.NoError(t, err)
	r, w := io.Pipe()
	req, err := http.NewRequestWithContext(t.Context(), "PUT", x.base+"/api/v1/bundles/"+strings.Repeat("0", 64), r)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+secret)
	answered := make(chan int, 1)
	go func() {
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			answered <- 0
			return
		}
		resp.Body.Close()
		answered <- resp.StatusCode
	}()
	_, err = w.Write(make([]byte, 1<<20))
	require.NoError(t, err)
	incoming := func() int {
		all, err := os.ReadDir(filepath.Join(x.dir, "blobs", "incoming"))
		require.NoError(t, err)
		return len(all)
	}
	require.Eventually(t, func() bool { return incoming() == 1 }, 5*time.Second, 5*time.Millisecond)
	_, err = x.svc.DropToken(t.Context(), api.Who{Rights: api.InLab(api.Admin)}, made.ID)
	require.NoError(t, err)
	_, _ = w.Write(make([]byte, 1<<20))
	go func() { _, _ = io.Copy(w, forever{}) }()
	status := <-answered
	w.Close()
	assert.Contains(t, []int{0, 401}, status, "the answer may be lost with the connection")
	require.Eventually(t, func() bool { return incoming() == 0 }, 5*time.Second, 5*time.Millisecond)
	_, secret, err = x.svc.AddToken(t.Context(), api.TokenRequest{Name: "tern", Role: api.Runner})
	require.NoError(t, err)
	assert.Equal(t, 404, x.do("HEAD", "/api/v1/bundles/"+strings.Repeat("0", 64), secret, nil).status)
}
