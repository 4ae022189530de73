package step_test

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/step"
	"welkin/localpg/pgtest"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// sink is an Emitter that keeps rows as text and the terms of the account.
type sink struct {
	lines                              []string
	branches                           map[int][]string
	faults                             []string
	in, made, out, dropped, aside, abs int
	room                               int64
}

func (s *sink) Emit(b *batch.Batch) error { return s.EmitTo(0, b) }
func (s *sink) EmitTo(output int, b *batch.Batch) error {
	s.out += b.N
	if s.branches == nil {
		s.branches = map[int][]string{}
	}
	before := len(s.lines)
	defer func() { s.branches[output] = append(s.branches[output], s.lines[before:]...) }()
	for i := range b.N {
		var cells []string
		for _, v := range b.Row(i) {
			if v == nil {
				cells = append(cells, "∅")
			} else {
				cells = append(cells, *v)
			}
		}
		s.lines = append(s.lines, strings.Join(cells, "|"))
	}
	return nil
}
func (s *sink) SetAside(_ *batch.Batch, _ int, column, value string, f *batch.Fault) error {
	s.aside++
	s.faults = append(s.faults, f.Code+": "+column+" "+value)
	return nil
}
func (s *sink) Made(n int)          { s.made += n }
func (s *sink) Dropped(n int)       { s.dropped += n }
func (s *sink) Absorbed(n int)      { s.abs += n }
func (s *sink) Match(int, int, int) {}
func (s *sink) Holds(int64) error   { return nil }
func (s *sink) Room() int64         { return s.room }
func (s *sink) TempDir() string     { return "" }
func (s *sink) Env() *expr.Env      { return &expr.Env{Now: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)} }
func (s *sink) Warn(string)         {}

// through runs settings over inputs cut into batches of a size, and checks that
// the account balances.
func through(t require.TestingT, s step.Settings, size int, inputs ...*batch.Batch) []string {
	var schemas []*schema.Schema
	for _, in := range inputs {
		schemas = append(schemas, in.Schema)
	}
	c := &step.Context{Context: context.Background()}
	bound := s.Bind(c, schemas)
	require.False(t, c.Failed(), "%v", c.Problems())
	op, out := bound.Operator(), &sink{lines: []string{}, room: 512 << 20}
	for in := len(inputs) - 1; in >= 0; in-- { // the other side of a join first
		for from := 0; from < inputs[in].N; from += size {
			part := inputs[in].Slice(from, min(from+size, inputs[in].N))
			out.in += part.N
			require.NoError(t, op.Push(in, part, out))
		}
		require.NoError(t, op.End(in, out))
	}
	require.Equal(t, out.in+out.made, out.out+out.dropped+out.aside+out.abs, "the account balances: %+v", out)
	slices.Sort(out.lines)
	return out.lines
}

// postgres answers queries over the same rows as tables l and r.
type postgres struct{ conn *pgx.Conn }

func newPostgres(t *testing.T) postgres {
	_, address := pgtest.Database(t)
	conn, err := pgx.Connect(context.Background(), address)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return postgres{conn}
}

// values writes a batch as a VALUES list.
func values(b *batch.Batch, name string) string {
	var rows, names []string
	for i := range b.N {
		var cells []string
		for c, v := range b.Row(i) {
			if v == nil {
				cells = append(cells, "NULL::"+b.Schema.Columns[c].Type.Postgres())
			} else {
				cells = append(cells, "'"+strings.ReplaceAll(*v, "'", "''")+"'::"+b.Schema.Columns[c].Type.Postgres())
			}
		}
		rows = append(rows, "("+strings.Join(cells, ",")+")")
	}
	tail := ""
	if b.N == 0 {
		var cells []string
		for _, c := range b.Schema.Columns {
			cells = append(cells, "NULL::"+c.Type.Postgres())
		}
		rows, tail = []string{"(" + strings.Join(cells, ",") + ")"}, " WHERE false"
	}
	for _, c := range b.Schema.Columns {
		names = append(names, c.Name)
	}
	return fmt.Sprintf("%s AS (SELECT * FROM (VALUES %s) v(%s)%s)", name, strings.Join(rows, ","), strings.Join(names, ","), tail)
}

