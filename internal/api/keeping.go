package api

import (
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/retain"
	"parallelpane/internal/core/verdict"
)

// ProjectSettings are what was settled for a project.
type ProjectSettings struct {
	Name   string        `json:"name"`
	Record record.Policy `json:"record" description:"what is recorded of its sessions; what is left out is as usual"`
	Keep   []retain.Rule `json:"keep" description:"for how long its recordings are kept; none means the rules of the project *"`
}

// Sweep is what a sweep of recorded files removed, or would remove.
type Sweep struct {
	Dry   bool        `json:"dry"`
	Files []SweptFile `json:"files" description:"the first 500"`
	Count int         `json:"count"`
	Bytes int64       `json:"bytes" description:"of these files"`
	Left  int         `json:"left" description:"files that stay"`
	Kept  int64       `json:"left_bytes"`

	Orphans     int   `json:"orphans" description:"contents that no record names: of refused results, bundles never run"`
	OrphanBytes int64 `json:"orphan_bytes"`
}

// SweptFile is a file that a sweep removes.
type SweptFile struct {
	Session string          `json:"session"`
	Name    string          `json:"name"`
	Kind    record.Kind     `json:"kind"`
	Project string          `json:"project"`
	Verdict verdict.Verdict `json:"verdict"`
	Size    int64           `json:"size"`
	Why     string          `json:"why"`
}

// Storage is how much room there is for recordings.
type Storage struct {
	Free  uint64 `json:"free" description:"bytes on the disk of the data directory"`
	Total uint64 `json:"total"`
	Need  uint64 `json:"need" description:"bytes that must be free for recordings to be taken"`
	Full  string `json:"full" description:"what is switched off for want of room; empty while there is enough"`
}

// DataReport is what a look through a data directory found.
type DataReport struct {
	Runs     int      `json:"runs" description:"that were looked at"`
	Contents int      `json:"contents"`
	Wrong    int      `json:"wrong" description:"how much is damaged"`
	Findings []string `json:"findings" description:"of these, the first 100"`
	Gone     int      `json:"gone" description:"contents that records name and that are not there: swept away, or lost"`
	Missing  []string `json:"missing" description:"of these, the first 100"`
}
