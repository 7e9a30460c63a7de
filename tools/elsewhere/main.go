// Command elsewhere type-checks the program for systems that it is not built
// on. That finds what a build there would, short of the linker, in a small part
// of the time: nothing is compiled.
package main

import (
	"fmt"
	"os"

	"golang.org/x/tools/go/packages"
)

func main() {
	wrong := 0
	for _, system := range os.Args[1:] {
		all, err := packages.Load(&packages.Config{
			Mode: packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedImports |
				packages.NeedDeps | packages.NeedTypes | packages.NeedSyntax | packages.NeedModule,
			Env: append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0"),
		}, "./cmd/pane")
		if err != nil {
			fmt.Fprintf(os.Stderr, "elsewhere: %s: %v\n", system, err)
			os.Exit(1)
		}
		packages.Visit(all, nil, func(p *packages.Package) {
			for _, e := range p.Errors {
				fmt.Fprintf(os.Stderr, "%s: %s\n", system, e)
				wrong++
			}
		})
	}
	if wrong > 0 {
		os.Exit(1)
	}
}
