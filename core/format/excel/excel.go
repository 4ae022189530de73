// Package excel reads and writes workbooks (Office Open XML): excel.go reads a sheet
// or a range of it row by row, find.go finds header and types, write.go writes.
// Formulas give the values that were saved with them.
package excel

import (
	"context"
	"fmt"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// Magic is what a workbook begins with: it is an archive.
const Magic = "PK\x03\x04"

// Place says where the rows stand in a workbook.
type Place struct {
	Sheet string `json:"sheet,omitempty" yaml:"sheet,omitempty" jsonschema:"title=sheet,description=Its name; the first one that holds something when left out"`
	Range string `json:"range,omitempty" yaml:"range,omitempty" jsonschema:"title=range,description=Such as B3:F200 or B3:F for all rows below; the whole sheet when left out"`
	// Lines is how many rows the header takes: nil for what is found.
	Lines *int `json:"header_lines,omitempty" yaml:"header_lines,omitempty" jsonschema:"title=header lines,description=How many rows the header takes; 0 for none; found by looking when left out"`
}

var rangeForm = regexp.MustCompile(`^([A-Za-z]{1,3})([0-9]{1,7})?(?::([A-Za-z]{1,3})([0-9]{1,7})?)?$`)

// area is a range in numbers from 0; the ends are behind the last.
type area struct{ left, top, right, bottom int }

func (p Place) area() (area, error) {
	whole := area{right: math.MaxInt32, bottom: math.MaxInt32}
	if p.Range == "" {
		return whole, nil
	}
	m := rangeForm.FindStringSubmatch(strings.TrimSpace(p.Range))
	if m == nil {
		return whole, fmt.Errorf("%q is no range; write it as B3:F200, B3:F or B:F", p.Range)
	}
	column := func(name string) int {
		n, _ := excelize.ColumnNameToNumber(name)
		return n
	}
	out := area{left: column(m[1]) - 1, right: math.MaxInt32, bottom: math.MaxInt32}
	if m[2] != "" {
		n, _ := strconv.Atoi(m[2])
		out.top = max(n-1, 0)
	}
	if m[3] != "" {
		out.right = column(m[3])
	}
	if m[4] != "" {
		out.bottom, _ = strconv.Atoi(m[4])
	}
	if out.right <= out.left || out.bottom <= out.top {
		return whole, fmt.Errorf("the range %q ends before it begins", p.Range)
	}
	return out, nil
}

// Validate says what is wrong, or nil.
func (p Place) Validate() error {
	if p.Lines != nil && (*p.Lines < 0 || *p.Lines > 20) {
		return fmt.Errorf("a header has 0 to 20 rows, not %d", *p.Lines)
	}
	_, err := p.area()
	return err
}

// Options say which rows are wanted.
type Options struct {
	Place   Place
	Schema  *schema.Schema
	Nulls   []string // texts that mean null
	Origin  string   // what the origin of rows says
	Limit   int64    // rows wanted, 0 for all
	Missing bool     // columns that the header lacks are null; an error otherwise
}

// workbook is an open workbook and the sheet that is read.
type workbook struct {
	file  *excelize.File
	sheet string
	area  area
	epoch bool // days count from 1904
}

func open(r io.Reader, p Place) (*workbook, error) {
	a, err := p.area()
	if err != nil {
		return nil, err
	}
	f, err := excelize.OpenReader(r)
	if err != nil {
		return nil, fmt.Errorf("this is no workbook that can be read: %w", err)
	}
	w := &workbook{file: f, sheet: p.Sheet, area: a}
	if props, err := f.GetWorkbookProps(); err == nil && props.Date1904 != nil {
		w.epoch = *props.Date1904
	}
	names := f.GetSheetList()
	if w.sheet == "" {
		w.sheet = w.firstFilled(names)
	} else if i, _ := f.GetSheetIndex(w.sheet); i < 0 {
		_ = f.Close()
		return nil, fmt.Errorf("there is no sheet %q; there are %s", w.sheet, strings.Join(names, ", "))
	}
	return w, nil
}

// firstFilled gives the first sheet that is seen and holds a row.
func (w *workbook) firstFilled(names []string) string {
	for _, n := range names {
		if visible, err := w.file.GetSheetVisible(n); err == nil && !visible {
			continue
		}
		rows, err := w.file.Rows(n)
		if err != nil {
			continue
		}
		some := rows.Next()
		_ = rows.Close()
		if some {
			return n
		}
	}
	return names[0]
}

// rows goes through the rows of the area.
type rows struct {
	*excelize.Rows
	area area
	row  int // number of the last row read, from 1
	raw  bool
}

func (w *workbook) rows(raw bool) (*rows, error) {
	r, err := w.file.Rows(w.sheet)
	if err != nil {
		return nil, fmt.Errorf("the sheet %q can't be read: %w", w.sheet, err)
	}
	return &rows{Rows: r, area: w.area, raw: raw}, nil
}

// next gives the cells of the next row as they are stored, or as they are shown.
func (r *rows) next() ([]string, error) {
	for r.Next() {
		if r.row++; r.row > r.area.bottom {
			return nil, io.EOF
		}
		cells, err := r.Columns(excelize.Options{RawCellValue: r.raw, ShortDatePattern: "yyyy-mm-dd"})
		if err != nil {
			return nil, fmt.Errorf("row %d can't be read: %w", r.row, err)
		}
		if r.row <= r.area.top {
			continue
		}
		return cells[min(r.area.left, len(cells)):min(r.area.right, len(cells))], nil
	}
	if err := r.Error(); err != nil {
		return nil, fmt.Errorf("the workbook is broken at row %d: %w", r.row+1, err)
	}
	return nil, io.EOF
}

// Reader reads one sheet.
type Reader struct {
	*workbook
	at      *rows
	columns []int // by column of the schema: its place in a row, -1 for none
	o       Options
	out     *format.TextRows
	made    int64
}

// Open begins to read r; a workbook is read as a whole by its index, which takes
// memory for the texts that its cells share.
func Open(r io.Reader, o Options) (*Reader, error) {
	w, err := open(r, o.Place)
	if err != nil {
		return nil, err
	}
	out := &Reader{workbook: w, o: o, out: format.NewTextRows(o.Schema, o.Origin, o.Nulls)}
	if err := out.begin(); err != nil {
		_ = out.Close()
		return nil, err
	}
	return out, nil
}

func (r *Reader) begin() error {
	h, err := r.workbook.header(r.o.Place.Lines)
	if err != nil {
		return err
	}
	if r.at, err = r.workbook.rows(true); err != nil {
		return err
	}
	for r.at.row < h.row+h.lines-1 {
		if _, err := r.at.next(); err != nil {
			return err
		}
	}
	for i, c := range r.o.Schema.Columns {
		at := i
		if h.lines > 0 {
			at = -1
			for k, name := range h.names {
				if name == c.Name {
					at = k
				}
			}
			if at < 0 && !r.o.Missing {
				return fmt.Errorf("the sheet %q has no column %q; its header names %s", r.sheet, c.Name, strings.Join(h.names, ", "))
			}
		}
		r.columns = append(r.columns, at)
	}
	return nil
}

// Next implements format.Reader. Empty rows are passed over.
func (r *Reader) Next(ctx context.Context) (format.Chunk, error) {
	for r.out.Seen() < batch.Rows && (r.o.Limit == 0 || r.made < r.o.Limit) {
		if err := ctx.Err(); err != nil {
			return format.Chunk{}, err
		}
		cells, err := r.at.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return format.Chunk{}, err
		}
		if strings.TrimSpace(strings.Join(cells, "")) == "" {
			continue
		}
		if r.out.Add(int64(r.at.row), func(c int) (string, *batch.Fault) {
			if at := r.columns[c]; at >= 0 && at < len(cells) {
				return r.plain(cells[at], r.o.Schema.Columns[c].Type)
			}
			return "", nil
		}, func() string { return strings.Join(cells, "\t") }) {
			r.made++
		}
	}
	if r.out.Seen() == 0 {
		return format.Chunk{}, io.EOF
	}
	return r.out.Chunk(), nil
}

