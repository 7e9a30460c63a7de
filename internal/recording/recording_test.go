package recording

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever commands a session had, they are read as they were written, and a
// file that was cut off anywhere gives those that are whole.
func TestCommandsAreReadAsTheyWereWritten(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		path := filepath.Join(dir, CommandsFile)
		l, err := CreateLines(path)
		require.NoError(t, err)
		var all []Command
		for i := range rapid.IntRange(0, 8).Draw(t, "commands") {
			result, err := json.Marshal(rapid.String().Draw(t, "result"))
			require.NoError(t, err)
			c := Command{Number: i + 1, AtMS: rapid.Float64Range(0, 1e7).Draw(t, "at"), Name: rapid.SampledFrom([]string{"Navigate To",
				"GET /harbour"}).Draw(t, "name"), Method: "GET", Path: rapid.String().Draw(t, "path"),
				Status: rapid.SampledFrom([]int{0, 200, 404}).Draw(t, "status"), Error: rapid.SampledFrom([]string{"", "no such element"}).Draw(t,
					"error"), Result: result, By: rapid.SampledFrom([]string{"", "tern"}).Draw(t, "by")}
			raw, err := json.Marshal(c)
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(raw, &c), "as JSON can carry it")
			require.NoError(t, l.Add(c))
			all = append(all, c)
			if rapid.Bool().Draw(t, "flush") {
				require.NoError(t, l.Flush())
			}
		}
		lost, err := l.Close()
		require.NoError(t, err)
		require.Zero(t, lost)
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		got, err := Read[Command](strings.NewReader(string(raw)))
		require.NoError(t, err)
		require.Equal(t, all, got, "in order")

		cut := string(raw[:rapid.IntRange(0, len(raw)).Draw(t, "cut")])
		got, err = Read[Command](strings.NewReader(cut))
		require.NoError(t, err)
		whole := strings.Count(cut, "\n")
		require.GreaterOrEqual(t, len(got), whole)
		require.LessOrEqual(t, len(got), whole+1, "a last line that is whole but for its end counts")
		require.ElementsMatch(t, all[:len(got)], got)
	})
}

func TestALineThatIsNoneIsNamed(t *testing.T) {
	_, err := Read[Line](strings.NewReader("{\"text\":\"a\"}\nnot JSON\n{\"text\":\"b\"}\n"))
	assert.ErrorContains(t, err, "line 2: ")
	got, err := Read[Line](strings.NewReader("{\"text\":\"a\"}\n{\"text\":"))
	require.NoError(t, err)
	assert.Equal(t, []Line{{Text: "a"}}, got)
}

func TestManyAddAtOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), ConsoleFile)
	l, err := CreateLines(path)
	require.NoError(t, err)
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			for range 50 {
				assert.NoError(t, l.Add(Line{Level: "info", Text: strings.Repeat("tide ", 40)}))
			}
		})
	}
	all.Wait()
	_, err = l.Close()
	require.NoError(t, err)
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	got, err := Read[Line](f)
	require.NoError(t, err)
	assert.Len(t, got, 1000)
}

func TestWhereNothingCanBeWritten(t *testing.T) {
	_, err := CreateLines(filepath.Join(t.TempDir(), "no", "directory"))
	assert.Error(t, err)
	l, err := CreateLines(filepath.Join(t.TempDir(), ConsoleFile))
	require.NoError(t, err)
	assert.Error(t, l.Add(func() {}), "what is no item")
	_, err = l.Close()
	require.NoError(t, err)
	require.NoError(t, l.Add(Line{}), "it is noted when the file is flushed")
	assert.Error(t, l.Flush())
}

func TestLongValuesAreCut(t *testing.T) {
	short := json.RawMessage(`{"a":1}`)
	assert.Equal(t, short, Cut(short, 7))
	assert.JSONEq(t, `"(7 bytes, not kept)"`, string(Cut(short, 6)))
	assert.Empty(t, Cut(nil, 0))
}
