package excel

import (
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/xuri/excelize/v2"

	"welkin/core/batch"
	"welkin/core/schema"
)

// MostRows is how many rows a sheet holds, its header among them.
const MostRows = excelize.TotalRows

// exactDigits is how many digits a number of a cell keeps; longer ones are written as
// text.
const exactDigits = 15

// Writer writes rows as one sheet with a header.
type Writer struct {
	to     io.Writer
	file   *excelize.File
	stream *excelize.StreamWriter
	schema *schema.Schema
	styles map[schema.Kind]int
	row    int
}

// NewWriter begins a workbook; sheet is called "rows" when it has no name.
func NewWriter(w io.Writer, s *schema.Schema, sheet string) (*Writer, error) {
	if sheet == "" {
		sheet = "rows"
	}
	f := excelize.NewFile()
	if err := f.SetSheetName("Sheet1", sheet); err != nil {
		return nil, fmt.Errorf("a sheet can't be called %q: %w", sheet, err)
	}
	out := &Writer{to: w, file: f, schema: s, styles: map[schema.Kind]int{}}
	for kind, form := range map[schema.Kind]string{schema.Date: "yyyy-mm-dd", schema.Timestamp: "yyyy-mm-dd hh:mm:ss.000", schema.TimestampTZ: "yyyy-mm-dd hh:mm:ss.000", schema.Time: "hh:mm:ss.000"} {
		style, err := f.NewStyle(&excelize.Style{CustomNumFmt: &form})
		if err != nil {
			return nil, err
		}
		out.styles[kind] = style
	}
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	if out.stream, err = f.NewStreamWriter(sheet); err != nil {
		return nil, err
	}
	var names []any
	for _, c := range s.Columns {
		names = append(names, excelize.Cell{StyleID: bold, Value: c.Name})
	}
	return out, out.add(names)
}

func (w *Writer) add(values []any) error {
	if w.row++; w.row > MostRows {
		return fmt.Errorf("a sheet of a workbook holds %d rows; write CSV or Parquet for more", MostRows)
	}
	cell, err := excelize.CoordinatesToCellName(1, w.row)
	if err != nil {
		return err
	}
	return w.stream.SetRow(cell, values)
}

// Write writes all rows of a batch.
func (w *Writer) Write(b *batch.Batch) error {
	for i := range b.N {
		values := make([]any, len(b.Cols))
		for c, col := range b.Cols {
			values[c] = w.value(col, w.schema.Columns[c].Type, i)
		}
		if err := w.add(values); err != nil {
			return err
		}
	}
	return nil
}

func (w *Writer) value(a arrow.Array, t schema.Type, i int) any {
	if a.IsNull(i) {
		return nil
	}
	styled := func(v any) any { return excelize.Cell{StyleID: w.styles[t.Kind], Value: v} }
	switch a := a.(type) {
	case *array.Boolean:
		return a.Value(i)
	case *array.Float64:
		return a.Value(i)
	case *array.Date32:
		if at := a.Value(i).ToTime(); at.Year() >= 1901 && at.Year() <= 9999 {
			return styled(at)
		}
	case *array.Timestamp:
		if at := time.UnixMicro(int64(a.Value(i))).UTC(); at.Year() >= 1901 && at.Year() <= 9999 && at.Nanosecond()%1e6 == 0 {
			return styled(at)
		}
	case *array.Int64, *array.Decimal128:
		text := batch.Text(a, t, i)
		if v, err := strconv.ParseFloat(text, 64); err == nil && len(text) <= exactDigits {
			return v
		}
	}
	return batch.Text(a, t, i)
}

// Flush ends the workbook.
func (w *Writer) Flush() error {
	if err := w.stream.Flush(); err != nil {
		return err
	}
	if err := w.file.Write(w.to); err != nil {
		return err
	}
	return w.file.Close()
}
