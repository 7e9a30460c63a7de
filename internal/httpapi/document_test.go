package httpapi

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the document anew")

// The console's types are made from this file, so it has to be what the routes
// say.
func TestDocumentInTheConsoleIsCurrent(t *testing.T) {
	const file = "../../web/src/api/openapi.json"
	var got bytes.Buffer
	require.NoError(t, json.Indent(&got, OpenAPI("1"), "", "  "))
	if *update {
		require.NoError(t, os.WriteFile(file, got.Bytes(), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, string(want) == got.String(), "%s is not what the routes say; run: go test ./internal/httpapi -run Document -update", file)
}
