package excel

import (
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"welkin/core/format"
	"welkin/core/schema"
)

// sampleRows is how many rows are looked at to find header and types.
const sampleRows = 500

// Found is what was found out about a workbook.
type Found struct {
	Place  Place
	Sheets []string
	Why    []string
}

// header is where the names of the columns stand.
type header struct {
	row   int // number of its first row, from 1; that of the first row with lines 0
	lines int
	names []string
}

// header finds the header: the first row with as many cells as the widest rows have,
// or nearly so; lines says how many rows it takes when that is known.
func (w *workbook) header(lines *int) (header, error) {
	at, err := w.rows(true)
	if err != nil {
		return header{}, err
	}
	defer at.Close()
	var cells [][]string
	var numbers []int
	widest := 0
	for len(cells) < 60 {
		row, err := at.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return header{}, err
		}
		cells, numbers = append(cells, row), append(numbers, at.row)
		widest = max(widest, filled(row))
	}
	if widest == 0 {
		return header{}, format.ErrEmpty
	}
	first := 0
	for filled(cells[first])*2 < widest || filled(cells[first]) == 1 && widest > 1 {
		first++
	}
	n := 1
	switch {
	case lines != nil:
		n = *lines
	case !named(cells[first]):
		n = 0
	case first+2 < len(cells) && gaps(cells[first]) > 0 && named(cells[first+1]) && !named(cells[first+2]):
		n = 2 // headings above others, as where cells were merged
	}
	width := 0
	for _, row := range cells[first:] {
		width = max(width, len(row))
	}
	n = min(n, len(cells)-first)
	return header{row: numbers[first], lines: n, names: format.ColumnNames(cells[first:first+n], width)}, nil
}

func filled(row []string) int {
	n := 0
	for _, c := range row {
		if strings.TrimSpace(c) != "" {
			n++
		}
	}
	return n
}

// named tells whether all cells of a row can be headings.
func named(row []string) bool {
	for _, c := range row {
		g := format.Guess{}
		g.Add(c)
		if g.Seen > 0 && g.Type().Kind != schema.Text && !year.MatchString(c) {
			return false
		}
	}
	return filled(row) > 0
}

var year = regexp.MustCompile(`^(19|20)\d\d$`)

// gaps counts empty cells behind filled ones.
func gaps(row []string) int {
	n := 0
	for i, c := range row {
		if i > 0 && strings.TrimSpace(c) == "" {
			n++
		}
	}
	return n
}

// dateShown is how a cell is shown that is a day or a time by its number format.
var dateShown = regexp.MustCompile(`(?i)^\d{1,4}[-/. ]\d{1,2}[-/. ]\d{1,4}|\d:\d\d|\b(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)`)

// Infer finds header, names and types from the first rows: a column holds days when
// its numbers are shown as such.
func Infer(r io.Reader, p Place) (*schema.Schema, Found, error) {
	found := Found{Place: p}
	w, err := open(r, p)
	if err != nil {
		return nil, found, err
	}
	defer w.file.Close()
	found.Sheets, found.Place.Sheet = w.file.GetSheetList(), w.sheet
	h, err := w.header(p.Lines)
	if err != nil {
		return nil, found, err
	}
	found.Place.Lines = &h.lines
	found.Why = append(found.Why, fmt.Sprintf("the sheet %q", w.sheet))
	if h.lines == 0 {
		found.Why = append(found.Why, "no header, since the first row holds values")
	} else {
		found.Why = append(found.Why, fmt.Sprintf("the header in row %d", h.row))
	}
	stored, err := w.rows(true)
	if err != nil {
		return nil, found, err
	}
	defer stored.Close()
	shown, err := w.rows(false)
	if err != nil {
		return nil, found, err
	}
	defer shown.Close()
	columns := make([]column, len(h.names))
	for n := 0; n < sampleRows; {
		a, err := stored.next()
		b, _ := shown.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, found, err
		}
		if stored.row < h.row+h.lines {
			continue
		}
		n++
		for i := range min(len(a), len(columns)) {
			text := ""
			if i < len(b) {
				text = b[i]
			}
			columns[i].add(a[i], text)
		}
	}
	s := &schema.Schema{}
	for i, name := range h.names {
		s.Columns = append(s.Columns, schema.Column{Name: name, Type: columns[i].kind(), Nullable: true})
	}
	return s, found, nil
}

// column is what is seen of one.
type column struct {
	guess                       format.Guess
	dates, times, parts, truths int
}

func (c *column) add(stored, shown string) {
	v := strings.TrimSpace(stored)
	if v == "" {
		return
	}
	days, err := strconv.ParseFloat(v, 64)
	switch {
	case err == nil && v != strings.TrimSpace(shown) && dateShown.MatchString(shown):
		c.dates++
		if days < 1 {
			c.times++
		}
		if days != float64(int64(days)) {
			c.parts++
		}
	case (v == "1" || v == "0") && (shown == "TRUE" || shown == "FALSE"):
		c.truths++
		v = strings.ToLower(shown)
	case err == nil && strings.ContainsAny(v, "eE."):
		v = strconv.FormatFloat(days, 'f', -1, 64)
	}
	c.guess.Add(v)
}

func (c *column) kind() schema.Type {
	switch {
	case c.dates == 0 || c.dates < c.guess.Seen:
		return c.guess.Type()
	case c.times == c.dates:
		return schema.Of(schema.Time)
	case c.parts > 0:
		return schema.Of(schema.Timestamp)
	}
	return schema.Of(schema.Date)
}
