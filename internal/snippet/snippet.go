// Package snippet writes complete small programs that open a session in the lab
// over plain HTTP, in several languages.
package snippet

import (
	"embed"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"text/template"

	"parallelpane/internal/api"
)

//go:embed examples/*.tmpl
var examples embed.FS

// Languages lists them.
var Languages = []api.Language{{Name: "shell", Title: "Shell", File: "session.sh"}, {Name: "go", Title: "Go", File: "session.go"},
	{Name: "javascript", Title: "JavaScript", File: "session.mjs"},
	{Name: "python", Title: "Python", File: "session.py"}, {Name: "java", Title: "Java", File: "Session.java"}, {Name: "csharp",
		Title: "C#", File: "Program.cs"}}

// DefaultAddress is the page that examples look at when none is named.
const DefaultAddress = "data:text/html,<title>Saltmarsh Harbour</title>"

// Request says what an example is to do.
type Request struct {
	Service string         // address of the service
	Caps    map[string]any // for alwaysMatch
	Address string         // of the page to look at
}

// Write writes the example in a language.
func Write(language string, r Request) (string, error) {
	if !slices.ContainsFunc(Languages, func(l api.Language) bool { return l.Name == language }) {
		return "", fmt.Errorf("there is no example in %q: there are shell, go, javascript, python, java and csharp", language)
	}
	if r.Address == "" {
		r.Address = DefaultAddress
	}
	for what, address := range map[string]string{"service": r.Service, "page": r.Address} {
		if _, err := url.Parse(address); err != nil || strings.ContainsAny(address, "\"'`\\\n\r$") {
			return "", fmt.Errorf("the address of the %s cannot be written into a program: %.200q", what, address)
		}
	}
	body := map[string]any{"capabilities": map[string]any{"alwaysMatch": r.Caps}}
	indented, err := marshal(body, "  ")
	if err != nil {
		return "", err
	}
	plain, err := marshal(body, "")
	if err != nil {
		return "", err
	}
	t, err := template.ParseFS(examples, "examples/"+language+".tmpl")
	if err != nil {
		return "", err
	}
	var out strings.Builder
	err = t.Execute(&out, map[string]string{"Service": r.Service, "Address": r.Address, "Indented": indented,
		"Shell": strings.ReplaceAll(plain, "'", `'\''`), "Java": strings.ReplaceAll(indented, `\`, `\\`)})
	return out.String(), err
}

// marshal writes JSON that every language's raw strings can hold: characters
// that end one of them are escaped.
func marshal(v any, indent string) (string, error) {
	var b strings.Builder
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", indent)
	if err := enc.Encode(v); err != nil {
		return "", err
	}
	s := strings.NewReplacer("`", `\u0060`, "'", `\u0027`).Replace(strings.TrimSpace(b.String()))
	return strings.ReplaceAll(s, `\"`, `\u0022`), nil
}
