package sessions

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
)

// trialPage is what a browser shows in a trial, without any network.
const trialPage = "data:text/html,<title>It opens</title>"

// Try opens a session on a browser that seems to fit, has it show a page, and notes with
// the browser what came of it: one that fails is offered to nobody.
func (h *Host) Try(ctx context.Context, b *fleet.Browser) {
	err := h.trialOf(ctx, b)
	if err == nil || ctx.Err() != nil {
		return
	}
	var start *StartError
	if errors.As(err, &start) {
		err = start.Err
	}
	b.Fits, b.Problem = false, fmt.Sprintf("a trial start failed: %.1000s", strings.TrimRight(err.Error(), ".\n"))
	b.Remedy = AfterTrial(*b)
}

// AfterTrial says what to do about a browser whose trial failed.
func AfterTrial(b fleet.Browser) string {
	if b.Name == "safari" {
		return "allow it once, as the user of the agent: safaridriver --enable"
	}
	return "start it by hand to see more: " + b.Path
}

func (h *Host) trialOf(ctx context.Context, b *fleet.Browser) error {
	profile, err := device.Find("")
	if err != nil {
		return err
	}
	s, err := h.Open(ctx, Request{Browser: *b, Device: profile})
	if err != nil {
		return err
	}
	defer s.Close()
	given, _ := s.Given()["browserVersion"].(string)
	switch {
	case b.Name == "opera" && b.Base == "": // its driver tells the version of the Chromium in it
		b.Base = given
	case b.Base == "" && given != "" && engine.Major(given) != engine.Major(b.Version):
		return fmt.Errorf("the driver opened version %s, not %s", given, b.Version)
	}
	if err := s.Navigate(ctx, trialPage); err != nil {
		return fmt.Errorf("show a page: %w", s.lost(err))
	}
	title, err := s.Title(ctx)
	if err == nil && title != "It opens" {
		err = fmt.Errorf("it showed %.60q", title)
	}
	if err != nil {
		return fmt.Errorf("show a page: %w", s.lost(err))
	}
	return nil
}
