package order

import (
	"errors"
	"io"
	"io/fs"
	"os"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/project"
)

// HasBundle reports whether a bundle is here. It then stays for some time.
func (desk *Desk) HasBundle(hash string) bool { return desk.blobs.Renew(hash) }

// PutBundle takes a bundle after checking its hash and its contents.
func (desk *Desk) PutBundle(hash string, r io.Reader) error {
	if !blobs.ValidHash(hash) {
		return api.Errorf(api.Invalid, "%q is not a SHA-256 in hexadecimal", hash)
	}
	if desk.blobs.Renew(hash) {
		return nil
	}
	if err := desk.settings.Take(hash, project.MaxBundleBytes, r); err != nil {
		return err
	}
	if _, err := desk.openBundle(hash); err != nil {
		return errors.Join(err, desk.blobs.Remove(hash))
	}
	return nil
}

// Bundle opens a bundle's bytes.
func (desk *Desk) Bundle(hash string) (*os.File, error) {
	f, err := desk.blobs.Get(hash)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, api.Errorf(api.NotFound, "there is no bundle %s", hash)
	}
	return f, err
}

func (desk *Desk) openBundle(hash string) (*project.Archive, error) {
	f, err := desk.Bundle(hash)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	a, err := project.OpenBundle(f, func() (io.ReadCloser, error) { return desk.blobs.Get(hash) })
	if refused, ok := errors.AsType[*project.BundleError](err); ok {
		return nil, api.Errorf(api.Invalid, "%v", refused)
	}
	return a, err
}

// Source reads a file of a bundle.
func (desk *Desk) Source(bundle, file string) (string, error) {
	f, err := desk.blobs.Get(bundle)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return project.TextOf(f, file)
}
