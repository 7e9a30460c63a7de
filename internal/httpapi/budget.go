package httpapi

import (
	"fmt"
	"io"
	"math"
	"runtime"
	"strconv"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/time/rate"

	"parallelpane/internal/api"
)

// What one token may cost, with the console sessions that were made from it. Nobody
// is asked to wait for what somebody else has going on.
const (
	maxRate    = 1000 // requests in a second
	maxBurst   = 2000
	maxQueued  = 200             // requests that wait for others of the same token
	maxWait    = 5 * time.Second // for which they do
	maxStreams = 100             // events and pictures at once
	maxUploads = 8               // at once
	maxFetches = 64
	maxStored  = 20 << 30 // bytes of bundles in a day
)

// maxWorking is how many requests of a token are worked on at once; those that wait for
// something, carry a file or are passed on to a session do not count.
var maxWorking = max(4, runtime.GOMAXPROCS(0))

// maxStrangers bounds the failures of an address in a minute: wrong tokens and codes.
const maxStrangers = 20

// class is what kind of cost a request is.
type class int

const (
	working  class = iota
	lasting        // streams, and requests that wait for something to happen
	sending        // a file to the service
	fetching       // a file from it
	passing        // commands of sessions, agents' links
)

// budgets count what tokens and addresses cost.
type budgets struct {
	mu        sync.Mutex
	tokens    map[string]*account // by root
	strangers map[string]*rate.Limiter
	swept     time.Time
}

type account struct {
	rate    *rate.Limiter
	slots   map[class]chan struct{}
	queued  int
	seen    time.Time
	stored  int64
	storing time.Time // since when
}

func newBudgets() *budgets {
	return &budgets{tokens: map[string]*account{}, strangers: map[string]*rate.Limiter{}}
}

// of is the account of a token; those that nobody has used for a day are closed.
func (b *budgets) of(root string) *account {
	b.mu.Lock()
	defer b.mu.Unlock()
	now := time.Now()
	if now.Sub(b.swept) > time.Hour {
		for k, a := range b.tokens {
			if now.Sub(a.seen) > 24*time.Hour {
				delete(b.tokens, k)
			}
		}
		b.swept = now
	}
	a := b.tokens[root]
	if a == nil {
		a = &account{rate: rate.NewLimiter(maxRate, maxBurst), slots: map[class]chan struct{}{working: make(chan struct{}, maxWorking),
			lasting: make(chan struct{}, maxStreams), sending: make(chan struct{}, maxUploads),
			fetching: make(chan struct{}, maxFetches)}}
		b.tokens[root] = a
	}
	a.seen = now
	return a
}

// enter lets a request of a token begin, once others of the token leave it room; leave
// is called at its end.
func (b *budgets) enter(who api.Who, c class) (leave func(), err error) {
	a := b.of(who.Root)
	if !a.rate.Allow() {
		return nil, api.Errorf(api.TooMany, "the token %q asks more than %d times in a second: ask less often", who.Name, maxRate)
	}
	slots := a.slots[c]
	if slots == nil {
		return func() {}, nil
	}
	leave = func() { <-slots }
	select {
	case slots <- struct{}{}:
		return leave, nil
	default:
	}
	if c == lasting {
		return nil, api.Errorf(api.TooMany, "the token %q has %d streams open, which is as many as it may: close some", who.Name, maxStreams)
	}
	b.mu.Lock()
	a.queued++
	full := a.queued > maxQueued
	b.mu.Unlock()
	defer func() {
		b.mu.Lock()
		a.queued--
		b.mu.Unlock()
	}()
	if !full {
		t := time.NewTimer(maxWait)
		defer t.Stop()
		select {
		case slots <- struct{}{}:
			return leave, nil
		case <-t.C:
		}
	}
	return nil, api.Errorf(api.TooMany, "the token %q has more requests under way than are worked on at once: ask less often, or again later",
		who.Name)
}

// enter lets a request of a token begin, and tells the client how much the token may still
// ask (RateLimit and RateLimit-Policy, of draft-ietf-httpapi-ratelimit-headers-10).
func (a *server) enter(c fiber.Ctx, who api.Who, cost class) (leave func(), err error) {
	leave, err = a.budgets.enter(who, cost)
	left := max(0, a.budgets.of(who.Root).rate.Tokens())
	c.Set("RateLimit-Policy", fmt.Sprintf(`"token";q=%d;w=%d`, maxBurst, maxBurst/maxRate))
	c.Set("RateLimit", fmt.Sprintf(`"token";r=%d;t=%d`, int(left), int(math.Ceil((maxBurst-left)/maxRate))))
	return leave, err
}

// store counts bytes that a token has sent to be kept, and says whether there may be
// so many.
func (b *budgets) store(who api.Who, n int64) error {
	a := b.of(who.Root)
	b.mu.Lock()
	defer b.mu.Unlock()
	if now := time.Now(); now.Sub(a.storing) > 24*time.Hour {
		a.storing, a.stored = now, 0
	}
	if a.stored+n > maxStored {
		return api.Errorf(api.TooMany, "the token %q has sent %d GiB of bundles within a day: more are taken tomorrow", who.Name, maxStored>>30)
	}
	a.stored += n
	return nil
}

// stranger counts a failure of an address to say who it is.
func (b *budgets) stranger(address string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.limiter(address).Allow()
}

// weary reports whether an address has failed so often of late that it is not listened
// to.
func (b *budgets) weary(address string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.limiter(address).Tokens() < 1
}

func (b *budgets) limiter(address string) *rate.Limiter {
	l := b.strangers[address]
	if l == nil {
		if len(b.strangers) > 10_000 { // those that have long been quiet are as good as new
			for k, x := range b.strangers {
				if x.Tokens() >= maxStrangers {
					delete(b.strangers, k)
				}
			}
		}
		if len(b.strangers) > 100_000 {
			clear(b.strangers)
		}
		l = rate.NewLimiter(rate.Every(time.Minute/maxStrangers), maxStrangers)
		b.strangers[address] = l
	}
	return l
}

// retryAfter is when a client should ask again that asks too often, in seconds; for
// pause its answer is held back.
const (
	retryAfter = 2
	pause      = 200 * time.Millisecond
)

// tooMany tells a client that asks too often when to ask again. One that does not wait
// is made to.
func (a *server) tooMany(c fiber.Ctx, e *api.Error) {
	if e.Kind == api.TooMany {
		c.Set(fiber.HeaderRetryAfter, strconv.Itoa(retryAfter))
		time.Sleep(pause)
	}
}

// upload is a body that is read for as long as its sender's token is good; count may
// end it as well, and may be nil.
type upload struct {
	io.Reader
	ended <-chan struct{}
	count func(n int64) error
}

// upload gives a request's body as an upload; done is to be called at its end.
func (a *server) upload(c fiber.Ctx, who api.Who, count func(n int64) error) (body io.Reader, done func()) {
	ended, done := a.service.Hold(who)
	return upload{stream(c), ended, count}, done
}

func (u upload) Read(p []byte) (int, error) {
	n, err := u.Reader.Read(p)
	select {
	case <-u.ended:
		return n, api.Errorf(api.Unauthorized, "the token ended while this was sent: nothing of it is kept")
	default:
	}
	if u.count != nil {
		if full := u.count(int64(n)); full != nil {
			return n, full
		}
	}
	return n, err
}

// leaving is a file that is being sent; it is over when it is closed.
type leaving struct {
	io.ReadSeekCloser
	leave func()
}

func (l leaving) Close() error {
	l.leave()
	return l.ReadSeekCloser.Close()
}
