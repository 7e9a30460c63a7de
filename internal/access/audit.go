package access

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/store"
)

// Bounds of the audit.
const (
	maxAuditText = 500     // bytes of each text
	maxAuditJSON = 8 << 10 // bytes of what was before or after
	auditLife    = 400 * 24 * time.Hour
	maxAuditRows = 1_000_000
	maxStrangers = 120 // refusals of unknown people on record in a minute; others are only counted
)

// Record puts a deed on record.
func (a *Access) Record(d api.Deed) {
	now := a.now()
	if d.Who == "" {
		a.mu.Lock()
		if now.Sub(a.strangers.since) >= time.Minute {
			if a.strangers.more > 0 {
				a.log.Warn("refusals of unknown people not in the audit", "count", a.strangers.more)
			}
			a.strangers.since, a.strangers.n, a.strangers.more = now, 0, 0
		}
		if a.strangers.n++; a.strangers.n > maxStrangers {
			a.strangers.more++
			a.mu.Unlock()
			return
		}
		a.mu.Unlock()
	}
	if d.Refused != "" {
		a.log.Warn("refused", "act", d.Act, "target", d.Target, "who", d.Who, "token", d.Token, "from", d.From, "why", d.Refused)
	}
	text := func(s string) string { return attempt.Clip(strings.ToValidUTF8(s, "�"), maxAuditText) }
	a.store.Enqueue(store.AddAudit(store.Audit{At: store.Millis(now), Who: text(d.Who), Token: text(d.Token), Origin: text(d.From),
		Act: text(d.Act), Target: text(d.Target), Project: text(d.Project), Before: clipJSON(d.Before), After: clipJSON(d.After),
		Refused: text(d.Refused)}))
}

// clipJSON is a value as JSON; one that is too long becomes a text that says so.
func clipJSON(v any) string {
	if v == nil {
		return ""
	}
	raw, err := json.Marshal(v)
	if err != nil {
		raw = quoted(err.Error())
	}
	if len(raw) > maxAuditJSON {
		raw = quoted(attempt.Clip(string(raw), maxAuditJSON/2) + " (and more)")
	}
	return string(raw)
}

func quoted(text string) []byte {
	raw, _ := json.Marshal(text)
	return raw
}

// strangers counts the refusals of people who showed no valid token.
type strangers struct {
	since   time.Time
	n, more int
}

// Audit lists who did what, newest first.
func (a *Access) Audit(ctx context.Context, f api.AuditFilter, among []string) ([]api.AuditEntry, error) {
	f.Limit = f.Size()
	since, until, err := api.Span(f.Since, f.Until)
	if err != nil {
		return nil, err
	}
	rows, err := a.store.Audit(ctx, store.AuditFilter{Text: f.Text, Who: f.Who, Act: f.Act, Project: f.Project, Among: among,
		Refused: f.Refused != "", Since: since, Until: until, Before: f.Before, Limit: f.Limit})
	if err != nil {
		return nil, err
	}
	out := make([]api.AuditEntry, len(rows))
	for i, r := range rows {
		out[i] = api.AuditEntry{ID: r.ID, At: api.At(r.At), Who: r.Who, Token: r.Token, From: r.Origin, Act: r.Act, Target: r.Target,
			Project: r.Project, Before: json.RawMessage(r.Before), After: json.RawMessage(r.After), Refused: r.Refused}
	}
	return out, nil
}
