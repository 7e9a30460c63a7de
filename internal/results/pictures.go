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
	attempts, err := r.store.AttemptsIn(ctx, run, pane, test)
	if err != nil {
		return nil, "", err
	}
	for _, a := range slices.Backward(attempts) {
		if a.Verdict == string(verdict.Passed) {
			continue
		}
		files, err := r.store.FilesOf(ctx, []string{a.ID})
		if err != nil {
			return nil, "", err
		}
		files = slices.DeleteFunc(files, func(f store.File) bool { return !slices.Contains(pictures, f.Media) || f.Size > maxPicture })
		if len(files) == 0 {
			return nil, "", nil
		}
		i := max(0, slices.IndexFunc(files, func(f store.File) bool { return strings.HasPrefix(f.Name, "failure.") }))
		file, err := r.blobs.Get(files[i].Hash)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, "", nil // it was not kept for ever
		}
		if err != nil {
			return nil, "", err
		}
		defer file.Close()
		body, err = io.ReadAll(io.LimitReader(file, maxPicture))
		return body, files[i].Media, err
	}
	return nil, "", nil
}
