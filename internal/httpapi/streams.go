package httpapi

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
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
	"parallelpane/internal/lab"
	"parallelpane/internal/link"
	"parallelpane/internal/relay"
)

// What an operation of these takes. Their bodies, and what they answer, are not JSON.
type (
	hashIn struct {
		Hash string `path:"hash" json:"-" description:"SHA-256 in hexadecimal"`
	}
	eventsIn struct {
		Walls string `query:"walls" json:"-" description:"numbers of runs, such as 811,812, of whose cells to tell as well; at most 50"`
	}
	fencedIn struct {
		Hash  string `path:"hash" json:"-" description:"SHA-256 in hexadecimal"`
		Fence int64  `query:"fence" json:"-" description:"of the lease"`
	}
	pieceIn struct {
		ID    string `path:"id" json:"-"`
		Name  string `path:"name" json:"-"`
		Fence int64  `query:"fence" json:"-" description:"of the lease"`
		At    int    `query:"at" json:"-" description:"bytes from the file's beginning"`
	}
	pictureIn struct {
		sessionIn
		After int `query:"after" json:"-" description:"number of the known picture: another is waited for; 204 if none comes"`
	}
	soFarIn struct {
		sessionIn
		Kind string `path:"kind" json:"-" description:"commands or console"`
		From int    `query:"from" json:"-" description:"lines that are known"`
	}
)

// streams registers the operations whose bodies are not JSON.
func (a *server) streams() {
	look, agents := within(api.Viewer), inLab(api.AgentRole)
	a.doc.operation("GET", "/schedules.ics", inAny(api.Viewer),
		"The schedules as iCalendar; Basic authorisation with a token as the password will do", nil, nil)
	a.app.Get(Prefix+"/schedules.ics", func(c fiber.Ctx) error {
		return a.audited(c, "", func() error { return a.calendar(c) })
	})

	raw(a, "GET", "/runs/{number}", look, "A run with its wall", new(api.Run), a.wall)
	raw(a, "GET", "/runs/{number}/events", look.of(passing), "Events of one run (text/event-stream)", nil, a.eventsOfRun)
	raw(a, "GET", "/runs/{number}/exit", look.of(lasting),
		"The exit code of a run for a CI job, once it has ended (text); 204 until then", nil,
		a.exit)
	raw(a, "GET", "/events", inAny(api.Viewer).of(passing), "Events of all runs and the fleet (text/event-stream)", nil, a.eventsOfAll)
	raw(a, "GET", "/attempts/{attempt}/files/{name}", look.of(passing), "A file of an attempt", nil, a.file)
	raw(a, "GET", "/sessions/{id}/picture", look.of(lasting), "What an open session shows (JPEG or PNG)", nil, a.picture)
	raw(a, "GET", "/sessions/{id}/so-far/{kind}", look.of(lasting), "Commands or console of an open session, one JSON object in a line", nil,
		a.soFar)

	raw(a, "GET", "/backup", inLab(api.Admin).as("backup").of(passing), "Everything the service keeps, as a tar archive", nil, a.backup)
	raw(a, "HEAD", "/bundles/{hash}", inAny(api.Runner), "Ask whether a bundle is here", nil, a.hasBundle)
	raw(a, "PUT", "/bundles/{hash}", inAny(api.Runner).as("bundle send").of(sending), "Send a bundle (tar, gzip)", nil, a.putBundle)

	raw(a, "HEAD", "/stock/archives/{hash}", inLab(api.Admin), "Ask whether an archive is here", nil, a.hasBundle)
	raw(a, "PUT", "/stock/archives/{hash}", inLab(api.Admin).of(sending), "Send an archive of a browser that is to be stocked", nil,
		a.putArchive)

	raw(a, "GET", "/agent/stock/{hash}", agents.of(passing), "Fetch an archive of a stocked browser; Range goes on where it stopped", nil,
		a.archive)
	raw(a, "GET", "/agent/bundles/{hash}", agents.of(passing), "Fetch the bundle of a lease", nil, a.bundle)
	raw(a, "PUT", "/agent/files/{hash}", agents.of(sending), "Send a file of an attempt", nil, a.putFile)
	raw(a, "PUT", "/agent/sessions/{id}/files/{name}", agents.of(sending), "Send a piece of a file of an open session", nil, a.putPiece)
	raw(a, "GET", "/agent/relay", agents.of(passing), "A connection through the relay that the work under a lease asks for (Upgrade)", nil,
		a.relayed)
	raw(a, "GET", relay.Path, within(api.Runner).as("relay").of(passing), "Open a relay (WebSocket): its link is kept open by its owner", nil,
		a.relay)
	raw(a, "GET", "/agent/link", agents.of(passing), "An agent's link (WebSocket)", nil, a.link)
}

