package harbour

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"testing"
)

// call sends a W3C WebDriver command where PANE_ENDPOINT says.
func call(t *testing.T, method, path, body string) (value json.RawMessage) {
	t.Helper()
	req, err := http.NewRequest(method, os.Getenv("PANE_ENDPOINT")+path, bytes.NewBufferString(body))
	if err != nil {
		t.Fatal(err)
	}
	resp, err := (&http.Client{Transport: &http.Transport{}}).Do(req) // by no proxy
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var answer struct{ Value json.RawMessage }
	if err := json.NewDecoder(resp.Body).Decode(&answer); err != nil || resp.StatusCode != http.StatusOK {
		t.Fatalf("%s %s: %s %s %v", method, path, resp.Status, answer.Value, err)
	}
	return answer.Value
}

func TestTheTideTableOpens(t *testing.T) {
	if os.Getenv("PANE_ENDPOINT") == "" {
		t.Skip("run by pane run go, which says where the browser is")
	}
	var opened struct{ SessionID string }
	if err := json.Unmarshal(call(t, "POST", "/session", `{"capabilities": {}}`), &opened); err != nil {
		t.Fatal(err)
	}
	at := "/session/" + opened.SessionID
	defer call(t, "DELETE", at, "")
	call(t, "POST", at+"/url", `{"url": "`+os.Getenv("PANE_BASE")+`/tides"}`)
	if title := string(call(t, "GET", at+"/title", "")); !strings.Contains(title, "Tide table") {
		t.Errorf("the title is %s", title)
	}
}
