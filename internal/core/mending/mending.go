// Package mending says what is done about locators that no longer find what they found
// when their test passed.
package mending

import "fmt"

// Policy is one of Never, Suggest and Accept; the empty one leaves it to whoever is asked
// next: the request, then the project, then Suggest.
type Policy string

// The policies.
const (
	Never   Policy = "never"   // nothing is remembered, and nothing looked for
	Suggest Policy = "suggest" // the step fails, and the report names what is like what it found
	Accept  Policy = "accept"  // the step goes on with an element that is certainly the same one, and says so
)

// Policies lists them.
var Policies = []Policy{Never, Suggest, Accept}

// Check reports a word that is no policy.
func (p Policy) Check() error {
	switch p {
	case "", Never, Suggest, Accept:
		return nil
	}
	return fmt.Errorf("expected never, suggest or accept, found %q", string(p))
}
