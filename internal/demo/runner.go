package demo

import (
	"context"
	"net/http"
	"strings"

	"parallelpane/internal/webdriver"
)

// RunnersRun is the run that the demo's own runner names.
const RunnersRun = "harbour build 812"

// Runner is a small runner of its own, as a harbour's team might have one: it
// opens a session for each of its two tests through the session endpoint, on a
// browser of the lab, and says how they went. One of its tests gives a boat's
// length with a fraction, which the desk refuses.
func Runner(ctx context.Context, lab *webdriver.Client, site, browser string) error {
	for _, t := range []struct {
		name string
		tag  string
		do   func(context.Context, *webdriver.Session, string) (wrong string, err error)
	}{{"A fractional boat finds a berth", "berths", holdABerth}, {"The tide table names the day's highs", "tides", readTheTides}} {
		s, err := lab.New(ctx, webdriver.Capabilities{"browserName": browser, "browserVersion": "latest", "pane:options": map[string]any{
			"test": t.name, "run": RunnersRun, "project": "saltmarsh", "tags": []string{t.tag}, "record": "always"}})
		if err != nil {
			return err
		}
		wrong, err := t.do(ctx, s, site)
		if err == nil {
			said := map[string]string{"verdict": "passed"}
			if wrong != "" {
				said = map[string]string{"verdict": "failed", "message": wrong}
			}
			err = s.Do(ctx, http.MethodPost, "/pane/verdict", said, nil)
		}
		if closing := s.Close(ctx); err == nil {
			err = closing
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func holdABerth(ctx context.Context, s *webdriver.Session, site string) (string, error) {
	if err := s.Navigate(ctx, site+"/berths/A1"); err != nil {
		return "", err
	}
	for name, text := range map[string]string{"boat": "Grey Osprey", "length": "7.2"} {
		e, err := s.Find(ctx, "css selector", "input[name="+name+"]")
		if err == nil {
			err = s.SendKeys(ctx, e, text)
		}
		if err != nil {
			return "", err
		}
	}
	hold, err := s.Find(ctx, "css selector", "form button:not([type=button])")
	if err == nil {
		err = s.Click(ctx, hold)
	}
	if err != nil {
		return "", err
	}
	_, err = s.Find(ctx, "xpath", "//h1[contains(., 'held')]")
	if webdriver.CodeOf(err) != webdriver.NoSuchElement {
		return "", err
	}
	said, err := s.Find(ctx, "css selector", "[role=alert]")
	if webdriver.CodeOf(err) == webdriver.NoSuchElement {
		return "the berth was not held, and the desk does not say why", nil
	}
	if err != nil {
		return "", err
	}
	text, err := s.Text(ctx, said)
	return "the berth was not held: " + text, err
}

func readTheTides(ctx context.Context, s *webdriver.Session, site string) (string, error) {
	if err := s.Navigate(ctx, site+"/"); err != nil {
		return "", err
	}
	if err := s.Navigate(ctx, site+"/tides"); err != nil {
		return "", err
	}
	title, err := s.Title(ctx)
	if err != nil || !strings.Contains(title, "Tide table") {
		return "the page is called " + title, err
	}
	rows, err := s.FindAll(ctx, "css selector", "table tr")
	if err == nil && len(rows) < 2 {
		return "the table has no rows", nil
	}
	return "", err
}
