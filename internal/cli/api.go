package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/client"
	"parallelpane/internal/core/verdict"
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
	cmd.AddCommand(r.apiGetCmd())
	return cmd
}

func (r *root) apiGetCmd() *cobra.Command {
	all, etag := false, ""
	cmd := &cobra.Command{
		Use: "get PATH", Short: "Print what the service answers to a path", Args: cobra.ExactArgs(1),
		Long: "Print what the service answers to a path. Lists come a page at a time: --all goes on to the last one. With --etag, that of an\n" +
			"answer before (pane api get --etag '' prints it), nothing is printed where the answer is still the same.\n\n" +
			"Exit code: 0 it answered, 1 with --etag: it is still the same, 2 it did not.",
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/" + strings.TrimLeft(strings.TrimPrefix(strings.TrimLeft(args[0], "/"), strings.TrimLeft(httpapi.Prefix, "/")), "/")
			c, err := r.client()
			if err != nil {
				return err
			}
			if all {
				return r.wholeList(cmd.Context(), c, path)
			}
			head := http.Header{}
			if etag != "" {
				head.Set("If-None-Match", etag)
			}
			resp, err := c.Ask(cmd.Context(), "GET", path, nil, head)
			if err != nil {
				return err
			}
			if tag := resp.Header.Get("ETag"); cmd.Flags().Changed("etag") && tag != "" {
				fmt.Fprintln(r.err, tag)
			}
			if resp.StatusCode == http.StatusNotModified {
				return errors.Join(silent(verdict.ExitFailed), resp.Body.Close())
			}
			_, err = io.Copy(r.out, resp.Body)
			return errors.Join(err, resp.Body.Close())
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "of a list: every page")
	cmd.Flags().StringVar(&etag, "etag", "", "print nothing where the answer is still the one that had this ETag")
	return cmd
}

// wholeList prints every page of a list as one.
func (r *root) wholeList(ctx context.Context, c *client.Client, path string) error {
	list := []json.RawMessage{}
	for path != "" {
		resp, err := c.Do(ctx, "GET", path, nil)
		if err != nil {
			return err
		}
		var page []json.RawMessage
		err = errors.Join(json.NewDecoder(resp.Body).Decode(&page), resp.Body.Close())
		if err != nil {
			return usage("%s is no list: leave out --all", path)
		}
		list = append(list, page...)
		path = ""
		if next, ok := strings.CutSuffix(resp.Header.Get("Link"), `>; rel="next"`); ok {
			path = strings.TrimPrefix(strings.TrimPrefix(next, "<"), httpapi.Prefix)
		}
	}
	return r.writeJSON(list)
}
