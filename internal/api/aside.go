package api

import "time"

// AsideName names a test that is set aside.
type AsideName struct {
	Project string `json:"project" query:"project" required:"true"`
	Suite   string `json:"suite" query:"suite" required:"true"`
	Test    string `json:"test" query:"test" required:"true" description:"its name, as runs have it"`
}

// AsideRequest sets a test aside: it runs and is shown, and its failures turn no run red.
type AsideRequest struct {
	AsideName
	Owner  string    `json:"owner" required:"true" description:"who looks after it"`
	Reason string    `json:"reason" required:"true"`
	Until  time.Time `json:"until" required:"true" description:"from then on its failures count again; at most a year from now"`
}

// Aside is a test that is set aside.
type Aside struct {
	AsideRequest
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	Ended bool      `json:"ended" description:"its time is over"`
}

// AsideFilter says which are listed.
type AsideFilter struct {
	Project string `query:"project" json:"-"`
	Suite   string `query:"suite" json:"-"`
	Text    string `query:"text" json:"-" description:"found in the test's name, its owner or the reason"`
	Ended   bool   `query:"ended" json:"-" description:"those too whose time is over"`
}
