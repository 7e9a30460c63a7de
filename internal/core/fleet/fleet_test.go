package fleet

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func quay() Machine {
	return Machine{OS: "linux", Arch: "amd64", Labels: map[string]string{"site": "quay"}, Browsers: []Browser{
		{Name: "chromium", Fits: true}, {Name: "firefox", Fits: true}, {Name: "webkitgtk", Problem: "no driver"},
	}}
}

func TestFactsCountOnlyBrowsersThatFit(t *testing.T) {
	f := quay().Facts("quay-1")
	assert.Equal(t, []string{"chromium", "firefox"}, f["browser"])
	assert.Equal(t, []string{"headless"}, f["mode"])
	assert.Equal(t, []string{"quay"}, f["site"])
}

func TestMatch(t *testing.T) {
	f := quay().Facts("quay-1")
	assert.Nil(t, Match(Needs{"browser": {"firefox"}, "os": {"linux", "macos"}}, f))
	lacks := Match(Needs{"os": {"macos"}, "browser": {"webkitgtk"}}, f)
	assert.Equal(t, []Lack{
		{"browser", []string{"webkitgtk"}, []string{"chromium", "firefox"}},
		{"os", []string{"macos"}, []string{"linux"}},
	}, lacks)
	assert.Equal(t, "browser: wants webkitgtk, has chromium, firefox", lacks[0].String())
	assert.Equal(t, "gpu: wants yes, has none", Match(Needs{"gpu": {"yes"}}, f)[0].String())
}

func TestAskSortsMembersAndExplains(t *testing.T) {
	mac := Facts{"os": {"macos"}, "browser": {"webkitgtk"}}
	members := []Member{
		{Name: "quay-1", Facts: quay().Facts("quay-1")},
		{Name: "quay-2", Facts: quay().Facts("quay-1"), Busy: true},
		{Name: "pier-1", Facts: mac, Away: "offline"},
	}
	a := Ask(Needs{"browser": {"chromium"}}, members)
	assert.Equal(t, []string{"quay-1"}, a.Idle)
	assert.Equal(t, []string{"quay-2"}, a.Busy)
	assert.Contains(t, a.Others, "pier-1")
	assert.True(t, a.Possible())

	assert.Equal(t, map[string]string{"pier-1": "offline"}, Ask(Needs{"browser": {"webkitgtk"}}, members).Away)

	needs := Needs{"browser": {"webkitgtk"}, "os": {"linux"}}
	a = Ask(needs, members)
	assert.False(t, a.Possible())
	assert.Equal(t, "no agent has browser=webkitgtk os=linux; nearest: pier-1 (os: wants linux, has macos), "+
		"quay-1, quay-2 (browser: wants webkitgtk, has chromium, firefox)", a.Explain(needs))
	assert.Contains(t, Ask(needs, nil).Explain(needs), "no agent has joined yet")
}

func TestVersionsMatchByTheirBeginning(t *testing.T) {
	m := Machine{Browsers: []Browser{{Name: "firefox", Version: "153.7.0", Fits: true}, {Name: "chromium", Version: "156.0.1", Fits: true}}}
	for version, want := range map[string]bool{"153": true, "153.7": true, "153.7.0": true, "15": false, "153.70": false, "156": false} {
		lacks := Match(NeedsOf("", map[string]string{"browser": "firefox", "version": version}), m.Facts("quay-1"))
		assert.Equal(t, want, lacks == nil, version)
		assert.Equal(t, want, m.Browsers[0].HasVersion(version), version)
	}
	assert.True(t, m.Browsers[0].HasVersion(""))
}

