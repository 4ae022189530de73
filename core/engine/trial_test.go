package engine_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/engine"
	"welkin/core/step"
)

const lanes = read + `
  - {step: real, does: keep rows, from: stays, where: nights > 0}
  - {step: both, does: join, from: real, with: huts, on: [{left: hut, right: code}], rows: all left}
  - {step: out, does: group, from: both, by: [district], values: [{name: nights, value: %s}]}`

func cellsOf(rows engine.Rows) (lines []string) {
	for _, row := range rows.Rows {
		cells := make([]string, len(row))
		for i, c := range row {
			if cells[i] = "∅"; c != nil {
				cells[i] = *c
			}
		}
		lines = append(lines, strings.Join(cells, "|"))
	}
	return lines
}

func try(t *testing.T, p *engine.Plan, trial engine.Trial) engine.Tried {
	t.Helper()
	require.True(t, p.Ready(), "%v", p.Problems)
	trial.Sample, trial.Others, trial.Show, trial.Temp = 1000, 1000, 50, t.TempDir()
	tried, err := engine.Try(context.Background(), p, trial)
	require.NoError(t, err)
	return tried
}

func TestATrialAfterAnEditBeginsAtTheStepThatWasEdited(t *testing.T) {
	_, world := place(t)
	cache := engine.NewTrialCache(1<<20, time.Now)
	first := try(t, plan(t, world, fmt.Sprintf(lanes, "sum(nights)")), engine.Trial{Step: "out", Cache: cache})
	assert.False(t, first.Again)
	edited := try(t, plan(t, world, fmt.Sprintf(lanes, "max(nights)")), engine.Trial{Step: "out", Cache: cache})
	assert.True(t, edited.Again, "the steps before were not run anew")
	anew := try(t, plan(t, world, fmt.Sprintf(lanes, "max(nights)")), engine.Trial{Step: "out"})
	assert.ElementsMatch(t, cellsOf(anew.After), cellsOf(edited.After))
	assert.Equal(t, anew.Before, edited.Before)
	require.Len(t, edited.Steps, len(anew.Steps), "steps that did not run tell what they did before")
	for _, want := range anew.Steps {
		for _, got := range edited.Steps {
			if got.Step == want.Step {
				assert.Equal(t, want.In, got.In, want.Step)
				assert.Equal(t, want.Out, got.Out, want.Step)
				assert.Equal(t, want.SetAside, got.SetAside, want.Step)
			}
		}
	}
	assert.Equal(t, len(anew.SetAside), len(edited.SetAside), "rows set aside before are told too")
	assert.Equal(t, anew.SetAside[0].Raw, edited.SetAside[0].Raw)
}

func TestTheNextStepBeginsWithWhatTheOneBeforeGave(t *testing.T) {
	_, world := place(t)
	cache := engine.NewTrialCache(1<<20, time.Now)
	p := plan(t, world, fmt.Sprintf(lanes, "sum(nights)"))
	try(t, p, engine.Trial{Step: "both", Cache: cache})
	assert.True(t, try(t, p, engine.Trial{Step: "out", Cache: cache}).Again)
	assert.False(t, try(t, p, engine.Trial{Step: "out", Cache: cache, Fresh: true}).Again, "unless all is wanted anew")
}

func TestTheCacheForgetsWhatChanged(t *testing.T) {
	for name, change := range map[string]func(t *testing.T, dir string, steps *string){
		"an edit of a step before": func(_ *testing.T, _ string, steps *string) {
			*steps = strings.Replace(*steps, "nights > 0", "nights > 2", 1)
		},
		"a file that changed": func(t *testing.T, dir string, _ *string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "stays.csv"), []byte("id,hut,nights\n1,H1,30\n"), 0o644))
		},
		"another policy for bad rows": func(_ *testing.T, _ string, steps *string) {
			*steps = strings.Replace(*steps, "does: join,", "does: join, problems: stop,", 1)
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir, world := place(t)
			cache := engine.NewTrialCache(1<<20, time.Now)
			steps := fmt.Sprintf(lanes, "sum(nights)")
			try(t, plan(t, world, steps), engine.Trial{Step: "out", Cache: cache})
			change(t, dir, &steps)
			got := try(t, plan(t, world, steps), engine.Trial{Step: "out", Cache: cache})
			assert.False(t, got.Again)
			assert.ElementsMatch(t, cellsOf(try(t, plan(t, world, steps), engine.Trial{Step: "out"}).After), cellsOf(got.After))
		})
	}
}

func TestTheCacheHoldsNoMoreThanItMay(t *testing.T) {
	_, world := place(t)
	cache := engine.NewTrialCache(5000, time.Now)
	p := plan(t, world, fmt.Sprintf(lanes, "sum(nights)"))
	for _, step := range []string{"real", "both", "out", "real", "huts"} {
		try(t, p, engine.Trial{Step: step, Cache: cache})
	}
	assert.False(t, try(t, p, engine.Trial{Step: "both", Cache: engine.NewTrialCache(0, time.Now)}).Again)
}

