package step

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var splitColumn = Kind{
	Name: "split column", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &SplitColumn{} },
	Help: "Cuts a text into several columns: at a separator, by a pattern's brackets, or at places.", Example: "path_code at '-' into danger, kind",
	Words: "split extract parts tokens regex substring separate",
}

// SplitColumn cuts a text column into parts. Exactly one of At, Pattern and
// Places says how.
type SplitColumn struct {
	Column  string   `json:"column" jsonschema:"title=column"`
	At      string   `json:"at,omitempty" jsonschema:"title=at,description=The text between the parts"`
	Pattern string   `json:"pattern,omitempty" jsonschema:"title=pattern,description=A regular expression; each pair of brackets catches a part"`
	Places  []int    `json:"places,omitempty" jsonschema:"title=places,description=The character at which each part begins counted from 1"`
	Into    []string `json:"into" jsonschema:"title=into,description=Names of the parts"`
	Few     string   `json:"too_few,omitempty" jsonschema:"title=too few parts,enum=use null,enum=set aside"`
	Many    string   `json:"too_many,omitempty" jsonschema:"title=too many parts,enum=last takes the rest,enum=drop,enum=set aside"`
	Keep    bool     `json:"keep,omitempty" jsonschema:"title=keep the column,description=Whether the column itself stays too"`
}

const setAside = "set aside"

// Sentence implements Settings.
func (s *SplitColumn) Sentence() string {
	return fmt.Sprintf("split `%s` into %s", orElse(s.Column, "…"), list(s.Into, 4))
}

// Bind implements Settings.
func (s *SplitColumn) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &splitOperator{SplitColumn: s, column: c.column("column", in[0], s.Column)}
	ways := 0
	for _, given := range []bool{s.At != "", s.Pattern != "", len(s.Places) > 0} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		c.Problem("at", "say in one way how to split: at a separator, by a pattern, or at places")
	}
	if len(s.Into) == 0 {
		c.Problem("into", "the parts have no names yet")
	}
	if s.Pattern != "" {
		re, err := regexp.Compile(s.Pattern)
		switch {
		case err != nil:
			c.Problem("pattern", "%q is no regular expression: %s", s.Pattern, err)
		case re.NumSubexp() != len(s.Into):
			c.Problem("pattern", "the pattern catches %d parts and %d are named", re.NumSubexp(), len(s.Into))
		}
		o.pattern = re
	}
	if len(s.Places) > 0 && (len(s.Places) != len(s.Into) || !slices.IsSorted(s.Places) || s.Places[0] < 1) {
		c.Problem("places", "places rise from 1, one for each part")
	}
	if o.column < 0 || c.Failed() {
		return nil
	}
	if t := in[0].Columns[o.column].Type; t.Kind != schema.Text {
		c.Problem("column", "only text is split; %s is %s", s.Column, t)
	}
	o.schema = &schema.Schema{}
	for i, col := range in[0].Columns {
		if i != o.column || s.Keep {
			o.schema.Columns = append(o.schema.Columns, col)
			o.kept = append(o.kept, i)
		}
	}
	for _, name := range s.Into {
		o.schema.Columns = append(o.schema.Columns, schema.Column{Name: name, Type: schema.Of(schema.Text), Nullable: true})
	}
	c.distinctNames(o.schema, func(int) string { return "into" })
	return &Bound{Schema: o.schema, Operator: func() Operator { return o }, SQL: oneSQL(func(from []string) (string, error) { return o.sql(in[0], from[0]) })}
}

type splitOperator struct {
	RowWise
	*SplitColumn
	column  int
	pattern *regexp.Regexp
	kept    []int
	schema  *schema.Schema
}

