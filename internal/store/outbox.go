package store

import "context"

// Subscription is a row of subscriptions.
type Subscription struct {
	ID      string `db:"id"`
	Project string `db:"project"`
	Suite   string `db:"suite"`
	Kind    string `db:"kind"`
	Shown   string `db:"shown"`
	Host    string `db:"host"`
	Of      string `db:"of"`
	Sealed  []byte `db:"sealed"`
	MadeBy  string `db:"made_by"`
	MadeAt  int64  `db:"made_at"`
	Paused  bool   `db:"paused"`
	Account string `db:"account"` // whose it is, of one's own; "" for others
}

// AddSubscription writes one.
func AddSubscription(s Subscription) Stmt {
	return Must(`INSERT INTO subscriptions (id, project, suite, kind, shown, host, of, sealed, made_by, made_at, account)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		s.ID, s.Project, s.Suite, s.Kind, s.Shown, s.Host, s.Of, s.Sealed, s.MadeBy, s.MadeAt, s.Account)
}

// PauseSubscription has one say nothing, or speak again.
func PauseSubscription(id string, paused bool) Stmt {
	return Must(`UPDATE subscriptions SET paused = ? WHERE id = ?`, paused, id)
}

// DropSubscription forgets one, and what was still to be sent for it.
func DropSubscription(id string) []Stmt {
	return []Stmt{Must(`DELETE FROM subscriptions WHERE id = ?`, id),
		Do(`DELETE FROM outbox WHERE subscription = ? AND state = 'waiting'`, id)}
}

// Subscriptions lists them, of a project or ("") of every one.
func (s *Store) Subscriptions(ctx context.Context, project string) (xs []Subscription, err error) {
	w := &where{}
	w.add(project != "", "project = ?", project)
	err = s.read.SelectContext(ctx, &xs, `SELECT * FROM subscriptions WHERE `+w.String()+` ORDER BY project, suite, kind, shown`, w.args...)
	return
}

// SubscriptionsOf lists those of an account.
func (s *Store) SubscriptionsOf(ctx context.Context, account string) (xs []Subscription, err error) {
	err = s.read.SelectContext(ctx, &xs, `SELECT * FROM subscriptions WHERE account = ? ORDER BY project, suite, id`, account)
	return
}

// Subscription finds one.
func (s *Store) Subscription(ctx context.Context, id string) (x Subscription, err error) {
	err = found(s.read.GetContext(ctx, &x, `SELECT * FROM subscriptions WHERE id = ?`, id))
	return
}

// Delivery is a row of outbox.
type Delivery struct {
	ID           string `db:"id"`
	Subscription string `db:"subscription"`
	Of           string `db:"of"`
	Project      string `db:"project"`
	Run          int    `db:"run"`
	Host         string `db:"host"`
	State        string `db:"state"`
	Tries        int    `db:"tries"`
	MadeAt       int64  `db:"made_at"`
	NextAt       int64  `db:"next_at"`
	DoneAt       int64  `db:"done_at"`
	Answer       string `db:"answer"`
	Kind         string `db:"kind"`  // of its subscription, or tracker
	Shown        string `db:"shown"` // likewise
}

// Post puts something into the outbox, unless it is there already.
func Post(d Delivery) Stmt {
	return Do(`INSERT OR IGNORE INTO outbox (id, subscription, of, project, run, host, made_at, next_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		d.ID, d.Subscription, d.Of, d.Project, d.Run, d.Host, d.MadeAt, d.NextAt)
}

// Delivered notes what became of a try: state is waiting where it is tried again.
func Delivered(id, state, answer string, nextAt, doneAt int64) Stmt {
	return Do(`UPDATE outbox SET state = ?, answer = ?, tries = tries + 1, next_at = ?, done_at = ? WHERE id = ? AND state = 'waiting'`,
		state, answer, nextAt, doneAt, id)
}

// Redeliver has something sent again that was sent, or given up.
func Redeliver(id string, at int64) Stmt {
	return Must(`UPDATE outbox SET state = 'waiting', tries = 0, next_at = ?, done_at = 0 WHERE id = ?`, at, id)
}

// ForgetDeliveries drops what was done with before a time.
func ForgetDeliveries(before int64) Stmt {
	return Do(`DELETE FROM outbox WHERE state != 'waiting' AND made_at < ?`, before)
}

const deliveriesOf = `SELECT o.*, COALESCE(s.kind, iif(t.id IS NOT NULL, 'tracker', iif(a.id IS NOT NULL, 'mail', ''))) AS kind,
		COALESCE(s.shown, t.shown, a.name, '') AS shown
	FROM outbox o LEFT JOIN subscriptions s ON s.id = o.subscription LEFT JOIN trackers t ON t.id = o.subscription
	LEFT JOIN accounts a ON a.id = o.subscription`

// Due lists what is to be sent by now, the longest due first, but for some hosts that are
// busy and deliveries that are on their way.
func (s *Store) Due(ctx context.Context, now int64, busy, going []string, most int) (ds []Delivery, err error) {
	err = s.read.SelectContext(ctx, &ds, deliveriesOf+` WHERE o.state = 'waiting' AND o.next_at <= ?
		AND o.host NOT IN (SELECT value FROM json_each(?)) AND o.id NOT IN (SELECT value FROM json_each(?))
		ORDER BY o.next_at LIMIT ?`, now, JSON(busy), JSON(going), most)
	return
}

// DeliveryFilter narrows a list of deliveries.
type DeliveryFilter struct {
	Project      string
	Subscription string
	State        string
	Run          int
	BeforeAt     int64    // only those made before this time, or
	Before       string   // at it, with an id after this one; "" for all
	Among        []string // projects; nil means every one
	Limit        int
}

// Deliveries lists them, the newest first.
func (s *Store) Deliveries(ctx context.Context, f DeliveryFilter) (ds []Delivery, err error) {
	w := &where{}
	w.add(f.Project != "", "o.project = ?", f.Project)
	w.among("o.project", f.Among)
	w.add(f.Subscription != "", "o.subscription = ?", f.Subscription)
	w.add(f.State != "", "o.state = ?", f.State)
	w.add(f.Run > 0, "o.run = ?", f.Run)
	w.add(f.Before != "", "(o.made_at < ? OR o.made_at = ? AND o.id > ?)", f.BeforeAt, f.BeforeAt, f.Before)
	err = s.read.SelectContext(ctx, &ds, deliveriesOf+` WHERE `+w.String()+` ORDER BY o.made_at DESC, o.id LIMIT ?`, append(w.args,
		f.Limit)...)
	return
}

// Delivery finds one.
func (s *Store) Delivery(ctx context.Context, id string) (d Delivery, err error) {
	err = found(s.read.GetContext(ctx, &d, deliveriesOf+` WHERE o.id = ?`, id))
	return
}
