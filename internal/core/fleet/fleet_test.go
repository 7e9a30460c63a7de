package fleet

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func quay() Machine {
	return Machine{OS: "linux", Arch: "amd64", Labels: map[string]string{"site": "quay"}, Browsers: []Browser{
		{Name: "chromium", Fits: true}, {Name: "firefox", Fits: true}, {Name: "webkit", Problem: "no driver"},
	}}
}

func TestFactsCountOnlyBrowsersThatFit(t *testing.T) {
	f := quay().Facts()
	assert.Equal(t, []string{"chromium", "firefox"}, f["browser"])
	assert.Equal(t, []string{"headless"}, f["mode"])
	assert.Equal(t, []string{"quay"}, f["site"])
}

func TestMatch(t *testing.T) {
	f := quay().Facts()
	assert.Nil(t, Match(Needs{"browser": {"firefox"}, "os": {"linux", "macos"}}, f))
	lacks := Match(Needs{"os": {"macos"}, "browser": {"webkit"}}, f)
	assert.Equal(t, []Lack{
		{"browser", []string{"webkit"}, []string{"chromium", "firefox"}},
		{"os", []string{"macos"}, []string{"linux"}},
	}, lacks)
	assert.Equal(t, "browser: wants webkit, has chromium, firefox", lacks[0].String())
	assert.Equal(t, "gpu: wants yes, has none", Match(Needs{"gpu": {"yes"}}, f)[0].String())
}

func TestAskSortsMembersAndExplains(t *testing.T) {
	mac := Facts{"os": {"macos"}, "browser": {"webkit"}}
	members := []Member{
		{Name: "quay-1", Facts: quay().Facts(), Online: true},
		{Name: "quay-2", Facts: quay().Facts(), Online: true, Busy: true},
		{Name: "pier-1", Facts: mac, Online: false},
	}
	a := Ask(Needs{"browser": {"chromium"}}, members)
	assert.Equal(t, []string{"quay-1"}, a.Idle)
	assert.Equal(t, []string{"quay-2"}, a.Busy)
	assert.Contains(t, a.Others, "pier-1")
	assert.True(t, a.Possible())

	assert.Equal(t, []string{"pier-1"}, Ask(Needs{"browser": {"webkit"}}, members).Offline)

	needs := Needs{"browser": {"webkit"}, "os": {"linux"}}
	a = Ask(needs, members)
	assert.False(t, a.Possible())
	assert.Equal(t, "no agent has browser=webkit os=linux; nearest: pier-1 (os: wants linux, has macos), "+
		"quay-1 (browser: wants webkit, has chromium, firefox), quay-2 (browser: wants webkit, has chromium, firefox)", a.Explain(needs))
	assert.Contains(t, Ask(needs, nil).Explain(needs), "no agent has joined yet")
}

func TestVersionsMatchByTheirBeginning(t *testing.T) {
	m := Machine{Browsers: []Browser{{Name: "firefox", Version: "153.7.0", Fits: true}, {Name: "chromium", Version: "156.0.1", Fits: true}}}
	for version, want := range map[string]bool{"153": true, "153.7": true, "153.7.0": true, "15": false, "153.70": false, "156": false} {
		lacks := Match(NeedsOf(map[string]string{"browser": "firefox", "version": version}), m.Facts())
		assert.Equal(t, want, lacks == nil, version)
		assert.Equal(t, want, m.Browsers[0].HasVersion(version), version)
	}
	assert.True(t, m.Browsers[0].HasVersion(""))
}

func TestNeedsOfAsksOnlyWhatAgentsProvide(t *testing.T) {
	n := NeedsOf(map[string]string{"browser": "firefox", "device": "pocket", "mode": "headed", "tariff": "winter"})
	assert.Equal(t, "browser=firefox mode=headed", n.String())
}