// parts cuts one text. A part that is not there is missing from the end, or has
// a false in there.
func (o *splitOperator) parts(text string, parts []string, there []bool) (n int) {
	switch {
	case o.At != "":
		cut := strings.Split(text, o.At)
		n = len(cut)
		if n > len(parts) && (o.Many == "" || o.Many == "last takes the rest") {
			cut = strings.SplitN(text, o.At, len(parts))
			n = len(cut)
		}
		for i := range min(n, len(parts)) {
			parts[i], there[i] = cut[i], true
		}
	case o.pattern != nil:
		m := o.pattern.FindStringSubmatchIndex(text)
		if m == nil {
			return 0
		}
		for i := range parts {
			if from := m[2*i+2]; from >= 0 {
				parts[i], there[i] = text[from:m[2*i+3]], true
			}
		}
		n = len(parts)
	default:
		length := utf8.RuneCountInString(text)
		runes := []rune(text)
		for i, from := range o.Places {
			to := length
			if i+1 < len(o.Places) {
				to = min(o.Places[i+1]-1, length)
			}
			if from > length {
				break
			}
			parts[i], there[i] = string(runes[from-1:to]), true
			n++
		}
	}
	return n
}

func (o *splitOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	column := b.Cols[o.column].(*array.String)
	builders := make([]*array.StringBuilder, len(o.Into))
	for i := range builders {
		builders[i] = batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
	}
	parts, there := make([]string, len(o.Into)), make([]bool, len(o.Into))
	var bad map[int32]bool
	for i := range b.N {
		clear(there)
		if column.IsValid(i) {
			n := o.parts(column.Value(i), parts, there)
			var fault *batch.Fault
			if n < len(parts) && o.Few == setAside {
				fault = batch.Faultf("too few parts", "%q has %d parts where %d are expected", column.Value(i), n, len(parts))
			} else if n > len(parts) && o.Many == setAside {
				fault = batch.Faultf("too many parts", "%q has %d parts where %d are expected", column.Value(i), n, len(parts))
			}
			if fault != nil {
				if bad == nil {
					bad = map[int32]bool{}
				}
				bad[int32(i)] = true
				if err := out.SetAside(b, i, o.Column, column.Value(i), fault); err != nil {
					return err
				}
			}
		}
		for k, to := range builders {
			if there[k] {
				to.Append(parts[k])
			} else {
				to.AppendNull()
			}
		}
	}
	next := &batch.Batch{Schema: o.schema, N: b.N, Origin: b.Origin}
	for _, k := range o.kept {
		next.Cols = append(next.Cols, b.Cols[k])
	}
	for _, to := range builders {
		next.Cols = append(next.Cols, arrow.Array(to.NewArray()))
	}
	return out.Emit(without(next, bad))
}

func (o *splitOperator) sql(in *schema.Schema, from string) (string, error) {
	if o.pattern != nil || o.Few == setAside || o.Many == setAside {
		return "", noSQL("patterns are Welkin's own, and parts too few or too many are set aside here")
	}
	col, n := expr.QuoteName(in.Columns[o.column].Name), len(o.Into)
	cols := []string{}
	if len(o.kept) > 0 {
		cols = append(cols, nameList(in, o.kept))
	}
	for i, name := range o.Into {
		var value string
		switch {
		case o.At == "":
			value = fmt.Sprintf("CASE WHEN length(%s) >= %d THEN substr(%s, %d", col, o.Places[i], col, o.Places[i])
			if i+1 < n {
				value += fmt.Sprintf(", %d", o.Places[i+1]-o.Places[i])
			}
			value += ") END"
		case i == 0 && n == 1 && o.Many != "drop":
			value = col
		default:
			at := expr.QuoteText(o.At)
			value = fmt.Sprintf("split_part(%s, %s, %d)", col, at, i+1)
			if i+1 == n && o.Many != "drop" {
				value = fmt.Sprintf("array_to_string((string_to_array(%s, %s))[%d:], %s)", col, at, i+1, at)
			}
			if i > 0 {
				value = fmt.Sprintf("CASE WHEN (length(%s) - length(replace(%s, %s, ''))) / %d >= %d THEN %s END", col, col, at, utf8.RuneCountInString(o.At), i, value)
			}
		}
		cols = append(cols, value+" AS "+expr.QuoteName(name))
	}
	return "SELECT " + strings.Join(cols, ", ") + " FROM " + from, nil
}
