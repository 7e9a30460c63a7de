package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"iter"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

// Table is what is told in rows: a sheet of a workbook, or a file of CSV.
type Table struct {
	Name string // of the sheet, at most 31 characters
	Head []string
	Rows iter.Seq[[]any] // strings, whole numbers, fractions, times or nil
	Wide []float64       // of columns, in characters; the usual width where it ends or is 0
}

// CSV writes a table as comma-separated values (RFC 4180). What a spreadsheet would take
// for a formula is text.
func CSV(w io.Writer, t Table) error {
	out := csv.NewWriter(w)
	if err := out.Write(t.Head); err != nil {
		return fmt.Errorf("write CSV: %w", err)
	}
	line := make([]string, len(t.Head))
	for row := range t.Rows {
		for i, v := range row {
			line[i] = csvField(v)
		}
		if err := out.Write(line); err != nil {
			return fmt.Errorf("write CSV: %w", err)
		}
	}
	out.Flush()
	if err := out.Error(); err != nil {
		return fmt.Errorf("write CSV: %w", err)
	}
	return nil
}

func csvField(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return Field(x)
	case float64:
		return strconv.FormatFloat(x, 'g', 6, 64)
	case *time.Time:
		if x == nil {
			return ""
		}
		return x.UTC().Format(time.RFC3339)
	}
	return fmt.Sprint(v)
}

// Field is a text as a cell of CSV: what a spreadsheet would take for a formula is text.
func Field(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// maxCell is how many characters a cell of a workbook may have.
const maxCell = 32_000

// XLSX writes tables as the sheets of a workbook (ECMA-376). Rows are written as they come;
// beyond a few megabytes they wait in a temporary file. Texts are texts, never formulas.
func XLSX(w io.Writer, tables ...Table) error {
	f := excelize.NewFile()
	defer f.Close()
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true, Family: "Calibri", Size: 11}})
	if err != nil {
		return fmt.Errorf("write XLSX: %w", err)
	}
	at, err := f.NewStyle(&excelize.Style{NumFmt: 22})
	if err != nil {
		return fmt.Errorf("write XLSX: %w", err)
	}
	for i, t := range tables {
		if i == 0 {
			err = f.SetSheetName("Sheet1", t.Name)
		} else {
			_, err = f.NewSheet(t.Name)
		}
		if err == nil {
			err = sheet(f, t, bold, at)
		}
		if err != nil {
			return fmt.Errorf("write XLSX: sheet %s: %w", t.Name, err)
		}
	}
	if _, err := f.WriteTo(w); err != nil {
		return fmt.Errorf("write XLSX: %w", err)
	}
	return nil
}

func sheet(f *excelize.File, t Table, bold, at int) error {
	out, err := f.NewStreamWriter(t.Name)
	if err != nil {
		return err
	}
	for i, width := range t.Wide {
		if width > 0 {
			if err := out.SetColWidth(i+1, i+1, width); err != nil {
				return err
			}
		}
	}
	if err := out.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	head := make([]any, len(t.Head))
	for i, h := range t.Head {
		head[i] = excelize.Cell{StyleID: bold, Value: h}
	}
	if err := out.SetRow("A1", head); err != nil {
		return err
	}
	n := 1
	cells := make([]any, len(t.Head))
	for row := range t.Rows {
		n++
		for i, v := range row {
			switch x := v.(type) {
			case string:
				cells[i] = sheetText(x)
			case *time.Time:
				if cells[i] = nil; x != nil {
					cells[i] = excelize.Cell{StyleID: at, Value: x.UTC()}
				}
			default:
				cells[i] = v
			}
		}
		if err := out.SetRow("A"+strconv.Itoa(n), cells[:len(row)]); err != nil {
			return err
		}
	}
	if n > 1 {
		last, err := excelize.CoordinatesToCellName(len(t.Head), n)
		if err != nil {
			return err
		}
		if err := out.AddTable(&excelize.Table{Range: "A1:" + last, Name: strings.ReplaceAll(t.Name, " ", "_"),
			StyleName: "TableStyleLight1"}); err != nil {
			return err
		}
	}
	return out.Flush()
}

// sheetText is a text as XML can hold it (XML 1.0, section 2.2), of bounded length.
func sheetText(s string) string {
	s = strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return r
		}
		return tame(r)
	}, strings.ToValidUTF8(s, "\uFFFD"))
	if len(s) <= maxCell {
		return s
	}
	if r := []rune(s); len(r) > maxCell {
		return string(r[:maxCell-1]) + "…"
	}
	return s
}
