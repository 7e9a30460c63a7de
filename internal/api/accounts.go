package api

import "time"

// OfMention is what somebody is told of a note that mentions them.
const OfMention = "mention"

// Account is somebody with a name and a mail address. A token whose owner has the name is
// theirs.
type Account struct {
	ID       string     `json:"id"`
	Name     string     `json:"name"`
	Mail     string     `json:"mail" description:"to oneself and the lab's admin; empty for everybody else, and where there is none"`
	Rights   []Right    `json:"rights" description:"with which they sign in; likewise"`
	SignsIn  bool       `json:"signs_in" description:"they have signed in with the lab's provider"`
	Mentions bool       `json:"mentions" description:"they hear by mail of notes that mention them"`
	By       string     `json:"by" description:"who made it"`
	MadeAt   time.Time  `json:"made_at"`
	SeenAt   *time.Time `json:"seen_at" description:"when they last signed in; null for never"`
}

// AccountRequest asks for an account, or for a change of one.
type AccountRequest struct {
	Name   string  `json:"name,omitempty" description:"as others mention it: letters, digits, '.', '-' and '_'; cannot be changed"`
	Mail   string  `json:"mail,omitempty"`
	Role   Role    `json:"role,omitempty" enum:"viewer,runner,keeper,admin" description:"in every project, instead of rights"`
	Rights []Right `json:"rights,omitempty"`
}

// MyAccount is one's own account, with what one hears of.
type MyAccount struct {
	Account *Account       `json:"account" description:"null for somebody who has none"`
	Hears   []Subscription `json:"hears"`
}

// MyAccountRequest asks to change what one hears of.
type MyAccountRequest struct {
	Mentions bool `json:"mentions" description:"hear by mail of notes that mention one"`
}

// HearRequest asks to hear of something oneself, at one's own mail address.
type HearRequest struct {
	Project string   `json:"project" required:"true"`
	Suite   string   `json:"suite,omitempty" description:"only of this suite"`
	Of      []string `json:"of" required:"true" description:"failed, changed, ended or daily"`
}

// SignInWays are the ways in besides tokens and links.
type SignInWays struct {
	Provider string `json:"provider" description:"what the lab's OpenID provider is called, which /sign-in/with leads to; empty for none"`
}
