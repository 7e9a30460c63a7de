package access

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/mail"
	"regexp"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// maxAccounts bounds the accounts of the lab.
const maxAccounts = 5000

// accountName is a name that a note can mention.
var accountName = regexp.MustCompile(`^[\pL\pN][\pL\pN_.-]{0,62}[\pL\pN_]$|^[\pL\pN]$`)

func accountOf(row store.Account) (api.Account, error) {
	a := api.Account{ID: row.ID, Name: row.Name, Mail: row.Mail, SignsIn: row.Subject != "", Mentions: row.Mentions, By: row.MadeBy,
		MadeAt: store.Time(row.MadeAt).UTC(), SeenAt: api.At(row.SeenAt)}
	if err := json.Unmarshal([]byte(row.Rights), &a.Rights); err != nil {
		return a, fmt.Errorf("records of account %s: %w", row.Name, err)
	}
	return a, nil
}

// Accounts lists those that somebody may know of: every one to the lab's admin, to others
// the names of those who may look at a project of theirs.
func (a *Access) Accounts(ctx context.Context, who api.Who) ([]api.Account, error) {
	rows, err := a.store.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.Account{}
	all := who.May(api.Admin, api.Everywhere)
	for _, row := range rows {
		x, err := accountOf(row)
		if err != nil {
			return nil, err
		}
		if !all && x.Name != who.Person() {
			if !together(who, api.Who{Rights: x.Rights}) {
				continue
			}
			x.Mail, x.Rights, x.SeenAt, x.By = "", nil, nil, ""
		}
		out = append(out, x)
	}
	return out, nil
}

// together reports whether there is a project at which both may look.
func together(x, y api.Who) bool {
	a, b := x.Projects(), y.Projects()
	return a == nil && y.Can(api.Viewer) || b == nil && x.Can(api.Viewer) || slices.ContainsFunc(a, func(p string) bool {
		return slices.Contains(b, p)
	})
}

// AddAccount makes an account.
func (a *Access) AddAccount(ctx context.Context, who api.Who, q api.AccountRequest) (api.Account, error) {
	if !accountName.MatchString(q.Name) {
		return api.Account{}, api.Errorf(api.Invalid, "name: expected letters, digits, '.', '-' and '_', at most 64, found %.80q", q.Name)
	}
	rights, err := a.accountWanted(q)
	if err != nil {
		return api.Account{}, err
	}
	return a.addAccount(ctx, store.Account{Name: q.Name, Mail: q.Mail, Rights: rights, MadeBy: who.Person()})
}

func (a *Access) addAccount(ctx context.Context, row store.Account) (api.Account, error) {
	have, err := a.store.Accounts(ctx)
	if err != nil {
		return api.Account{}, err
	}
	if len(have) >= maxAccounts {
		return api.Account{}, api.Errorf(api.Conflict, "there are %d accounts, which is as many as there may be: drop some first", len(have))
	}
	row.ID, row.MadeAt, row.Mentions = store.NewID(), store.Millis(a.now()), true
	if err := a.store.Write(store.AddAccount(row)); errors.Is(err, store.ErrGuard) {
		return api.Account{}, api.Errorf(api.Conflict, "there is an account %s, or one with its mail address, already", row.Name)
	} else if err != nil {
		return api.Account{}, err
	}
	return accountOf(row)
}

// accountWanted checks what is asked of an account, and gives its rights.
func (a *Access) accountWanted(q api.AccountRequest) (rights string, err error) {
	if q.Mail != "" {
		m, err := mail.ParseAddress(q.Mail)
		if err != nil || m.Name != "" || m.Address != q.Mail || len(q.Mail) > 254 {
			return "", api.Errorf(api.Invalid, "mail: expected an address such as tern@saltmarsh.example, found %.80q", q.Mail)
		}
	}
	t, err := a.wanted(api.TokenRequest{Name: "account", Role: q.Role, Rights: q.Rights})
	if err != nil {
		return "", err
	}
	if strings.Contains(t.Rights, `"`+string(api.AgentRole)+`"`) {
		return "", api.Errorf(api.Invalid, "role: an agent has no account, but a token")
	}
	return t.Rights, nil
}

