// Package recording holds the forms of what is kept of a session: the log of
// its commands, its console, its network traffic as HAR 1.2, and the mask that
// keeps secrets out of all of them. It reads and writes; what to record and when
// is decided by its callers.
//
// Every item carries milliseconds since the session's clock began.
package recording

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"
	"sync"

	"parallelpane/internal/core/record"
)

// Names of the files of a session.
const (
	CommandsFile = "commands.jsonl"
	ConsoleFile  = "console.jsonl"
	NetworkFile  = "network.har"
	VideoFile    = "video.webm"
	DriverFile   = "driver.log"
)

// Streamed are the kinds whose files can be handed in while they grow; the others
// are made at the end.
var Streamed = []record.Kind{record.Commands, record.Screenshots, record.Video, record.Console}

// DownloadPrefix begins the names of files that pages had the browser save.
const DownloadPrefix = "download-"

// Form says by its name of which kind a file of a session is and in which form;
// ok is false for a name that no recording gives.
func Form(name string) (kind record.Kind, media string, ok bool) {
	switch name {
	case CommandsFile:
		return record.Commands, "application/jsonl", true
	case ConsoleFile:
		return record.Console, "application/jsonl", true
	case NetworkFile:
		return record.Network, "application/json", true
	case VideoFile:
		return record.Video, "video/webm", true
	case DriverFile:
		return record.Logs, "text/plain; charset=utf-8", true
	}
	if strings.HasPrefix(name, DownloadPrefix) {
		return record.Downloads, "application/octet-stream", true
	}
	switch path.Ext(name) {
	case ".png":
		return record.Screenshots, "image/png", true
	case ".jpg":
		return record.Screenshots, "image/jpeg", true
	}
	return "", "", false
}

// Command is one command of a session, in CommandsFile.
type Command struct {
	Number    int             `json:"number"`  // from 1
	AtMS      float64         `json:"at_ms"`   // when it came
	TookMS    float64         `json:"took_ms"` // until it was answered
	Name      string          `json:"name"`    // as W3C WebDriver calls it
	Method    string          `json:"method"`
	Path      string          `json:"path"` // after the session
	Arguments json.RawMessage `json:"arguments,omitempty"`
	Status    int             `json:"status"`          // of HTTP; 0 when no answer came
	Error     string          `json:"error,omitempty"` // code of W3C WebDriver, section 6.6
	Message   string          `json:"message,omitempty"`
	Result    json.RawMessage `json:"result,omitempty"`
	Shot      string          `json:"shot,omitempty"` // file with the picture after it
	By        string          `json:"by,omitempty"`   // who gave it by hand
}

// Line is one message of the console or one error of a page, in ConsoleFile.
type Line struct {
	AtMS    float64 `json:"at_ms"`
	Level   string  `json:"level"`  // debug, info, warn, error
	Source  string  `json:"source"` // console, or javascript for an error nobody caught
	Text    string  `json:"text"`
	Address string  `json:"address,omitempty"`
	Row     int     `json:"row,omitempty"` // from 1
	Column  int     `json:"column,omitempty"`
}

// Limits of what is kept of one item, in bytes.
const (
	MaxArguments = 16 << 10
	MaxResult    = 16 << 10
	MaxText      = 8 << 10
	MaxFile      = 256 << 20 // of a whole file; what comes after is counted, not kept
)

// Cut shortens a JSON value that is too long to keep: the result says how long
// it was.
func Cut(raw json.RawMessage, limit int) json.RawMessage {
	if len(raw) <= limit {
		return raw
	}
	short, _ := json.Marshal(fmt.Sprintf("(%d bytes, not kept)", len(raw)))
	return short
}

// Lines writes items as JSON, one in a line. It is safe for concurrent use.
type Lines struct {
	mu   sync.Mutex
	f    *os.File
	w    *bufio.Writer
	size int64
	lost int
}

// CreateLines makes a file of items.
func CreateLines(path string) (*Lines, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	return &Lines{f: f, w: bufio.NewWriterSize(f, 64<<10)}, nil
}

// Add writes an item.
func (l *Lines) Add(item any) error {
	raw, err := json.Marshal(item)
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.size+int64(len(raw)) > MaxFile {
		l.lost++
		return nil
	}
	l.size += int64(len(raw)) + 1
	_, err = l.w.Write(append(raw, '\n'))
	return err
}

// Flush brings what was added to the file.
func (l *Lines) Flush() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.w.Flush()
}

// Close finishes the file and says how many items were not kept.
func (l *Lines) Close() (lost int, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.lost, errors.Join(l.w.Flush(), l.f.Close())
}

// Read decodes a file of items. A last line that was cut off is left out.
func Read[T any](r io.Reader) (items []T, err error) {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 0, 64<<10), 4<<20)
	for n := 1; s.Scan(); n++ {
		var item T
		if err := json.Unmarshal(s.Bytes(), &item); err != nil {
			if !s.Scan() {
				return items, s.Err()
			}
			return items, fmt.Errorf("line %d: %w", n, err)
		}
		items = append(items, item)
	}
	return items, s.Err()
}
