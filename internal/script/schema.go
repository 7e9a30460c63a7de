package script

import _ "embed"

// Schema is the JSON Schema (draft 2020-12) of the script format, for editors.
// The parser is stricter: it compiles expressions and knows keys.
//
//go:embed script.schema.json
var Schema []byte
