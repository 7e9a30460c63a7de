package device

import (
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCatalogueIsSound(t *testing.T) {
	seen := map[string]bool{}
	for _, p := range Catalogue {
		assert.False(t, seen[p.Name], p.Name)
		seen[p.Name] = true
		assert.Positive(t, p.Size.Width*p.Size.Height, p.Name)
		assert.GreaterOrEqual(t, p.Density, 1.0, p.Name)
		got, err := Find(p.Name)
		require.NoError(t, err)
		assert.Equal(t, p, got)
		assert.Contains(t, Families, p.Family, p.Name)
		assert.NotEmpty(t, p.Source, p.Name)
		require.NoError(t, p.Check(), p.Name)
		if p.Handheld {
			assert.True(t, slices.ContainsFunc(Catalogue, func(o Profile) bool {
				return o.Title != p.Title && o.Size == Size{p.Size.Height, p.Size.Width}
			}), "%s in the other orientation", p.Name)
		}
	}
	assert.GreaterOrEqual(t, len(models), 39)
	assert.True(t, seen[Default])
}

func TestNearestDevices(t *testing.T) {
	near := Like(Size{393, 852}, Catalogue)
	assert.Equal(t, "iphone-15", near[0].Name)
	assert.Equal(t, Size{393, 852}, near[0].Size)
	assert.Len(t, near, len(Catalogue))
	assert.Equal(t, "iphone-15-landscape", Like(Size{852, 393}, Catalogue)[0].Name)
}

func TestFind(t *testing.T) {
	p, err := Find("")
	require.NoError(t, err)
	assert.Equal(t, Default, p.Name)
	_, err = Find("toaster")
	assert.ErrorContains(t, err, `unknown device "toaster": use one of wall-display`)
}

func TestLayoutAndOrientation(t *testing.T) {
	phone, _ := Find("phone")
	side, _ := Find("phone-landscape")
	assert.True(t, phone.Small())
	assert.Equal(t, "portrait", phone.Orientation())
	assert.Equal(t, "landscape", side.Orientation())
}

func TestUserAgent(t *testing.T) {
	desk, _ := Find("desktop")
	phone, _ := Find("phone-landscape")
	tablet, _ := Find("tablet")
	assert.Empty(t, desk.UserAgent("chromium", "156.0.1"))
	assert.Contains(t, phone.UserAgent("chromium", "156.0.1"), "Chrome/156.0.0.0 Mobile Safari")
	assert.Contains(t, tablet.UserAgent("chromium", "156.0.1"), "Chrome/156.0.0.0 Safari")
	assert.Contains(t, phone.UserAgent("gecko", "153.7.0"), "(Android 15; Mobile; rv:153.0)")
	assert.Contains(t, tablet.UserAgent("gecko", "153.7.0"), "Tablet")
	assert.Contains(t, phone.UserAgent("webkit", "2.50"), "Mobile Safari")
	assert.Empty(t, phone.UserAgent("other", "1"))
}

func TestOutcome(t *testing.T) {
	var o Outcome
	o.Apply("viewport 390×844", nil)
	o.Apply("touch", errors.New("the engine has no command for it"))
	assert.Equal(t, Outcome{Applied: []string{"viewport 390×844"}, Missing: []Missing{{"touch", "the engine has no command for it"}}}, o)
}