// raw registers an operation that writes its answer itself; out says in the document
// what that is, nil for what is not JSON.
func raw[In any](a *server, method, path string, n need, summary string, out any, h func(fiber.Ctx, api.Who, *In) error) {
	a.doc.operation(method, path, n, summary, new(In), out)
	a.app.Add([]string{method}, Prefix+colons(path), func(c fiber.Ctx) error {
		return a.audited(c, n.act, func() error {
			return admit(a, c, n, func(who api.Who, in *In) error { return h(c, who, in) })
		})
	})
}

// wall sends a run. That of one that has ended lies ready, compressed.
func (a *server) wall(c fiber.Ctx, who api.Who, in *numberIn) error {
	if who.Share != nil {
		run, err := a.service.Run(c.Context(), in.Number)
		if err != nil {
			return err
		}
		run.Request.Vars, run.Request.Relay = nil, "" // of the project's own surroundings
		api.Fill(&run)
		return answer(c, run)
	}
	packed, live, err := a.service.Wall(c.Context(), in.Number)
	if err != nil {
		return err
	}
	if live != nil {
		api.Fill(live)
		return answer(c, live)
	}
	c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSONCharsetUTF8)
	c.Vary(fiber.HeaderAcceptEncoding)
	coding := c.Req().AcceptsEncodings("gzip")
	if unchanged(c, packed, coding) {
		return c.SendStatus(http.StatusNotModified)
	}
	if coding == "gzip" {
		c.Set(fiber.HeaderContentEncoding, coding)
		return c.Send(packed)
	}
	plain, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return err
	}
	return c.SendStream(plain)
}

// backup streams a backup. One that fails on its way has no end, by which its reader knows.
func (a *server) backup(c fiber.Ctx, who api.Who, _ *struct{}) error {
	leave, err := a.enter(c, who, fetching)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "application/x-tar")
	c.Set(fiber.HeaderContentDisposition, `attachment; filename="pane-backup.tar"`)
	c.Set(fiber.HeaderCacheControl, "no-store")
	ctx := context.WithoutCancel(c.Context())
	return c.SendStreamWriter(func(out *bufio.Writer) {
		defer leave()
		if err := a.service.Backup(ctx, a.version, out); err != nil {
			a.log.Warn("a backup broke off", "error", err)
		}
	})
}

func (a *server) hasBundle(c fiber.Ctx, _ api.Who, in *hashIn) error {
	if !a.service.HasBundle(in.Hash) {
		return c.SendStatus(http.StatusNotFound)
	}
	return c.SendStatus(http.StatusOK)
}

func (a *server) putBundle(c fiber.Ctx, who api.Who, in *hashIn) error {
	body, done := a.upload(c, who, func(n int64) error { return a.budgets.store(who, n) })
	defer done()
	if err := a.service.PutBundle(in.Hash, body); err != nil {
		return err
	}
	return c.SendStatus(http.StatusNoContent)
}

func (a *server) putArchive(c fiber.Ctx, who api.Who, in *hashIn) error {
	body, done := a.upload(c, who, nil)
	defer done()
	if err := a.service.PutArchive(in.Hash, body); err != nil {
		return err
	}
	return c.SendStatus(http.StatusNoContent)
}

