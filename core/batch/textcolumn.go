package batch

import (
	"strings"
	"unsafe"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/schema"
)

// TextColumn makes a column of texts that come row by row, as files hold them:
// by the rules of AppendText, and several times as fast for the usual forms of
// numbers and dates.
type TextColumn interface {
	// Set reads the value of row i; rows come in order, and those left out are
	// null. On a fault the row is null. The text is not kept.
	Set(i int, text string) *Fault
	// SetNull makes row i null.
	SetNull(i int)
	// Fill reads rows from 0 on where their texts stand in data, and tells of each
	// text that can't be read; its row is null.
	Fill(data []byte, spans []Span, refused func(row int, text string, fault *Fault))
	// Column ends the column.
	Column() arrow.Array
}

// Span is where a text stands: from one byte of data up to another.
type Span struct{ From, To uint32 }

// NullSpan stands for a null.
var NullSpan = Span{From: 1}

// Null tells whether there is no text.
func (s Span) Null() bool { return s.From > s.To }

// text gives a span's text; it is valid as long as the data are not changed.
func (s Span) text(data []byte) string {
	part := data[s.From:s.To]
	return unsafe.String(unsafe.SliceData(part), len(part))
}

// NewTextColumn makes a column of n rows of type t.
func NewTextColumn(t schema.Type, n int) TextColumn {
	switch t.Kind {
	case schema.Int:
		return newFixedText(t, n, quickInt, ParseInt)
	case schema.Float:
		return newFixedText(t, n, quickFloat, ParseFloat)
	case schema.Decimal:
		quick := func(s string) (decimal128.Num, bool) { return quickDecimal(s, t) }
		return newFixedText(t, n, quick, func(s string) (decimal128.Num, *Fault) { return ParseDecimal(s, t) })
	case schema.Bool:
		return newFixedText(t, n, quickBool, ParseBool)
	case schema.Date:
		return newFixedText(t, n, isoDate, ParseDate)
	case schema.Timestamp, schema.TimestampTZ:
		return newFixedText(t, n, isoTimestamp, ParseTimestamp)
	case schema.Text:
		return &plainText{t: t, valid: AllValid(n), ends: make([]int32, 1, n+1), n: n}
	}
	return &builtText{t: t, n: n, to: NewBuilder(t)}
}

// fixedText is a column of values of fixed width.
type fixedText[T any] struct {
	t      schema.Type
	quick  func(text string) (T, bool) // reads the usual forms
	parse  func(text string) (T, *Fault)
	values []T
	valid  *Validity
	next   int
}

func newFixedText[T any](t schema.Type, n int, quick func(string) (T, bool), parse func(string) (T, *Fault)) TextColumn {
	return &fixedText[T]{t: t, quick: quick, parse: parse, values: make([]T, n), valid: AllValid(n)}
}

func (c *fixedText[T]) skip(i int) {
	for ; c.next < i; c.next++ {
		c.valid.SetNull(c.next)
	}
	c.next = i + 1
}

func (c *fixedText[T]) Set(i int, text string) *Fault {
	v, ok := c.quick(text)
	if !ok {
		var fault *Fault
		if v, fault = c.parse(strings.Clone(text)); fault != nil {
			return fault
		}
	}
	if i > c.next {
		c.skip(i)
	}
	c.next = i + 1
	c.values[i] = v
	return nil
}

func (c *fixedText[T]) Fill(data []byte, spans []Span, refused func(row int, text string, fault *Fault)) {
	values := c.values[:len(spans)]
	for i, s := range spans {
		if s.Null() {
			c.valid.SetNull(i)
			continue
		}
		v, ok := c.quick(s.text(data))
		if !ok {
			var fault *Fault
			text := strings.Clone(s.text(data))
			if v, fault = c.parse(text); fault != nil {
				c.valid.SetNull(i)
				refused(i, text, fault)
				continue
			}
		}
		values[i] = v
	}
	c.next = len(spans)
}

func (c *fixedText[T]) SetNull(i int) {
	c.skip(i)
	c.valid.SetNull(i)
}

func (c *fixedText[T]) Column() arrow.Array {
	c.skip(len(c.values))
	return NewColumn(c.t.Arrow(), c.values, c.valid)
}

// plainText is a column of texts.
type plainText struct {
	t     schema.Type
	n     int
	data  []byte
	ends  []int32
	valid *Validity
}

