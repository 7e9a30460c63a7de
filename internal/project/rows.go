package project

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/xuri/excelize/v2"

	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/script"
)

// Limits of a file of rows.
const (
	MaxRows      = 10_000
	maxColumns   = 200
	maxRowsBytes = 16 << 20
	maxUnpacked  = 128 << 20 // of a spreadsheet, which is an archive
	maxCell      = 32 << 10
	maxRowName   = 120 // characters
	// Of all files of rows of a suite together, and of the tests that they come to: a small
	// bundle may not become a large one.
	maxAllRowsBytes = 64 << 20
	MaxRowTests     = 50_000
)

// table is a file of rows.
type table struct {
	columns []string
	rows    [][]string
}

// RowForms are the endings of files that rows are read from.
var RowForms = []string{".csv", ".tsv", ".json", ".xlsx"}

// readTable reads the rows of a file, and says how many bytes it has. Errors name the line or row.
func readTable(files Files, name string) (t *table, size int, err error) {
	src, err := files.Read(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, 0, fmt.Errorf("there is no file %q in the project", name)
	case err != nil:
		return nil, 0, err
	case len(src) > maxRowsBytes:
		return nil, 0, fmt.Errorf("%s has %d MB; at most %d are read", name, len(src)>>20, maxRowsBytes>>20)
	}
	switch strings.ToLower(path.Ext(name)) {
	case ".csv":
		t, err = readCSV(src, separator(src))
	case ".tsv":
		t, err = readCSV(src, '\t')
	case ".json":
		t, err = readObjects(src)
	case ".xlsx":
		t, err = readSheet(src)
	default:
		err = fmt.Errorf("expected a file that ends in one of %s", strings.Join(RowForms, ", "))
	}
	if err == nil {
		err = t.check()
	}
	if err != nil {
		return nil, 0, fmt.Errorf("%s: %w", name, err)
	}
	return t, len(src), nil
}

// separator guesses what stands between the columns of a CSV file by its first line.
func separator(src []byte) rune {
	line, _, _ := bytes.Cut(src, []byte("\n"))
	if bytes.Count(line, []byte(";")) > bytes.Count(line, []byte(",")) {
		return ';'
	}
	return ','
}

// readCSV reads RFC 4180, with a header.
func readCSV(src []byte, comma rune) (*table, error) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(src, []byte("\xef\xbb\xbf"))))
	r.Comma = comma
	r.FieldsPerRecord = -1
	t := &table{}
	for {
		record, err := r.Read()
		if record == nil {
			if wrong, ok := errors.AsType[*csv.ParseError](err); ok {
				return nil, fmt.Errorf("line %d, column %d: %w", wrong.Line, wrong.Column, wrong.Err)
			}
			return t, nil
		}
		if err := t.add(record); err != nil {
			line, _ := r.FieldPos(0)
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
	}
}

// readObjects reads a JSON list of objects, whose values are texts, numbers or truths.
func readObjects(src []byte) (*table, error) {
	d := json.NewDecoder(bytes.NewReader(src))
	d.UseNumber()
	var all []map[string]any
	if err := d.Decode(&all); err != nil {
		return nil, fmt.Errorf("expected a list of objects such as [{\"boat\": \"Osprey\"}]: %w", err)
	}
	t := &table{}
	for _, o := range all {
		for name := range o {
			if !slices.Contains(t.columns, name) {
				t.columns = append(t.columns, name)
			}
		}
	}
	slices.Sort(t.columns)
	for i, o := range all {
		record := make([]string, len(t.columns))
		for c, name := range t.columns {
			switch v := o[name].(type) {
			case string:
				record[c] = v
			case json.Number, bool:
				record[c] = fmt.Sprint(v)
			case nil:
				if _, there := o[name]; !there {
					return nil, fmt.Errorf("row %d has no %q, which other rows have", i+1, name)
				}
			default:
				return nil, fmt.Errorf("row %d: %q is neither text nor number nor true nor false", i+1, name)
			}
		}
		if err := t.add(record); err != nil {
			return nil, fmt.Errorf("row %d: %w", i+1, err)
		}
	}
	return t, nil
}

// readSheet reads the first sheet of a workbook: what its cells show.
func readSheet(src []byte) (*table, error) {
	f, err := excelize.OpenReader(bytes.NewReader(src), excelize.Options{UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: maxRowsBytes})
	if err != nil {
		return nil, fmt.Errorf("not a workbook that can be read: %w", err)
	}
	defer f.Close()
	rows, err := f.Rows(f.GetSheetName(0))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	t := &table{}
	for n := 1; rows.Next(); n++ {
		record, err := rows.Columns()
		if err == nil && t.columns != nil { // cells at the end that are empty are left out
			for len(record) > 0 && len(record) < len(t.columns) {
				record = append(record, "")
			}
		}
		if err == nil {
			err = t.add(record)
		}
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", n, err)
		}
	}
	return t, rows.Error()
}

