// Package notify tells others what became of runs: by mail, and by CloudEvents to addresses of
// the web. What is to be told is put on record in the write that ends a run (see the
// trigger runs_told) and is sent from there, again and again with growing pauses until it is
// taken, so that neither a crash nor a receiver that is down loses anything. What a message
// says is made of the records when it is sent. It never reads what the lab does now, and
// never sends to where it may not: see Allowed.
package notify

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/mail"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/store"
)

// Seal keeps what nobody may read in the records.
type Seal interface {
	Close(values map[string]string) ([]byte, error)
	Open(sealed []byte) (map[string]string, error)
}

// Records are what messages are made of.
type Records interface {
	Run(ctx context.Context, number int) (api.Run, error)
	Causes(ctx context.Context, number int) (api.Causes, error)
	Runs(ctx context.Context, f api.RunFilter) ([]api.RunSummary, error)
	Cause(ctx context.Context, number int, id string) (api.CausePage, error)
	PictureNamed(ctx context.Context, attempt, name string) (body []byte, media string, err error)
}

// Config is what an office needs.
type Config struct {
	Store   *store.Store
	Seal    Seal
	Records Records
	Log     *slog.Logger
	Clock   func() time.Time
	Mail    Mail
	// Allow are networks of this machine's own surroundings to which hooks may be sent all
	// the same: loopback, private and link-local ones are refused otherwise.
	Allow []netip.Prefix
	// Address is the service's, as people reach it; "" leaves links out of messages.
	Address string
}

// Office sends what is in the outbox.
type Office struct {
	Config
	hooks *hooks
	kick  chan struct{}

	mu    sync.Mutex
	going map[string]string // hosts, by id of what is on its way
	tasks sync.WaitGroup
	day   string // of which what is told daily is in the outbox
	// waits are closed when a delivery was tried, by its id.
	waits   map[string]chan struct{}
	asking  bool // trackers are asked how defects stand
	askNext time.Time
}

// New makes an office; Mind has it work.
func New(c Config) *Office {
	return &Office{Config: c, hooks: newHooks(c.Allow), kick: make(chan struct{}, 1), going: map[string]string{},
		waits: map[string]chan struct{}{}}
}

// Bounds of what goes on at once, and of what is kept.
const (
	perHost      = 8
	atOnce       = 64
	maxDue       = 200
	look         = time.Second
	keepFor      = 90 * 24 * time.Hour
	dailyHour    = 6 // UTC
	maxTries     = 12
	firstPause   = 10 * time.Second
	longestPause = 6 * time.Hour
)

// Mind sends what is due until it is stopped. What is on its way then is tried again at the
// next start.
func (o *Office) Mind(stop <-chan struct{}) {
	ctx, cancel := context.WithCancel(context.Background())
	defer o.tasks.Wait()
	defer cancel()
	for t := time.NewTicker(look); ; {
		if err := o.daily(ctx); err != nil {
			o.Log.Error("what is told daily could not be put into the outbox", "error", err)
		}
		if err := o.askAround(ctx); err != nil && ctx.Err() == nil {
			o.Log.Error("defects could not be read", "error", err)
		}
		if err := o.send(ctx); err != nil && ctx.Err() == nil {
			o.Log.Error("the outbox could not be read", "error", err)
		}
		select {
		case <-t.C:
		case <-o.kick:
		case <-stop:
			t.Stop()
			return
		}
	}
}

// Kick has the outbox looked at now.
func (o *Office) Kick() {
	select {
	case o.kick <- struct{}{}:
	default:
	}
}

// send starts what is due, as far as there is room: a host that does not answer holds up
// what goes to it, and nothing else.
func (o *Office) send(ctx context.Context) error {
	o.mu.Lock()
	byHost, going := map[string]int{}, slices.Collect(maps.Keys(o.going))
	for _, host := range o.going {
		byHost[host]++
	}
	o.mu.Unlock()
	var busy []string
	for host, n := range byHost {
		if n >= perHost {
			busy = append(busy, host)
		}
	}
	if len(going) >= atOnce {
		return nil
	}
	due, err := o.Store.Due(ctx, o.Clock().UnixMilli(), orNone(busy), orNone(going), maxDue)
	if err != nil {
		return err
	}
	for _, d := range due {
		if byHost[d.Host] >= perHost || len(going) >= atOnce {
			continue
		}
		byHost[d.Host]++
		going = append(going, d.ID)
		o.mu.Lock()
		o.going[d.ID] = d.Host
		o.mu.Unlock()
		o.tasks.Go(func() {
			o.deliver(ctx, d)
			o.mu.Lock()
			delete(o.going, d.ID)
			o.mu.Unlock()
			o.Kick()
		})
	}
	return nil
}