// archive sends a stocked archive, or the rest of it (RFC 9110 section 14).
func (a *server) archive(c fiber.Ctx, who api.Who, in *hashIn) error {
	if !a.service.Stocks(who.Agent, in.Hash) {
		return api.Errorf(api.NotFound, "nothing that agent %s is to have has the archive %.80q", who.Agent, in.Hash)
	}
	leave, err := a.enter(c, who, fetching)
	if err != nil {
		return err
	}
	f, err := a.service.Archive(in.Hash)
	if err != nil {
		leave()
		return err
	}
	fail := func(err error) error {
		leave()
		return errors.Join(err, f.Close())
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return fail(err)
	}
	from := int64(0)
	if c.Get(fiber.HeaderRange) != "" {
		r, err := c.Range(size)
		if err != nil {
			return errors.Join(fail(nil), c.SendStatus(http.StatusRequestedRangeNotSatisfiable))
		}
		if r.Type == "bytes" && len(r.Ranges) == 1 && r.Ranges[0].End == size-1 {
			from = r.Ranges[0].Start
			c.Status(http.StatusPartialContent).Set(fiber.HeaderContentRange, fmt.Sprintf("bytes %d-%d/%d", from, size-1, size))
		}
	}
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return fail(err)
	}
	c.Set(fiber.HeaderContentType, "application/octet-stream")
	return c.SendStream(leaving{f, leave}, int(size-from))
}

func (a *server) bundle(c fiber.Ctx, who api.Who, in *hashIn) error {
	if !a.service.Holds(who.Agent, in.Hash) {
		return api.Errorf(api.NotFound, "agent %s has no lease on a run with the bundle %.80q", who.Agent, in.Hash)
	}
	leave, err := a.enter(c, who, fetching)
	if err != nil {
		return err
	}
	f, err := a.service.Bundle(in.Hash)
	if err != nil {
		leave()
		return err
	}
	c.Set(fiber.HeaderContentType, "application/gzip")
	return c.SendStream(leaving{f, leave})
}

func (a *server) putFile(c fiber.Ctx, who api.Who, in *fencedIn) error {
	body, done := a.upload(c, who, nil)
	defer done()
	if err := a.service.PutFile(who.Agent, in.Fence, in.Hash, body); err != nil {
		return err
	}
	return c.SendStatus(http.StatusNoContent)
}

func (a *server) putPiece(c fiber.Ctx, who api.Who, in *pieceIn) error {
	body, done := a.upload(c, who, nil)
	defer done()
	grown, err := a.service.Grow(who.Agent, in.ID, in.Fence, in.Name, int64(in.At), body)
	if err != nil {
		return err
	}
	return c.JSON(grown)
}

func (a *server) picture(c fiber.Ctx, _ api.Who, in *pictureIn) error {
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
}

func (a *server) soFar(c fiber.Ctx, _ api.Who, in *soFarIn) error {
	lines, err := a.service.SoFar(in.ID, in.Kind, in.From)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "application/jsonl")
	c.Set(fiber.HeaderCacheControl, "no-store")
	return c.Send(lines)
}

func (a *server) eventsOfRun(c fiber.Ctx, who api.Who, in *numberIn) error {
	id, err := a.service.RunID(c.Context(), in.Number)
	if err != nil {
		return err
	}
	return a.events(c, who, a.service.Watch(id))
}

