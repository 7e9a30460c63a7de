package remote

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/valyala/fasthttp"

	guard "parallelpane/internal/core/remote"
	"parallelpane/internal/webdriver"
)

// bidiPath takes the session out of the path of its BiDi connection.
func bidiPath(path string) (id string, ok bool) {
	id, ok = strings.CutSuffix(strings.TrimPrefix(path, "/sessions/"), "/bidi")
	return id, ok && strings.HasPrefix(path, "/sessions/") && !strings.Contains(id, "/")
}

var upgrader = websocket.FastHTTPUpgrader{ReadBufferSize: 32 << 10, WriteBufferSize: 32 << 10,
	CheckOrigin: func(*fasthttp.RequestCtx) bool { return true }}

// relay joins a client's BiDi connection with the browser's, message by
// message. Events that only the lab's own recording has asked for do not reach
// the client.
func (on *Worker) relay(c *fasthttp.RequestCtx, id string) {
	s := on.remote(id)
	if s == nil || s.session.WebSocketURL() == "" || s.order.Asked["webSocketUrl"] != true {
		c.Error("this session did not ask for webSocketUrl", fasthttp.StatusNotFound)
		return
	}
	browser, _, err := s.session.DialBiDi()
	if err != nil {
		c.Error("the browser's BiDi connection: "+err.Error(), fasthttp.StatusBadGateway)
		return
	}
	if err := upgrader.Upgrade(c, func(client *websocket.Conn) { s.join(client, browser) }); err != nil {
		browser.Close()
	}
}

// join passes messages until one side ends.
func (s *remote) join(client, browser *websocket.Conn) {
	defer browser.Close()
	defer client.Close()
	client.SetReadLimit(MaxCommand)
	f, replies := &filter{heard: s.session.Overheard}, &toClient{conn: client}
	var both sync.WaitGroup
	pass := func(to, from *websocket.Conn, wanted func([]byte) bool) {
		defer to.Close()
		for {
			kind, raw, err := from.ReadMessage()
			if err != nil {
				code, text := websocket.CloseNormalClosure, ""
				if c, ok := errors.AsType[*websocket.CloseError](err); ok && c.Code != websocket.CloseNoStatusReceived &&
					c.Code != websocket.CloseAbnormalClosure {
					code, text = c.Code, c.Text
				}
				_ = to.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(code, text), time.Now().Add(time.Second))
				return
			}
			if !wanted(raw) {
				continue
			}
			if to == client {
				err = replies.write(kind, raw)
			} else {
				err = to.WriteMessage(kind, raw)
			}
			if err != nil {
				return
			}
		}
	}
	both.Go(func() {
		pass(browser, client, func(raw []byte) bool {
			s.session.Touch()
			if why := guard.BiDi(raw); why != "" {
				s.Note("refused over BiDi: %s", why)
				f.refused(raw, why)
				return replies.refuse(raw, why) != nil
			}
			f.asks(raw)
			return true
		})
	})
	both.Go(func() { pass(client, browser, f.wants) })
	both.Wait()
}

// toClient is what is written to a client, by the browser and by the agent.
type toClient struct {
	mu   sync.Mutex
	conn *websocket.Conn
}

func (t *toClient) write(kind int, raw []byte) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.conn.WriteMessage(kind, raw)
}

// refuse answers a command that does not reach the browser (BiDi, section 3.4
// "Errors").
func (t *toClient) refuse(command []byte, why string) error {
	var m struct {
		ID json.RawMessage `json:"id"`
	}
	_ = json.Unmarshal(command, &m) // it was read before
	if len(m.ID) == 0 {
		m.ID = json.RawMessage("null")
	}
	raw, err := json.Marshal(map[string]any{"type": "error", "id": m.ID, "error": webdriver.InvalidArgument, "message": why})
	if err != nil {
		return err
	}
	return t.write(websocket.TextMessage, raw)
}

// filter knows what events a client has subscribed to (BiDi, section 7.1,
// "session.subscribe" and "session.unsubscribe"), and what it has asked.
type filter struct {
	heard func(name string, params json.RawMessage) func(json.RawMessage, *webdriver.Error)

	mu      sync.Mutex
	subs    map[string][]string // modules and methods, by subscription; by command until that is known
	pending map[string]func(json.RawMessage, *webdriver.Error)
}