func orNone(all []string) []string {
	if all == nil {
		return []string{}
	}
	return all
}

// outcome is what became of a try.
type outcome struct {
	answer string
	taken  bool
	never  bool          // it is of no use to try again
	after  time.Duration // when the receiver wants to be asked again; 0 leaves it to the office
	also   []store.Stmt  // what is to be put on record with it
}

// deliver tries to send one thing, and notes what became of it.
func (o *Office) deliver(ctx context.Context, d store.Delivery) {
	defer o.settled(d.ID)
	got := o.try(ctx, d)
	if ctx.Err() != nil && !got.taken {
		return // the service ends: it is tried again
	}
	now := o.Clock().UnixMilli()
	state, next, done := api.Awaiting, now+pause(d.Tries, got.after).Milliseconds(), int64(0)
	switch {
	case got.taken:
		state, done = api.Sent, now
	case got.never || d.Tries+1 >= maxTries:
		state, done = api.GivenUp, now
		o.Log.Warn("a message is given up", "delivery", d.ID, "to", d.Shown, "answer", got.answer)
	}
	batch := append(got.also, store.Delivered(d.ID, state, got.answer, next, done))
	if d.Of == api.OfDefect && state == api.GivenUp {
		batch = append(batch, store.RefusedDefect(d.ID, api.Refused, got.answer))
	} else if d.Of == api.OfDefect && state == api.Awaiting {
		batch = append(batch, store.RefusedDefect(d.ID, api.Awaiting, got.answer))
	}
	if err := o.Store.Write(batch...); err != nil {
		o.Log.Error("what became of a message is not on record: it is sent again", "delivery", d.ID, "error", err)
	}
}

// pause is how long to wait before the next try.
func pause(tries int, wanted time.Duration) time.Duration {
	p := firstPause << min(2*tries, 20)
	return min(max(p, wanted), longestPause)
}

func (o *Office) try(ctx context.Context, d store.Delivery) outcome {
	switch d.Of {
	case api.OfDefect:
		return o.file(ctx, d)
	case api.OfBack:
		return o.tellBack(ctx, d)
	case api.OfMention:
		return o.tellMentioned(ctx, d)
	}
	s, err := o.Store.Subscription(ctx, d.Subscription)
	if errors.Is(err, store.ErrNotFound) {
		return outcome{answer: "nobody wants to hear of it any more", never: true}
	}
	if err != nil {
		return outcome{answer: err.Error()}
	}
	secret, err := o.Seal.Open(s.Sealed)
	if err != nil {
		return outcome{answer: "where it is to go cannot be read: " + err.Error(), never: true}
	}
	m, err := o.message(ctx, d)
	if e, ok := errors.AsType[*api.Error](err); ok && e.Kind == api.NotFound {
		return outcome{answer: err.Error(), never: true}
	}
	if err != nil {
		return outcome{answer: err.Error()}
	}
	if s.Account != "" {
		to, got := o.addressOf(ctx, s.Account, s.Project)
		if to == "" {
			return got
		}
		secret["target"] = to
	}
	if s.Kind == api.MailKind {
		return o.Mail.send(ctx, secret["target"], d.ID, m)
	}
	return o.hooks.send(ctx, secret["target"], secret["key"], s.ID, m)
}

// Subscribe has somebody hear of something.
func (o *Office) Subscribe(who api.Who, q api.SubscriptionRequest) (api.NewSubscription, error) {
	var out api.NewSubscription
	secret := map[string]string{"target": q.Target}
	row := store.Subscription{MadeBy: who.Person()}
	switch q.Kind {
	case api.MailKind:
		a, err := mail.ParseAddress(q.Target)
		if err != nil || a.Name != "" || len(q.Target) > 254 || strings.ContainsAny(q.Target, "\r\n<>") {
			return out, api.Errorf(api.Invalid, "target: expected a mail address such as tern@saltmarsh.example, found %.80q", q.Target)
		}
		row.Shown, row.Host = a.Address, "mail"
	case api.HookKind:
		u, err := o.hooks.check(q.Target)
		if err != nil {
			return out, err
		}
		row.Shown, row.Host = u.Scheme+"://"+u.Host+"/…", u.Host
		secret["key"] = strings.ToLower(rand.Text())
	default:
		return out, api.Errorf(api.Invalid, "kind: expected mail or hook, found %.40q", q.Kind)
	}
	have, err := o.Store.Subscriptions(context.Background(), q.Project)
	if err != nil {
		return out, err
	}
	if len(visible(have)) >= maxSubscriptions {
		return out, api.Errorf(api.Conflict, "project %s has %d subscriptions, as many as one may have: drop one first", q.Project,
			maxSubscriptions)
	}
	return o.subscribe(row, q, secret)
}

