package sessions

import (
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/recording"
	"parallelpane/internal/webdriver"
)

// The film of a session, of its display or of its engine's pictures, shows what a
// command did when the log says that it did it.
func TestVideoAndCommandsAgree(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(`<!doctype html><body style="margin:0;background:` + r.URL.Query().Get("is") + `">`))
	}))
	t.Cleanup(site.Close)
	for name, c := range map[string]struct {
		family engine.Family
		headed bool
	}{"chromium": {chromium.Family{}, false}, "chromium headed": {chromium.Family{}, true}, "gecko headed": {gecko.Family{}, true},
		"webkit": {webkit.Family{}, false}} {
		t.Run(name, func(t *testing.T) {
			s := somebodyElses(t, c.family, Request{Asked: webdriver.Capabilities{}, Headed: c.headed, Film: true})
			assert.Equal(t, c.headed || name == "webkit", s.inst.Display != nil, "what has a display is filmed from it")
			assert.Equal(t, s.inst.Display == nil, s.BiDi != nil, "the rest by pictures off the commands' way")
			assert.Equal(t, "dismiss and notify", s.Given()["unhandledPromptBehavior"], "either way the client sees no difference")
			dir := filepath.Join(t.TempDir(), "rec")
			began := time.Now()
			rec, err := s.Record(t.Context(), record.Policy{record.Commands: record.Always, record.Video: record.Always}, nil, dir, began)
			require.NoError(t, err)
			said(t, s, "POST", "/url", `{"url":"`+site.URL+`/?is=blue"}`)
			for _, colour := range []string{"red", "blue", "red"} {
				since := time.Now()
				require.Eventually(t, func() bool { return time.Since(since) > 800*time.Millisecond }, 5*time.Second, 10*time.Millisecond)
				said(t, s, "POST", "/url", `{"url":"`+site.URL+`/?is=`+colour+`"}`)
			}
			since := time.Now()
			require.Eventually(t, func() bool { return time.Since(since) > 1200*time.Millisecond }, 5*time.Second, 10*time.Millisecond)
			length := time.Since(began)
			files := map[string]string{}
			for _, m := range rec.End(verdict.Ended) {
				files[m.Name] = m.Path
			}
			require.Empty(t, rec.Missing())
			commands := read[recording.Command](t, files[recording.CommandsFile])
			require.Len(t, commands, 4)
			reds := turnedRed(t, files[recording.VideoFile])
			require.Len(t, reds, 2)
			for i, c := range []recording.Command{commands[1], commands[3]} {
				t.Logf("asked at %.0f ms, done at %.0f ms, seen at %.0f ms", c.AtMS, c.AtMS+c.TookMS, reds[i])
				assert.GreaterOrEqual(t, reds[i], c.AtMS-200, "nothing is seen before its time")
				assert.LessOrEqual(t, reds[i], c.AtMS+c.TookMS+800)
			}
			assert.InDelta(t, length.Seconds(), seconds(t, files[recording.VideoFile]), 0.5)
		})
	}
}

func TestAFilmWithoutAPage(t *testing.T) {
	s := somebodyElses(t, webkit.Family{}, Request{Asked: webdriver.Capabilities{}})
	began := time.Now()
	rec, err := s.Record(t.Context(), record.Policy{record.Video: record.Always}, nil, filepath.Join(t.TempDir(), "rec"), began)
	require.NoError(t, err)
	said(t, s, "GET", "/title", "")
	require.Eventually(t, func() bool { return time.Since(began) > time.Second }, 5*time.Second, 10*time.Millisecond)
	length := time.Since(began)
	made := rec.End(verdict.Ended)
	require.Len(t, made, 1, "%v", rec.Missing())
	assert.InDelta(t, length.Seconds(), seconds(t, made[0].Path), 0.5)
}

// turnedRed lists when a video's middle turned red, in milliseconds.
func turnedRed(t *testing.T, path string) (at []float64) {
	t.Helper()
	const rate = 20
	raw, err := exec.Command("ffmpeg", "-v", "error", "-i", path, "-vf", "fps="+strconv.Itoa(rate)+",crop=iw/3:ih/3,scale=1:1", "-f",
		"rawvideo", "-pix_fmt", "rgb24", "-").Output()
	require.NoError(t, err)
	was := false
	for i := 0; i+2 < len(raw); i += 3 {
		is := raw[i] > 200 && raw[i+2] < 60
		if is && !was {
			at = append(at, float64(i/3)*1000/rate)
		}
		was = is
	}
	return at
}
