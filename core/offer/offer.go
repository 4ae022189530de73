// Package offer looks at the rows a step gives and says what may be done about
// them: a text that is a date in nearly all rows, spellings that differ by case, a
// column that is always empty. Each offer is a step that can be taken as it is.
package offer

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/personal"
	"welkin/core/schema"
	"welkin/core/step"
)

// Offer is something that fits a column.
type Offer struct {
	Column   string        `json:"column"`
	Sentence string        `json:"sentence" doc:"What was found, such as: reads as a date in 99.8 % of rows."`
	Action   string        `json:"action" doc:"What taking it does, such as: Retype, 31 set aside."`
	Kind     string        `json:"kind" doc:"The kind of step that does it."`
	Settings step.Settings `json:"settings" doc:"The settings of that step."`
}

const (
	fewest = 20   // values that say something
	most   = 0.95 // share of the values from which a column counts as being of a kind
	some   = 0.2  // share of the values from which a column counts as personal
)

// Of gives the offers for the rows of a schema, column by column.
func Of(s *schema.Schema, batches []*batch.Batch) []Offer {
	var out []Offer
	for i, c := range s.Columns {
		col := column{Column: c}
		for _, b := range batches {
			col.rows += b.N
			col.nulls += b.Cols[i].NullN()
			if texts, ok := b.Cols[i].(*array.String); ok && c.Type.Kind == schema.Text {
				for k := range texts.Len() {
					if texts.IsValid(k) {
						col.values = append(col.values, texts.Value(k))
					}
				}
			}
		}
		for _, look := range []func(*column) *Offer{empty, retype, asJSON, blanks, nullWords, spellings, isPersonal} {
			if o := look(&col); o != nil {
				o.Column = c.Name
				out = append(out, *o)
			}
		}
	}
	return out
}

// column is a column and its values, texts alone.
type column struct {
	schema.Column
	rows, nulls int
	values      []string
}

func (c *column) quoted() string { return expr.QuoteName(c.Name) }

// share words a part of the column's values.
func (c *column) share(n int) string {
	if n == len(c.values) {
		return "in all rows"
	}
	return fmt.Sprintf("in %.1f %% of rows", math.Min(float64(n)/float64(len(c.values))*100, 99.9))
}

// replace is an offer to compute the column anew.
func (c *column) replace(sentence, action, value string) *Offer {
	return &Offer{Sentence: sentence, Action: action, Kind: "derive columns", Settings: &step.DeriveColumns{Columns: []step.DerivedEach{{Name: c.Name, Value: value}}}}
}

func empty(c *column) *Offer {
	if c.rows < fewest || c.nulls < c.rows {
		return nil
	}
	return &Offer{Sentence: "empty in all rows", Action: "Leave it out", Kind: "choose columns",
		Settings: &step.ChooseColumns{Columns: []step.Chosen{{Take: "all but " + c.Name}}}}
}

// reading is a type that texts may be of.
type reading struct {
	words  string
	t      func(c *column) schema.Type
	format string // of dates that are not written year first
	reads  func(v string) bool
}

var (
	leadingZero = regexp.MustCompile(`^-?0\d`)
	decimalForm = regexp.MustCompile(`^-?\d{1,15}\.\d{1,9}$`)
	dotted      = regexp.MustCompile(`^(0[1-9]|[12]\d|3[01])\.(0[1-9]|1[0-2])\.\d{4}$`)
	dayFirst    = regexp.MustCompile(`^(0[1-9]|[12]\d|3[01])/(0[1-9]|1[0-2])/\d{4}$`)
	monthFirst  = regexp.MustCompile(`^(0[1-9]|1[0-2])/(0[1-9]|[12]\d|3[01])/\d{4}$`)
)

func plainly(t schema.Kind) func(*column) schema.Type {
	return func(*column) schema.Type { return schema.Of(t) }
}

// readings in the order in which they are offered: the first that fits is it.
var readings = []reading{
	{"a whole number", plainly(schema.Int), "", func(v string) bool {
		_, fault := batch.ParseInt(v)
		return fault == nil && !leadingZero.MatchString(v) // codes such as 007 are no numbers
	}},
	{"a decimal number", decimalOf, "", func(v string) bool {
		_, fault := batch.ParseInt(v)
		return (fault == nil || decimalForm.MatchString(v)) && !leadingZero.MatchString(strings.SplitN(v, ".", 2)[0])
	}},
	{"a date", plainly(schema.Date), "", func(v string) bool { _, fault := batch.ParseDate(v); return fault == nil }},
	{"a date", plainly(schema.Date), "DD.MM.YYYY", dotted.MatchString},
	{"a date", plainly(schema.Date), "DD/MM/YYYY", dayFirst.MatchString},
	{"a date", plainly(schema.Date), "MM/DD/YYYY", monthFirst.MatchString},
	{"a time stamp", plainly(schema.Timestamp), "", func(v string) bool { _, fault := batch.ParseTimestamp(v); return fault == nil }},
	{"true or false", plainly(schema.Bool), "", func(v string) bool { _, fault := batch.ParseBool(v); return fault == nil }},
}

