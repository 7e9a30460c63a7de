package httpapi

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"parallelpane/internal/api"
	"parallelpane/internal/webdriver"
)

// RemotePath is where runners open sessions: a remote end of W3C WebDriver.
const RemotePath = "/webdriver"

// Limits of bodies that runners send, in bytes.
const (
	maxNewSession = 4 << 20
	maxCommand    = 64 << 20
)

// remoteEnd registers the session endpoint. Its errors are those of W3C
// WebDriver, whatever goes wrong.
func (a *server) remoteEnd() {
	handle := func(c fiber.Ctx) error {
		err := a.audited(c, "", func() error { return a.remote(c) })
		if err == nil {
			return nil
		}
		return a.remoteFault(c, err)
	}
	a.app.All(RemotePath, handle)
	a.app.All(RemotePath+"/*", handle)
}

func (a *server) remoteFault(c fiber.Ctx, err error) error {
	e, ok := errors.AsType[*webdriver.Error](err)
	status := 0
	if ok {
		status = e.Status()
	} else if own, is := errors.AsType[*api.Error](err); is {
		e, status = webdriver.Errorf(webdriver.UnknownError, "%s", own.Message), statusOf[own.Kind]
		a.tooMany(c, own)
		switch own.Kind {
		case api.Unauthorized:
			c.Set(fiber.HeaderWWWAuthenticate, `Basic realm="Parallel Pane", charset="UTF-8"`)
		case api.TooLarge, api.Invalid:
			e.Code = webdriver.InvalidArgument
		}
	} else {
		a.log.Error("session command failed", "method", c.Method(), "error", err)
		e, status = webdriver.Errorf(webdriver.UnknownError, "the service could not do this; its log says why"), http.StatusInternalServerError
	}
	return value(c, status, e)
}

// value answers as section 6.5 "Processing model" has it.
func value(c fiber.Ctx, status int, v any) error {
	raw, err := json.Marshal(map[string]any{"value": v})
	if err != nil {
		return err
	}
	c.Status(status)
	c.Set(fiber.HeaderContentType, "application/json; charset=utf-8")
	c.Set(fiber.HeaderCacheControl, "no-cache")
	return c.Send(raw)
}

func (a *server) remote(c fiber.Ctx) error {
	path := strings.TrimPrefix(c.OriginalURL(), RemotePath)
	path, query, _ := strings.Cut(path, "?")
	rest, ok := strings.CutPrefix(path, "/session/")
	id, command, _ := strings.Cut(rest, "/")
	if ok && strings.HasPrefix(command, "bidi/") && strings.EqualFold(c.Get(fiber.HeaderUpgrade), "websocket") {
		return a.bidi(c, id, strings.TrimPrefix(command, "bidi/"))
	}
	who, err := a.who(c, inAny(api.Runner))
	if err != nil {
		return err
	}
	if _, err := a.enter(c, who, passing); err != nil {
		return err
	}
	switch {
	case path == "/status":
		if c.Method() != http.MethodGet {
			return webdriver.Errorf(webdriver.UnknownMethod, "/status takes GET")
		}
		return value(c, http.StatusOK, a.readiness())
	case path == "/session":
		if c.Method() != http.MethodPost {
			return webdriver.Errorf(webdriver.UnknownMethod, "/session takes POST")
		}
		if err := a.writable(c); err != nil {
			return err
		}
		return a.newSession(c, who)
	case !ok || id == "" || strings.ContainsAny(id, "%"):
		return webdriver.Errorf(webdriver.UnknownCommand, "%s %s is no command", c.Method(), c.Path())
	}
	if _, at, deeper := strings.Cut(rest, "/"); deeper {
		command = "/" + at
	}
	if query != "" {
		command += "?" + query
	}
	return a.command(c, who, id, command)
}

// readiness says whether a session asked for now would have a slot (section 7.1
// "Status"). Others wait for one.
func (a *server) readiness() map[string]any {
	free, online := 0, 0
	for _, agent := range a.service.Agents() {
		if agent.Online && agent.Away == "" {
			online++
			free += max(0, agent.Slots-agent.Used)
		}
	}
	message := fmt.Sprintf("agents online: %d, slots free: %d", online, free)
	if free == 0 && online > 0 {
		message += "; a session would wait for a slot"
	}
	return map[string]any{"ready": free > 0, "message": message}
}