// plain gives a stored value as text: days and times are numbers of days there.
func (w *workbook) plain(v string, t schema.Type) (string, *batch.Fault) {
	if t.Kind != schema.Text {
		v = strings.TrimSpace(v)
	}
	switch {
	case t.Numeric() && strings.ContainsAny(v, "eE."):
		if f, err := strconv.ParseFloat(v, 64); err == nil {
			return strconv.FormatFloat(f, 'f', -1, 64), nil
		}
	case t.Temporal() || t.Kind == schema.Time:
		days, err := strconv.ParseFloat(v, 64)
		if err != nil {
			return v, nil // a text that says it
		}
		if days < 0 || days >= 2958466 { // the last day of the year 9999
			return v, batch.Faultf("not a date", "%s is no day of a workbook", v)
		}
		at := w.day(days)
		switch t.Kind {
		case schema.Date:
			return at.Format("2006-01-02"), nil
		case schema.Time:
			return at.Format("15:04:05.999"), nil
		}
		return at.Format("2006-01-02 15:04:05.999"), nil
	}
	return v, nil
}

// day gives the moment that a number of days stands for, to the millisecond. ISO/IEC
// 29500 counts a 29 February 1900 that was none.
func (w *workbook) day(days float64) time.Time {
	from := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	switch {
	case w.epoch:
		from = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	case days >= 1 && days < 60:
		from = from.AddDate(0, 0, 1)
	}
	whole := math.Floor(days)
	return from.AddDate(0, 0, int(whole)).Add(time.Duration(math.Round((days-whole)*24*3600*1000)) * time.Millisecond)
}

// Close implements format.Reader.
func (r *Reader) Close() error {
	if r.at != nil {
		_ = r.at.Close()
	}
	return r.file.Close()
}
