// Package secrets keeps what nobody may see: values are sealed before they are written,
// under a key that lies in the data directory or wherever the admin says.
package secrets

import (
	"bytes"
	"cmp"
	"crypto/aes"
	"crypto/cipher"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
)

// KeyFile holds, in the data directory, the key under which the records keep
// secrets: an age identity.
const KeyFile = "secrets.key"

// Seal keeps values that nobody may see in the records: as files of the age format
// (age-encryption.org/v1), for the identity in a file with mode 0600.
type Seal struct {
	key *age.X25519Identity
	old cipher.AEAD // for what was sealed before there was an identity; nil if nothing was
}

// before stands, in the key's file, in front of a key that values were once sealed with.
const before = "# before: "

// Open reads the key from a file, and makes it where there is none; "" means that of the
// data directory.
func Open(dir, path string) (Seal, error) {
	path = cmp.Or(path, filepath.Join(dir, KeyFile))
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(raw) == 32 {
		raw, err = newKey(path, raw)
	}
	if err != nil {
		return Seal{}, fmt.Errorf("key of the secrets: %w", err)
	}
	s := Seal{}
	for line := range strings.Lines(string(raw)) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "AGE-SECRET-KEY-") {
			if s.key, err = age.ParseX25519Identity(line); err != nil {
				return Seal{}, fmt.Errorf("key of the secrets: %s holds no identity: %w", path, err)
			}
		} else if text, ok := strings.CutPrefix(line, before); ok {
			key, err := hex.DecodeString(text)
			if err == nil {
				s.old, err = gcm(key)
			}
			if err != nil {
				return Seal{}, fmt.Errorf("key of the secrets: %s: the key from before: %w", path, err)
			}
		}
	}
	if s.key == nil {
		return Seal{}, fmt.Errorf("key of the secrets: %s holds no line that begins with AGE-SECRET-KEY-", path)
	}
	return s, nil
}

// newKey makes an identity; old is the key that was there, if any, and stays beside it.
func newKey(path string, old []byte) ([]byte, error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	raw := []byte(key.String() + "\n")
	if old != nil {
		raw = fmt.Appendf(raw, "%s%x\n", before, old)
	}
	next := path + ".next"
	if err := os.WriteFile(next, raw, 0o600); err != nil {
		return nil, err
	}
	return raw, os.Rename(next, path)
}

func gcm(key []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
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
	var out bytes.Buffer
	w, err := age.Encrypt(&out, s.key.Recipient())
	if err == nil {
		_, err = w.Write(plain)
	}
	if err == nil {
		err = w.Close()
	}
	return out.Bytes(), err
}

// Open is the inverse of Close.
func (s Seal) Open(sealed []byte) (vars map[string]string, err error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	plain, err := s.unseal(sealed)
	if err != nil {
		return nil, fmt.Errorf("sealed variables cannot be opened: was the key replaced? %w", err)
	}
	return vars, json.Unmarshal(plain, &vars)
}

func (s Seal) unseal(sealed []byte) ([]byte, error) {
	if s.old != nil && !bytes.HasPrefix(sealed, []byte("age-encryption.org/")) {
		n := s.old.NonceSize()
		if len(sealed) < n {
			return nil, errors.New("they are cut off")
		}
		return s.old.Open(nil, sealed[:n], sealed[n:], nil)
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), s.key)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}
