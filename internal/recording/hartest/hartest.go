// Package hartest holds archives against the published JSON Schema of HAR 1.2,
// for tests.
package hartest

import (
	"bytes"
	"embed"
	"fmt"
	"path"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

//go:embed schema
var schema embed.FS

// Check says what of an archive is not as the schema wants it.
func Check(archive []byte) error {
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	files, err := schema.ReadDir("schema")
	if err != nil {
		return err
	}
	for _, f := range files {
		if path.Ext(f.Name()) != ".json" {
			continue
		}
		raw, err := schema.ReadFile("schema/" + f.Name())
		if err != nil {
			return err
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name(), err)
		}
		doc.(map[string]any)["$id"] = "http://har.example/" + f.Name() // the published ids are relative
		if err := c.AddResource("http://har.example/"+f.Name(), doc); err != nil {
			return err
		}
	}
	s, err := c.Compile("http://har.example/har.json")
	if err != nil {
		return err
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(archive))
	if err != nil {
		return err
	}
	return s.Validate(v)
}