// ChangeAccount gives an account another mail address and other rights; whoever is signed in
// with it signs in again.
func (a *Access) ChangeAccount(ctx context.Context, id string, q api.AccountRequest) (was, is api.Account, err error) {
	row, err := a.account(ctx, id)
	if err != nil {
		return was, is, err
	}
	if was, err = accountOf(row); err != nil {
		return was, is, err
	}
	if q.Name != "" && q.Name != row.Name {
		return was, is, api.Errorf(api.Invalid, "name: an account keeps its name: what %s did is on record under it", row.Name)
	}
	if q.Role == "" && len(q.Rights) == 0 {
		q.Rights = was.Rights
	}
	if q.Mail == "" {
		q.Mail = row.Mail
	}
	rights, err := a.accountWanted(q)
	if err != nil {
		return was, is, err
	}
	if err := a.store.Write(store.ChangeAccount(id, q.Mail, rights)); errors.Is(err, store.ErrGuard) {
		return was, is, api.Errorf(api.Conflict, "another account has the mail address %s", q.Mail)
	} else if err != nil {
		return was, is, err
	}
	if err := a.endConsoles(ctx, id); err != nil {
		return was, is, err
	}
	if row, err = a.account(ctx, id); err != nil {
		return was, is, err
	}
	is, err = accountOf(row)
	return was, is, err
}

// endConsoles ends the console sessions of an account.
func (a *Access) endConsoles(ctx context.Context, id string) error {
	open, err := a.store.ConsoleSessions(ctx, id)
	if err != nil {
		return err
	}
	for _, t := range open {
		if err := a.store.Write(store.DropToken(t.ID)...); err != nil && !errors.Is(err, store.ErrGuard) {
			return err
		}
		a.end(t.ID)
	}
	return nil
}

func (a *Access) account(ctx context.Context, id string) (store.Account, error) {
	row, err := a.store.Account(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return row, api.Errorf(api.NotFound, "there is no account %.80q: pane account lists them", id)
	}
	return row, err
}

// DropAccount forgets an account, with its tokens and what it was to hear of.
func (a *Access) DropAccount(ctx context.Context, id string) (api.Account, error) {
	row, err := a.account(ctx, id)
	if err != nil {
		return api.Account{}, err
	}
	tokens, err := a.store.Tokens(ctx)
	if err != nil {
		return api.Account{}, err
	}
	var theirs []string
	admin := false
	for _, t := range tokens {
		who, err := whoOf(t)
		if err != nil {
			return api.Account{}, err
		}
		if t.Root == id || t.Owner == row.Name {
			theirs = append(theirs, t.ID)
		} else if t.Root == "" && who.May(api.Admin, api.Everywhere) && a.now().Before(who.Expires) {
			admin = true
		}
	}
	if !admin {
		return api.Account{}, api.Errorf(api.Conflict, "nobody else has an admin's token, and %s's end with the account: make one first",
			row.Name)
	}
	if err := a.store.Write(store.DropAccount(id, row.Name)...); err != nil && !errors.Is(err, store.ErrGuard) {
		return api.Account{}, err
	}
	for _, t := range append(theirs, id) {
		a.end(t)
	}
	return accountOf(row)
}

// MyAccount is the account of somebody; nil when they have none.
func (a *Access) MyAccount(ctx context.Context, who api.Who) (*api.Account, error) {
	row, err := a.store.AccountNamed(ctx, who.Person())
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	x, err := accountOf(row)
	return &x, err
}

// HearMentions says whether somebody hears by mail of notes that mention them.
func (a *Access) HearMentions(ctx context.Context, who api.Who, mentions bool) error {
	mine, err := a.MyAccount(ctx, who)
	if err != nil {
		return err
	}
	if mine == nil {
		return NoAccount(who)
	}
	return a.store.Write(store.MentionAccount(mine.ID, mentions))
}

// NoAccount says that somebody has none.
func NoAccount(who api.Who) error {
	return api.Errorf(api.Conflict, "%s has no account, and so no mail address: the lab's admin adds one with pane account add", who.Person())
}