// subscribe puts a subscription on record.
func (o *Office) subscribe(row store.Subscription, q api.SubscriptionRequest, secret map[string]string) (out api.NewSubscription,
	err error) {
	if !fleet.IsName(q.Project) {
		return out, api.Errorf(api.Invalid, "project: %.80q is no name of a project", q.Project)
	}
	if len(q.Suite) > 200 {
		return out, api.Errorf(api.Invalid, "suite: at most 200 characters")
	}
	of, err := ofWhat(q.Of)
	if err != nil {
		return out, err
	}
	if q.Kind == api.MailKind && o.Mail.Server == "" {
		return out, api.Errorf(api.Conflict, "this service sends no mail: start it with pane serve --mail smtp://…")
	}
	row.ID, row.Project, row.Suite, row.Kind, row.Of = store.NewID(), q.Project, q.Suite, q.Kind, strings.Join(of, " ")
	row.MadeAt = o.Clock().UnixMilli()
	if row.Sealed, err = o.Seal.Close(secret); err != nil {
		return out, err
	}
	if err := o.Store.Write(store.AddSubscription(row)); err != nil {
		return out, err
	}
	return api.NewSubscription{Subscription: subscriptionOf(row), Key: secret["key"]}, nil
}

// maxSubscriptions bounds those of a project.
const maxSubscriptions = 200

// ofWhat checks what somebody wants to hear of.
func ofWhat(asked []string) ([]string, error) {
	all := []string{api.OfFailed, api.OfChanged, api.OfEnded, api.OfDaily}
	if len(asked) == 0 {
		return nil, api.Errorf(api.Invalid, "of: say what to hear of: %s", strings.Join(all, ", "))
	}
	for _, a := range asked {
		if !slices.Contains(all, a) {
			return nil, api.Errorf(api.Invalid, "of: expected %s, found %.40q", strings.Join(all, ", "), a)
		}
	}
	return slices.DeleteFunc(all, func(x string) bool { return !slices.Contains(asked, x) }), nil
}

func subscriptionOf(row store.Subscription) api.Subscription {
	return api.Subscription{ID: row.ID, Project: row.Project, Suite: row.Suite, Kind: row.Kind, Target: row.Shown, Of: strings.Fields(row.Of),
		By: row.MadeBy, MadeAt: store.Time(row.MadeAt).UTC(), Paused: row.Paused}
}

// Subscriptions lists who hears of what.
func (o *Office) Subscriptions(ctx context.Context, f api.SubscriptionFilter) ([]api.Subscription, error) {
	rows, err := o.Store.Subscriptions(ctx, f.Project)
	if err != nil {
		return nil, err
	}
	out := []api.Subscription{}
	for _, row := range visible(rows) {
		if f.Among == nil || slices.Contains(f.Among, row.Project) {
			out = append(out, subscriptionOf(row))
		}
	}
	return out, nil
}

// SubscriptionProject is the project of a subscription.
func (o *Office) SubscriptionProject(ctx context.Context, id string) (string, error) {
	s, err := o.subscription(ctx, id)
	if err == nil && s.Account != "" { // that is somebody's own
		err = NoSubscription(id)
	}
	return s.Project, err
}

func (o *Office) subscription(ctx context.Context, id string) (store.Subscription, error) {
	s, err := o.Store.Subscription(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return s, NoSubscription(id)
	}
	return s, err
}

// NoSubscription says that there is none of an id.
func NoSubscription(id string) error {
	return api.Errorf(api.NotFound, "there is no subscription %.80q: pane notify lists them", id)
}

// Pause has a subscription say nothing until it is taken back.
func (o *Office) Pause(ctx context.Context, id string, paused bool) (api.Subscription, error) {
	if _, err := o.subscription(ctx, id); err != nil {
		return api.Subscription{}, err
	}
	if err := o.Store.Write(store.PauseSubscription(id, paused)); err != nil {
		return api.Subscription{}, err
	}
	s, err := o.subscription(ctx, id)
	return subscriptionOf(s), err
}

// Unsubscribe forgets a subscription.
func (o *Office) Unsubscribe(ctx context.Context, id string) error {
	if _, err := o.subscription(ctx, id); err != nil {
		return err
	}
	return o.Store.Write(store.DropSubscription(id)...)
}

