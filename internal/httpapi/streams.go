package httpapi

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/lab"
	"parallelpane/internal/link"
	"parallelpane/internal/report"
)

// wall sends a run. That of one that has ended lies ready, compressed.
func (a *server) wall(c fiber.Ctx, _ api.Who) error {
	in := new(numberIn)
	if err := bind(c, in); err != nil {
		return err
	}
	packed, live, err := a.service.Wall(c.Context(), in.Number)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderCacheControl, "no-store")
	if live != nil {
		api.Fill(live)
		return c.JSON(live)
	}
	c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSONCharsetUTF8)
	c.Vary(fiber.HeaderAcceptEncoding)
	if c.Req().AcceptsEncodings("gzip") == "gzip" {
		c.Set(fiber.HeaderContentEncoding, "gzip")
		return c.Send(packed)
	}
	plain, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return err
	}
	return c.SendStream(plain)
}

// streams registers the operations whose bodies are not JSON.
func (a *server) streams() {
	a.doc.operation("GET", "/schedules.ics", api.Viewer, "The schedules as iCalendar; Basic authorisation with a token as the password will do", nil, nil)
	a.app.Get(Prefix+"/schedules.ics", a.calendar)
	type hashIn struct {
		Hash string `path:"hash" json:"-" description:"SHA-256 in hexadecimal"`
	}
	send := func(method, path string, role api.Role, summary string, in, out any, h func(fiber.Ctx, api.Who) error) {
		a.doc.operation(method, path, role, summary, in, out)
		a.app.Add([]string{method}, Prefix+colons(path), func(c fiber.Ctx) error {
			who, err := a.who(c, role)
			if err != nil {
				return err
			}
			return h(c, who)
		})
	}
	raw := func(method, path string, role api.Role, summary string, in any, h func(fiber.Ctx, api.Who) error) {
		send(method, path, role, summary, in, nil, h)
	}
	send("GET", "/runs/{number}", api.Viewer, "A run with its wall", new(numberIn), new(api.Run), a.wall)
	type eventsIn struct {
		Walls string `query:"walls" json:"-" description:"numbers of runs, such as 811,812, of whose cells to tell as well; at most 50"`
	}
	raw("GET", "/events", api.Viewer, "Events of all runs and the fleet (text/event-stream)", new(eventsIn), func(c fiber.Ctx, _ api.Who) error {
		in := new(eventsIn)
		if err := bind(c, in); err != nil {
			return err
		}
		walls, err := numbers(in.Walls)
		if err != nil {
			return err
		}
		return a.events(c, a.service.WatchAll(walls))
	})
	raw("GET", "/runs/{number}/events", api.Viewer, "Events of one run (text/event-stream)", new(numberIn), func(c fiber.Ctx, _ api.Who) error {
		in := new(numberIn)
		if err := bind(c, in); err != nil {
			return err
		}
		id, err := a.service.RunID(c.Context(), in.Number)
		if err != nil {
			return err
		}
		return a.events(c, a.service.Watch(id))
	})
	raw("GET", "/runs/{number}/junit", api.Viewer, "A run as JUnit XML", new(numberIn), func(c fiber.Ctx, _ api.Who) error {
		in := new(numberIn)
		if err := bind(c, in); err != nil {
			return err
		}
		run, err := a.service.Run(c.Context(), in.Number)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/xml; charset=utf-8")
		return report.JUnit(c.Response().BodyWriter(), run)
	})
	raw("HEAD", "/bundles/{hash}", api.Runner, "Ask whether a bundle is here", new(hashIn), func(c fiber.Ctx, _ api.Who) error {
		if !a.service.HasBundle(c.Params("hash")) {
			return c.SendStatus(http.StatusNotFound)
		}
		return c.SendStatus(http.StatusOK)
	})
	raw("PUT", "/bundles/{hash}", api.Runner, "Send a bundle (tar, gzip)", new(hashIn), func(c fiber.Ctx, _ api.Who) error {
		if err := a.service.PutBundle(c.Params("hash"), stream(c)); err != nil {
			return err
		}
		return c.SendStatus(http.StatusNoContent)
	})
	raw("GET", "/agent/bundles/{hash}", api.AgentRole, "Fetch a bundle", new(hashIn), func(c fiber.Ctx, _ api.Who) error {
		f, err := a.service.Bundle(c.Params("hash"))
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/gzip")
		return c.SendStream(f)
	})
	raw("PUT", "/agent/files/{hash}", api.AgentRole, "Send a file of an attempt", new(hashIn), func(c fiber.Ctx, _ api.Who) error {
		if !blobs.ValidHash(c.Params("hash")) {
			return invalid("%q is not a SHA-256 in hexadecimal", c.Params("hash"))
		}
		if err := a.service.PutFile(c.Params("hash"), stream(c)); err != nil {
			return err
		}
		return c.SendStatus(http.StatusNoContent)
	})
	type pieceIn struct {
		ID    string `path:"id" json:"-"`
		Name  string `path:"name" json:"-"`
		Fence int    `query:"fence" json:"-" description:"of the lease"`
		At    int    `query:"at" json:"-" description:"bytes from the file's beginning"`
	}
	raw("PUT", "/agent/sessions/{id}/files/{name}", api.AgentRole, "Send a piece of a file of an open session", new(pieceIn), func(c fiber.Ctx, _ api.Who) error {
		in := new(pieceIn)
		if err := bind(c, in); err != nil {
			return err
		}
		grown, err := a.service.Grow(in.ID, int64(in.Fence), in.Name, int64(in.At), stream(c))
		if err != nil {
			return err
		}
		return c.JSON(grown)
	})
	type fileIn struct {
		Attempt string `path:"attempt" json:"-"`
		Name    string `path:"name" json:"-"`
	}
	raw("GET", "/attempts/{attempt}/files/{name}", api.Viewer, "A file of an attempt", new(fileIn), a.file)
	type pictureIn struct {
		ID    string `path:"id" json:"-"`
		After int    `query:"after" json:"-" description:"number of the picture that is known: the answer waits for another; 204 when none comes for a while"`
	}
	raw("GET", "/sessions/{id}/picture", api.Viewer, "What an open session shows (JPEG or PNG)", new(pictureIn), func(c fiber.Ctx, _ api.Who) error {
		in := new(pictureIn)
		if err := bind(c, in); err != nil {
			return err
		}
		p, err := a.service.Picture(c.Context(), in.ID, in.After)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderCacheControl, "no-store")
		if p.Number <= in.After || !shownInline[p.Media] {
			return c.SendStatus(http.StatusNoContent)
		}
		c.Set(fiber.HeaderContentType, p.Media)
		c.Set(link.PictureHeader, strconv.Itoa(p.Number))
		return c.Send(p.Image)
	})
	type soFarIn struct {
		ID   string `path:"id" json:"-"`
		Kind string `path:"kind" json:"-" description:"commands or console"`
		From int    `query:"from" json:"-" description:"lines that are known"`
	}
	raw("GET", "/sessions/{id}/so-far/{kind}", api.Viewer, "Commands or console of an open session, one JSON object in a line", new(soFarIn), func(c fiber.Ctx, _ api.Who) error {
		in := new(soFarIn)
		if err := bind(c, in); err != nil {
			return err
		}
		lines, err := a.service.SoFar(in.ID, in.Kind, in.From)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/jsonl")
		c.Set(fiber.HeaderCacheControl, "no-store")
		return c.Send(lines)
	})
	raw("GET", "/agent/link", api.AgentRole, "An agent's link (WebSocket)", nil, func(c fiber.Ctx, _ api.Who) error { return a.link(c) })
}