// maxPending bounds the commands without an answer whose end is waited for.
const maxPending = 1000

// hear notes a command for the log.
func (f *filter) hear(raw []byte) (id string, answered func(json.RawMessage, *webdriver.Error)) {
	var m struct {
		ID     json.RawMessage `json:"id"`
		Method string          `json:"method"`
		Params json.RawMessage `json:"params"`
	}
	if f.heard == nil || json.Unmarshal(raw, &m) != nil || m.Method == "" {
		return "", nil
	}
	return asked(m.ID), f.heard(m.Method, m.Params)
}

func (f *filter) refused(raw []byte, why string) {
	if _, answered := f.hear(raw); answered != nil {
		answered(nil, webdriver.Errorf(webdriver.InvalidArgument, "%s", why))
	}
}

func asked(id json.RawMessage) string { return "command " + string(id) }

// asks looks at a client's message for changes of its subscriptions. Subscribing
// counts from the moment it is asked for, since events may come before the
// answer.
func (f *filter) asks(raw []byte) {
	if id, answered := f.hear(raw); answered != nil {
		f.mu.Lock()
		if f.pending == nil {
			f.pending = map[string]func(json.RawMessage, *webdriver.Error){}
		}
		if len(f.pending) < maxPending {
			f.pending[id] = answered
		}
		f.mu.Unlock()
	}
	var m struct {
		ID     json.RawMessage `json:"id"`
		Method string          `json:"method"`
		Params struct {
			Events        []string `json:"events"`
			Subscriptions []string `json:"subscriptions"`
		} `json:"params"`
	}
	if json.Unmarshal(raw, &m) != nil {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	switch m.Method {
	case "session.subscribe":
		if f.subs == nil {
			f.subs = map[string][]string{}
		}
		f.subs[asked(m.ID)] = m.Params.Events
	case "session.unsubscribe":
		for _, sub := range m.Params.Subscriptions {
			delete(f.subs, sub)
		}
		for sub, events := range f.subs {
			f.subs[sub] = slices.DeleteFunc(slices.Clone(events), func(e string) bool {
				return slices.ContainsFunc(m.Params.Events, func(gone string) bool { return e == gone || strings.HasPrefix(e, gone+".") })
			})
		}
	}
}

// answers tells the log of an answer.
func (f *filter) answers(raw []byte) {
	var m struct {
		ID      json.RawMessage `json:"id"`
		Type    string          `json:"type"`
		Result  json.RawMessage `json:"result"`
		Error   string          `json:"error"`
		Message string          `json:"message"`
	}
	if f.heard == nil || json.Unmarshal(raw, &m) != nil || m.Type == "event" {
		return
	}
	f.mu.Lock()
	answered := f.pending[asked(m.ID)]
	delete(f.pending, asked(m.ID))
	f.mu.Unlock()
	switch {
	case answered == nil:
	case m.Type == "error":
		answered(nil, webdriver.Errorf(m.Error, "%s", m.Message))
	default:
		answered(m.Result, nil)
	}
}

// wants says whether a message of the browser is for the client.
func (f *filter) wants(raw []byte) bool {
	f.answers(raw)
	var m struct {
		ID     json.RawMessage `json:"id"`
		Type   string          `json:"type"`
		Method string          `json:"method"`
		Result struct {
			Subscription string `json:"subscription"`
		} `json:"result"`
	}
	if json.Unmarshal(raw, &m) != nil {
		return true
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	switch events, subscribing := f.subs[asked(m.ID)]; {
	case m.Type == "event":
		module, _, _ := strings.Cut(m.Method, ".")
		for _, events := range f.subs {
			if slices.Contains(events, m.Method) || slices.Contains(events, module) {
				return true
			}
		}
		return false
	case subscribing && m.Type == "error":
		delete(f.subs, asked(m.ID))
	case subscribing && m.Result.Subscription != "":
		delete(f.subs, asked(m.ID))
		f.subs[m.Result.Subscription] = events
	}
	return true
}
