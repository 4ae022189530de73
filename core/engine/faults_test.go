package engine_test

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/engine"
	"welkin/core/step"
	"welkin/localpg/pgtest"
)

// fault is a mistake planted into the engine's side alone: into the settings of
// one kind of step, or behind its operator. The oracle must find it.
type fault struct {
	name  string
	kind  string
	plant func(s step.Settings) bool        // changes settings; false where it does not apply
	spoil func(b *batch.Batch) *batch.Batch // changes what the operator gives
}

func flip(s *string, a, b string) bool {
	switch *s {
	case a:
		*s = b
	case b:
		*s = a
	default:
		return false
	}
	return true
}

// turned flips the order of the first key.
func turned(keys []step.SortKey) bool {
	if len(keys) == 0 {
		return false
	}
	if keys[0].Order == step.Falling {
		keys[0].Order = step.Rising
	} else {
		keys[0].Order = step.Falling
	}
	return true
}

// swapped replaces a part of the first value that holds it.
func swapped(values []step.Derived, from, to string) bool {
	for i, v := range values {
		if strings.Contains(v.Value, from) {
			values[i].Value = strings.Replace(v.Value, from, to, 1)
			return true
		}
	}
	return false
}

func in[T any](plant func(s T) bool) func(step.Settings) bool {
	return func(s step.Settings) bool { typed, ok := s.(T); return ok && plant(typed) }
}

