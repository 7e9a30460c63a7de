package agent_test

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/adb"
	"parallelpane/internal/adb/standin"
	"parallelpane/internal/agent"
	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/link"
)

// cable is an adb server with stand-ins, which can be ended and started again.
type cable struct {
	*standin.Server
	address string
	end     func()
}

func plugged(t *testing.T, address string, phones ...standin.Phone) *cable {
	t.Helper()
	here := conformance.Browser(t, chromium.Family{})
	var l net.Listener
	require.Eventually(t, func() (ok bool) {
		var err error
		l, err = net.Listen("tcp", address)
		return err == nil
	}, 5*time.Second, 10*time.Millisecond)
	c := &cable{Server: standin.New(here.Path, here.Version, t.TempDir(), phones...), address: l.Addr().String()}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- c.Serve(ctx, l) }()
	c.end = func() {
		cancel()
		<-done
	}
	t.Cleanup(cancel)
	return c
}

// hang has the agent quay offer its phones.
func (o *office) hang(c *cable) {
	o.t.Helper()
	o.work(&pretend{}, "quay", 1)
	o.until(func() bool { all := o.svc.Agents(); return len(all) == 1 && all[0].Online })
	here := conformance.Browser(o.t, chromium.Family{})
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		agent.Phones{Server: adb.Server(c.address), Again: 100 * time.Millisecond, Of: agent.Config{Service: "http://" + o.address,
			Token: o.tokens["quay"], Name: "quay", Dir: filepath.Join(o.dir, "agents", "quay"), Log: slog.New(slog.DiscardHandler),
			Beat: 100 * time.Millisecond, Backoff: 200 * time.Millisecond, Labels: map[string]string{"site": "quay"}},
			Drivers: func() []fleet.Driver {
				return []fleet.Driver{{Name: "chromedriver", Version: here.DriverVersion, Path: here.Driver}}
			}}.Run(ctx)
	}()
	o.t.Cleanup(func() {
		cancel()
		<-done
	})
}

// phone waits until the agent of a phone is as it should be.
func (o *office) phone(name string, is func(a api.Agent) bool) (found api.Agent) {
	o.t.Helper()
	o.until(func() bool {
		all := o.svc.Agents()
		i := slices.IndexFunc(all, func(a api.Agent) bool { return a.Name == name })
		if i >= 0 {
			found = all[i]
		}
		return i >= 0 && is(found)
	})
	return found
}

func offers(a api.Agent) bool {
	return a.Online && len(a.Machine.Browsers) == 1 && a.Machine.Browsers[0].Fits
}

// counter is a site that says who looked at its first page, and who at one that never
// comes.
func counter(t *testing.T) (base string, seen, late chan string) {
	t.Helper()
	seen, late = make(chan string, 9), make(chan string, 9)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/":
			seen <- r.UserAgent()
		case "/late":
			late <- r.UserAgent()
			<-r.Context().Done()
		}
		fmt.Fprint(w, `<!doctype html><title>Harbour</title><form method=post><input type=file name=paper></form>`)
	}))
	t.Cleanup(srv.Close)
	return srv.URL, seen, late
}

// A phone is an agent of its own from when it is plugged in: work that asks for its
// system goes to it and reaches the lab's machine, other work does not.
func TestAPhoneDoesWork(t *testing.T) {
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	c := plugged(t, "127.0.0.1:0", standin.Phones[0])
	o.hang(c)
	a := o.phone("quay:Quay-7-0007", offers)
	assert.Equal(t, 1, a.Slots)
	assert.Equal(t, map[string]string{"site": "quay"}, a.Machine.Labels)
	assert.True(t, a.Machine.StandIn)
	facts := a.Machine.Facts(a.Name)
	assert.Equal(t, []string{"Quay-7"}, facts["model"])
	assert.Equal(t, []string{"411x914"}, facts["screen"])
	assert.Equal(t, []string{fleet.None}, facts["isolation"], "its browser runs on this machine, which a real one's does not")

	base, seen, _ := counter(t)
	run := o.ended(o.runOn("browser: [chrome], os: [android]", base, 2, "  - expect: {title: Harbour}\n"+
		"  - if: not device.small or os != \"android\"\n    expect: {title: of a phone}\n"))
	assert.Equal(t, verdict.Counts{verdict.Passed: 2}, run.Counts, "%+v", run.Cells)
	assert.Equal(t, "quay:Quay-7-0007", run.Cells[0][0].Agent)
	assert.Contains(t, <-seen, "Mobile")
	lacks := fleet.Match(fleet.Needs{"browser": {"chrome"}}, facts)
	require.Len(t, lacks, 1)
	assert.Equal(t, "os: wants one that is no phone, unless android is asked for, has android", lacks[0].String())

	c.Lock("STANDIN0007", true)
	a = o.phone(a.Name, func(a api.Agent) bool { return !a.Machine.Browsers[0].Fits })
	assert.Equal(t, "the phone is locked", a.Machine.Browsers[0].Problem)
	c.Lock("STANDIN0007", false)
	o.phone(a.Name, offers)
}

