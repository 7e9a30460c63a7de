package project

import _ "embed"

// Schema is the JSON Schema (draft 2020-12) of pane.yaml, for editors.
//
//go:embed project.schema.json
var Schema []byte