var planted = []fault{
	{"nulls match in a join", "join", in(func(j *step.Join) bool { j.Nulls = !j.Nulls; return j.Rows != step.JoinPairs }), nil},
	{"a left join loses its unmatched rows", "join", in(func(j *step.Join) bool { return flip(&j.Rows, step.JoinLeft, step.JoinMatched) }), nil},
	{"a full join is a left one", "join", in(func(j *step.Join) bool { return flip(&j.Rows, step.JoinAll, step.JoinLeft) }), nil},
	{"a right join is an inner one", "join", in(func(j *step.Join) bool { return flip(&j.Rows, step.JoinRight, step.JoinMatched) }), nil},
	{"with a match and without are swapped", "join", in(func(j *step.Join) bool { return flip(&j.Rows, step.JoinWith, step.JoinWithout) }), nil},
	{"a limit counts from zero", "limit", in(func(l *step.Limit) bool { l.Rows++; return true }), nil},
	{"a limit skips one too many", "limit", in(func(l *step.Limit) bool { l.Skip++; return true }), nil},
	{"another duplicate is kept", "drop duplicates", in(func(d *step.DropDuplicates) bool { return turned(d.Keep) }), nil},
	{"duplicates by half of the key", "drop duplicates", in(func(d *step.DropDuplicates) bool {
		if len(d.By) < 2 {
			return false
		}
		d.By = d.By[:1]
		return true
	}), nil},
	{"a sum takes each value once", "group", in(func(g *step.Group) bool { return swapped(g.Values, "sum(\"", "sum(DISTINCT \"") }), nil},
	{"a sample's deviation for that of all", "group", in(func(g *step.Group) bool { return swapped(g.Values, "stddev(", "stddev_pop(") }), nil},
	{"a filter is overlooked", "group", in(func(g *step.Group) bool {
		for i, v := range g.Values {
			if head, _, ok := strings.Cut(v.Value, " FILTER"); ok {
				g.Values[i].Value = head
				return true
			}
		}
		return false
	}), nil},
	{"distinct is overlooked", "group", in(func(g *step.Group) bool { return swapped(g.Values, "DISTINCT ", "") }), nil},
	{"min for max", "group", in(func(g *step.Group) bool { return swapped(g.Values, "max(", "min(") }), nil},
	{"first for last", "group", in(func(g *step.Group) bool { return swapped(g.Values, "last(", "first(") }), nil},
	{"a median without the middle", "group", in(func(g *step.Group) bool { return swapped(g.Values, "median(", "min(") }), nil},
	{"counting values counts rows", "group", in(func(g *step.Group) bool {
		for i, v := range g.Values {
			if strings.HasPrefix(v.Value, "count(") && !strings.Contains(v.Value, "DISTINCT") && v.Value != "count(*)" {
				g.Values[i].Value = "count(*)"
				return true
			}
		}
		return false
	}), nil},
	{"a list in the wrong order", "group", in(func(g *step.Group) bool { return swapped(g.Values, "id DESC", "id") }), nil},
	{"a frame begins a row early", "window", in(func(w *step.WindowStep) bool {
		return w.Frame != nil && len(w.Frame.Before) == 1 && func() bool { w.Frame.Before = string(w.Frame.Before[0] + 1); return true }()
	}), nil},
	{"a frame ends a row late", "window", in(func(w *step.WindowStep) bool {
		return w.Frame != nil && len(w.Frame.After) == 1 && func() bool { w.Frame.After = string(w.Frame.After[0] + 1); return true }()
	}), nil},
	{"rank without gaps", "window", in(func(w *step.WindowStep) bool { return swapped(w.Values, "rank()", "row_number()") && len(w.Order) > 0 }), nil},
	{"dense rank with gaps", "window", in(func(w *step.WindowStep) bool { return swapped(w.Values, "dense_rank()", "rank()") }), nil},
	{"lag looks ahead", "window", in(func(w *step.WindowStep) bool { return swapped(w.Values, "lag(", "lead(") }), nil},
	{"equal rows are no peers", "window", in(func(w *step.WindowStep) bool {
		if w.Frame != nil || len(w.Order) == 0 {
			return false
		}
		w.Frame = &step.FrameSet{}
		return true
	}), nil},
	{"a partition is overlooked", "window", in(func(w *step.WindowStep) bool { some := len(w.By) > 0; w.By = nil; return some }), nil},
	{"empty cells are kept", "unpivot", in(func(u *step.Unpivot) bool { return flip(&u.Empty, "drop", "keep") }), nil},
	{"empty lists are dropped", "spread list", in(func(s *step.SpreadList) bool { return flip(&s.Empty, "drop", "keep") }), nil},
	{"the fiscal year begins a month late", "calendar parts", in(func(c *step.CalendarParts) bool { c.Fiscal = c.Fiscal%12 + 1; return true }), nil},
	{"weeks begin on another day", "calendar parts", in(func(c *step.CalendarParts) bool { return flip(&c.WeekDay, "monday", "sunday") }), nil},
	{"every branch for the first", "route", in(func(r *step.Route) bool { return flip(&r.Match, "", step.RouteAll) }), nil},
	{"no match drops the row", "look up", in(func(l *step.LookUp) bool { return flip(&l.NoMatch.Do, "drop", "use null") }), nil},
	{"no key drops the row", "look up", in(func(l *step.LookUp) bool { return flip(&l.NoKey.Do, "drop", "use null") }), nil},
	{"the wrong one of many", "look up", in(func(l *step.LookUp) bool { return turned(l.First) }), nil},
	{"case of letters is overlooked", "compare", in(func(c *step.Compare) bool { return flip(&c.Case, "counts", "does not count") }), nil},
	{"a column is not compared", "compare", in(func(c *step.Compare) bool {
		if len(c.Columns) < 2 {
			return false
		}
		c.Columns = c.Columns[1:]
		return true
	}), nil},
	{"the rest of a text is lost", "split column", in(func(s *step.SplitColumn) bool { return s.At != "" && flip(&s.Many, "last takes the rest", "drop") }), nil},
	{"one character too many shows", "mask", in(func(m *step.Mask) bool { m.Last = max(m.Last, 4) + 1; return true }), nil},
	{"an unknown condition keeps the row", "keep rows", in(func(k *step.KeepRows) bool { k.Where = "(" + k.Where + ") IS NOT FALSE"; return true }), nil},
	{"a pivot sums over all", "pivot", in(func(p *step.Pivot) bool { some := len(p.By) > 0; p.By = nil; return some }), nil},
	{"the last row of a batch is lost", "derive columns", nil, func(b *batch.Batch) *batch.Batch { return b.Slice(0, max(b.N-1, 0)) }},
	{"the first row of a batch comes twice", "choose columns", nil, func(b *batch.Batch) *batch.Batch {
		rows := []int32{0}
		for i := range int32(b.N) {
			rows = append(rows, i)
		}
		return b.Take(rows)
	}},
	{"nulls become noughts", "stack", nil, func(b *batch.Batch) *batch.Batch {
		next := *b
		next.Cols = slices.Clone(b.Cols)
		for i, c := range next.Cols {
			if whole, ok := c.(*array.Int64); ok {
				to := batch.NewBuilder(b.Schema.Columns[i].Type).(*array.Int64Builder)
				to.AppendValues(whole.Int64Values(), nil)
				next.Cols[i] = to.NewArray()
			}
		}
		return &next
	}},
}

