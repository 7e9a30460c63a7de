package sessions

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	_ "image/jpeg"
	_ "image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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

// palette is 26 colours that no picture confuses; neighbours are far apart.
func palette() (all [][3]int) {
	for i := range 27 {
		k := i * 11 % 27
		if c := [3]int{k % 3 * 127, k / 3 % 3 * 127, k / 9 * 127}; c != [3]int{127, 127, 127} {
			all = append(all, c)
		}
	}
	return all
}

func nearest(r, g, b int) int {
	best, least := -1, 1<<30
	for i, c := range palette() {
		if d := (c[0]-r)*(c[0]-r) + (c[1]-g)*(c[1]-g) + (c[2]-b)*(c[2]-b); d < least {
			best, least = i, d
		}
	}
	return best
}

// busy keeps a machine busy with so many loops.
func busy(t *testing.T, loops int) {
	for range loops {
		loop := exec.Command("sh", "-c", "while :; do :; done")
		require.NoError(t, loop.Start())
		t.Cleanup(func() { _ = loop.Process.Kill(); _ = loop.Wait() })
	}
}

// clicks is how many commands a session is pictured for; PANE_CLICKS asks for
// another number.
func clicks(t *testing.T) int {
	s := os.Getenv("PANE_CLICKS")
	if s == "" {
		return 20
	}
	n, err := strconv.Atoi(s)
	require.NoError(t, err)
	return n
}

// On a busy machine, every command's picture shows what that command did, and the
// film shows it when the log says that it was done.
func TestPicturesShowWhatTheirCommandDidUnderLoad(t *testing.T) {
	colours, err := json.Marshal(palette())
	require.NoError(t, err)
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<!doctype html><title>Buoy</title><body style="margin:0;background:rgb(127,127,127)">
<button style="position:fixed;left:0;top:0">Next</button>
<script>let n = 0; const all = %s; document.querySelector("button").onclick = () => {
  document.body.style.background = "rgb(" + all[n++ %% all.length] + ")"; };</script>`, colours)
	}))
	t.Cleanup(site.Close)
	n := clicks(t)
	for name, f := range map[string]engine.Family{"chromium": chromium.Family{}, "gecko": gecko.Family{}, "webkit": webkit.Family{}} {
		t.Run(name, func(t *testing.T) {
			s := somebodyElses(t, f, Request{Asked: webdriver.Capabilities{}, Pictures: true, Film: true})
			busy(t, 4)
			rec, err := s.Record(t.Context(), record.Policy{record.Commands: record.Always, record.Screenshots: record.Always,
				record.Video: record.Always}, nil,
				filepath.Join(t.TempDir(), "rec"), time.Now())
			require.NoError(t, err)
			said(t, s, "POST", "/url", `{"url":"`+site.URL+`/"}`)
			_, v := said(t, s, "POST", "/element", `{"using":"css selector","value":"button"}`)
			var e map[string]string
			require.NoError(t, json.Unmarshal(v, &e))
			began := time.Now()
			for i := range n {
				status, v := said(t, s, "POST", "/element/"+e[webdriver.WebElementIdentifier]+"/click", "{}")
				require.Equal(t, 200, status, string(v))
				if i%4 == 3 { // now and then a page rests for a while
					since := time.Now()
					require.Eventually(t, func() bool { return time.Since(since) > 700*time.Millisecond }, 5*time.Second, 10*time.Millisecond)
				}
			}
			t.Logf("%d clicks in %s", n, time.Since(began).Round(time.Millisecond))
			files := map[string]string{}
			for _, m := range rec.End(verdict.Ended) {
				files[m.Name] = m.Path
			}
			require.Empty(t, rec.Missing())
			done := read[recording.Command](t, files[recording.CommandsFile])[2:]
			require.Len(t, done, n)
			right := 0
			for i, c := range done {
				raw, err := os.ReadFile(files[c.Shot])
				if !assert.NoError(t, err, "click %d has no picture", i) {
					continue
				}
				img, _, err := image.Decode(bytes.NewReader(raw))
				require.NoError(t, err)
				r, g, b, _ := img.At(img.Bounds().Dx()/2, img.Bounds().Dy()/2).RGBA()
				if nearest(int(r>>8), int(g>>8), int(b>>8)) == i%len(palette()) {
					right++
				}
			}
			assert.Equal(t, n, right, "pictures that show their own command's colour")
			filmAgrees(t, files[recording.VideoFile], done)
		})
	}
}

// filmAgrees checks that what a frame shows is what some command had done within
// 250 ms of it, or, where the machine is slower than that, within the time that a
// click takes on it: the screen shows what a command did after it was answered.
func filmAgrees(t *testing.T, path string, done []recording.Command) {
	const rate = 20
	took := make([]float64, 0, len(done))
	for _, c := range done {
		took = append(took, c.TookMS)
	}
	within := max(250, slices.Sorted(slices.Values(took))[len(took)/2])
	raw, err := exec.Command("ffmpeg", "-v", "error", "-i", path, "-vf", "fps="+strconv.Itoa(rate)+",crop=iw/3:ih/3,scale=1:1", "-f",
		"rawvideo", "-pix_fmt", "rgb24", "-").Output()
	require.NoError(t, err)
	frames, wrong := 0, 0
	for i := 0; i+2 < len(raw); i += 3 {
		at := float64(i/3) * 1000 / rate
		if at < done[0].AtMS+done[0].TookMS+within || at > done[len(done)-1].AtMS {
			continue
		}
		frames++
		seen, agrees := nearest(int(raw[i]), int(raw[i+1]), int(raw[i+2])), false
		for k, c := range done {
			until := at
			if k+1 < len(done) {
				until = done[k+1].AtMS + done[k+1].TookMS
			}
			agrees = agrees || (k%len(palette()) == seen && c.AtMS-within <= at && at <= until+within)
		}
		if !agrees {
			wrong++
			t.Logf("at %.0f ms the film shows colour %d", at, seen)
		}
	}
	require.Positive(t, frames)
	assert.Zero(t, wrong, "of %d frames, those that are more than %.0f ms off the log", frames, within)
}
