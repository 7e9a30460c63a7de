package api

import "time"

// RelayRequest opens a relay, from the machine on which the application runs.
type RelayRequest struct {
	Project string   `json:"project" required:"true"`
	Name    string   `json:"name" required:"true" description:"by which runs ask for it"`
	Places  []string `json:"places" required:"true" description:"what may be reached: HOST:PORT, *.DOMAIN, NETWORK/BITS"`
	Again   bool     `json:"again,omitempty" description:"its connection was lost: it is not to open once somebody has ended it"`
}

// Relay is the way in to an application that only its developer's machine reaches.
type Relay struct {
	Name        string     `json:"name"`
	Project     string     `json:"project"`
	By          string     `json:"by"`
	Places      []string   `json:"places" description:"what may be reached through it"`
	OpenedAt    time.Time  `json:"opened_at"`
	Away        bool       `json:"away" description:"its owner has lost the connection, and has a while to come back"`
	Open        int        `json:"open" description:"connections through it now"`
	Connections int64      `json:"connections" description:"through it so far"`
	Refused     int64      `json:"refused" description:"asked for and not on its list"`
	In          int64      `json:"in" description:"bytes to the application"`
	Out         int64      `json:"out" description:"bytes from the application"`
	LastTo      string     `json:"last_to" description:"where the latest connection went"`
	LastAt      *time.Time `json:"last_at"`
	Trouble     string     `json:"trouble" description:"why the latest connection that failed did"`
}
