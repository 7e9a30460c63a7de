package commands

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/recording"
)

// What can be seen of a command while it runs is whole lines without secrets, the latest of
// them; what prints a lot is seen in part.
func TestWhatIsSeenOfACommand(t *testing.T) {
	at := time.Unix(1, 0)
	l := &live{mask: recording.NewMask("slackwater-77"), now: func() time.Time { return at }}
	for _, part := range []string{"one\ntw", "o\nthe word is slack", "water-77\n", "and no end"} {
		l.write([]byte(part))
	}
	o := l.from(0)
	assert.Equal(t, "one\ntwo\nthe word is •••\n", o.Text)
	assert.Equal(t, o.Next, int64(len(o.Text)))
	l.write([]byte(" yet\n"))
	assert.Equal(t, "and no end yet\n", l.from(o.Next).Text)
	assert.Empty(t, l.from(1<<40).Text)
	assert.Equal(t, l.from(-5), l.from(0))

	for range 100 { // more than is held, and within a second more than is shown
		l.write([]byte(strings.Repeat("0123456789abcde\n", 4096)))
	}
	o = l.from(0)
	assert.LessOrEqual(t, len(o.Text), maxLive)
	assert.Positive(t, o.From)
	assert.True(t, strings.HasPrefix(o.Text, "0123456789abcde\n"), "it begins with a line")
	assert.Less(t, o.Next, int64(2<<20), "within this second no more is shown")
	at = at.Add(2 * time.Second)
	l.write([]byte("the next\n"))
	assert.Equal(t, "the next\n", l.from(o.Next).Text)

	long := &live{mask: nil}
	long.write([]byte(strings.Repeat("x", 2*maxLiveLine)))
	long.write([]byte("end\n"))
	assert.Equal(t, "end\n", long.from(0).Text, "a line without an end is not held for ever")
	off := &live{off: ofLines(map[string]string{"key": "of two\nlines"})}
	off.write([]byte("of two\n"))
	assert.Empty(t, off.from(0).Text)
}
