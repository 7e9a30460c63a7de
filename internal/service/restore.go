package service

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"parallelpane/internal/access"
	"parallelpane/internal/api"
	"parallelpane/internal/backup"
	"parallelpane/internal/store"
)

// Restore makes a data directory of a backup and leaves a new admin's token in it.
func Restore(ctx context.Context, r io.Reader, dir string) (backup.Head, backup.End, error) {
	head, end, err := backup.Restore(r, dir)
	if err != nil {
		return head, end, err
	}
	st, err := store.Open(dir)
	if err != nil {
		return head, end, err
	}
	_, secret, err := access.New(st, slog.New(slog.DiscardHandler), time.Now).AddToken(ctx, api.TokenRequest{Name: "admin after restoring",
		Owner: "admin", Role: api.Admin})
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, access.AdminTokenFile), []byte(secret+"\n"), 0o600)
	}
	return head, end, errors.Join(err, st.Close())
}