func (p postgres) ask(t require.TestingT, query string, l, r *batch.Batch) []string {
	with := "WITH " + values(l, "l")
	if r != nil {
		with += ", " + values(r, "r")
	}
	rows, err := p.conn.Query(context.Background(), with+" SELECT array_to_string(ARRAY["+query, pgx.QueryExecModeSimpleProtocol)
	require.NoError(t, err)
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err, query)
	slices.Sort(out)
	return out
}

var (
	sizes = []int{1, 7, 16_384}
	keys  = rapid.SampledFrom([]string{"a", "b", "c", "", "∅"})
	whole = rapid.SampledFrom([]string{"0", "1", "-1", "7", "9223372036854775807", "∅"})
	exact = rapid.SampledFrom([]string{"0.00", "1.25", "-3.10", "99.99", "∅"})
)

// TestJoinsAgreeWithPostgres compares every kind of join over generated rows,
// whatever the batch size.
func TestJoinsAgreeWithPostgres(t *testing.T) {
	p := newPostgres(t)
	for rows, sql := range map[string]string{
		step.JoinMatched: "k, n::text, m::text], '|', '∅') FROM (SELECT l.k, l.n, r.m FROM l JOIN r ON l.k = r.k) x",
		step.JoinLeft:    "k, n::text, m::text], '|', '∅') FROM (SELECT l.k, l.n, r.m FROM l LEFT JOIN r ON l.k = r.k) x",
		step.JoinRight:   "k, n::text, m::text], '|', '∅') FROM (SELECT COALESCE(l.k, r.k) AS k, l.n, r.m FROM l RIGHT JOIN r ON l.k = r.k) x",
		step.JoinAll:     "k, n::text, m::text], '|', '∅') FROM (SELECT COALESCE(l.k, r.k) AS k, l.n, r.m FROM l FULL JOIN r ON l.k = r.k) x",
		step.JoinWith:    "k, n::text], '|', '∅') FROM l WHERE EXISTS (SELECT 1 FROM r WHERE r.k = l.k)",
		step.JoinWithout: "k, n::text], '|', '∅') FROM l WHERE NOT EXISTS (SELECT 1 FROM r WHERE r.k = l.k)",
	} {
		t.Run(rows, func(t *testing.T) {
			rapid.Check(t, func(rt *rapid.T) {
				l := batchtest.Rows(rt, "k:text n:int", rapid.SliceOfN(rapid.Custom(func(t *rapid.T) string { return keys.Draw(t, "k") + "|" + whole.Draw(t, "n") }), 0, 25).Draw(rt, "left")...)
				r := batchtest.Rows(rt, "k:text m:decimal(6,2)", rapid.SliceOfN(rapid.Custom(func(t *rapid.T) string { return keys.Draw(t, "k") + "|" + exact.Draw(t, "m") }), 0, 25).Draw(rt, "right")...)
				want := p.ask(rt, sql, l, r)
				for _, size := range sizes {
					got := through(rt, &step.Join{Rows: rows, On: []step.JoinKey{{Left: "k", Right: "k"}}}, size, l, r)
					require.Equal(rt, len(want), len(got))
					for i := range want {
						require.Equal(rt, want[i], got[i])
					}
				}
			})
		})
	}
}

// TestGroupsAgreeWithPostgres compares every aggregate, with FILTER and
// DISTINCT, over generated rows, whatever the batch size.
func TestGroupsAgreeWithPostgres(t *testing.T) {
	p := newPostgres(t)
	aggregates := []string{"count(*)", "count(n)", "count(DISTINCT d)", "sum(n)", "sum(d)", "min(n)", "max(d)", "min(k)", "bool_and(n > 0)", "bool_or(n > 0)", "sum(n) FILTER (WHERE d > 1)", "count(*) FILTER (WHERE n IS NULL)", "round(avg(d), 4)", "max(n) FILTER (WHERE n < 5) + 1", "sum(DISTINCT d)"}
	for _, by := range [][]string{{"k"}, nil} {
		rapid.Check(t, func(rt *rapid.T) {
			in := batchtest.Rows(rt, "k:text n:int d:decimal(6,2)", rapid.SliceOfN(rapid.Custom(func(t *rapid.T) string {
				return keys.Draw(t, "k") + "|" + whole.Draw(t, "n") + "|" + exact.Draw(t, "d")
			}), 0, 30).Draw(rt, "rows")...)
			g := &step.Group{By: by}
			columns := append([]string{}, by...)
			for i, a := range aggregates {
				g.Values = append(g.Values, step.Derived{Name: fmt.Sprintf("v%d", i), Value: a})
				columns = append(columns, "("+a+")::text")
			}
			tail := ""
			if by != nil {
				tail = " GROUP BY k"
			}
			want := p.ask(rt, strings.Join(columns, ", ")+"], '|', '∅') FROM l"+tail, in, nil)
			for _, size := range sizes {
				require.Equal(rt, want, through(rt, g, size, in))
			}
		})
	}
}

