// Package profile describes columns in one pass over their rows, in memory that
// does not grow with them: nulls, number of different values (HyperLogLog), least
// and greatest value, quantiles and a histogram (t-digest), the most frequent
// values and shapes (frequent.go), and lengths of texts.
package profile

import (
	"math"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/axiomhq/hyperloglog"
	"github.com/caio/go-tdigest/v4"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Profile is what is known of a column.
type Profile struct {
	Name      string      `json:"name"`
	Type      schema.Type `json:"type"`
	Rows      int64       `json:"rows"`
	Nulls     int64       `json:"nulls"`
	Empty     int64       `json:"empty,omitempty" doc:"Texts without a character."`
	Distinct  int64       `json:"distinct" doc:"Different values, estimated to about 1 %; exact up to some hundreds."`
	Min       *string     `json:"min,omitempty"`
	Max       *string     `json:"max,omitempty"`
	Quantiles []Quantile  `json:"quantiles,omitempty"`
	Histogram []Bar       `json:"histogram,omitempty" doc:"Ten bars of equal width."`
	Frequent  []Value     `json:"frequent" doc:"The most frequent values, counted to within their possible error."`
	Shapes    []Value     `json:"shapes,omitempty" doc:"The most frequent shapes of texts: letters as x or X, digits as 9."`
	Shortest  int         `json:"shortest,omitempty" doc:"Characters."`
	Longest   int         `json:"longest,omitempty"`
	MeanSize  float64     `json:"mean_length,omitempty"`
}

// Quantile is the value below which a share of the rows lies.
type Quantile struct {
	Share float64 `json:"share"`
	Value float64 `json:"value"`
}

// Bar is one bar of a histogram.
type Bar struct {
	From float64 `json:"from"`
	To   float64 `json:"to"`
	Rows int64   `json:"rows"`
}

// Value is a frequent value.
type Value struct {
	Text  string `json:"text"`
	Rows  int64  `json:"rows"`
	Error int64  `json:"error,omitempty" doc:"Up to so many rows too many may have been counted."`
}

// Profiler takes in rows.
type Profiler struct {
	schema  *schema.Schema
	columns []*column
}

// New makes a profiler of columns.
func New(s *schema.Schema) *Profiler {
	p := &Profiler{schema: s}
	for _, c := range s.Columns {
		digest, err := tdigest.New(tdigest.Compression(200), tdigest.LocalRandomNumberGenerator(1))
		if err != nil {
			panic(err) // the settings above are right
		}
		p.columns = append(p.columns, &column{sketch: hyperloglog.New14(), digest: digest, frequent: newFrequent(frequentKept), shapes: newFrequent(frequentKept), t: c.Type, shortest: math.MaxInt})
	}
	return p
}

// column is what is kept of a column.
type column struct {
	t                 schema.Type
	rows, nulls       int64
	empty             int64
	sketch            *hyperloglog.Sketch
	digest            *tdigest.TDigest
	numbers           int64
	min, max          arrow.Array // of one value
	frequent, shapes  *frequent
	shortest, longest int
	characters        int64
	key               []byte
}

// Add takes in a batch.
func (p *Profiler) Add(b *batch.Batch) {
	for k, c := range p.columns {
		c.add(b.Cols[k])
	}
}

func (c *column) add(a arrow.Array) {
	c.rows += int64(a.Len())
	ordered := batch.Orderable(c.t)
	for i := range a.Len() {
		if a.IsNull(i) {
			c.nulls++
			continue
		}
		text := batch.Text(a, c.t, i)
		c.frequent.add(text)
		if ordered {
			c.key = batch.AppendKey(c.key[:0], a, i)
			c.extremes(a, i)
		} else {
			c.key = append(c.key[:0], text...)
		}
		c.sketch.Insert(c.key)
		if v, ok := number(a, c.t, i); ok && !math.IsNaN(v) && !math.IsInf(v, 0) {
			_ = c.digest.Add(v)
			c.numbers++
		}
		if c.t.Kind == schema.Text {
			n := utf8.RuneCountInString(text)
			c.shortest, c.longest, c.characters = min(c.shortest, n), max(c.longest, n), c.characters+int64(n)
			if n == 0 {
				c.empty++
			}
			c.shapes.add(shape(text))
		}
	}
}

func (c *column) extremes(a arrow.Array, i int) {
	if c.min == nil {
		c.min = batch.Take(a, []int32{int32(i)})
		c.max = c.min
		return
	}
	if batch.Compare(a, i, c.min, 0) < 0 {
		c.min = batch.Take(a, []int32{int32(i)})
	}
	if batch.Compare(a, i, c.max, 0) > 0 {
		c.max = batch.Take(a, []int32{int32(i)})
	}
}

// number gives a value as a float where it has one: days since 1970 for dates,
// seconds for times.
func number(a arrow.Array, t schema.Type, i int) (float64, bool) {
	switch a := a.(type) {
	case *array.Int64:
		return float64(a.Value(i)), true
	case *array.Float64:
		return a.Value(i), true
	case *array.Decimal128:
		return a.Value(i).ToFloat64(int32(t.Scale)), true
	case *array.Date32:
		return float64(a.Value(i)), true
	case *array.Timestamp:
		return float64(a.Value(i)) / 1e6, true
	}
	return 0, false
}

// Result gives the profile of every column.
func (p *Profiler) Result() []Profile {
	out := make([]Profile, len(p.columns))
	for k, c := range p.columns {
		r := Profile{Name: p.schema.Columns[k].Name, Type: c.t, Rows: c.rows, Nulls: c.nulls, Empty: c.empty, Frequent: c.frequent.top(frequentShown)}
		r.Distinct = min(int64(c.sketch.Estimate()), c.rows-c.nulls)
		if exact, ok := c.frequent.exact(); ok {
			r.Distinct = exact
		}
		if c.min != nil {
			low, high := batch.Text(c.min, c.t, 0), batch.Text(c.max, c.t, 0)
			r.Min, r.Max = &low, &high
		}
		if c.numbers > 0 {
			for _, share := range []float64{0.01, 0.05, 0.25, 0.5, 0.75, 0.95, 0.99} {
				r.Quantiles = append(r.Quantiles, Quantile{share, c.digest.Quantile(share)})
			}
			r.Histogram = c.histogram()
		}
		if c.t.Kind == schema.Text && c.rows > c.nulls {
			r.Shapes, r.Shortest, r.Longest = c.shapes.top(frequentShown), c.shortest, c.longest
			r.MeanSize = float64(c.characters) / float64(c.rows-c.nulls)
		}
		out[k] = r
	}
	return out
}

const bars = 10

// histogram cuts the range into bars; how many rows lie in each is read off the
// digest.
func (c *column) histogram() []Bar {
	low, _ := number(c.min, c.t, 0)
	high, _ := number(c.max, c.t, 0)
	if !(high > low) || math.IsInf(high-low, 0) {
		return []Bar{{low, high, c.numbers}}
	}
	out := make([]Bar, bars)
	before := int64(0)
	for i := range out {
		from, to := low+(high-low)*float64(i)/bars, low+(high-low)*float64(i+1)/bars
		upTo := int64(math.Round(c.digest.CDF(to) * float64(c.numbers)))
		if i == bars-1 {
			upTo = c.numbers
		}
		out[i] = Bar{from, to, max(upTo-before, 0)}
		before = max(upTo, before)
	}
	return out
}
