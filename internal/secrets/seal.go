// Package secrets keeps what nobody may read: values are sealed before they are
// written, under a key that lies in the data directory or wherever the admin says.
package secrets

import (
	"cmp"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// KeyFile holds, in the data directory, the key under which the records keep
// secret variables.
const KeyFile = "secrets.key"

// Seal keeps values that nobody may read in the records: AES-256 in Galois
// counter mode, under a key that lies beside them with mode 0600.
type Seal struct{ aead cipher.AEAD }

// Open reads the key from a file, and makes it where there is none; "" means that of the
// data directory.
func Open(dir, path string) (Seal, error) {
	path = cmp.Or(path, filepath.Join(dir, KeyFile))
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, 32)
		if _, err = rand.Read(key); err == nil {
			err = os.WriteFile(path, key, 0o600)
		}
	} else if err == nil && len(key) != 32 {
		err = fmt.Errorf("%s holds %d bytes, not the 32 of a key", path, len(key))
	}
	if err != nil {
		return Seal{}, fmt.Errorf("key of the secrets: %w", err)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return Seal{}, fmt.Errorf("%s: %w", path, err)
	}
	aead, err := cipher.NewGCM(block)
	return Seal{aead}, err
}

// Close seals variables; nil when there are none.
func (s Seal) Close(vars map[string]string) ([]byte, error) {
	if len(vars) == 0 {
		return nil, nil
	}
	plain, err := json.Marshal(vars)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, s.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return s.aead.Seal(nonce, nonce, plain, nil), nil
}

// Open is the inverse of Close.
func (s Seal) Open(sealed []byte) (vars map[string]string, err error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return nil, errors.New("sealed variables are cut off")
	}
	plain, err := s.aead.Open(nil, sealed[:n], sealed[n:], nil)
	if err != nil {
		return nil, fmt.Errorf("sealed variables cannot be opened: was the key replaced? %w", err)
	}
	return vars, json.Unmarshal(plain, &vars)
}