func (c *plainText) skip(i int) {
	for at := len(c.ends) - 1; at < i; at++ {
		c.valid.SetNull(at)
		c.ends = append(c.ends, int32(len(c.data)))
	}
}

func (c *plainText) Set(i int, text string) *Fault {
	c.skip(i)
	if c.data == nil {
		c.data = make([]byte, 0, c.n*(len(text)+2)) // the others will be about as long
	}
	c.data = append(c.data, text...)
	c.ends = append(c.ends, int32(len(c.data)))
	return nil
}

func (c *plainText) Fill(data []byte, spans []Span, _ func(row int, text string, fault *Fault)) {
	size := uint32(0)
	for _, s := range spans {
		if !s.Null() {
			size += s.To - s.From
		}
	}
	c.data = make([]byte, 0, size)
	for i, s := range spans {
		if s.Null() {
			c.valid.SetNull(i)
		} else {
			c.data = append(c.data, data[s.From:s.To]...)
		}
		c.ends = append(c.ends, int32(len(c.data)))
	}
}

func (c *plainText) SetNull(i int) { c.skip(i + 1) }

func (c *plainText) Column() arrow.Array {
	c.skip(c.n)
	return newTexts(c.t.Arrow(), c.ends, c.data, c.valid)
}

// builtText is a column of any other type.
type builtText struct {
	t  schema.Type
	n  int
	to array.Builder
}

func (c *builtText) skip(i int) { c.to.AppendNulls(i - c.to.Len()) }

func (c *builtText) Set(i int, text string) *Fault {
	c.skip(i)
	return AppendText(c.to, c.t, text)
}

func (c *builtText) Fill(data []byte, spans []Span, refused func(row int, text string, fault *Fault)) {
	for i, s := range spans {
		if s.Null() {
			c.SetNull(i)
		} else if fault := c.Set(i, s.text(data)); fault != nil {
			refused(i, strings.Clone(s.text(data)), fault)
		}
	}
}

func (c *builtText) SetNull(i int) { c.skip(i + 1) }

func (c *builtText) Column() arrow.Array {
	c.skip(c.n)
	return c.to.NewArray()
}

// quickInt reads a whole number of up to 18 digits.
func quickInt(s string) (int64, bool) {
	negative := len(s) > 0 && s[0] == '-'
	if negative {
		s = s[1:]
	}
	if len(s) == 0 || len(s) > 18 {
		return 0, false
	}
	n := int64(0)
	for _, c := range []byte(s) {
		d := c - '0'
		if d > 9 {
			return 0, false
		}
		n = n*10 + int64(d)
	}
	if negative {
		n = -n
	}
	return n, true
}

// digits reads a number of up to 18 digits with or without a point, without the
// point, and how many stand behind it.
func digits(s string) (n int64, decimals int, ok bool) {
	negative := len(s) > 0 && s[0] == '-'
	if negative {
		s = s[1:]
	}
	if len(s) == 0 || len(s) > 18 {
		return 0, 0, false
	}
	point := -1
	for i, c := range []byte(s) {
		d := c - '0'
		if d > 9 {
			if c != '.' || point >= 0 || len(s) == 1 {
				return 0, 0, false
			}
			point = i
			continue
		}
		n = n*10 + int64(d)
	}
	if point >= 0 {
		decimals = len(s) - point - 1
	}
	if negative {
		n = -n
	}
	return n, decimals, true
}

// quickDecimal reads a decimal that needs no rounding.
func quickDecimal(s string, t schema.Type) (decimal128.Num, bool) {
	n, decimals, ok := digits(s)
	up := t.Scale - decimals
	if !ok || up < 0 || up >= len(smallPowers) {
		return decimal128.Num{}, false
	}
	v, fault := Rescale(n, decimals, t)
	return v, fault == nil
}

// exactPowers are the powers of ten that a float holds exactly.
var exactPowers = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22}

// ExactQuotient gives the float nearest to n/10^scale; ok is false where a
// division of floats does not give it: n and the power must both be exact.
func ExactQuotient(n int64, scale int) (v float64, ok bool) {
	if n <= -1<<53 || n >= 1<<53 || scale >= len(exactPowers) {
		return 0, false
	}
	return float64(n) / exactPowers[scale], true
}

func quickFloat(s string) (float64, bool) {
	n, decimals, ok := digits(s)
	if !ok || n == 0 { // -0 has a sign
		return 0, false
	}
	return ExactQuotient(n, decimals)
}

func quickBool(s string) (value, ok bool) {
	return s == "true", s == "true" || s == "false"
}
