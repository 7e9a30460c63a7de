package main

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"parallelpane/internal/demo/desk"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/script/webdrive/changes"
)

// changesTried is how often each page is changed.
const changesTried = 200

// locators changes real pages as releases do, those of the berth desk and those that come
// with the Go tools, and looks for an element of each again.
func locators(ctx context.Context, _ string) ([]row, error) {
	root, err := exec.CommandContext(ctx, "go", "env", "GOROOT").Output()
	if err != nil {
		return nil, err
	}
	docs := filepath.Join(strings.TrimSpace(string(root)), "doc")
	mux := http.NewServeMux()
	mux.Handle("/", desk.New(time.Millisecond))
	mux.Handle("/docs/", http.StripPrefix("/docs/", http.FileServer(http.Dir(docs))))
	site := httptest.NewServer(mux)
	defer site.Close()
	s, _, end, err := onDesktop(ctx)
	if err != nil {
		return nil, err
	}
	defer end()
	var all changes.Tally
	var look, survey []time.Duration
	br := webdrive.New(s.Session, s)
	for i, path := range []string{"/", "/berths/B3", "/tides", "/fees", "/sign-in", "/rules", "/insurance", "/docs/asm.html",
		"/docs/go_mem.html"} {
		if err := s.Navigate(ctx, site.URL+path); err != nil {
			return nil, err
		}
		for range 20 {
			for _, portray := range []bool{false, true} {
				began := time.Now()
				q := script.Query{Find: script.Find{By: "css", Value: "h1"}, Matches: 10, Portray: portray}
				if _, err := br.Look(ctx, q); err != nil {
					return nil, err
				}
				if took := time.Since(began); portray {
					survey = append(survey, took)
				} else {
					look = append(look, took)
				}
			}
		}
		got, err := changes.Try(ctx, s.Session, 10_000*i, changesTried)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		for _, m := range got.Misses {
			if strings.HasSuffix(m, "taken: true") {
				fmt.Println("wrongly taken:", path, m)
			}
		}
		all.Add(got)
	}
	share := func(n, of int) string { return fmt.Sprintf("%.1f %% of %d", 100*float64(n)/float64(of), of) }
	return []row{
		{"an element of a real page changed as releases do is the likeliest again (Chromium)", share(all.First, all.There), "95 %"},
		{"another is taken for it without asking, the element there or gone", share(all.Wrong, all.Trials()), "0.5 %"},
		{"it is taken for itself without asking", share(all.Accepted, all.There), "–"},
		{"a look at a page that also says what a match is known by, against one that does not (medians)",
			fmt.Sprintf("%.2f times", float64(median(survey))/float64(median(look))), "–"},
	}, nil
}
