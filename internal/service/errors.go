package service

import (
	"errors"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// notFound turns a missing record into an Error about the thing.
func notFound(err error, format string, args ...any) error {
	if errors.Is(err, store.ErrNotFound) {
		return api.Errorf(api.NotFound, format, args...)
	}
	return err
}
