package api

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSidesAreReadAndWritten(t *testing.T) {
	for words, want := range map[string]Side{
		"":                                       {Only: map[string]string{}},
		"812":                                    {Run: 812, Only: map[string]string{}},
		"#812":                                   {Run: 812, Only: map[string]string{}},
		"812 device=phone browser=firefox":       {Run: 812, Only: map[string]string{"device": "phone", "browser": "firefox"}},
		"env=next matrix=wall bundle=3fa9":       {Environment: "next", Matrix: "wall", Bundle: "3fa9", Only: map[string]string{}},
		"browser=firefox version=>=150":          {Only: map[string]string{"browser": "firefox", "version": ">=150"}},
		"  locale=nb-NO\tversion=latest-channel": {},
	} {
		got, err := ParseSide("was", words)
		if want.Only == nil {
			assert.Error(t, err, words)
			continue
		}
		require.NoError(t, err, words)
		assert.Equal(t, want, got, words)
		again, err := ParseSide("was", got.String())
		require.NoError(t, err, got.String())
		assert.Equal(t, got, again, "what is written is read as the same")
		assert.Equal(t, len(want.Only) > 0, got.Narrow())
	}
	for words, want := range map[string]string{
		"x": "expected a run's number or KEY=VALUE", "=x": "expected a run's number", "env=": "expected a run's number",
		"0":  "expected a run's number",
		"-3": "expected a run's number", "env=a 812": "expected a run's number", "bundle=3FA9": "expected the beginning of a SHA-256",
		"bundle=3f": "at least 4 digits", "version=new": "chooses no version", "812 env=a": "run 812 has one environment",
		strings.Repeat("a", 1001): "at most 1000 characters",
	} {
		_, err := ParseSide("is", words)
		require.ErrorContains(t, err, want, words)
		assert.True(t, strings.HasPrefix(err.Error(), "is: "), "the field is named: %s", err)
	}
}

func FuzzParseSide(f *testing.F) {
	for _, s := range []string{"812", "#7 device=phone", "env=a bundle=3fa9 version=>=150", "a==b", "\x00=\u202e", "version=1..2"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, words string) {
		s, err := ParseSide("was", words)
		if err != nil {
			return
		}
		again, err := ParseSide("was", s.String())
		require.NoError(t, err, s.String())
		assert.Equal(t, s, again)
	})
}
