package recording

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/core/record"
)

func TestAFileIsKnownByItsName(t *testing.T) {
	for name, want := range map[string]record.Kind{
		CommandsFile: record.Commands, ConsoleFile: record.Console, NetworkFile: record.Network, VideoFile: record.Video, DriverFile: record.Logs,
		"command-00001.jpg": record.Screenshots, "last.png": record.Screenshots,
	} {
		kind, media, ok := Form(name)
		assert.True(t, ok, name)
		assert.Equal(t, want, kind, name)
		assert.NotEmpty(t, media, name)
	}
	for _, name := range []string{"", "index.html", "commands.jsonl.html", "x.svg", ".png.exe"} {
		_, _, ok := Form(name)
		assert.False(t, ok, name)
	}
}
