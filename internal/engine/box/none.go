//go:build !linux

package box

import (
	"context"
	"errors"
)

// Find says why there is no box.
func Find() (string, error) { return "", errors.New("there are sandboxes on Linux only") }

// Enclose fails: there is no sandbox here.
func Enclose(context.Context, Needs) (Box, error) {
	_, err := Find()
	return nil, err
}
