package engine

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"parallelpane/internal/engine/process"
	"parallelpane/internal/webdriver"
)

// StartOnPort starts a driver that is told its port, on one that was free a moment ago,
// and waits until it answers; should somebody else take the port meanwhile, it tries
// another. args are those that name a port.
func StartOnPort(ctx context.Context, inst *Instance, o Options, env []string, args func(port int) []string) (int, *process.Process,
	error) {
	var last error
	for range 3 {
		port, err := o.Box.Port()
		if err != nil {
			return 0, nil, fmt.Errorf("launch %s: %w", o.Browser.Name, err)
		}
		p, err := o.Box.Start(process.Command{Log: o.Log, Env: env, Path: o.Browser.Driver, Args: args(port)})
		if err != nil {
			return 0, nil, err
		}
		ready, cancel := context.WithTimeout(ctx, 10*time.Second)
		last = answers(ready, inst, p, "http://127.0.0.1:"+strconv.Itoa(port))
		cancel()
		if last == nil {
			return port, p, nil
		}
		p.Stop(0)
	}
	return 0, nil, last
}

func answers(ctx context.Context, inst *Instance, p *process.Process, base string) error {
	tr := &http.Transport{DialContext: inst.Dial}
	defer tr.CloseIdleConnections()
	c := webdriver.NewClient(base, &http.Client{Transport: tr})
	for {
		if ready, err := c.Status(ctx); err == nil && ready {
			return nil
		}
		select {
		case <-p.Done():
			return p.Gone()
		case <-ctx.Done():
			return errors.New("the driver did not get ready within 10 s")
		case <-time.After(10 * time.Millisecond):
		}
	}
}