// What a phone was doing when it was pulled out, or when its server went, is the lab's
// fault in these words; back again, it takes the rest.
func TestAPhoneThatGoesIsALabFault(t *testing.T) {
	for what, goes := range map[string]func(t *testing.T, c *cable) *cable{
		"the phone was pulled out": func(_ *testing.T, c *cable) *cable {
			c.Set("STANDIN0007", "")
			return c
		},
		"has gone": func(t *testing.T, c *cable) *cable {
			c.end()
			return plugged(t, c.address, standin.Phones[0])
		},
	} {
		t.Run(what, func(t *testing.T) {
			o := opened(t, t.TempDir(), "127.0.0.1:0")
			c := plugged(t, "127.0.0.1:0", standin.Phones[0])
			o.hang(c)
			o.phone("quay:Quay-7-0007", offers)
			base, _, late := counter(t)
			number := o.runOn("browser: [chrome], os: [android]", base, 1, "  - visit: /late\n")
			<-late
			c = goes(t, c)
			var a api.Attempt
			o.until(func() bool {
				res, err := o.svc.TestOfRun(t.Context(), number, 0)
				if err == nil && len(res.Results) > 0 && len(res.Results[0].Attempts) > 0 {
					a = res.Results[0].Attempts[0]
				}
				return a.Verdict != ""
			})
			assert.Equal(t, verdict.LabFault, a.Verdict)
			assert.Contains(t, a.Message, what)
			if what != "has gone" {
				o.phone("quay:Quay-7-0007", func(a api.Agent) bool { return !a.Online })
				c.Set("STANDIN0007", adb.Ready)
			}
			o.phone("quay:Quay-7-0007", offers)
		})
	}
}

// Whoever has an agent's token speaks for its phones, and for nobody else.
func TestWhoMaySpeakForAPhone(t *testing.T) {
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	say := func(token, phone, name string) (int, string) {
		t.Helper()
		body := fmt.Sprintf(`{"name":%q,"instance":"i","held":[],
			"machine":{"slots":1,"os":"android","browsers":[],"drivers":[],"labels":{}}}`, name)
		address := "http://" + o.address + "/api/v1" + link.HelloPath
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, address, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer "+token)
		if phone != "" {
			req.Header.Set(link.PhoneHeader, phone)
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		var text [2000]byte
		n, _ := resp.Body.Read(text[:])
		return resp.StatusCode, string(text[:n])
	}
	_, unbound, err := o.svc.AddToken(t.Context(), api.TokenRequest{Name: "new", Role: api.AgentRole})
	require.NoError(t, err)
	quay, pier := o.agentToken("quay"), o.agentToken("pier")
	for _, c := range []struct {
		token, phone, name string
		status             int
		says               string
	}{
		{quay, "Quay-7", "quay:Quay-7", 403, "which has to join first"},
		{quay, "", "quay", 200, "ticket"},
		{quay, "Quay-7", "quay:Quay-7", 200, "ticket"},
		{quay, "", "quay:Quay-7", 403, "belongs to the agent quay"},
		{pier, "", "quay:Quay-7", 403, "belongs to the agent pier"},
		{pier, "Quay-7", "quay:Quay-7", 403, "belongs to the agent pier:Quay-7"},
		{unbound, "Quay-7", "quay:Quay-7", 403, "which has to join first"},
		{unbound, "", "new:Quay-7", 403, "which has to join first"},
		{quay, "../x", "quay:../x", 422, "is no name of a phone"},
		{quay, "a:b", "quay:a:b", 422, "is no name of a phone"},
	} {
		status, text := say(c.token, c.phone, c.name)
		assert.Equal(t, c.status, status, "%s %s: %s", c.phone, c.name, text)
		assert.Contains(t, text, c.says)
	}
}
