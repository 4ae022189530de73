package csv

import (
	"fmt"
	"io"
	"strings"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// guess narrows down the type of one column, value by value.
type guess struct {
	seen, nulls                                        int
	notBool, notInt, notDecimal, notDate, notTimestamp bool
	whole, scale                                       int
}

func (g *guess) add(value string) {
	v := strings.TrimSpace(value)
	if v == "" {
		g.nulls++
		return
	}
	g.seen++
	if !g.notBool && !strings.EqualFold(v, "true") && !strings.EqualFold(v, "false") {
		g.notBool = true
	}
	if !g.notDecimal {
		g.number(v)
	}
	if !g.notDate {
		_, fault := batch.ParseDate(v)
		g.notDate = fault != nil || len(v) != 10
	}
	if !g.notTimestamp {
		_, fault := batch.ParseTimestamp(v)
		g.notTimestamp = fault != nil || len(v) < 16
	}
}

func (g *guess) number(v string) {
	digits := strings.TrimLeft(v, "+-")
	whole, fraction, point := strings.Cut(digits, ".")
	switch {
	case len(v)-len(digits) > 1 || whole+fraction == "" || strings.Trim(whole+fraction, "0123456789") != "",
		len(whole) > 1 && whole[0] == '0': // leading zeros are a code, not a number
		g.notInt, g.notDecimal = true, true
	case point || len(whole) > 18:
		g.notInt = true
	}
	g.whole, g.scale = max(g.whole, len(whole)), max(g.scale, len(fraction))
}

func (g *guess) best() schema.Type {
	switch {
	case g.seen == 0:
		return schema.Of(schema.Text)
	case !g.notBool:
		return schema.Of(schema.Bool)
	case !g.notInt:
		return schema.Of(schema.Int)
	case !g.notDecimal && g.whole+g.scale <= 18:
		return schema.DecimalOf(18, g.scale)
	case !g.notDecimal && g.whole+g.scale <= schema.MaxPrecision:
		return schema.DecimalOf(schema.MaxPrecision, g.scale)
	case !g.notDate:
		return schema.Of(schema.Date)
	case !g.notTimestamp:
		return schema.Of(schema.Timestamp)
	}
	return schema.Of(schema.Text)
}

// SampleBytes is how much of a file is looked at to find its dialect and types.
const SampleBytes = 256 << 10

// Head reads up to SampleBytes from the start of a file.
func Head(r io.Reader) (head []byte, whole bool, err error) {
	head, err = io.ReadAll(io.LimitReader(r, SampleBytes))
	return head, len(head) < SampleBytes, err
}

// Infer finds names and types of the columns from a file's head.
func Infer(head []byte, whole bool, d Dialect) (*schema.Schema, error) {
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
	names := columnNames(recs[:lines], len(recs[max(lines-1, 0)]))
	recs = recs[lines:]
	guesses := make([]guess, len(names))
	for _, rec := range recs {
		for i, v := range rec {
			if i < len(guesses) {
				guesses[i].add(v)
			}
		}
	}
	s := &schema.Schema{}
	for i, g := range guesses {
		s.Columns = append(s.Columns, schema.Column{Name: names[i], Type: g.best(), Nullable: true})
	}
	return s, nil
}
