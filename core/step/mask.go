package step

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var maskColumns = Kind{
	Name: "mask", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &Mask{} },
	Help: "Hides values: a keyed hash that still joins, the last characters only, or the same shape without its content.", Example: "hash email with :key",
	Words: "hash anonymise pseudonymise hide protect personal gdpr sha256 redact",
}

// Mask replaces values of columns, which become text.
type Mask struct {
	Columns []string `json:"columns" jsonschema:"title=columns"`
	How     string   `json:"how" jsonschema:"title=how,enum=hash,enum=keep last,enum=replace"`
	Key     string   `json:"key,omitempty" jsonschema:"title=key,description=For hash: the secret key; a parameter such as :mask_key,format=sql"`
	Last    int      `json:"last,omitempty" jsonschema:"title=last,description=For keep last: how many characters stay; 4 when left out"`
}

// Ways to mask.
const (
	MaskHash     = "hash"
	MaskKeepLast = "keep last"
	MaskReplace  = "replace"
)

// Sentence implements Settings.
func (s *Mask) Sentence() string {
	return "mask " + list(s.Columns, 4) + " (" + orElse(s.How, "…") + ")"
}

// Bind implements Settings.
func (s *Mask) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &maskOperator{columns: c.pick("columns", in[0], s.Columns)}
	if len(s.Columns) == 0 {
		c.Problem("columns", "no column yet; name those to be masked")
	}
	last := s.Last
	if last == 0 {
		last = 4
	}
	switch s.How {
	case MaskHash:
		if s.Key == "" {
			c.Problem("key", "a hash needs a key, so that nobody can try out values; name a parameter such as :mask_key")
			break
		}
		key, _ := c.constant("key", s.Key)
		text, ok := key.(*array.String)
		if key != nil && !ok {
			c.Problem("key", "the key is a text")
		}
		if ok {
			o.mask = HashText([]byte(text.Value(0)))
		}
	case MaskKeepLast:
		if last < 0 {
			c.Problem("last", "the number of characters that stay can't be negative")
		}
		o.mask = func(v string) string {
			n := utf8.RuneCountInString(v)
			if n <= last {
				return strings.Repeat("*", n) // a short value would be kept whole
			}
			runes := []rune(v)
			return strings.Repeat("*", n-last) + string(runes[n-last:])
		}
	case MaskReplace:
		o.mask = Shape
	default:
		c.Problem("how", "how is hash, keep last or replace, not %q", s.How)
	}
	o.schema = &schema.Schema{Columns: slices.Clone(in[0].Columns)}
	for _, at := range o.columns {
		o.schema.Columns[at].Type, o.schema.Columns[at].Personal = schema.Of(schema.Text), false
	}
	return &Bound{MadeOf: madeOfNone, Schema: o.schema, Operator: func() Operator { return o }, SQL: oneSQL(func(from []string) (string, error) {
		if s.How != MaskKeepLast {
			return "", noSQL("hashes and shapes are made here")
		}
		replaced := map[int]string{}
		for _, at := range o.columns {
			if t := in[0].Columns[at].Type; t.Nested() || t.Kind == schema.Float || t.Kind == schema.Timestamp || t.Kind == schema.TimestampTZ {
				return "", noSQL("a %s is written as text here", t)
			}
			v := expr.QuoteName(in[0].Columns[at].Name) + "::text"
			replaced[at] = fmt.Sprintf("CASE WHEN length(%s) <= %d THEN repeat('*', length(%s)) ELSE repeat('*', length(%s) - %d) || right(%s, %d) END", v, last, v, v, last, v, last)
		}
		return "SELECT " + columnList(in[0], replaced) + " FROM " + from[0], nil
	})}
}

// HashText gives the function that makes HMAC-SHA256 in hexadecimal of a text
// under a key (RFC 2104).
func HashText(key []byte) func(string) string {
	return func(v string) string {
		h := hmac.New(sha256.New, key)
		h.Write([]byte(v))
		return hex.EncodeToString(h.Sum(nil))
	}
}

// Shape keeps what a text looks like and not what it says: letters become x or
// X, digits 9.
func Shape(v string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case unicode.IsDigit(r):
			return '9'
		case unicode.IsUpper(r):
			return 'X'
		case unicode.IsLetter(r):
			return 'x'
		}
		return r
	}, v)
}

type maskOperator struct {
	RowWise
	columns []int
	mask    func(string) string
	schema  *schema.Schema
}

func (o *maskOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	next := &batch.Batch{Schema: o.schema, N: b.N, Origin: b.Origin, Cols: slices.Clone(b.Cols)}
	for _, at := range o.columns {
		to := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
		for i := range b.N {
			if b.Cols[at].IsNull(i) {
				to.AppendNull()
			} else {
				to.Append(o.mask(batch.Text(b.Cols[at], b.Schema.Columns[at].Type, i)))
			}
		}
		next.Cols[at] = to.NewArray()
	}
	return out.Emit(next)
}