func TestBrowserEngineAndVersionAreOfOneBrowser(t *testing.T) {
	m := Machine{Browsers: []Browser{{Name: "firefox", Engine: "gecko", Version: "153.7.0", Fits: true}, {Name: "chromium",
		Engine: "chromium", Version: "156.0.1", Fits: true},
		{Name: "webkitgtk", Engine: "webkit", Version: "2.50", Problem: "no driver"}}}
	for words, want := range map[string]string{
		"engine=gecko": "", "engine=gecko|webkit": "", "browser=firefox engine=gecko version=153": "", "engine=gecko version=153": "",
		"engine=webkit":                       "engine: wants webkit, has chromium chromium, firefox gecko",
		"browser=firefox engine=chromium":     "engine: wants chromium, has firefox gecko",
		"engine=gecko version=156":            "version: wants 156, has firefox 153.7.0",
		"browser=ibis engine=gecko version=1": "browser: wants ibis, has chromium, firefox",
	} {
		needs, err := ParseNeeds(strings.Fields(words))
		require.NoError(t, err)
		var got []string
		for _, l := range Match(needs, m.Facts("quay-1")) {
			slices.Sort(l.Have)
			got = append(got, l.String())
		}
		assert.Equal(t, want, strings.Join(got, "; "), words)
	}
	assert.True(t, m.Browsers[0].Serves(map[string]string{"engine": "gecko", "device": "phone"}))
	assert.False(t, m.Browsers[0].Serves(map[string]string{"browser": "firefox", "engine": "chromium"}))
	assert.False(t, m.Browsers[2].Serves(map[string]string{"engine": "webkit"}), "its driver is missing")
	lab := Lab{Members: []Member{{Name: "quay-1", Facts: m.Facts("quay-1")}}}
	assert.Equal(t, []string{"153.7.0"}, lab.Versions(map[string]string{"engine": "gecko"}))
	assert.Empty(t, lab.Versions(map[string]string{"browser": "firefox", "engine": "chromium"}))
}

func TestNeedsOfAsksOnlyWhatAgentsProvide(t *testing.T) {
	n := NeedsOf("", map[string]string{"browser": "firefox", "device": "pocket", "mode": "headed", "tariff": "winter"})
	assert.Equal(t, "browser=firefox mode=headed pool=shared", n.String())
	assert.Equal(t, "browser=firefox mode=headed", n.Plain())
}

func TestVersionsBelongToTheBrowserAskedFor(t *testing.T) {
	f := Machine{Browsers: []Browser{{Name: "firefox", Version: "153.7.0", Fits: true}, {Name: "chromium",
		Version: "156.0.1", Fits: true}}}.Facts("a")
	assert.Nil(t, Match(Needs{"version": {">=155"}}, f))
	assert.Nil(t, Match(Needs{"version": {"<100", ">=150 <154"}, "browser": {"firefox"}}, f))
	lacks := Match(Needs{"version": {">=155"}, "browser": {"firefox"}}, f)
	assert.Equal(t, "version: wants >=155, has firefox 153.7.0", lacks[0].String())
}

func TestBoundsOnNumbers(t *testing.T) {
	f := Machine{Cores: 8, MemoryMB: 15900}.Facts("a")
	assert.Nil(t, Match(Needs{"cores": {">=4"}, "memory_mb": {">8000"}}, f))
	assert.Len(t, Match(Needs{"cores": {">8"}}, f), 1)
}

func TestPools(t *testing.T) {
	own, shared := Machine{Pool: "tides"}.Facts("own"), Machine{}.Facts("shared")
	for project, want := range map[string][2]bool{"tides": {true, true}, "berths": {false, true}} {
		n := NeedsOf(project, nil)
		assert.Equal(t, want, [2]bool{Match(n, own) == nil, Match(n, shared) == nil}, project)
	}
	assert.Equal(t, "pool: wants shared or berths, has tides", Match(NeedsOf("berths", nil), own)[0].String())
}

func TestParseNeeds(t *testing.T) {
	n, err := ParseNeeds([]string{"browser=firefox|chromium", "version=>=140 <160", "site=quay"})
	assert.NoError(t, err)
	assert.Equal(t, Needs{"browser": {"firefox", "chromium"}, "version": {">=140 <160"}, "site": {"quay"}}, n)
	for word, want := range map[string]string{"firefox": "is not a need", "=x": "is not a need", "a=": "is not a need", "a=b|": "empty value",
		"version=newest": "chooses no version", "cores=>many": "chooses no version"} {
		_, err := ParseNeeds([]string{word})
		assert.ErrorContains(t, err, want, word)
	}
	_, err = ParseNeeds([]string{"a=1", "a=2"})
	assert.ErrorContains(t, err, "twice")
}

