package api

import (
	"fmt"

	"parallelpane/internal/core/source"
)

// Kind sorts errors by what the caller can do about them.
type Kind string

// Kinds of errors.
const (
	Invalid      Kind = "invalid"      // the request makes no sense
	Unauthorized Kind = "unauthorized" // no valid token
	Forbidden    Kind = "forbidden"    // the token's role does not allow it
	NotFound     Kind = "not-found"
	Conflict     Kind = "conflict"
	TooLarge     Kind = "too-large"
	NoRoom       Kind = "no-room"
	TooMany      Kind = "too-many" // requests at once, or of late: again later
	Beyond       Kind = "beyond"   // something behind the service cannot be reached
)

// Error is an error that the caller caused and can understand.
type Error struct {
	Kind     Kind
	Message  string
	Problems []source.Problem // places in files, when files are at fault
}

func (e *Error) Error() string { return e.Message }

// Errorf makes an error that says what is wrong and what to do next.
func Errorf(kind Kind, format string, args ...any) *Error {
	return &Error{Kind: kind, Message: fmt.Sprintf(format, args...)}
}
