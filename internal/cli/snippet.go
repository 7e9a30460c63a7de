package cli

import (
	"errors"
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

func (r *root) snippetCmd() *cobra.Command {
	values := map[string]*string{}
	var bidi bool
	var language string
	cmd := &cobra.Command{
		Use: "snippet", Short: "Print a program that opens a session in the lab", Args: cobra.NoArgs,
		Long: `Print a complete small program that opens a session over plain HTTP with what you ask for, looks at a
page and says how it went; and how many agents could serve it now. The token stays in the environment.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			q := url.Values{"service": {c.Base}}
			for name, v := range values {
				if *v != "" {
					q.Set(name, *v)
				}
			}
			if bidi {
				q.Set("bidi", "yes")
			}
			var s api.Snippets
			if err := c.Get(cmd.Context(), "/snippets?"+q.Encode(), &s); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(s)
			}
			code, ok := s.Code[language]
			if !ok {
				return usage("--in: there is no example in %q: there are shell, go, javascript, python, java and csharp", language)
			}
			fmt.Fprint(r.out, code)
			fmt.Fprintf(r.err, "\nagents that could serve it: %d idle, %d busy, %d away\n", len(s.Agents.Idle),
				len(s.Agents.Busy), len(s.Agents.Away))
			if s.Why != "" {
				return &exitError{verdict.ExitLab, errors.New(s.Why)}
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&language, "in", "shell", "shell, go, javascript, python, java or csharp")
	for _, flag := range [][2]string{
		{"browser", "such as firefox"}, {"version", "a version, its beginning, a range or latest"}, {"os", "such as linux"},
		{"device", "of pane devices"}, {"mode", "headless or headed"},
		{"labels", "LABEL=VALUE, separated by spaces"}, {"test", "name of the test"}, {"run", "name of the run"}, {"project", "project"},
		{"tags", "separated by spaces"},
		{"record", "KIND=KEEP, separated by spaces"},
		{"traffic", "what the way to the site is held to, such as \"down=1500 up=750 delay=120\""}, {"relay",
			"name of the open relay that leads to the application"}, {"address", "page to look at"},
	} {
		values[flag[0]] = f.String(flag[0], "", flag[1])
	}
	f.BoolVar(&bidi, "bidi", false, "ask for a BiDi connection")
	return cmd
}
