package csv

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"welkin/core/format"
	"welkin/core/schema"
)

// SampleBytes is how much of a file is looked at to find its dialect and types.
const SampleBytes = 256 << 10

// Head reads up to SampleBytes from the start of a file.
func Head(r io.Reader) (head []byte, whole bool, err error) {
	head, err = io.ReadAll(io.LimitReader(r, SampleBytes))
	return head, len(head) < SampleBytes, err
}

// Infer finds names and types of the columns from a file's head; nulls are texts
// that mean null.
func Infer(head []byte, whole bool, d Dialect, nulls ...string) (*schema.Schema, error) {
	r, err := format.Decoded(strings.NewReader(string(head)), d.Encoding)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("reading the file as %s: %w", d.Encoding, err)
	}
	recs := records(string(text), d, 1_000_000)
	if !whole && len(recs) > 1 {
		recs = recs[:len(recs)-1]
	}
	if len(recs) == 0 {
		return nil, format.ErrEmpty
	}
	lines := min(d.headerLines(), len(recs))
	names := format.ColumnNames(recs[:lines], len(recs[max(lines-1, 0)]))
	recs = recs[lines:]
	if whole && d.Trailer > 0 {
		recs = recs[:max(len(recs)-d.Trailer, 0)]
	}
	s := &schema.Schema{}
	for i, name := range names {
		s.Columns = append(s.Columns, schema.Column{Name: name, Type: d.typeOf(recs, i, nulls), Nullable: true})
	}
	return s, nil
}

// typeOf gives the type of a column: as its texts are, or as they are when they are
// written as the dialect says.
func (d Dialect) typeOf(recs [][]string, column int, nulls []string) schema.Type {
	numbers, dates := d.converts(schema.Of(schema.Float)), d.converts(schema.Of(schema.Timestamp))
	var plain, asNumber, asDate format.Guess
	add := func(g *format.Guess, convert conversion, v string) {
		if convert == nil {
			return
		}
		if text, fault := convert(v); fault == nil {
			v = strings.TrimSuffix(text, " 00:00:00")
		}
		g.Add(v)
	}
	for _, rec := range recs {
		if column >= len(rec) || slices.Contains(nulls, rec[column]) {
			continue
		}
		v := rec[column]
		if plain.Add(v); strings.TrimSpace(v) == "" {
			continue
		}
		add(&asNumber, numbers, v)
		add(&asDate, dates, v)
	}
	if t := asDate.Temporal(); t.Kind != schema.Unknown && plain.Type().Kind == schema.Text {
		return t
	}
	if t := asNumber.Type(); t.Numeric() && numbers != nil {
		return t
	}
	if t := plain.Type(); !(t.Kind == schema.Decimal && numbers != nil) {
		return t
	}
	return schema.Of(schema.Text)
}
