package store

import "context"

// Account is a row of accounts.
type Account struct {
	ID       string `db:"id"`
	Name     string `db:"name"`
	Mail     string `db:"mail"`
	Rights   string `db:"rights_json"`
	Issuer   string `db:"issuer"`
	Subject  string `db:"subject"`
	Mentions bool   `db:"mentions"`
	MadeBy   string `db:"made_by"`
	MadeAt   int64  `db:"made_at"`
	SeenAt   int64  `db:"seen_at"`
}

// AddAccount writes one, unless there is one of its name, its mail address or its subject.
func AddAccount(a Account) Stmt {
	return Must(`INSERT OR IGNORE INTO accounts (id, name, mail, rights_json, issuer, subject, made_by, made_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?)`, a.ID, a.Name, a.Mail, a.Rights, a.Issuer, a.Subject, a.MadeBy, a.MadeAt)
}

// ChangeAccount gives an account another mail address and other rights, unless another has
// the address. Whoever signs it in is forgotten with its address: the new one may be
// somebody else's.
func ChangeAccount(id, mail, rights string) Stmt {
	return Must(`UPDATE OR IGNORE accounts SET issuer = iif(mail = ?1, issuer, ''), subject = iif(mail = ?1, subject, ''), mail = ?1,
		rights_json = ?2 WHERE id = ?3`, mail, rights, id)
}

// MentionAccount says whether somebody hears by mail of notes that mention them.
func MentionAccount(id string, mentions bool) Stmt {
	return Must(`UPDATE accounts SET mentions = ? WHERE id = ?`, mentions, id)
}

// KnowAccount notes who signs an account in, unless that is settled.
func KnowAccount(id, issuer, subject string) Stmt {
	return Must(`UPDATE OR IGNORE accounts SET issuer = ?, subject = ? WHERE id = ? AND subject = ''`, issuer, subject, id)
}

// SawAccount notes when somebody signed in.
func SawAccount(id string, at int64) Stmt {
	return Do(`UPDATE accounts SET seen_at = max(seen_at, ?) WHERE id = ?`, at, id)
}

// DropAccount forgets an account, its tokens, and what it was to hear of.
func DropAccount(id, name string) []Stmt {
	return []Stmt{Must(`DELETE FROM accounts WHERE id = ?`, id), Do(`DELETE FROM tokens WHERE root = ?1 OR share_json = '' AND owner = ?2`,
		id, name),
		Do(`DELETE FROM outbox WHERE state = 'waiting' AND (subscription = ?1 OR subscription IN
			(SELECT id FROM subscriptions WHERE account = ?1))`, id),
		Do(`DELETE FROM subscriptions WHERE account = ?`, id)}
}

// Accounts lists them by name.
func (s *Store) Accounts(ctx context.Context) (as []Account, err error) {
	err = s.read.SelectContext(ctx, &as, `SELECT * FROM accounts ORDER BY name`)
	return
}

// Account finds one.
func (s *Store) Account(ctx context.Context, id string) (a Account, err error) {
	err = found(s.read.GetContext(ctx, &a, `SELECT * FROM accounts WHERE id = ?`, id))
	return
}

// AccountNamed finds one by its name, whatever its case.
func (s *Store) AccountNamed(ctx context.Context, name string) (a Account, err error) {
	err = found(s.read.GetContext(ctx, &a, `SELECT * FROM accounts WHERE name = ?`, name))
	return
}

// AccountOf finds the one that somebody signs in, or by a mail address one that nobody has
// signed in yet; a mail of "" finds none.
func (s *Store) AccountOf(ctx context.Context, issuer, subject, mail string) (a Account, err error) {
	err = found(s.read.GetContext(ctx, &a, `SELECT * FROM accounts WHERE issuer = ?1 AND subject = ?2 OR mail != '' AND mail = ?3
		AND subject = '' ORDER BY subject = ?2 DESC LIMIT 1`, issuer, subject, mail))
	return
}
