package api

import (
	"encoding/json"
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/remote"
	"parallelpane/internal/core/verdict"
)

// SessionSummary is a session in a list.
type SessionSummary struct {
	ID       string          `json:"id"`
	Kind     string          `json:"kind" enum:"script,remote"`
	Name     string          `json:"name"`
	Test     string          `json:"test"`
	TestAt   int             `json:"test_index"`
	Run      int             `json:"run" description:"number"`
	RunName  string          `json:"run_name" description:"of the suite, or as the sessions named it"`
	Project  string          `json:"project"`
	Pane     int             `json:"pane"`
	Label    string          `json:"label" description:"of the combination"`
	Attempt  int             `json:"attempt"`
	Tags     []string        `json:"tags"`
	By       string          `json:"by"`
	Agent    string          `json:"agent"`
	Browser  string          `json:"browser"`
	Version  string          `json:"version"`
	OS       string          `json:"os"`
	Device   string          `json:"device"`
	State    string          `json:"state" enum:"waiting,open,ended"`
	Verdict  verdict.Verdict `json:"verdict"`
	Message  string          `json:"message"`
	End      string          `json:"end" description:"how it ended"`
	JudgedBy string          `json:"judged_by" description:"who gave the verdict, if a person did"`
	Note     string          `json:"note"`
	NoteBy   string          `json:"note_by"`
	NoteAt   *time.Time      `json:"note_at"`
	Ahead    int             `json:"ahead" description:"while it waits: tests that ask for the same and came before it"`
	QueuedAt *time.Time      `json:"queued_at"`
	OpenedAt *time.Time      `json:"opened_at"`
	EndedAt  *time.Time      `json:"ended_at"`
}

// Session is a session with everything that is kept of it.
type Session struct {
	SessionSummary
	AttemptID string          `json:"attempt_id" description:"whose files these are"`
	Asked     json.RawMessage `json:"asked" description:"capabilities that were asked for, without secrets"`
	Options   remote.Options  `json:"options"`
	TookMS    int64           `json:"took_ms"`
	Detail    attempt.Detail  `json:"detail"`
	Files     []attempt.File  `json:"files"`
	Attempts  []AttemptGlance `json:"attempts" description:"all of the same test in the same pane"`
	Facts     *Agent          `json:"facts" description:"the agent, if it is still known"`
	Reaching  string          `json:"reaching" description:"who has reached in"`
}

// AttemptGlance is an attempt of the same cell.
type AttemptGlance struct {
	ID       string          `json:"id"`
	Number   int             `json:"number"`
	Verdict  verdict.Verdict `json:"verdict"`
	Sessions []string        `json:"sessions" description:"ids, in the order in which they were opened"`
}

// SessionFilter narrows a list of sessions.
type SessionFilter struct {
	Text    string `query:"text" json:"-" description:"found in name, test, run, project, combination, person, message or note"`
	Run     int    `query:"run" json:"-" description:"number of the run"`
	Test    string `query:"test" json:"-" description:"found in the test's name"`
	Tag     string `query:"tag" json:"-"`
	Browser string `query:"browser" json:"-"`
	Device  string `query:"device" json:"-"`
	Verdict string `query:"verdict" json:"-" description:"passed, failed, ended, lab-fault, skipped or unsupported"`
	State   string `query:"state" json:"-" enum:"waiting,open,ended"`
	Project string `query:"project" json:"-"`
	Kind    string `query:"kind" json:"-" enum:"script,remote"`
	Agent   string `query:"agent" json:"-"`
	Since   string `query:"since" json:"-" description:"a day such as 2026-11-23, or a time in RFC 3339"`
	Until   string `query:"until" json:"-" description:"a day, which is included, or a time"`
	Before  string `query:"before" json:"-" description:"only sessions older than the one of this id"`
	Limit   int    `query:"limit" json:"-" description:"at most this many; 50 if not given, 200 at most"`

	Among []string `json:"-"` // projects, those that the caller may look at; nil means every one
}