func (a *server) eventsOfAll(c fiber.Ctx, who api.Who, in *eventsIn) error {
	walls, err := numbers(in.Walls)
	if err != nil {
		return err
	}
	return a.events(c, who, a.service.WatchAll(who.Projects(), walls))
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

// events streams Server-Sent Events until the client or the service goes, or the token
// with which they were asked for ends.
func (a *server) events(c fiber.Ctx, who api.Who, w *lab.Watch) error {
	leave, err := a.enter(c, who, lasting)
	if err != nil {
		w.Close()
		return err
	}
	ended, done := a.service.Hold(who)
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-store")
	c.Set("X-Accel-Buffering", "no")
	conn := c.RequestCtx().Conn()
	return c.SendStreamWriter(func(out *bufio.Writer) {
		defer w.Close()
		defer done()
		defer leave()
		gone, unwatch := watchGone(conn)
		defer unwatch()
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
			case <-ended:
				return
			case <-gone:
				return
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

func (a *server) file(c fiber.Ctx, who api.Who, in *attemptIn) error {
	name, err := url.PathUnescape(in.Name)
	if err != nil {
		return invalid("the file's name: %v", err)
	}
	leave, err := a.enter(c, who, fetching)
	if err != nil {
		return err
	}
	f, kept, err := a.service.OpenFile(c.Context(), in.Attempt, name)
	if err != nil {
		leave()
		return err
	}
	r := leaving{kept, leave}
	media, how := f.Media, "inline"
	if !shownInline[media] {
		media, how = "application/octet-stream", "attachment"
	}
	c.Set(fiber.HeaderContentType, media)
	c.Set(fiber.HeaderContentDisposition, how+`; filename="`+f.Name+`"`)
	c.Set("Content-Security-Policy", "default-src 'none'; sandbox")
	c.Set(fiber.HeaderCacheControl, "private, max-age=31536000, immutable")
	c.Set(fiber.HeaderAcceptRanges, "bytes")
	if want := c.Get(fiber.HeaderRange); want != "" {
		return part(c, r, int(f.Size), want)
	}
	return c.SendStream(r, int(f.Size))
}

// part sends a range of a file of a size, by which players go to a place in a video
// (RFC 9110, section 14).
func part(c fiber.Ctx, r io.ReadSeekCloser, size int, want string) error {
	from, to, err := fasthttp.ParseByteRange([]byte(want), size)
	if err != nil {
		r.Close()
		c.Set(fiber.HeaderContentRange, fmt.Sprintf("bytes */%d", size))
		return c.SendStatus(http.StatusRequestedRangeNotSatisfiable)
	}
	if _, err := r.Seek(int64(from), io.SeekStart); err != nil {
		r.Close()
		return err
	}
	c.Set(fiber.HeaderContentRange, fmt.Sprintf("bytes %d-%d/%d", from, to, size))
	c.Status(http.StatusPartialContent)
	return c.SendStream(struct {
		io.Reader
		io.Closer
	}{io.LimitReader(r, int64(to-from+1)), r}, to-from+1)
}

var upgrader = websocket.FastHTTPUpgrader{Subprotocols: []string{link.Protocol}, ReadBufferSize: 32 << 10, WriteBufferSize: 32 << 10,
	CheckOrigin: func(ctx *fasthttp.RequestCtx) bool { return len(ctx.Request.Header.Peek("Origin")) == 0 }}

// link takes an agent's link after it has introduced itself.
func (a *server) link(c fiber.Ctx, who api.Who, _ *struct{}) error {
	hello, err := a.service.Admit(who.TokenID, c.Get(link.TicketHeader))
	if err != nil {
		return err
	}
	return a.linked(c, who, "agents", func(l *link.Agent) {
		if err := a.service.Join(hello, l); err != nil {
			a.log.Warn("agent refused", "agent", hello.Name, "error", err)
		}
	})
}

// linked takes a link, which is used until serve returns and ends with the token that it
// came with.
func (a *server) linked(c fiber.Ctx, who api.Who, whose string, serve func(*link.Agent)) error {
	err := upgrader.Upgrade(c.RequestCtx(), func(ws *websocket.Conn) {
		l, err := link.Serve(ws)
		if err != nil {
			a.log.Warn("link not taken", "token", who.Name, "error", err)
			return
		}
		defer l.Close()
		ended, done := a.service.Hold(who)
		defer done()
		go func() {
			select {
			case <-ended:
				a.log.Warn("a token has ended: its link is closed", "token", who.Name)
				l.Close()
			case <-l.Done():
			}
		}()
		serve(l)
	})
	if errors.As(err, new(websocket.HandshakeError)) {
		return fiber.NewError(http.StatusUpgradeRequired, "this address takes WebSocket connections of "+whose+" only")
	}
	return err
}