func (a *server) newSession(c fiber.Ctx, who api.Who) error {
	raw, err := body(c, maxNewSession)
	if err != nil {
		return err
	}
	gone, stop := watchGone(c.RequestCtx().Conn())
	defer stop()
	id, key, given, err := a.service.NewSession(c.Context(), who, raw, gone)
	if err != nil {
		return err
	}
	d := deedOf(c).on(id)
	d.Act = "session open"
	d.Project, _, _ = a.service.WhoseSession(c.Context(), id)
	given = maps.Clone(given)
	if _, ok := given["webSocketUrl"].(string); ok {
		given["webSocketUrl"] = strings.Replace(c.BaseURL(), "http", "ws", 1) + RemotePath + "/session/" + id + "/bidi/" + key
	}
	return value(c, http.StatusOK, map[string]any{"sessionId": id, "capabilities": given})
}

// command passes one command on.
func (a *server) command(c fiber.Ctx, who api.Who, id, path string) error {
	raw, err := body(c, maxCommand)
	if err != nil {
		return err
	}
	req, resp := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
	defer fasthttp.ReleaseRequest(req)
	defer fasthttp.ReleaseResponse(resp)
	req.Header.SetMethod(c.Method())
	if len(raw) > 0 {
		req.Header.SetContentType("application/json; charset=utf-8")
		req.SetBodyRaw(raw)
	}
	conn := c.RequestCtx().Conn()
	if err := a.service.Command(who, id, path, req, resp, func() (<-chan struct{}, func()) { return watchGone(conn) }); err != nil {
		return err
	}
	c.Status(resp.StatusCode())
	c.Response().Header.SetContentTypeBytes(resp.Header.ContentType())
	c.Set(fiber.HeaderCacheControl, "no-cache")
	return c.Send(resp.Body())
}

// bidi joins a client's WebSocket with the agent's, byte for byte. The address
// was given to the session's owner alone and is good for this one session.
func (a *server) bidi(c fiber.Ctx, id, key string) error {
	conn, token, err := a.service.BiDiLink(id, key)
	if err != nil {
		return err
	}
	who, err := a.service.Of(c.Context(), token)
	if err != nil {
		return err
	}
	if a.service.HasEnded(who) {
		return api.Errorf(api.Unauthorized, "the token with which session %s was opened has ended", id)
	}
	ended, done := a.service.Hold(who)
	held := false
	defer func() {
		if !held {
			done()
		}
	}()
	stream, err := conn.Stream()
	if err != nil {
		return webdriver.Errorf(webdriver.UnknownError, "the agent did not answer: %v", err)
	}
	var head bytes.Buffer
	fmt.Fprintf(&head, "GET /sessions/%s/bidi HTTP/1.1\r\nHost: agent\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n", id)
	for name, v := range c.Request().Header.All() {
		if bytes.HasPrefix(bytes.ToLower(name), []byte("sec-websocket-")) {
			fmt.Fprintf(&head, "%s: %s\r\n", name, v)
		}
	}
	head.WriteString("\r\n")
	_ = stream.SetDeadline(time.Now().Add(20 * time.Second))
	if _, err := stream.Write(head.Bytes()); err != nil {
		stream.Close()
		return webdriver.Errorf(webdriver.UnknownError, "the agent did not answer: %v", err)
	}
	var seen bytes.Buffer
	from := bufio.NewReader(stream)
	resp, err := http.ReadResponse(bufio.NewReader(io.TeeReader(oneByte{from}, &seen)), nil)
	if err != nil || resp.StatusCode != http.StatusSwitchingProtocols {
		defer stream.Close()
		if err != nil {
			return webdriver.Errorf(webdriver.UnknownError, "the agent did not answer: %v", err)
		}
		why, _ := io.ReadAll(io.LimitReader(resp.Body, 4<<10))
		return webdriver.Errorf(webdriver.UnknownError, "%s", strings.TrimSpace(string(why)))
	}
	_ = stream.SetDeadline(time.Time{})
	held = true
	c.RequestCtx().HijackSetNoResponse(true)
	c.RequestCtx().Hijack(func(client net.Conn) {
		defer client.Close()
		defer stream.Close()
		defer done()
		if _, err := client.Write(seen.Bytes()); err != nil {
			return
		}
		over := make(chan struct{})
		defer close(over)
		go func() {
			select {
			case <-ended:
				client.Close()
				stream.Close()
			case <-over:
			}
		}()
		var both sync.WaitGroup
		both.Go(func() {
			_, _ = io.Copy(stream, client)
			stream.Close()
		})
		both.Go(func() {
			_, _ = io.Copy(client, from)
			client.Close()
		})
		both.Wait()
	})
	return nil
}

// oneByte reads no further than it is asked to, so that what follows a header
// stays where it is.
type oneByte struct{ r io.Reader }

func (o oneByte) Read(p []byte) (int, error) {
	if len(p) > 1 {
		p = p[:1]
	}
	return o.r.Read(p)
}