func TestLabelsCannotPoseAsFacts(t *testing.T) {
	f := Machine{OS: "linux", Labels: map[string]string{"os": "macos", "pool": "tides", "site": "quay"}}.Facts("a")
	assert.Equal(t, []string{"linux"}, f["os"])
	assert.Equal(t, []string{Shared}, f["pool"])
	assert.Equal(t, []string{"quay"}, f["site"])
}

func TestALabOfMembers(t *testing.T) {
	lab := Lab{Project: "berths", Members: []Member{
		{Name: "a", Facts: Machine{Browsers: []Browser{{Name: "kestrel", Version: "12.1", Fits: true}, {Name: "kestrel",
			Version: "9.4", Fits: true}}}.Facts("a")},
		{Name: "b", Facts: Machine{Pool: "tides", Browsers: []Browser{{Name: "kestrel", Version: "13.0", Fits: true}}}.Facts("b")},
	}}
	assert.Equal(t, []string{"9.4", "12.1"}, lab.Versions(map[string]string{"browser": "kestrel"}))
	assert.Empty(t, lab.Lacks(map[string]string{"browser": "kestrel", "version": "12"}))
	assert.Contains(t, lab.Lacks(map[string]string{"browser": "kestrel", "version": "13"}), "nearest: a (version: wants 13, has "+
		"kestrel 12.1, kestrel 9.4)")
	assert.Empty(t, Lab{}.Lacks(map[string]string{"browser": "kestrel"}))
}

func TestAgentsThatLackTheSameStandTogether(t *testing.T) {
	has := func(name, browser string) Member {
		return Member{Name: name, Facts: Facts{"browser": {browser}, "os": {"saltos"}}}
	}
	needs := Needs{"browser": {"osprey"}, "version": {"7"}}
	a := Ask(needs, []Member{has("gull-1", "kestrel"), has("gull-2", "kestrel"), has("gull-3", "kestrel"), has("tern", "heron")})
	groups := a.Alike()
	assert.Len(t, groups, 2)
	assert.Equal(t, []string{"gull-1", "gull-2", "gull-3"}, groups[0].Agents)
	assert.Len(t, groups[0].Lacks, 1, "where the browser is lacking its version says nothing")
	assert.Equal(t, "no agent has browser=osprey version=7; nearest: gull-1 and 2 more (browser: wants osprey, has kestrel), tern "+
		"(browser: wants osprey, has heron)", a.Explain(needs))
}

// A browser on a phone is another thing than one of the same name on a desk: it serves
// work that asks for phones, and its versions count there.
func TestPhonesServeWhatAsksForThem(t *testing.T) {
	phone := Machine{OS: Android, Model: "Quay-7", Screen: "411x914", Browsers: []Browser{{Name: "chrome", Engine: "chromium",
		Version: "151.0.1", Fits: true}}}
	table := Machine{OS: "linux", Browsers: []Browser{{Name: "chrome", Engine: "chromium", Version: "150.0.1", Fits: true}}}
	name := PhoneOf("quay", "Quay-7-0007")
	facts := phone.Facts(name)
	for text, fits := range map[string]bool{"browser=chrome": false, "engine=chromium": false, "browser=chrome os=android": true,
		"model=Quay-7":                  true,
		"screen=411x914 browser=chrome": true, "agent=quay:Quay-7-0007": true, "os=linux|android": true, "browser=firefox os=android": false,
		"browser=chrome os=linux": false} {
		needs, err := ParseNeeds(strings.Fields(text))
		require.NoError(t, err)
		assert.Equal(t, fits, Match(needs, facts) == nil, text)
	}
	assert.Nil(t, Has(Needs{"browser": {"chrome"}}, facts), "it has one all the same")
	lab := Lab{Members: []Member{{Name: name, Facts: facts}, {Name: "quay", Facts: table.Facts("quay")}}}
	assert.Equal(t, []string{"150.0.1"}, lab.Versions(map[string]string{"browser": "chrome"}))
	assert.Equal(t, []string{"151.0.1"}, lab.Versions(map[string]string{"browser": "chrome", "os": Android}))
	for name, is := range map[string]bool{"quay": true, "quay:Quay-7": true, ":x": false, "quay:": false, "a:b:c": false, "a/b": false} {
		assert.Equal(t, is, IsAgent(name), name)
	}
}
