package secrets

import (
	"crypto/aes"
	"crypto/cipher"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

func TestValuesAreSealed(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir, "")
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(dir, KeyFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	sealed, err := s.Close(map[string]string{"PIN": "kedge-anchor"})
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(sealed), "age-encryption.org/v1\n"), "in the format of age")
	assert.NotContains(t, string(sealed), "kedge")
	again, err := Open(dir, "")
	require.NoError(t, err)
	vars, err := again.Open(sealed)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"PIN": "kedge-anchor"}, vars)
	other, err := Open(t.TempDir(), "")
	require.NoError(t, err)
	_, err = other.Open(sealed)
	assert.ErrorContains(t, err, "was the key replaced?")
	_, err = s.Open(sealed[:len(sealed)-5])
	assert.Error(t, err, "cut off")
	none, err := s.Close(nil)
	require.NoError(t, err)
	assert.Nil(t, none)
	vars, err = s.Open(nil)
	require.NoError(t, err)
	assert.Nil(t, vars)
}

// A key of 32 bytes is from before the format of age: what it sealed can be opened on.
func TestAKeyFromBefore(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "key")
	key := []byte("0123456789abcdef0123456789abcdef")
	require.NoError(t, os.WriteFile(path, key, 0o600))
	block, err := aes.NewCipher(key)
	require.NoError(t, err)
	aead, err := cipher.NewGCM(block)
	require.NoError(t, err)
	nonce := make([]byte, aead.NonceSize())
	old := aead.Seal(nonce, nonce, []byte(`{"PIN":"kedge"}`), nil)
	for range 2 { // it stays so
		s, err := Open(dir, path)
		require.NoError(t, err)
		vars, err := s.Open(old)
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"PIN": "kedge"}, vars)
		_, err = s.Open([]byte("x"))
		assert.ErrorContains(t, err, "cut off")
		sealed, err := s.Close(vars)
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(string(sealed), "age-"))
	}
	for _, wrong := range []string{"", "nonsense", "AGE-SECRET-KEY-1NONSENSE"} {
		require.NoError(t, os.WriteFile(path, []byte(wrong), 0o600))
		_, err := Open(dir, path)
		assert.ErrorContains(t, err, "key of the secrets", wrong)
	}
	made, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte("# made by hand\n"+made.String()+"\n"), 0o600))
	_, err = Open(dir, path)
	assert.NoError(t, err)
}

func TestWhatAProjectKeeps(t *testing.T) {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	seal, err := Open(t.TempDir(), "")
	require.NoError(t, err)
	v := NewVault(st, seal, func() time.Time { return time.UnixMilli(7) })
	who := api.Who{Name: "tern"}
	keep := func(project, env, name, value string) error {
		return v.KeepSecret(t.Context(), who, project, api.SecretRequest{Name: name, Environment: env, Value: value})
	}
	require.NoError(t, keep("saltmarsh", "", "PIN", "everywhere"))
	require.NoError(t, keep("saltmarsh", "staging", "PIN", "on staging"))
	require.NoError(t, keep("saltmarsh", "staging", "PIN", "on staging now"))
	require.NoError(t, keep("marina", "", "PIN", "of another"))
	all, err := v.Secrets(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Equal(t, []api.Secret{{Name: "PIN", ChangedBy: "tern", ChangedAt: api.At(7)},
		{Name: "PIN", Environment: "staging", ChangedBy: "tern", ChangedAt: api.At(7)}}, all)
	for env, want := range map[string]string{"staging": "on staging now", "local": "everywhere", "": "everywhere"} {
		got, from, err := v.For(t.Context(), "saltmarsh", env, []string{"PIN"}, nil)
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"PIN": want}, got)
		assert.Equal(t, map[bool]string{true: "kept for environment staging", false: "kept for every environment"}[env == "staging"], from["PIN"])
	}
	got, _, err := v.For(t.Context(), "saltmarsh", "local", []string{"PIN"}, map[string]string{"PIN": "by hand"})
	require.NoError(t, err)
	assert.Empty(t, got, "what comes with the run goes before")
	_, _, err = v.For(t.Context(), "saltmarsh", "local", []string{"PASSWORD"}, nil)
	assert.ErrorContains(t, err, "keeps neither for environment local nor for every environment: pane secret keep PASSWORD")
	read, err := v.ReadSecret(t.Context(), "marina", api.SecretName{Name: "PIN"})
	require.NoError(t, err)
	assert.Equal(t, "of another", read.Value)
	require.NoError(t, v.DropSecret(t.Context(), "saltmarsh", api.SecretName{Name: "PIN"}))
	assert.ErrorContains(t, v.DropSecret(t.Context(), "saltmarsh", api.SecretName{Name: "PIN"}), "keeps no secret PIN for every environment")
	for want, q := range map[string]api.SecretRequest{
		"name: expected letters":         {Name: "a b", Value: "long enough"},
		"environment: expected the name": {Name: "A", Environment: "x y", Value: "long enough"},
		"shorter than":                   {Name: "A", Value: "abc"},
		"at most 65536 are kept":         {Name: "A", Value: strings.Repeat("x", 65537)},
		"it holds a byte 0":              {Name: "A", Value: "long\x00enough"},
	} {
		assert.ErrorContains(t, v.KeepSecret(t.Context(), who, "saltmarsh", q), want)
	}
}
