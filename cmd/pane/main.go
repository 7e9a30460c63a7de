// Command pane is Parallel Pane: the service, the agent and the client.
package main

import (
	"os"

	"parallelpane/internal/cli"
	"parallelpane/web"
)

// version is set by the build.
var version = "0.1.0-dev"

func main() {
	os.Exit(cli.Main(cli.Build{Version: version, Console: web.Console()}, os.Args[1:]))
}
