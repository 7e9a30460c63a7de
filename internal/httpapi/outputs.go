package httpapi

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/gofiber/fiber/v3"

	"parallelpane/internal/api"
)

type outputIn struct {
	testIn
	Pane int   `path:"pane" json:"-" description:"index of the combination, from 0"`
	From int64 `query:"from" json:"-" description:"bytes that are known"`
}

// outputs registers what commands print while they run.
func (a *server) outputs() {
	add(a, "GET", "/runs/{number}/outputs", within(api.Viewer), "The tests of a run whose commands agents have now",
		func(_ context.Context, _ api.Who, in *numberIn) ([]api.Printing, error) {
			return a.service.Outputs(in.Number), nil
		})
	add(a, "GET", "/runs/{number}/tests/{test}/panes/{pane}/output", within(api.Viewer), "What a command prints while it runs",
		func(_ context.Context, _ api.Who, in *outputIn) (api.Output, error) {
			return a.service.Output(in.Number, in.Pane, in.Test, in.From)
		})
}

type exitIn struct {
	numberIn
	Wait int `query:"wait" json:"-" description:"seconds to wait for its end, at most 60"`
}

// maxExitWait is how long the end of a run is waited for at once.
const maxExitWait = 60

// exit says with what a CI job should end, to one that has no more than curl.
func (a *server) exit(c fiber.Ctx, _ api.Who, in *exitIn) error {
	if in.Wait < 0 || in.Wait > maxExitWait {
		return api.Errorf(api.Invalid, "wait: expected 0 to %d seconds, found %d", maxExitWait, in.Wait)
	}
	over := time.After(time.Duration(in.Wait) * time.Second)
	for {
		row, err := a.service.Row(c.Context(), in.Number)
		if err != nil {
			return err
		}
		if row.EndedAt != 0 {
			run, err := a.service.Run(c.Context(), in.Number)
			if err != nil {
				return err
			}
			c.Set(fiber.HeaderContentType, fiber.MIMETextPlainCharsetUTF8)
			c.Set(fiber.HeaderCacheControl, "no-store")
			return c.SendString(strconv.Itoa(run.Counts.ExitCode()) + "\n")
		}
		select {
		case <-over:
			return c.SendStatus(http.StatusNoContent)
		case <-c.Context().Done():
			return c.Context().Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}
