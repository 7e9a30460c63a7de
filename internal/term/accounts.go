package term

import (
	"fmt"
	"io"
	"strings"

	"parallelpane/internal/api"
)

// Accounts lists people with an account.
func Accounts(w io.Writer, all []api.Account) {
	if len(all) == 0 {
		fmt.Fprintln(w, "Nobody has an account yet: pane account add NAME --mail ADDRESS --role ROLE")
		return
	}
	t := NewTable("name", "mail", "may", "signs in", "last", "made by")
	for _, a := range all {
		rights := make([]string, len(a.Rights))
		for i, r := range a.Rights {
			rights[i] = string(r.Role) + ":" + r.Project
		}
		signs, seen := "not yet", ""
		if a.SignsIn {
			signs = "with the provider"
		}
		if a.SeenAt != nil {
			seen = a.SeenAt.Local().Format("2006-01-02 15:04")
		}
		t.Row(Tame(a.Name), Tame(a.Mail), strings.Join(rights, " "), signs, seen, Tame(a.By))
	}
	fmt.Fprintln(w, t)
}

// MyAccount says what somebody hears of.
func MyAccount(w io.Writer, m api.MyAccount) {
	if m.Account == nil {
		fmt.Fprintln(w, "You have no account, and hear of nothing: the lab's admin adds one with pane account add.")
		return
	}
	mentions := "and are told of notes that mention you"
	if !m.Account.Mentions {
		mentions = "and are told of no mention"
	}
	if m.Account.Mail == "" {
		fmt.Fprintln(w, "Your account has no mail address.")
	} else {
		fmt.Fprintf(w, "Your mail goes to %s, %s.\n", Tame(m.Account.Mail), mentions)
	}
	if len(m.Hears) == 0 {
		fmt.Fprintln(w, "You hear of no runs: pane me hear PROJECT --of changed")
		return
	}
	t := NewTable("hears", "of", "id")
	for _, s := range m.Hears {
		t.Row(strings.Join(s.Of, ", "), Tame(strings.TrimSpace(s.Project+" "+s.Suite)), Faint(s.ID))
	}
	fmt.Fprintln(w, t)
}
