package api

import (
	"fmt"
	"strconv"
	"strings"
)

// Clamp bounds how much of a list is asked for: usual where nothing is said, most at most.
func Clamp(limit, usual, most int) int {
	if limit <= 0 {
		return usual
	}
	return min(limit, most)
}

// Resumes is the input of a list that is read from the records a page at a time. Other lists
// are short, and are cut by whoever sends them.
type Resumes interface {
	// Size is how many a page has at most.
	Size() int
	// Resume has the list go on after what a cursor stands for.
	Resume(cursor string) error
	// Cursor stands for something in the list.
	Cursor(of any) string
}

var errCursor = Errorf(Invalid, "after: expected what the Link header of the page before has")

func resumeNumber(cursor string, before *int) (err error) {
	if *before, err = strconv.Atoi(cursor); err != nil || *before <= 0 {
		return errCursor
	}
	return nil
}

// Size is how many a page has at most.
func (f *RunFilter) Size() int { return Clamp(f.Limit, 50, 200) }

// Resume has the list go on after a run.
func (f *RunFilter) Resume(cursor string) error { return resumeNumber(cursor, &f.Before) }

// Cursor stands for a run.
func (f *RunFilter) Cursor(of any) string { return strconv.Itoa(of.(RunSummary).Number) }

// Size is how many a page has at most.
func (f *SessionFilter) Size() int { return Clamp(f.Limit, 50, 200) }

// Resume has the list go on after a session.
func (f *SessionFilter) Resume(cursor string) error {
	f.Before = cursor
	return nil
}

// Cursor stands for a session.
func (f *SessionFilter) Cursor(of any) string { return of.(SessionSummary).ID }

// Size is how many a page has at most.
func (f *AuditFilter) Size() int { return Clamp(f.Limit, 100, 1000) }

// Resume has the list go on after an entry.
func (f *AuditFilter) Resume(cursor string) error {
	n := 0
	err := resumeNumber(cursor, &n)
	f.Before = int64(n)
	return err
}

// Cursor stands for an entry.
func (f *AuditFilter) Cursor(of any) string { return strconv.FormatInt(of.(AuditEntry).ID, 10) }

// Size is how many a page has at most.
func (f *NoteFilter) Size() int { return Clamp(f.Limit, 50, 500) }

// Resume has the list go on after a note.
func (f *NoteFilter) Resume(cursor string) error {
	f.Before = cursor
	return nil
}

// Cursor stands for a note.
func (f *NoteFilter) Cursor(of any) string { return of.(Note).ID }

// Size is how many a page has at most.
func (f *DefectFilter) Size() int { return Clamp(f.Limit, 50, 500) }

// Resume has the list go on after a defect.
func (f *DefectFilter) Resume(cursor string) error {
	f.Before = cursor
	return nil
}

// Cursor stands for a defect.
func (f *DefectFilter) Cursor(of any) string { return of.(Defect).ID }

// Size is how many a page has at most.
func (f *DeliveryFilter) Size() int { return Clamp(f.Limit, 50, 500) }

// Resume has the list go on after a delivery.
func (f *DeliveryFilter) Resume(cursor string) (err error) {
	at, id, ok := strings.Cut(cursor, " ")
	if f.BeforeAt, err = strconv.ParseInt(at, 10, 64); err != nil || !ok {
		return errCursor
	}
	f.Before = id
	return nil
}

// Cursor stands for a delivery.
func (f *DeliveryFilter) Cursor(of any) string {
	d := of.(Delivery)
	return fmt.Sprintf("%d %s", d.MadeAt.UnixMilli(), d.ID)
}
