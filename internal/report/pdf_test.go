package report

import (
	"bytes"
	"image"
	"image/png"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

func TestPDFWithoutABrowser(t *testing.T) {
	run, causes := told7()
	run.Tests[0].Name = "Tide 🌊 table \u202e" + strings.Repeat("long ", 200)
	var shot bytes.Buffer
	require.NoError(t, png.Encode(&shot, image.NewGray(image.Rect(0, 0, 400, 900))))
	pictures := map[[2]int]string{{1, 0}: "image/png", {1, 1}: "image/png", {2, 0}: "image/webp"}
	asked := 0
	draw := func() []byte {
		var out bytes.Buffer
		require.NoError(t, PDF(&out, Page{Run: run, Causes: causes, Address: "https://lab.example/runs/7", Picture: func(pane,
			test int) ([]byte, string) {
			asked++
			if pane == 1 && test == 1 {
				return []byte("no picture at all"), "image/png" // which spoils nothing
			}
			return shot.Bytes(), pictures[[2]int{pane, test}]
		}}))
		return out.Bytes()
	}
	pdf := draw()
	assert.Equal(t, "%PDF-", string(pdf[:5]))
	assert.Contains(t, string(pdf[len(pdf)-8:]), "%%EOF")
	assert.Len(t, regexp.MustCompile(`/Subtype /Image`).FindAll(pdf, -1), 2, "the wall and one picture")
	assert.Equal(t, 3, asked, "for each that did not pass")
	few := len(regexp.MustCompile(`/Type /Page\b`).FindAll(pdf, -1))
	for range 300 { // more than are told one by one
		run.Tests = append(run.Tests, api.Test{Name: "Berth"})
		for i := range run.Cells {
			run.Cells[i] = append(run.Cells[i], api.Cell{State: api.Ended, Verdict: verdict.Failed, Message: "no"})
		}
	}
	assert.Greater(t, len(regexp.MustCompile(`/Type /Page\b`).FindAll(draw(), -1)), few+5)
	require.NoError(t, PDF(new(bytes.Buffer), Page{Run: api.Run{}}), "of nothing")
}