// TestRowWiseStepsDoNotDependOnTheBatchSize holds for rows with problems too.
func TestRowWiseStepsDoNotDependOnTheBatchSize(t *testing.T) {
	typ := schema.Of(schema.Int)
	for name, s := range map[string]step.Settings{
		"keep rows":      &step.KeepRows{Where: "10 / n > 1 OR k IS NULL"},
		"derive columns": &step.DeriveColumns{Columns: []step.DerivedEach{{Name: "q", Value: "100 / n"}, {Name: "k", Value: "upper(k)"}, {Name: "r", Value: "q % 7"}}},
		"choose columns": &step.ChooseColumns{Columns: []step.Chosen{{Take: "k", As: "key"}, {Take: "d", Type: &typ}, {Take: "k", As: "number", Type: &typ, Bad: "use null"}}},
	} {
		t.Run(name, func(t *testing.T) {
			rapid.Check(t, func(rt *rapid.T) {
				in := batchtest.Rows(rt, "k:text n:int d:decimal(6,2)", rapid.SliceOfN(rapid.Custom(func(t *rapid.T) string {
					return keys.Draw(t, "k") + "|" + whole.Draw(t, "n") + "|" + exact.Draw(t, "d")
				}), 1, 40).Draw(rt, "rows")...)
				want := through(rt, s, 16_384, in)
				for _, size := range sizes {
					require.Equal(rt, want, through(rt, s, size, in))
				}
			})
		})
	}
}

func TestSentencesSayWhatASheetDoes(t *testing.T) {
	typ := schema.Of(schema.Date)
	for want, s := range map[string]step.Settings{
		"keep rows where `nights > 0`":                   &step.KeepRows{Where: "nights > 0"},
		"keep rows where `…`":                            &step.KeepRows{},
		"derive `twice` = `nights * 2`":                  &step.DeriveColumns{Columns: []step.DerivedEach{{Name: "twice", Value: "nights * 2"}}},
		"take `born` as `date`, `name`, keep the others": &step.ChooseColumns{Others: "keep", Columns: []step.Chosen{{Take: "name"}, {Take: "born", Type: &typ}}},
		"group by `hut`, `night`: `guests`":              &step.Group{By: []string{"hut", "night"}, Values: []step.Derived{{Name: "guests"}}},
		"join on `hut = code`; all left":                 &step.Join{Rows: step.JoinLeft, On: []step.JoinKey{{Left: "hut", Right: "code"}}},
		"read `logs_*.csv` from incoming":                &step.ReadFiles{Connection: "incoming", Files: "logs_*.csv"},
		"read `SELECT 1` from booking":                   &step.ReadTable{Connection: "booking", Query: "SELECT\n  1"},
		"merge into `warehouse.days` by `hut`, `day`":    &step.WriteTable{Table: "warehouse.days", Mode: step.Merge, Keys: []string{"hut", "day"}},
		"write `out.csv` in outgoing":                    &step.WriteFile{Connection: "outgoing", File: "out.csv"},
	} {
		assert.Equal(t, want, s.Sentence())
	}
}

func TestEveryKindPublishesASchemaThatItsFormIsDrawnFrom(t *testing.T) {
	for _, k := range step.All() {
		text, err := json.Marshal(k.JSONSchema())
		require.NoError(t, err)
		var s struct {
			Properties map[string]struct{ Title string }
		}
		require.NoError(t, json.Unmarshal(text, &s))
		assert.NotEmpty(t, s.Properties, k.Name)
		for name, p := range s.Properties {
			assert.NotEmpty(t, p.Title, "%s: %s has no title", k.Name, name)
		}
		assert.NotEmpty(t, k.Help)
		assert.NotEmpty(t, k.Example)
		assert.NotEmpty(t, k.New().Sentence())
	}
}
