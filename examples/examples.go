// Package examples holds suites of the berth desk in several languages, as a team would
// bring them: none knows more of the lab than the variable that says where its browser is.
package examples

import "embed"

// Files is the project.
//
//go:embed pane.yaml node shell python go java
var Files embed.FS
