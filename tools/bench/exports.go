package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
)

// exports takes a run of 500 tests on 60 combinations out as CSV, workbook and page, and one
// of 20 failures as PDF.
func exports(ctx context.Context, pane string) (rows []row, err error) {
	s, stop, err := serve(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	shots, err := shotsOf(100)
	if err != nil {
		return nil, err
	}
	byHash := map[string][]byte{}
	for _, shot := range shots {
		byHash[hashOf(shot)] = shot
	}
	bad := map[int]int{500 * 60: 100, 10 * 8: 20} // failing cells of a run of so many
	total, failing := 0, 0
	var mu sync.Mutex
	work, leave, err := s.hands(ctx, func(_ link.Slice, t link.SliceTest) link.Result {
		mu.Lock()
		defer mu.Unlock()
		r := link.Result{Verdict: verdict.Passed, Sessions: 1, TookMS: 900, StartedAt: time.Now().UnixMilli(),
			Detail: attempt.Detail{Browser: "kestrel"}}
		if failing < bad[total] {
			shot := shots[failing]
			r.Verdict, r.Message = verdict.Failed, fmt.Sprintf("button \"Hold\": no element matches (waited %ds)", failing%7)
			r.Files = []attempt.File{{Name: "failure.png", Kind: "screenshots", Media: "image/png", Hash: hashOf(shot), Size: int64(len(shot))}}
			failing++
		}
		return r
	})
	if err != nil {
		return nil, err
	}
	defer leave()
	for number, size := range [][2]int{{500, 60}, {10, 8}} {
		mu.Lock()
		total, failing = size[0]*size[1], 0
		mu.Unlock()
		if err := s.played(ctx, work, number+1, size[0], size[1], byHash); err != nil {
			return nil, err
		}
	}
	for _, form := range []string{"csv", "xlsx"} {
		took, size, more, err := s.export(ctx, 1, form, io.Discard)
		if err != nil {
			return nil, err
		}
		rows = append(rows, row{"30,000 rows as " + form + ", until the last byte is here", fmt.Sprintf("%.1f s", took.Seconds()), "5 s"},
			row{fmt.Sprintf("the same (%.1f MB): more memory of the service at the most", float64(size)/1e6), fmt.Sprintf("%d MB", more>>10),
				"60 MB"})
	}
	var page bytes.Buffer
	took, size, _, err := s.export(ctx, 1, "html?pictures=100", &page)
	if err != nil {
		return nil, err
	}
	opens, err := opened(ctx, page.Bytes())
	if err != nil {
		return nil, err
	}
	drawn, _, _, err := s.export(ctx, 2, "pdf", io.Discard) // nobody here has Chromium
	if err != nil {
		return nil, err
	}
	quit, err := s.join(ctx, pane, "agent", "--name", "printer", "--state", s.dir+"/printer")
	if err != nil {
		return nil, err
	}
	defer quit()
	if err := s.agents(ctx, 21); err != nil {
		return nil, err
	}
	var pdf bytes.Buffer
	var printed []time.Duration
	for range 3 {
		pdf.Reset()
		took, _, _, err := s.export(ctx, 2, "pdf", &pdf)
		if err != nil {
			return nil, err
		}
		printed = append(printed, took)
	}
	if !bytes.Contains(pdf.Bytes(), []byte("Skia/PDF")) {
		return nil, errors.New("the PDF was not printed by Chromium")
	}
	return append(rows,
		row{"500 tests × 60 combinations as one page with 100 pictures", fmt.Sprintf("%.1f MB in %.1f s", float64(size)/1e6, took.Seconds()),
			"20 MB"},
		row{"the same page, from loopback, until Chromium has loaded it (median of 5)", fmt.Sprintf("%d ms", opens.Milliseconds()), "1500 ms"},
		row{fmt.Sprintf("a run with 20 failures as PDF, printed by an agent's Chromium (median of 3; the first of an agent %.1f s)",
			printed[0].Seconds()),
			fmt.Sprintf("%.1f s", median(slices.Clone(printed)).Seconds()), "5 s"},
		row{"the same, drawn without a browser", fmt.Sprintf("%.1f s", drawn.Seconds()), "5 s"}), nil
}

// shotsOf makes pictures of pages of some 100 kB, each its own.
func shotsOf(n int) (out [][]byte, err error) {
	r := rand.New(rand.NewPCG(1, 2))
	for range n {
		m := image.NewPaletted(image.Rect(0, 0, 800, 600), color.Palette{color.White, color.Black, color.Gray{200}, color.Gray{90}})
		for i := range m.Pix { // text, so far as a compressor can see
			if i/800%12 < 7 && r.IntN(3) == 0 {
				m.Pix[i] = uint8(r.IntN(4))
			}
		}
		var b bytes.Buffer
		if err := png.Encode(&b, m); err != nil {
			return nil, err
		}
		out = append(out, b.Bytes())
	}
	return out, nil
}

func hashOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// played starts a run and hands in what it comes to.
func (s *served) played(ctx context.Context, work <-chan link.Result, number, tests, wide int, shots map[string][]byte) error {
	raw, hash, err := wideRun(tests, wide)
	if err != nil {
		return err
	}
	if err := s.call(ctx, "PUT", "/bundles/"+hash, s.token, raw, nil); err != nil {
		return err
	}
	if err := s.call(ctx, "POST", "/runs", s.token, map[string]any{"bundle": hash}, nil); err != nil {
		return err
	}
	var tasks sync.WaitGroup
	var mu sync.Mutex
	var failed error
	limit := make(chan link.Result, 64)
	for range 16 {
		tasks.Go(func() {
			for r := range limit {
				var a link.ResultAnswer
				var err error
				for _, f := range r.Files {
					err = errors.Join(err, s.call(ctx, "PUT", fmt.Sprintf("/agent/files/%s?fence=%d", f.Hash, r.Fence), s.of(r), shots[f.Hash], nil))
				}
				err = errors.Join(err, s.call(ctx, "POST", "/agent/results", s.of(r), r, &a))
				mu.Lock()
				failed = errors.Join(failed, err)
				mu.Unlock()
			}
		})
	}
	for range tests * wide {
		select {
		case r := <-work:
			limit <- r
		case <-time.After(30 * time.Second):
			return errors.Join(errors.New("no slice came"), failed)
		}
	}
	close(limit)
	tasks.Wait()
	var run struct{ State string }
	for end := time.Now().Add(30 * time.Second); run.State != "ended"; time.Sleep(50 * time.Millisecond) {
		if err := s.call(ctx, "GET", fmt.Sprintf("/runs/%d", number), s.token, nil, &run); err != nil || time.Now().After(end) {
			return errors.Join(err, failed, fmt.Errorf("run %d is %s", number, run.State))
		}
	}
	return failed
}

// export takes a run out, and says how much more memory the service had meanwhile, in kB.
func (s *served) export(ctx context.Context, run int, form string, to io.Writer) (took time.Duration, size, moreKB int64, err error) {
	clear := fmt.Sprintf("/proc/%d/clear_refs", s.cmd.Process.Pid)
	if err := os.WriteFile(clear, []byte("5"), 0); err != nil { // the peak begins anew (proc_pid_clear_refs(5))
		return 0, 0, 0, err
	}
	before, began := residentKB(s.cmd.Process.Pid), time.Now()
	req, err := http.NewRequestWithContext(ctx, "GET", fmt.Sprintf("%s/api/v1/runs/%d/as/%s", s.base, run, form), nil)
	if err != nil {
		return 0, 0, 0, err
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, 0, 0, err
	}
	defer resp.Body.Close()
	if size, err = io.Copy(to, resp.Body); err != nil || resp.StatusCode != 200 {
		return 0, 0, 0, errors.Join(err, fmt.Errorf("run %d as %s: status %d", run, form, resp.StatusCode))
	}
	return time.Since(began), size, peakKB(s.cmd.Process.Pid) - before, nil
}

func peakKB(pid int) (kb int64) {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for _, l := range strings.Split(string(raw), "\n") {
		if value, ok := strings.CutPrefix(l, "VmHWM:"); ok {
			fmt.Sscan(value, &kb)
		}
	}
	return kb
}

// opened is how long Chromium takes to load a page.
func opened(ctx context.Context, page []byte) (time.Duration, error) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(page)
	}))
	defer server.Close()
	s, _, end, err := onDesktop(ctx)
	if err != nil {
		return 0, err
	}
	defer end()
	var took []time.Duration
	for range 5 {
		began := time.Now()
		if err := s.Navigate(ctx, server.URL); err != nil {
			return 0, err
		}
		took = append(took, time.Since(began))
	}
	return median(took), nil
}
