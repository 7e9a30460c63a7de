package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"parallelpane/internal/backup"
	"parallelpane/internal/blobs"
	"parallelpane/internal/store"
)

// backupDirs are called the directories in which the records lie while they are backed up.
const backupDirs = "backup-*"

// Backup writes a backup while everything goes on. What is recorded after it has begun
// may be missing from it. The key of the secrets and the first tokens are not in it.
func (k *Keeper) Backup(ctx context.Context, version string, w io.Writer) error {
	dir, err := os.MkdirTemp(k.dir, backupDirs)
	if err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	defer os.RemoveAll(dir)
	shot := filepath.Join(dir, store.Database)
	if err := k.store.Snapshot(ctx, shot); err != nil {
		return fmt.Errorf("backup of the records: %w", err)
	}
	out, err := backup.NewWriter(w, k.now(), version)
	if err != nil {
		return err
	}
	if err := out.PutRecords(shot); err != nil {
		return err
	}
	for shelf := range blobs.Shelves {
		all, err := k.blobs.Older(shelf, k.now().Add(time.Hour))
		if err != nil {
			return fmt.Errorf("backup: %w", err)
		}
		for hash := range all {
			if err := ctx.Err(); err != nil {
				return err
			}
			err := out.PutContents(k.dir, hash)
			if err != nil && !errors.Is(err, fs.ErrNotExist) { // it was swept away meanwhile
				return err
			}
		}
	}
	return out.Close()
}