func TestATrialRunsOnRowsGiven(t *testing.T) {
	_, world := place(t)
	p := plan(t, world, fmt.Sprintf(lanes, "sum(nights)"))
	given := batchtest.Rows(t, "id:int hut:text nights:int", "7|H1|4", "8|H2|0", "9|H3|9")
	tried := try(t, p, engine.Trial{Step: "real", Given: map[int]*batch.Batch{0: given}, Cache: engine.NewTrialCache(1<<20, time.Now)})
	assert.Equal(t, []string{"7|H1|4", "9|H3|9"}, cellsOf(tried.After))
	assert.EqualValues(t, 3, tried.Before[0].Total)

	given = batchtest.Rows(t, "id:int hut:text nights:int", "7|H1|4")
	both := try(t, p, engine.Trial{Step: "both", Given: map[int]*batch.Batch{0: given}})
	assert.Equal(t, []string{"7|H1|4|H1|Saltmere"}, cellsOf(both.After), "the other input comes from its steps")
}

func TestATrialDescribesTheColumnsThatComeOut(t *testing.T) {
	_, world := place(t)
	tried := try(t, plan(t, world, fmt.Sprintf(lanes, "sum(nights)")), engine.Trial{Step: "both", Profile: true})
	require.Len(t, tried.After.Profile, 5)
	nights, district := tried.After.Profile[2], tried.After.Profile[4]
	assert.Equal(t, "nights", nights.Name)
	assert.Equal(t, "1", *nights.Min)
	assert.Equal(t, "5", *nights.Max)
	assert.EqualValues(t, 2, district.Nulls)
	assert.EqualValues(t, 2, district.Distinct)
	assert.Nil(t, tried.Before[0].Profile)
}

func TestEditedCellsAreReadAsTheirTypes(t *testing.T) {
	_, world := place(t)
	s := plan(t, world, read).Step("stays").Schema()
	text := func(v string) *string { return &v }
	b, err := batch.FromCells(s, [][]*string{{text("1"), nil, text("3")}})
	require.NoError(t, err)
	assert.Equal(t, []*string{text("1"), nil, text("3")}, b.Row(0))
	_, err = batch.FromCells(s, [][]*string{{text("1"), nil, text("3")}, {text("2"), nil, text("a few")}})
	assert.EqualError(t, err, `row 2, column "nights": "a few" is not a whole number`)
	_, err = batch.FromCells(s, [][]*string{{nil}})
	assert.EqualError(t, err, "row 1 has 1 values for 3 columns")
}

// unversioned reads a source that does not say whether it changed.
const unversioned = `
  - {step: stays, does: read table, connection: db, table: stays}
  - {step: real, does: keep rows, from: stays, where: nights > %d}`

// tableWorld is a world of one table, whose rows are those of the moment.
type tableWorld struct{ rows func() *batch.Batch }

func (w *tableWorld) Files(context.Context, string) (step.Files, error) { return nil, nil }
func (w *tableWorld) Tables(context.Context, string) (step.Tables, error) {
	return oneTable{rows: w.rows}, nil
}

type oneTable struct {
	step.Tables
	rows func() *batch.Batch
}

func (d oneTable) Table(context.Context, string) (*step.Table, error) {
	return &step.Table{Name: "stays", Schema: d.rows().Schema}, nil
}

func (d oneTable) Read(context.Context, step.TableRead) (step.Reader, error) {
	return &oneBatch{d.rows()}, nil
}

type oneBatch struct{ b *batch.Batch }

func (r *oneBatch) Next(context.Context) (step.Chunk, error) {
	b := r.b
	if r.b = nil; b == nil {
		return step.Chunk{}, io.EOF
	}
	return step.Chunk{Batch: b, Seen: int64(b.N)}, nil
}

func (r *oneBatch) Close() error { return nil }

func TestRowsOfATableAreUsedAgainForAMinuteAndNoLonger(t *testing.T) {
	nights := "1"
	world := &tableWorld{rows: func() *batch.Batch { return batchtest.Rows(t, "nights:int", nights) }}
	now := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	cache := engine.NewTrialCache(1<<20, func() time.Time { return now })
	last := func(least int) string {
		return cellsOf(try(t, plan(t, world, fmt.Sprintf(unversioned, least)), engine.Trial{Step: "real", Cache: cache}).After)[0]
	}
	assert.Equal(t, "1", last(0))
	nights = "5"
	for edit := range 5 { // each within a minute of the one before
		now = now.Add(25 * time.Second)
		want := "1"
		if edit >= 2 {
			want = "5"
		}
		assert.Equal(t, want, last(-edit), "after edit %d", edit+1)
	}
}