const keepAlive = 15 * time.Second

// numbers reads a list of run numbers.
func numbers(list string) (out []int, err error) {
	for _, word := range strings.FieldsFunc(list, func(r rune) bool { return r == ',' }) {
		n, err := strconv.Atoi(word)
		if err != nil || len(out) == 50 {
			return nil, invalid("walls: expected at most 50 numbers of runs, such as 811,812, found %.100q", list)
		}
		out = append(out, n)
	}
	return out, nil
}

// events streams Server-Sent Events until the client or the service goes.
func (a *server) events(c fiber.Ctx, w *lab.Watch) error {
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-store")
	c.Set("X-Accel-Buffering", "no")
	return c.SendStreamWriter(func(out *bufio.Writer) {
		defer w.Close()
		t := time.NewTicker(keepAlive)
		defer t.Stop()
		fmt.Fprint(out, "retry: 1000\n\n")
		for out.Flush() == nil {
			select {
			case e, ok := <-w.Events:
				if !ok {
					return
				}
				raw, err := json.Marshal(e)
				if err != nil {
					return
				}
				fmt.Fprintf(out, "event: %s\ndata: %s\n\n", e.Type, raw)
			case <-t.C:
				fmt.Fprint(out, ": still here\n\n")
			}
		}
	})
}