// spoiled wraps an operator and spoils what it gives.
type spoiled struct {
	step.Operator
	spoil func(*batch.Batch) *batch.Batch
}

type spoiler struct {
	step.Emitter
	spoil func(*batch.Batch) *batch.Batch
}

func (s spoiler) Emit(b *batch.Batch) error { return s.Emitter.Emit(s.spoil(b)) }

func (s *spoiled) Push(in int, b *batch.Batch, out step.Emitter) error {
	return s.Operator.Push(in, b, spoiler{out, s.spoil})
}

// copied gives a sheet's settings anew, so that one side can be changed.
func copied(t *testing.T, a *author) *engine.Plan {
	t.Helper()
	other := *a.sheet
	other.Steps = nil
	for _, st := range a.sheet.Steps {
		next := *st
		text, err := json.Marshal(st.Settings)
		require.NoError(t, err)
		kind, _ := step.Find(st.Kind)
		settings := kind.New()
		require.NoError(t, json.Unmarshal(text, settings))
		next.Settings = settings
		other.Steps = append(other.Steps, &next)
	}
	return engine.Bind(context.Background(), &other, nil, engine.Binding{Now: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
}

func TestPlantedFaultsAreFound(t *testing.T) {
	_, address := pgtest.Database(t)
	conn, err := pgx.Connect(context.Background(), address)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), "SET TIME ZONE 'UTC'; SET jit = off")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(planted), 30)
	missing := map[string]bool{}
	for _, f := range planted {
		missing[f.name] = true
	}
	answers := map[string]outcome{}
	sheets := 0
	for seed := uint64(900_000); len(missing) > 0 && sheets < 1500; seed++ {
		a := newAuthor(seed)
		sheets++
		for _, f := range planted {
			if !missing[f.name] {
				continue
			}
			for _, st := range a.sheet.Steps {
				if st.Kind != f.kind || !missing[f.name] {
					continue
				}
				plan := copied(t, a)
				target := plan.Step(st.ID)
				if f.plant != nil {
					if !f.plant(target.Settings.(step.Settings)) {
						continue
					}
					plan = engine.Bind(context.Background(), plan.Sheet, nil, engine.Binding{Now: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
				} else {
					made := target.Bound.Operator
					target.Bound.Operator = func() step.Operator { return &spoiled{made(), f.spoil} }
				}
				if !plan.Ready() {
					continue
				}
				for _, at := range a.places {
					if at != st.ID && !strings.HasPrefix(at, st.ID+".") {
						continue
					}
					key := a.describe() + at
					want, ok := answers[key]
					if !ok {
						want = there(conn, a.plan, at)
						answers[key] = want
					}
					got := within(plan, at, engine.Trial{})
					if want.err == nil && (got.err != nil || !slices.Equal(got.rows, want.rows)) {
						delete(missing, f.name)
					}
				}
			}
		}
	}
	for name := range missing {
		t.Errorf("not found in %d sheets: %s", sheets, name)
	}
	t.Logf("%d faults, %d sheets", len(planted), sheets)
}
