package walls

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/record"
	"parallelpane/internal/store"
)

// Whatever an attempt says in detail, the records give it back as it was.
func TestDetailsComeBackWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := attempt.Detail{Browser: "firefox", Version: "153.7", Device: rapid.SampledFrom([]string{"", "phone"}).Draw(t, "device"),
			Emulated: device.Outcome{}, StartMS: rapid.Int64Range(0, 1e6).Draw(t, "start"), DriverMS: rapid.Int64Range(0, 1e6).Draw(t, "driver"),
			Record: record.Default(rapid.Bool().Draw(t, "remote")), End: rapid.String().Draw(t, "end"), Steps: []attempt.Step{}}
		at := int64(0)
		for i := range rapid.IntRange(0, 12).Draw(t, "steps") {
			s := attempt.Step{Index: i, Title: rapid.SampledFrom([]string{"Visit /", "Hold a berth"}).Draw(t, "title"), StartMS: at +
				rapid.Int64Range(-3, 90).Draw(t, "gap"),
				TookMS: rapid.Int64Range(0, 1e5).Draw(t, "took"), State: rapid.SampledFrom([]attempt.State{attempt.Passed, attempt.Passed,
					attempt.Failed, attempt.Unrun}).Draw(t, "state")}
			if s.State == attempt.Failed || rapid.IntRange(0, 9).Draw(t, "says") == 0 {
				s.Message, s.Site, s.Shot = rapid.String().Draw(t, "message"), rapid.Bool().Draw(t, "site"), "failure.png"
			}
			at = s.StartMS + s.TookMS
			d.Steps = append(d.Steps, s)
		}
		if rapid.Bool().Draw(t, "given") {
			d.Given = json.RawMessage(`{"browserName":"firefox"}`)
		}
		if rapid.Bool().Draw(t, "lacking") {
			d.Lacking, d.Cut = []attempt.NotRecorded{{Kind: record.Video, Reason: "no display"}}, []string{strings.Repeat("much ", 50)}
		}
		got, err := Unpack(Pack(d))
		require.NoError(t, err)
		require.JSONEq(t, store.JSON(d), store.JSON(got))
	})
	_, err := Unpack(store.Detail{})
	require.ErrorContains(t, err, "what an attempt says in detail")
}