// shownInline are the media types that a browser may show on the service's own
// address. Anything else is offered for saving, so that nothing an artifact
// contains can act in the console's name.
var shownInline = map[string]bool{"image/png": true, "image/jpeg": true, "text/plain; charset=utf-8": true, "video/webm": true}

func (a *server) file(c fiber.Ctx, _ api.Who) error {
	name, err := url.PathUnescape(c.Params("name"))
	if err != nil {
		return invalid("the file's name: %v", err)
	}
	f, r, err := a.service.OpenFile(c.Context(), c.Params("attempt"), name)
	if err != nil {
		return err
	}
	media, how := f.Media, "inline"
	if !shownInline[media] {
		media, how = "application/octet-stream", "attachment"
	}
	c.Set(fiber.HeaderContentType, media)
	c.Set(fiber.HeaderContentDisposition, how+`; filename="`+f.Name+`"`)
	c.Set("Content-Security-Policy", "default-src 'none'; sandbox")
	c.Set(fiber.HeaderCacheControl, "private, max-age=31536000, immutable")
	c.Set(fiber.HeaderAcceptRanges, "bytes")
	if want := c.Get(fiber.HeaderRange); want != "" { // players go to a place in a video by it (RFC 9110, section 14)
		from, to, err := fasthttp.ParseByteRange([]byte(want), int(f.Size))
		if err != nil {
			r.Close()
			c.Set(fiber.HeaderContentRange, fmt.Sprintf("bytes */%d", f.Size))
			return c.SendStatus(http.StatusRequestedRangeNotSatisfiable)
		}
		if _, err := r.Seek(int64(from), io.SeekStart); err != nil {
			r.Close()
			return err
		}
		c.Set(fiber.HeaderContentRange, fmt.Sprintf("bytes %d-%d/%d", from, to, f.Size))
		c.Status(http.StatusPartialContent)
		return c.SendStream(struct {
			io.Reader
			io.Closer
		}{io.LimitReader(r, int64(to-from+1)), r}, to-from+1)
	}
	return c.SendStream(r, int(f.Size))
}

var upgrader = websocket.FastHTTPUpgrader{Subprotocols: []string{link.Protocol}, ReadBufferSize: 32 << 10, WriteBufferSize: 32 << 10,
	CheckOrigin: func(ctx *fasthttp.RequestCtx) bool { return len(ctx.Request.Header.Peek("Origin")) == 0 }}

// link takes an agent's link after it has introduced itself.
func (a *server) link(c fiber.Ctx) error {
	hello, err := a.service.Admit(c.Get(link.TicketHeader))
	if err != nil {
		return err
	}
	err = upgrader.Upgrade(c.RequestCtx(), func(ws *websocket.Conn) {
		l, err := link.Serve(ws)
		if err != nil {
			a.log.Warn("link not taken", "agent", hello.Name, "error", err)
			return
		}
		defer l.Close()
		if err := a.service.Join(hello, l); err != nil {
			a.log.Warn("agent refused", "agent", hello.Name, "error", err)
		}
	})
	if errors.As(err, new(websocket.HandshakeError)) {
		return fiber.NewError(http.StatusUpgradeRequired, "this address takes WebSocket connections of agents only")
	}
	return err
}
