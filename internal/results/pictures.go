package results

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strings"

	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

// maxPicture bounds a picture that is taken into a page, in bytes.
const maxPicture = 2 << 20

// pictures are the media types of pictures that a page may hold.
var pictures = []string{"image/png", "image/jpeg", "image/webp"}

// FailurePicture is what the page of a cell showed when it did not pass the last time, and its
// media type; nil where no picture of it was kept, or only one that is too large.
func (r *Results) FailurePicture(ctx context.Context, run, pane, test int) (body []byte, media string, err error) {
	f, ok, err := r.pictureOf(ctx, run, pane, test)
	if err != nil || !ok {
		return nil, "", err
	}
	return r.readPicture(f)
}

// readPicture reads a picture that a page may hold; nil where it is none, or is no longer kept.
func (r *Results) readPicture(f store.File) (body []byte, media string, err error) {
	if !fitsPage(f) {
		return nil, "", nil
	}
	file, err := r.blobs.Get(f.Hash)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, "", nil // it was not kept for ever
	}
	if err != nil {
		return nil, "", err
	}
	defer file.Close()
	body, err = io.ReadAll(io.LimitReader(file, maxPicture))
	return body, f.Media, err
}

// PictureNamed reads a picture of an attempt, likewise.
func (r *Results) PictureNamed(ctx context.Context, attempt, name string) (body []byte, media string, err error) {
	f, err := r.store.FileOf(ctx, attempt, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, "", nil
	}
	if err != nil {
		return nil, "", err
	}
	return r.readPicture(f)
}

func fitsPage(f store.File) bool { return slices.Contains(pictures, f.Media) && f.Size <= maxPicture }

// pictureOf is the file with the picture of a cell that did not pass.
func (r *Results) pictureOf(ctx context.Context, run, pane, test int) (f store.File, ok bool, err error) {
	attempts, err := r.store.AttemptsIn(ctx, run, pane, test)
	if err != nil {
		return f, false, err
	}
	for _, a := range slices.Backward(attempts) {
		if a.Verdict == string(verdict.Passed) {
			continue
		}
		files, err := r.store.FilesOf(ctx, []string{a.ID})
		if err != nil {
			return f, false, err
		}
		files = slices.DeleteFunc(files, func(f store.File) bool { return !fitsPage(f) })
		if len(files) == 0 {
			return f, false, nil
		}
		return files[max(0, slices.IndexFunc(files, func(f store.File) bool { return strings.HasPrefix(f.Name, "failure.") }))], true, nil
	}
	return f, false, nil
}
