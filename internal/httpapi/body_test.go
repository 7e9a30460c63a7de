package httpapi_test

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Whoever sends too much reads that it was too much, however slowly it is taken:
// the connection is not closed while the rest is still on its way.
func TestTooMuchIsSaidToWhoeverSendsIt(t *testing.T) {
	x := start(t, t.TempDir())
	body := bytes.Repeat([]byte("x"), 24<<20)
	for i := range 8 {
		a := x.do("POST", "/api/v1/runs", x.token, body)
		assert.Equal(t, 413, a.status, fmt.Sprint(i))
		assert.Contains(t, a.detail(), "larger than 8 MiB")
	}
}
