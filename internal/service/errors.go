package service

import (
	"errors"
	"fmt"

	"parallelpane/internal/core/source"
	"parallelpane/internal/store"
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
)

// Error is an error that the caller caused and can understand.
type Error struct {
	Kind     Kind
	Message  string
	Problems []source.Problem // places in files, when files are at fault
}

func (e *Error) Error() string { return e.Message }

func errorf(kind Kind, format string, args ...any) *Error {
	return &Error{Kind: kind, Message: fmt.Sprintf(format, args...)}
}

// notFound turns a missing record into an Error about the thing.
func notFound(err error, format string, args ...any) error {
	if errors.Is(err, store.ErrNotFound) {
		return errorf(NotFound, format, args...)
	}
	return err
}
