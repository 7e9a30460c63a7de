package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"parallelpane/internal/api"
)

const (
	again = 300 * time.Millisecond // after a lost connection
	away  = time.Minute            // for so long a service may stay away
)

// Follow calls f for each event of a run, after fresh was called with the run as it
// stands; again after each lost connection. It returns when either says stop, the
// context ends, or the service stays away for a minute.
func (c *Client) Follow(ctx context.Context, number int, fresh func(api.Run) (stop bool), f func(api.Event) (stop bool)) error {
	var since time.Time
	for {
		stop, err := c.followOnce(ctx, number, fresh, f)
		if stop || ctx.Err() != nil {
			return ctx.Err()
		}
		switch {
		case Refused(err):
			return err
		case err == nil:
			since = time.Time{}
		case since.IsZero():
			since = time.Now()
		case time.Since(since) > away:
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(again):
		}
	}
}

func (c *Client) followOnce(ctx context.Context, number int, fresh func(api.Run) bool, f func(api.Event) bool) (stop bool, err error) {
	resp, err := c.Do(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/events", number), nil)
	if err != nil {
		return false, err
	}
	defer resp.Body.Close()
	read := func() (bool, error) {
		var run api.Run
		if err := c.Get(ctx, fmt.Sprintf("/runs/%d", number), &run); err != nil {
			return false, err
		}
		return fresh(run), nil
	}
	if stop, err = read(); stop || err != nil {
		return stop, err
	}
	in := bufio.NewScanner(resp.Body)
	in.Buffer(nil, 16<<20)
	for in.Scan() {
		data, ok := strings.CutPrefix(in.Text(), "data: ")
		if !ok {
			continue
		}
		var e api.Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return false, fmt.Errorf("event: %w", err)
		}
		c.tame(&e)
		if e.Whole {
			if stop, err = read(); stop || err != nil {
				return stop, err
			}
		}
		if f(e) {
			return true, nil
		}
	}
	return false, nil
}
