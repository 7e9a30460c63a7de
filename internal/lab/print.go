package lab

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/valyala/fasthttp"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/link"
)

// How long an agent may take to print a page, and how large it may be.
const (
	printLimit = 90 * time.Second
	maxPrinted = 100 << 20
)

// Print has the Chromium of an agent print a page that needs nothing else, as PDF: of one
// with a free slot, the idlest first.
func (lab *Lab) Print(ctx context.Context, html []byte) ([]byte, error) {
	type printer struct {
		name string
		link *link.Agent
		free int
	}
	var all []printer
	lab.mu.Lock()
	for name, a := range lab.agents {
		load := lab.machine.Load(name)
		able := slices.ContainsFunc(a.machine.Browsers, func(b fleet.Browser) bool { return b.Name == link.Printer && b.Fits })
		if free := load.Slots - load.Used; a.link != nil && able && free > 0 {
			all = append(all, printer{name, a.link, free})
		}
	}
	lab.mu.Unlock()
	slices.SortFunc(all, func(a, b printer) int { return b.free - a.free })
	var failed error
	for _, p := range all {
		pdf, err := printOn(p.link, html)
		if err == nil {
			return pdf, nil
		}
		failed = errors.Join(failed, fmt.Errorf("agent %s: %w", p.name, err))
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	if failed != nil {
		lab.log.Warn("a page was not printed", "error", failed)
	}
	return nil, api.Errorf(api.Conflict, "no agent with a free slot could print with Chromium (%d asked)",
		len(all))
}

func printOn(a *link.Agent, html []byte) ([]byte, error) {
	req, resp := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
	defer fasthttp.ReleaseRequest(req)
	defer fasthttp.ReleaseResponse(resp)
	req.Header.SetMethod(fasthttp.MethodPost)
	req.SetRequestURI("http://agent" + link.PrintPath)
	req.Header.SetContentType("text/html; charset=utf-8")
	req.SetBodyRaw(html)
	if err := a.Do(req, resp, printLimit); err != nil {
		return nil, err
	}
	body := resp.Body()
	switch {
	case resp.StatusCode() != fasthttp.StatusOK:
		return nil, fmt.Errorf("status %d: %.200s", resp.StatusCode(), body)
	case len(body) > maxPrinted || !slices.Equal(body[:min(5, len(body))], []byte("%PDF-")):
		return nil, fmt.Errorf("it sent %d bytes that are no PDF", len(body))
	}
	return slices.Clone(body), nil
}
