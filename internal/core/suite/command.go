package suite

import "time"

// Command is how a suite of that kind is carried out: by one command for each of its
// files.
type Command struct {
	Line    string  `json:"line"`    // for a shell, with placeholders: see Placeholders
	List    string  `json:"list"`    // for a shell, prints the names of the tests; "" where each file is one
	Prepare string  `json:"prepare"` // for a shell, once for each content of the bundle and agent; "" for none
	Results Results `json:"results"` // how what became of the tests comes back
	// Limit bounds one command, in milliseconds; 0 leaves that to the run.
	LimitMS int64             `json:"limit_ms"`
	Env     map[string]string `json:"env"`
}

// Results is how what became of the tests comes back.
type Results string

// The ways.
const (
	JUnit Results = "junit" // a file at {results}
	TAP   Results = "tap"   // a file at {results}, or what the command prints where the line does not name it
	Exit  Results = "exit"  // 0 is passed: the file is the test
)

// AllResults lists them.
var AllResults = []Results{JUnit, TAP, Exit}

// Placeholders are what a command's line may name, each with what stands there.
var Placeholders = map[string]string{
	"file": "the file, as the bundle has it", "results": "where to write the results", "browser": "the browser's name",
	"version": "its version", "device": "the device's name", "base": "the base address", "endpoint": "the WebDriver endpoint",
	"attachments": "a directory for files to keep", "name": "the test, where a listing command names them; else the file",
}

// MaxLimit bounds what one command may be given.
const MaxLimit = 2 * time.Hour

// Part stands between the file, the suites in it, and a test, in the name of a test that
// a command told of.
const Part = " › "

// Told is the name of a test that the command of a file told of.
func Told(file, within, name string) string {
	if within == "" {
		return file + Part + name
	}
	return file + Part + within + Part + name
}