// TryOut sends a message to a subscription now, about its newest run.
func (o *Office) TryOut(ctx context.Context, id string) (api.Delivery, error) {
	s, err := o.subscription(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	runs, err := o.Records.Runs(ctx, api.RunFilter{Project: s.Project, Suite: s.Suite, State: "ended", Limit: 1})
	if err != nil {
		return api.Delivery{}, err
	}
	if len(runs) == 0 {
		return api.Delivery{}, api.Errorf(api.Conflict, "no run of %s has ended yet that could be told of: start one with pane run", s.Project)
	}
	now := o.Clock().UnixMilli()
	d := store.Delivery{ID: s.ID + ":trial-" + store.NewID(), Subscription: s.ID, Of: api.OfTrial, Project: s.Project, Run: runs[0].Number,
		Host: s.Host, MadeAt: now, NextAt: now}
	if err := o.Store.Write(store.Post(d)); err != nil {
		return api.Delivery{}, err
	}
	o.Kick()
	return o.Delivery(ctx, d.ID)
}

// Deliveries lists what was sent, and what is to be, the newest first.
func (o *Office) Deliveries(ctx context.Context, f api.DeliveryFilter) ([]api.Delivery, error) {
	if f.State != "" && !slices.Contains([]string{api.Awaiting, api.Sent, api.GivenUp}, f.State) {
		return nil, api.Errorf(api.Invalid, "state: expected waiting, sent or given-up, found %.40q", f.State)
	}
	rows, err := o.Store.Deliveries(ctx, store.DeliveryFilter{Project: f.Project, Subscription: f.Subscription, State: f.State, Run: f.Run,
		BeforeAt: f.BeforeAt, Before: f.Before, Limit: f.Size(), Among: f.Among})
	if err != nil {
		return nil, err
	}
	out := make([]api.Delivery, len(rows))
	for i, row := range rows {
		out[i] = deliveryOf(row)
	}
	return out, nil
}

// Delivery finds one.
func (o *Office) Delivery(ctx context.Context, id string) (api.Delivery, error) {
	row, err := o.Store.Delivery(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return api.Delivery{}, NoDelivery(id)
	}
	return deliveryOf(row), err
}

// NoDelivery says that there is none of an id.
func NoDelivery(id string) error {
	return api.Errorf(api.NotFound, "there is no delivery %.80q: pane notify sent lists them", id)
}

// Redeliver sends something again that was sent, or given up.
func (o *Office) Redeliver(ctx context.Context, id string) (api.Delivery, error) {
	d, err := o.Delivery(ctx, id)
	if err != nil {
		return d, err
	}
	if d.State == api.Awaiting {
		return d, api.Errorf(api.Conflict, "it is still to be sent: its next try is at %s", d.NextAt.Format(time.RFC3339))
	}
	if err := o.Store.Write(store.Redeliver(id, o.Clock().UnixMilli())); err != nil {
		return d, err
	}
	o.Kick()
	return o.Delivery(ctx, id)
}

func deliveryOf(row store.Delivery) api.Delivery {
	d := api.Delivery{ID: row.ID, Subscription: row.Subscription, Kind: row.Kind, Target: row.Shown, Of: row.Of, Project: row.Project,
		Run:   row.Run,
		State: row.State, Tries: row.Tries, MadeAt: api.At(row.MadeAt), DoneAt: api.At(row.DoneAt), Answer: row.Answer}
	if row.State == api.Awaiting {
		d.NextAt = api.At(row.NextAt)
	}
	return d
}

// daily puts what is told once a day into the outbox, once, and forgets what was done with
// long ago.
func (o *Office) daily(ctx context.Context) error {
	now := o.Clock().UTC()
	day := now.Format(time.DateOnly)
	if now.Hour() < dailyHour || o.told() == day {
		return nil
	}
	rows, err := o.Store.Subscriptions(ctx, "")
	if err != nil {
		return err
	}
	batch := []store.Stmt{store.ForgetDeliveries(now.Add(-keepFor).UnixMilli())}
	for _, s := range rows {
		if !s.Paused && slices.Contains(strings.Fields(s.Of), api.OfDaily) && s.MadeAt < now.Truncate(24*time.Hour).UnixMilli() {
			batch = append(batch, store.Post(store.Delivery{ID: s.ID + ":" + day, Subscription: s.ID, Of: api.OfDaily, Project: s.Project,
				Host:   s.Host,
				MadeAt: now.UnixMilli(), NextAt: now.UnixMilli()}))
		}
	}
	if err := o.Store.Write(batch...); err != nil {
		return err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.day = day
	return nil
}

// told is the day of which what is told daily is in the outbox.
func (o *Office) told() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.day
}

// linkTo is an address in the console; "" where the service does not know its own.
func (o *Office) linkTo(format string, args ...any) string {
	if o.Address == "" {
		return ""
	}
	return strings.TrimRight(o.Address, "/") + fmt.Sprintf(format, args...)
}

// CheckAddress reports what is wrong with the service's own address.
func CheckAddress(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.RawQuery != "" || u.User != nil {
		return fmt.Errorf("expected an address such as https://lab.saltmarsh.example, found %.80q", text)
	}
	return nil
}
