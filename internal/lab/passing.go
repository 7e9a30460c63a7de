package lab

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"github.com/valyala/fasthttp"

	"parallelpane/internal/api"
	"parallelpane/internal/link"
	"parallelpane/internal/webdriver"
)

// route is where the commands of an open session go.
type route struct {
	tokenID string
	agent   string
	key     string // SHA-256, in hexadecimal, of what opens its BiDi address
}

// Commands are passed on by routes and links alone, without the service's lock.

// linkBack is how long a command waits for an agent that has lost its link.
const linkBack = 10 * time.Second

// watchAfter is how long a command takes before its client is watched.
const watchAfter = time.Second

// Command passes a command of a session on to its agent; the request's address
// and the answer are the caller's. watch begins to watch the client of a command
// that takes long. An error is a *webdriver.Error.
func (lab *Lab) Command(who api.Who, id, path string, req *fasthttp.Request, resp *fasthttp.Response,
	watch func() (gone <-chan struct{}, stop func())) error {
	conn, err := lab.sessionLink(who.TokenID, id)
	if err != nil {
		return err
	}
	req.SetRequestURI("http://agent/sessions/" + id + "/wd" + path)
	done, watched := make(chan struct{}), make(chan struct{})
	late := time.AfterFunc(watchAfter, func() {
		defer close(watched)
		gone, stop := watch()
		defer stop()
		select {
		case <-gone:
			_ = call(conn, fasthttp.MethodPost, "/sessions/"+id+"/left", nil) // without it the session is idle only once the driver answers
		case <-done:
		}
	})
	defer func() {
		close(done)
		if !late.Stop() {
			<-watched
		}
	}()
	if err := conn.Do(req, resp, time.Hour); err != nil {
		return webdriver.Errorf(webdriver.UnknownError, "the agent of session %s did not answer: %v; whether the command was carried out "+
			"is not known", id, err)
	}
	return nil
}

// anyToken stands for the service itself, which may reach every session.
const anyToken = "*"

// sessionLink finds the way to an open session's agent. A session of somebody
// else is as unknown as one that does not exist.
func (lab *Lab) sessionLink(tokenID, id string) (*link.Agent, error) {
	v, ok := lab.routes.Load(id)
	if !ok || (tokenID != anyToken && v.(*route).tokenID != tokenID) {
		return nil, webdriver.Errorf(webdriver.InvalidSessionID, "there is no open session %.80q of yours", id)
	}
	agent := v.(*route).agent
	for end := time.Now().Add(linkBack); ; time.Sleep(50 * time.Millisecond) {
		if l, ok := lab.links.Load(agent); ok {
			return l.(*link.Agent), nil
		}
		if _, still := lab.routes.Load(id); !still || time.Now().After(end) {
			return nil, webdriver.Errorf(webdriver.UnknownError, "agent %s, which has session %s, is not linked to the service", agent, id)
		}
	}
}

// BiDiLink finds the way to a session's BiDi connection for somebody who has its
// key.
// The token is the session's owner's.
func (lab *Lab) BiDiLink(id, key string) (conn *link.Agent, token string, err error) {
	v, ok := lab.routes.Load(id)
	sum := sha256.Sum256([]byte(key))
	if !ok || v.(*route).key != hex.EncodeToString(sum[:]) {
		return nil, "", api.Errorf(api.NotFound, "there is no open session at this address")
	}
	conn, err = lab.sessionLink(anyToken, id)
	return conn, v.(*route).tokenID, err
}

// said is what an agent answered.
type said struct {
	status int
	media  string
	header []byte // of the picture's number
	body   []byte
}

// ask sends a request over a link.
func ask(a *link.Agent, method, path string, body any, limit time.Duration) (said, error) {
	req, resp := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
	defer fasthttp.ReleaseRequest(req)
	defer fasthttp.ReleaseResponse(resp)
	req.Header.SetMethod(method)
	req.SetRequestURI("http://agent" + path)
	if body != nil {
		raw, err := json.Marshal(body)
		if err != nil {
			return said{}, err
		}
		req.Header.SetContentType("application/json")
		req.SetBody(raw)
	}
	if err := a.Do(req, resp, limit); err != nil {
		return said{}, err
	}
	return said{resp.StatusCode(), string(resp.Header.ContentType()), bytes.Clone(resp.Header.Peek(link.PictureHeader)),
		bytes.Clone(resp.Body())}, nil
}

// text is the answer in words, at most 200 bytes of it.
func (s said) text() string { return fmt.Sprintf("%.200s", bytes.TrimSpace(s.body)) }

// exchange asks and decodes the answer: good for status 200, bad for others.
func exchange(a *link.Agent, method, path string, body any, limit time.Duration, good, bad any) (status int, err error) {
	got, err := ask(a, method, path, body, limit)
	if err != nil {
		return 0, err
	}
	into := good
	if got.status != fasthttp.StatusOK {
		into = bad
	}
	if err := json.Unmarshal(got.body, into); err != nil {
		return got.status, fmt.Errorf("status %d: %s", got.status, got.text())
	}
	return got.status, nil
}

// call asks for something to which the answer says no more than that it is
// done.
func call(a *link.Agent, method, path string, body any) error {
	got, err := ask(a, method, path, body, 15*time.Second)
	if err == nil && got.status >= 300 {
		err = fmt.Errorf("status %d: %s", got.status, got.text())
	}
	return err
}
