package fleet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheNearestDriverServes(t *testing.T) {
	drivers := []Driver{
		{Name: "chromedriver", Version: "150.0.7871.10", Path: "/far", Arch: "amd64", From: System},
		{Name: "chromedriver", Version: "150.0.7871.90", Path: "/near", Arch: "amd64", From: System},
		{Name: "chromedriver", Version: "150.0.7871.100", Path: "/foreign", Arch: "arm64", From: System},
		{Name: "chromedriver", Version: "150.0.7871.100", Path: "/broken", From: System, Problem: "it hangs"},
		{Name: "chromedriver", Version: "156.0.1.1", Path: "/own/b/chromedriver", From: Stocked},
		{Name: "chromedriver", Version: "156.0.1.1", Path: "/usr/bin/chromedriver", From: System},
	}
	browsers := []Browser{
		{Name: "chromium", Version: "150.0.7871.100", Arch: "amd64", Path: "/x"},
		{Name: "chromium", Version: "156.0.1.1", Path: "/own/b/chromium"},
		{Name: "chrome", Version: "156.0.1.1", Path: "/opt/chrome"},
		{Name: "kestrel", Version: "7.1", Base: "156.0.1.1", Path: "/k"},
		{Name: "firefox", Version: "153.7.0"},
		{Name: "safari", Version: "26.1"},
		{Name: "edge", Version: "156.0.1.1", Problem: "it does not say its version", Remedy: "install it"},
	}
	got, left := Pair(browsers, drivers)
	driven := map[string]string{}
	for _, b := range got {
		driven[b.Name+" "+b.Version] = b.Driver + b.Problem
		assert.Equal(t, b.Problem == "", b.Fits, b.Name)
		assert.Equal(t, b.Problem != "", b.Remedy != "", b.Name)
	}
	assert.Equal(t, map[string]string{
		"chromium 150.0.7871.100": "/near", "chromium 156.0.1.1": "/own/b/chromedriver", "chrome 156.0.1.1": "/own/b/chromedriver",
		"kestrel 7.1": "/own/b/chromedriver", "firefox 153.7.0": BuiltIn, "safari 26.1": "no safaridriver",
		"edge 156.0.1.1": "it does not say its version",
	}, driven)
	require.Len(t, left, len(drivers))
	assert.Equal(t, []string{"chromium 150.0.7871.100"}, left[1].Serves)
	assert.Equal(t, "it hangs", left[3].Problem)
	assert.Empty(t, drivers[1].Serves, "what was given stays as it was")
}

func TestTheSameVersionIsOfferedOnce(t *testing.T) {
	got := Once([]Browser{
		{Name: "chromium", Version: "156.0", From: OnPath, Path: "/path"},
		{Name: "chromium", Version: "156.0", From: Stocked, Path: "/stocked"},
		{Name: "chromium", Version: "156.0", From: Named, Path: "/broken", Problem: "it hangs"},
		{Name: "chromium", Version: "150.0", From: System, Path: "/old"},
		{Name: "firefox", From: System, Path: "/a", Problem: "silent"}, {Name: "firefox", From: OnPath, Path: "/b", Problem: "silent"},
	})
	var paths []string
	for _, b := range got {
		paths = append(paths, b.Path)
	}
	assert.ElementsMatch(t, []string{"/stocked", "/old", "/a", "/b"}, paths, "what has no version is shown, each")
}

func TestChannelsOfBrowsers(t *testing.T) {
	m := Machine{OS: "linux", Browsers: []Browser{
		{Name: "firefox", Engine: "gecko", Version: "153.7.0", Channel: "esr", Fits: true},
		{Name: "firefox", Engine: "gecko", Version: "157.0", Channel: "beta", Fits: true},
		{Name: "chromium", Engine: "chromium", Version: "156.0.1", Fits: true},
	}}
	f := m.Facts("quay")
	for text, fits := range map[string]bool{
		"browser=firefox version=esr": true, "browser=firefox version=157": true, "browser=firefox channel=beta": true,
		"browser=firefox channel=beta version=157": true, "browser=firefox channel=beta version=153": false,
		"browser=chromium channel=stable": true,
		"browser=chromium channel=esr":    false, "browser=chromium version=beta": false, "channel=esr": true,
	} {
		needs, err := ParseNeeds(strings.Fields(text))
		require.NoError(t, err, text)
		assert.Equal(t, fits, Match(needs, f) == nil, text)
	}
	assert.True(t, m.Browsers[0].Serves(map[string]string{"browser": "firefox", "version": "esr"}))
	assert.False(t, m.Browsers[0].Serves(map[string]string{"browser": "firefox", "channel": "stable"}))
	assert.True(t, m.Browsers[2].Serves(map[string]string{"channel": "stable"}))
}

func TestWhatASchedulesWaitsFor(t *testing.T) {
	c, is, err := ParseChange("when browser=chromium changes")
	require.NoError(t, err)
	assert.True(t, is)
	assert.True(t, c.Is("chromium", "beta"))
	assert.False(t, c.Is("firefox", ""))
	assert.Equal(t, "whenever a version of chromium comes into the lab", c.Words())
	c, _, err = ParseChange("when browser=firefox channel=stable changes")
	require.NoError(t, err)
	assert.True(t, c.Is("firefox", ""))
	assert.False(t, c.Is("firefox", "esr"))
	assert.Contains(t, c.Words(), "from the channel stable")
	_, is, err = ParseChange("FREQ=DAILY")
	assert.False(t, is)
	require.NoError(t, err)
	for _, text := range []string{"when", "when browser=chromium", "when changes", "when os=linux changes", "when browser=a|b changes",
		"when channel=beta changes", "when browser changes"} {
		_, is, err := ParseChange(text)
		assert.True(t, is, text)
		assert.Error(t, err, text)
	}
}