// decimalOf is the decimal that holds a column's values.
func decimalOf(c *column) schema.Type {
	scale := 0
	for _, v := range c.values {
		if decimalForm.MatchString(v) {
			scale = max(scale, len(v)-strings.IndexByte(v, '.')-1)
		}
	}
	return schema.DecimalOf(18, scale)
}

func retype(c *column) *Offer {
	if len(c.values) < fewest {
		return nil
	}
	fits := make([]int, len(readings))
	for _, v := range c.values {
		for i, r := range readings {
			if r.reads(v) {
				fits[i]++
			}
		}
	}
	best := -1
	for i, n := range fits {
		if float64(n) >= most*float64(len(c.values)) && (best < 0 || n > fits[best]) {
			best = i
		}
	}
	if best < 0 {
		return nil
	}
	r, bad := readings[best], len(c.values)-fits[best]
	if r.format == "DD/MM/YYYY" && fits[best] == fits[best+1] {
		return nil // 03/04/2026 may be either
	}
	o := &Offer{Sentence: fmt.Sprintf("reads as %s %s", r.words, c.share(fits[best])), Action: "Retype it", Kind: "choose columns"}
	if bad > 0 {
		o.Action = fmt.Sprintf("Retype it, %d set aside", bad)
	}
	t := r.t(c)
	o.Settings = &step.ChooseColumns{Columns: []step.Chosen{{Take: c.Name, Type: &t, Format: r.format}}, Others: "keep"}
	return o
}

func asJSON(c *column) *Offer {
	n := 0
	for _, v := range c.values {
		if t := strings.TrimSpace(v); t != "" && (t[0] == '{' || t[0] == '[') && json.Valid([]byte(t)) {
			n++
		}
	}
	if len(c.values) < fewest || float64(n) < most*float64(len(c.values)) {
		return nil
	}
	return &Offer{Sentence: "holds JSON " + c.share(n), Action: "Read it", Kind: "parse text", Settings: &step.ParseText{Column: c.Name, As: "json"}}
}

func blanks(c *column) *Offer {
	n := 0
	for _, v := range c.values {
		if strings.Trim(v, " ") != v {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return c.replace("blanks around the text "+c.share(n), "Trim it", "btrim("+c.quoted()+")")
}

// meaningNull are texts that people write where there is nothing.
var meaningNull = []string{"", "-", "--", "n/a", "na", "null", "none", "?", "unknown", "#n/a"}

func nullWords(c *column) *Offer {
	n, found := 0, map[string]bool{}
	for _, v := range c.values {
		if w := strings.ToLower(strings.Trim(v, " ")); slices.Contains(meaningNull, w) {
			n++
			found[w] = true
		}
	}
	if n == 0 || n == len(c.values) && len(found) == 1 {
		return nil
	}
	var words, quoted []string
	for _, w := range meaningNull {
		if found[w] {
			quoted = append(quoted, "'"+w+"'")
			if words = append(words, w); w == "" {
				words[len(words)-1] = "an empty text"
			}
		}
	}
	return c.replace(fmt.Sprintf("%s %s may mean null", strings.Join(words, ", "), c.share(n)), "Make it null",
		fmt.Sprintf("CASE WHEN lower(btrim(%s)) NOT IN (%s) THEN %s END", c.quoted(), strings.Join(quoted, ", "), c.quoted()))
}

func spellings(c *column) *Offer {
	first, differ := map[string]string{}, map[string]string{}
	for _, v := range c.values {
		folded := strings.ToLower(v)
		if was, ok := first[folded]; !ok {
			first[folded] = v
		} else if was != v && differ[folded] == "" {
			differ[folded] = v
		}
	}
	if len(differ) == 0 {
		return nil
	}
	for _, v := range c.values { // the first that comes is the example
		if other := differ[strings.ToLower(v)]; other != "" {
			what := fmt.Sprintf("%d values differ by case alone, such as %s and %s", len(differ), v, other)
			if len(differ) == 1 {
				what = fmt.Sprintf("%s and %s differ by case alone", v, other)
			}
			return c.replace(what, "Make all small", "lower("+c.quoted()+")")
		}
	}
	return nil
}

func isPersonal(c *column) *Offer {
	mask := func(sentence, how string) *Offer {
		return &Offer{Sentence: sentence, Action: "Mask it", Kind: "mask", Settings: &step.Mask{Columns: []string{c.Name}, How: how}}
	}
	if len(c.values) < fewest {
		return nil
	}
	found := map[personal.Kind]int{}
	for _, v := range c.values {
		kinds := map[personal.Kind]bool{}
		for _, f := range personal.Find(v, nil) {
			kinds[f.Kind] = true
		}
		for k := range kinds {
			found[k]++
		}
	}
	for _, k := range personal.Kinds() {
		if n := found[k]; float64(n) >= some*float64(len(c.values)) {
			how := step.MaskReplace
			if k == personal.Bank || k == personal.Card {
				how = step.MaskKeepLast
			}
			return mask(fmt.Sprintf("looks like %s %s", a(k), c.share(n)), how)
		}
	}
	if k, ok := personal.ByHeading(c.Name); ok {
		return mask("by its heading "+a(k), step.MaskReplace)
	}
	return nil
}

// a puts an article before a kind.
func a(k personal.Kind) string {
	if strings.ContainsRune("aeiou", rune(k[0])) {
		return "an " + string(k)
	}
	return "a " + string(k)
}
