package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/link"
	"parallelpane/internal/sessions"
)

// maxPage bounds a page that is printed, in bytes.
const maxPage = 32 << 20

var errBusy = errors.New("every slot is taken")

// print prints a page of the service's on this machine's Chromium (WebDriver, section 18.1),
// in a session of its own for which a slot is free.
func (a *Agent) print(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	page, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxPage))
	if err != nil {
		http.Error(w, "the page: "+err.Error(), http.StatusRequestEntityTooLarge)
		return
	}
	pdf, err := a.printed(ctx, string(page))
	switch {
	case errors.Is(err, errBusy):
		http.Error(w, err.Error(), http.StatusServiceUnavailable)
	case err != nil:
		http.Error(w, err.Error(), http.StatusInternalServerError)
	default:
		w.Header().Set("Content-Type", "application/pdf")
		_, _ = w.Write(pdf)
	}
}

func (a *Agent) printed(ctx context.Context, page string) ([]byte, error) {
	select {
	case a.places <- struct{}{}:
		defer func() { <-a.places }()
	default:
		return nil, errBusy
	}
	found := a.host.Found(ctx).Browsers
	i := slices.IndexFunc(found, func(b fleet.Browser) bool { return b.Name == link.Printer && b.Fits })
	if i < 0 {
		return nil, fmt.Errorf("there is no %s here", link.Printer)
	}
	profile, err := device.Find("")
	if err != nil {
		return nil, err
	}
	s, err := a.host.Open(ctx, sessions.Request{Browser: found[i], Device: profile})
	if err != nil {
		return nil, err
	}
	defer s.Close()
	if err := s.Navigate(ctx, "about:blank"); err != nil {
		return nil, err
	}
	// The page is one that needs nothing else, and is written into an empty one: nothing is fetched.
	if err := s.Execute(ctx, `document.open(); document.write(arguments[0]); document.close()`, nil, page); err != nil {
		return nil, fmt.Errorf("show the page: %w", err)
	}
	if err := s.ExecuteAsync(ctx, `const done = arguments[0]; Promise.all([document.fonts.ready,
		...[...document.images].map((i) => i.decode().catch(() => 0))]).then(() => done())`, nil); err != nil {
		return nil, fmt.Errorf("wait for its pictures: %w", err)
	}
	pdf, err := s.Print(ctx)
	if err != nil {
		return nil, fmt.Errorf("print: %w", err)
	}
	return pdf, nil
}