// add takes the header or a row; an empty one is passed over.
func (t *table) add(record []string) error {
	if !slices.ContainsFunc(record, func(s string) bool { return strings.TrimSpace(s) != "" }) {
		return nil
	}
	if t.columns == nil {
		for _, c := range record {
			t.columns = append(t.columns, strings.TrimSpace(c))
		}
		return nil
	}
	if len(record) != len(t.columns) {
		return fmt.Errorf("it has %d columns, the header %d", len(record), len(t.columns))
	}
	for i, v := range record {
		if strings.ContainsRune(v, 0) {
			return fmt.Errorf("column %q holds a byte 0, which no text has", t.columns[i])
		}
		if len(v) > maxCell {
			return fmt.Errorf("column %q has %d bytes; at most %d are taken", t.columns[i], len(v), maxCell)
		}
	}
	if t.rows = append(t.rows, record); len(t.rows) > MaxRows {
		return fmt.Errorf("more than %d rows, each of which would be a test: split the file, or take a sample", MaxRows)
	}
	return nil
}

func (t *table) check() error {
	switch {
	case len(t.rows) == 0:
		return errors.New("there are no rows: expected a header and below it a row for each test")
	case len(t.columns) > maxColumns:
		return fmt.Errorf("%d columns; at most %d are read", len(t.columns), maxColumns)
	}
	for i, c := range t.columns {
		switch {
		case c == "":
			return fmt.Errorf("column %d has no name in the header", i+1)
		case slices.Contains(t.columns[:i], c):
			return fmt.Errorf("the header has %q twice", c)
		}
	}
	return nil
}

// tables reads files of rows, each once.
type tables struct {
	all   map[string]*table
	bytes int // of their files
	tests int // that they have come to
}

// read reads a file of rows, unless it has been read.
func (ts *tables) read(files Files, name string) (*table, error) {
	if t := ts.all[name]; t != nil {
		return t, nil
	}
	t, size, err := readTable(files, name)
	if err != nil {
		return nil, err
	}
	if ts.bytes += size; ts.bytes > maxAllRowsBytes {
		return nil, fmt.Errorf("%s: with it the suite's files of rows have more than %d MB", name, maxAllRowsBytes>>20)
	}
	if ts.all == nil {
		ts.all = map[string]*table{}
	}
	ts.all[name] = t
	return t, nil
}

// multiply counts the tests that rows make of so many.
func (ts *tables) multiply(rows, by int) error {
	if ts.tests += rows * by; ts.tests > MaxRowTests {
		return fmt.Errorf("with these rows the suite has more than %d tests: take fewer rows, or split the suite", MaxRowTests)
	}
	return nil
}

// rows are the tests that a file makes of each of so many: each with its values and a name of its own.
func (ts *tables) rows(files Files, d *script.Data, by int) ([]suite.Row, error) {
	t, err := ts.read(files, d.File)
	if err == nil {
		err = ts.multiply(len(t.rows), by)
	}
	if err != nil {
		return nil, source.Problems{{Position: d.Position, Message: "data: " + err.Error()}}
	}
	if d.Name != nil {
		if ps := unknownColumns(d.Position, d.Name.Uses("row"), t, d); len(ps) > 0 {
			return nil, ps
		}
	}
	out, seen := make([]suite.Row, len(t.rows)), map[string]int{}
	for i, record := range t.rows {
		r := suite.Row{Number: i + 1, Values: make(map[string]string, len(record)), Name: strconv.Itoa(i+1) + " " + record[0]}
		for c, v := range record {
			r.Values[t.columns[c]] = v
		}
		if d.Name != nil {
			var err error
			if r.Name, err = d.Name.In(script.Scope{Row: r.Values}); err != nil {
				return nil, source.Problems{{Position: d.Position, Message: "data: name: " + err.Error()}}
			}
		}
		r.Name = oneLine(r.Name)
		if first := seen[r.Name]; first > 0 {
			return nil, source.Problems{{Position: d.Position,
				Message: fmt.Sprintf("data: rows %d and %d of %s are both called %q: say name: with columns that tell them apart", first, i+1,
					d.File, r.Name)}}
		}
		seen[r.Name], out[i] = i+1, r
	}
	return out, nil
}

// oneLine is a text as the name of a row.
func oneLine(s string) string {
	s = strings.Join(strings.FieldsFunc(s, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) }), " ")
	if r := []rune(s); len(r) > maxRowName {
		s = string(r[:maxRowName-1]) + "…"
	}
	return strings.ReplaceAll(s, suite.Part, " – ")
}

// unknownColumns are columns that are asked for and that a table does not have.
func unknownColumns(at source.Position, names []string, t *table, d *script.Data) (out source.Problems) {
	for _, name := range names {
		if slices.Contains(t.columns, name) {
			continue
		}
		hint := ""
		if near := source.Nearest(name, t.columns); near != "" {
			hint = fmt.Sprintf(" (did you mean %q?)", near)
		}
		out = append(out, source.Problem{Position: at,
			Message: fmt.Sprintf("row.%s: %s has no such column%s; it has %s", name, d.File, hint, strings.Join(t.columns, ", "))})
	}
	return out
}
