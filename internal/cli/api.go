package cli

import (
	"errors"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/httpapi"
)

func (r *root) apiCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "api", Short: "Print the service's API as OpenAPI 3.1, or call it", Args: cobra.NoArgs,
		Long: "Print what the service answers as an OpenAPI 3.1 document, or with get what it answers to a path of it, with this client's\n" +
			"token. Everything that the console shows is there.",
		Example: "  pane api > openapi.json\n  pane api get \"/runs?verdict=failed&limit=5\"\n  pane api get /runs/812/as/csv > 812.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := r.out.Write(append(httpapi.OpenAPI(r.build.Version), '\n'))
			return err
		},
	}
	cmd.AddCommand(&cobra.Command{
		Use: "get PATH", Short: "Print what the service answers to a path", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/" + strings.TrimLeft(strings.TrimPrefix(strings.TrimLeft(args[0], "/"), strings.TrimLeft(httpapi.Prefix, "/")), "/")
			c, err := r.client()
			if err != nil {
				return err
			}
			resp, err := c.Do(cmd.Context(), "GET", path, nil)
			if err != nil {
				return err
			}
			_, err = io.Copy(r.out, resp.Body)
			return errors.Join(err, resp.Body.Close())
		},
	})
	return cmd
}
