package device

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAxesChangeAProfile(t *testing.T) {
	p, err := Find("phone")
	require.NoError(t, err)
	got, err := p.With(map[string]string{"viewport": "800x600", "locale": "nb-NO", "timezone": "Europe/Oslo", "tariff": "winter"})
	require.NoError(t, err)
	assert.Equal(t, Profile{Name: "phone 800x600", Title: "phone, upright, 800x600", Family: Phone, Size: Size{Width: 800, Height: 600},
		Density: 3, Touch: true, Handheld: true,
		Locale: "nb-NO", TimeZone: "Europe/Oslo"}, got)
	assert.Equal(t, "landscape", got.Orientation())
	same, err := p.With(nil)
	require.NoError(t, err)
	assert.Equal(t, p, same)
	for axis, values := range map[string][]string{
		"viewport": {"800", "x", "100x600", "800x9000", "-1x600", ""},
		"locale":   {"", "norwegian!", "x", "nb_NO"},
		"timezone": {"", "+01:00", "../etc", "Europe Oslo"},
	} {
		for _, v := range values {
			_, err := p.With(map[string]string{axis: v})
			assert.Error(t, err, "%s=%q", axis, v)
		}
	}
}

func TestEveryProfileOfTheCatalogueIsSound(t *testing.T) {
	names := map[string]bool{}
	for _, p := range Catalogue {
		assert.NoError(t, p.Check(), p.Name)
		assert.False(t, names[p.Name], p.Name)
		names[p.Name] = true
	}
}

func TestProfilesOfAProjectAreFoundToo(t *testing.T) {
	own := Profile{Name: "buoy", Size: Size{Width: 480, Height: 320}, Density: 1}
	got, err := Find("buoy", own)
	require.NoError(t, err)
	assert.Equal(t, own, got)
	assert.Contains(t, Names(own), "buoy")
	_, err = Find("bouy", own)
	assert.ErrorContains(t, err, "buoy")
	for _, p := range []Profile{{Size: Size{Width: 10, Height: 500}, Density: 1}, {Size: Size{Width: 500, Height: 500},
		Density: 20}, {Size: Size{500, 500}}} {
		assert.Error(t, p.Check())
	}
}

func TestWhatOwnersPrefer(t *testing.T) {
	phone, err := Find("phone")
	require.NoError(t, err)
	dark, err := phone.With(map[string]string{"scheme": "dark", "motion": "reduced", "tariff": "winter"})
	require.NoError(t, err)
	assert.Equal(t, []Wish{{"scheme", "dark", "prefers-color-scheme", "dark"}, {"motion", "reduced", "prefers-reduced-motion", "reduce"}},
		dark.Wishes())
	light, err := dark.With(map[string]string{"scheme": "light"})
	require.NoError(t, err)
	assert.Equal(t, "light", light.Prefer["scheme"])
	assert.Equal(t, "reduced", light.Prefer["motion"])
	assert.Equal(t, "dark", dark.Prefer["scheme"], "what was given stays as it was")
	assert.Empty(t, phone.Wishes())
	_, err = phone.With(map[string]string{"contrast": "loud"})
	assert.ErrorContains(t, err, `contrast: expected one of [less more usual], found "loud"`)
}

func TestHowSlowADeviceIs(t *testing.T) {
	p, err := Find("phone-slow")
	require.NoError(t, err)
	assert.Equal(t, "slow", p.Network)
	assert.InDelta(t, 4, p.CPU, 0)
	got, err := p.With(map[string]string{"network": "offline", "cpu": "1"})
	require.NoError(t, err)
	assert.Equal(t, "offline", got.Network)
	assert.InDelta(t, 1, got.CPU, 0)
	for axis, values := range map[string][]string{"network": {"wet", "down=0", "offline down=1"}, "cpu": {"", "0", "21", "0.5", "fast",
		"NaN"}} {
		for _, v := range values {
			_, err := p.With(map[string]string{axis: v})
			assert.ErrorContains(t, err, axis, v)
		}
	}
}

func TestDevicesAreFound(t *testing.T) {
	for _, c := range []struct {
		want  Wanted
		first string
		n     int
		says  string
	}{
		{Wanted{Like: "390x844", Family: "phone"}, "phone", 8, ""},
		{Wanted{Text: "SLOW phone"}, "phone-slow", 2, ""},
		{Wanted{Text: "no such thing"}, "", 0, ""},
		{Wanted{Family: "toaster"}, "", 0, "family: expected one of"},
		{Wanted{Like: "large"}, "", 0, "like: expected a size"},
	} {
		found, err := Search(Catalogue, c.want)
		if c.says != "" {
			require.ErrorContains(t, err, c.says)
			continue
		}
		require.NoError(t, err)
		require.Len(t, found, c.n, "%+v", c.want)
		if c.n > 0 {
			assert.Equal(t, c.first, found[0].Name)
		}
	}
}
