package profile_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/profile"
)

func rows(t testing.TB, typ string, cells ...string) *batch.Batch {
	t.Helper()
	lists := make([][]string, len(cells))
	for i, c := range cells {
		lists[i] = []string{c}
	}
	return batchtest.Cells(t, batchtest.Columns(t, "c:"+typ), lists...)
}

func of(t testing.TB, batches ...*batch.Batch) profile.Profile {
	p := profile.New(batches[0].Schema)
	for _, b := range batches {
		p.Add(b)
	}
	return p.Result()[0]
}

func TestAProfileOfTexts(t *testing.T) {
	c := of(t, rows(t, "text", "L4", "L4", "M12", "", "∅", "høy fjell"), rows(t, "text", "L4"))
	assert.EqualValues(t, 7, c.Rows)
	assert.EqualValues(t, 1, c.Nulls)
	assert.EqualValues(t, 1, c.Empty)
	assert.EqualValues(t, 4, c.Distinct)
	assert.Equal(t, profile.Value{Text: "L4", Rows: 3}, c.Frequent[0])
	assert.Equal(t, profile.Value{Text: "X9", Rows: 4}, c.Shapes[0])
	assert.Equal(t, []int{0, 9}, []int{c.Shortest, c.Longest})
	assert.Equal(t, "", *c.Min)
	assert.Equal(t, "høy fjell", *c.Max)
	assert.Empty(t, c.Quantiles)
}

func TestAProfileOfNothing(t *testing.T) {
	c := of(t, rows(t, "int", "∅", "∅"))
	assert.EqualValues(t, 2, c.Nulls)
	assert.Zero(t, c.Distinct)
	assert.Nil(t, c.Min)
	assert.Empty(t, c.Histogram)
	assert.Empty(t, c.Frequent)
}

func TestNumbersHaveQuantilesAndBarsThatAddUp(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var batches []*batch.Batch
	for range 20 {
		cells := make([]string, 5000)
		for i := range cells {
			cells[i] = fmt.Sprintf("%.2f", r.Float64()*100)
		}
		batches = append(batches, rows(t, "decimal(8,2)", cells...))
	}
	c := of(t, batches...)
	for _, q := range c.Quantiles {
		assert.InDelta(t, q.Share*100, q.Value, 1, "%v", q)
	}
	total := int64(0)
	for _, b := range c.Histogram {
		assert.InDelta(t, 10_000, b.Rows, 700, "%v", b)
		total += b.Rows
	}
	assert.EqualValues(t, 100_000, total)
	assert.InEpsilon(t, 10_000, c.Distinct, 0.03)
}

func TestFrequentValuesAreFoundAmongMany(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	cells := make([]string, 60_000)
	for i := range cells {
		switch {
		case i%10 == 0:
			cells[i] = "often"
		case i%25 == 1:
			cells[i] = "now and then"
		default:
			cells[i] = fmt.Sprint(r.IntN(1 << 30))
		}
	}
	c := of(t, rows(t, "text", cells...))
	assert.Equal(t, "often", c.Frequent[0].Text)
	assert.Equal(t, "now and then", c.Frequent[1].Text)
	assert.LessOrEqual(t, int64(6000), c.Frequent[0].Rows)
	assert.LessOrEqual(t, c.Frequent[0].Rows-c.Frequent[0].Error, int64(6000))
	assert.InEpsilon(t, 51_600, c.Distinct, 0.03)
}

func TestOddFloatsAndNestedValuesDoNoHarm(t *testing.T) {
	c := of(t, rows(t, "float", "NaN", "Infinity", "-Infinity", "1", "2"))
	assert.EqualValues(t, 5, c.Distinct)
	assert.False(t, math.IsNaN(c.Quantiles[3].Value))
	assert.EqualValues(t, 2, of(t, rows(t, "list<int>", "[1]", "[1]", "[2]")).Distinct)
	assert.EqualValues(t, 1, of(t, rows(t, "json", `{"a":1}`, `{"a": 1}`)).Distinct)
	assert.EqualValues(t, 2, of(t, rows(t, "bool", "true", "false")).Distinct)
}
