package format

import (
	"strings"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Guess narrows down the type that a column of texts has, value by value. The zero
// Guess has seen nothing.
type Guess struct {
	Seen  int // values that are not empty
	Nulls int
	notBool, notInt, notDecimal, notDate,
	notTimestamp, notZoned bool
	whole, scale int // most digits before and behind the point
}

// Add looks at one more value; a blank one is a null.
func (g *Guess) Add(value string) {
	v := strings.TrimSpace(value)
	if v == "" {
		g.Nulls++
		return
	}
	g.Seen++
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
	if !g.notTimestamp || !g.notZoned {
		_, fault := batch.ParseTimestamp(v)
		is := fault == nil && len(v) >= 16
		zoned := is && hasZone(v)
		g.notTimestamp = g.notTimestamp || !is || zoned
		g.notZoned = g.notZoned || !zoned
	}
}

// hasZone tells whether a time stamp says how far it is from UTC.
func hasZone(v string) bool {
	return v[len(v)-1] == 'Z' || strings.LastIndexAny(v, "+-") > 10
}

func (g *Guess) number(v string) {
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

// Type gives the narrowest type that holds all values seen; text for none.
func (g *Guess) Type() schema.Type {
	switch {
	case g.Seen == 0:
		return schema.Of(schema.Text)
	case !g.notBool:
		return schema.Of(schema.Bool)
	case !g.notInt:
		return schema.Of(schema.Int)
	case !g.notDecimal && g.whole+g.scale <= 18:
		return schema.DecimalOf(18, g.scale)
	case !g.notDecimal && g.whole+g.scale <= schema.MaxPrecision:
		return schema.DecimalOf(schema.MaxPrecision, g.scale)
	}
	if t := g.Temporal(); t.Kind != schema.Unknown {
		return t
	}
	return schema.Of(schema.Text)
}

// Temporal gives the day or instant that all values seen are, or an unknown type.
func (g *Guess) Temporal() schema.Type {
	switch {
	case g.Seen == 0:
		return schema.Type{}
	case !g.notDate:
		return schema.Of(schema.Date)
	case !g.notTimestamp:
		return schema.Of(schema.Timestamp)
	case !g.notZoned:
		return schema.Of(schema.TimestampTZ)
	}
	return schema.Type{}
}
