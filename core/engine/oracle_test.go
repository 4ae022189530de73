package engine_test

import (
	"context"
	"fmt"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/engine"
	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/localpg/pgtest"
)

// The oracle: random sheets over random rows run in the engine, and as SQL in
// PostgreSQL, and must give the same rows. WELKIN_ORACLE sets how long, such as
// 10m; WELKIN_SEED where it begins.

func TestMain(m *testing.M) { pgtest.Main(m) }

// outcome is what a sheet gave, rows as text in order.
type outcome struct {
	rows  []string
	aside int
	err   error
}

// within runs the part of a plan up to a place in the engine.
func within(p *engine.Plan, at string, t engine.Trial) outcome {
	id, branch := sheet.Source(at)
	t.Step, t.Show = id, 1<<30
	if t.Clock == nil {
		t.Clock = time.Now
	}
	tried, err := engine.Try(context.Background(), p, t)
	if err != nil {
		return outcome{err: err}
	}
	for _, acc := range tried.Steps {
		if imbalance := acc.Imbalance(); imbalance != "" {
			return outcome{err: fmt.Errorf("%s", imbalance)}
		}
	}
	rows := tried.After
	for _, b := range tried.Branches {
		if b.Name == branch {
			rows = b.Rows
		}
	}
	out := outcome{aside: len(tried.SetAside)}
	for _, r := range rows.Rows {
		cells := make([]string, len(r))
		for i, c := range r {
			cells[i] = "∅"
			if c != nil {
				cells[i] = rounded(*c, rows.Columns[i].Type)
			}
		}
		out.rows = append(out.rows, strings.Join(cells, "|"))
	}
	slices.Sort(out.rows)
	return out
}

// rounded brings floats, and decimals with many digits, to ten digits, so that
// sums in another order compare.
func rounded(text string, t schema.Type) string {
	if t.Kind != schema.Float && (t.Kind != schema.Decimal || t.Scale < 10) {
		return text
	}
	f, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return text
	}
	if f = math.Round(f*1e8) / 1e8; f == 0 {
		f = 0
	}
	return strconv.FormatFloat(f, 'g', 10, 64)
}

// there runs the same part as SQL.
func there(conn *pgx.Conn, p *engine.Plan, at string) outcome {
	id, branch := sheet.Source(at)
	text, err := p.SQL(id, branch)
	if err != nil {
		return outcome{err: err}
	}
	_, s, _ := p.Step(id).Bound.Output(branch)
	cols := make([]string, s.Len())
	for i, c := range s.Columns {
		if cols[i] = expr.QuoteName(c.Name) + "::text"; c.Type.Kind == schema.List {
			cols[i] = "to_jsonb(" + expr.QuoteName(c.Name) + ")::text"
		}
	}
	rows, err := conn.Query(context.Background(), "SELECT ARRAY["+strings.Join(cols, ", ")+"]::text[] FROM ("+text+") AS x", pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return outcome{err: err}
	}
	var out outcome
	found, err := pgx.CollectRows(rows, pgx.RowTo[[]*string])
	if err != nil {
		return outcome{err: fmt.Errorf("%w\n%s", err, text)}
	}
	for _, r := range found {
		cells := make([]string, len(r))
		for i, c := range r {
			cells[i] = "∅"
			if c != nil {
				cells[i] = rounded(*c, s.Columns[i].Type)
			}
		}
		out.rows = append(out.rows, strings.Join(cells, "|"))
	}
	slices.Sort(out.rows)
	return out
}

func oracleTime() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("WELKIN_ORACLE")); err == nil {
		return d
	}
	return 30 * time.Second
}

func oracleSeed() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("WELKIN_SEED"), 10, 64); err == nil {
		return n
	}
	return 1
}

func difference(a, b []string) string {
	var out []string
	i, j := 0, 0
	for (i < len(a) || j < len(b)) && len(out) < 6 {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			i, j = i+1, j+1
		case j >= len(b) || i < len(a) && a[i] < b[j]:
			out = append(out, "engine alone:     "+a[i])
			i++
		default:
			out = append(out, "PostgreSQL alone: "+b[j])
			j++
		}
	}
	return strings.Join(out, "\n")
}

func TestRandomSheetsGiveWhatPostgresGives(t *testing.T) {
	_, address := pgtest.Database(t)
	conn, err := pgx.Connect(context.Background(), address)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), "SET TIME ZONE 'UTC'; SET jit = off")
	require.NoError(t, err)
	coverage := map[string]int{}
	sheets, empty, refused, differ := 0, 0, 0, 0
	until := time.Now().Add(oracleTime())
	for seed := oracleSeed(); time.Now().Before(until) && differ < 5; seed++ {
		a := newAuthor(seed)
		sheets++
		filled := false
		// The last place that has rows, and every empty one behind it.
		for i := len(a.places) - 1; i >= 0 && !filled && i > len(a.places)-6; i-- {
			at := a.places[i]
			got, want := within(a.plan, at, engine.Trial{}), there(conn, a.plan, at)
			switch {
			case got.err == nil && got.aside > 0 && want.err != nil: // rows that fail end the statement there
				refused++
				filled = true
			case got.err != nil || want.err != nil || got.aside > 0 || !slices.Equal(got.rows, want.rows):
				differ++
				filled = true
				t.Errorf("seed %d at %s: engine %d rows, %d set aside, %v; PostgreSQL %d rows, %v\n%s\n%s", seed, at, len(got.rows), got.aside, got.err, len(want.rows), want.err, difference(got.rows, want.rows), a.describe())
			case len(got.rows) > 0:
				filled = true
				for _, st := range a.ancestors(at) {
					for _, k := range a.uses[st] {
						coverage[k]++
					}
				}
			}
		}
		if !filled {
			empty++
		}
	}
	t.Logf("%d sheets from seed %d: %d empty, %d refused, %d settings used", sheets, oracleSeed(), empty, refused, len(coverage))
	assert.LessOrEqual(t, float64(empty+refused), 0.05*float64(sheets)+1, "sheets empty or refused")
	least, at := math.MaxInt, ""
	for k, n := range coverage {
		if n < least {
			least, at = n, k
		}
	}
	t.Logf("the setting used least with rows: %s, %d times", at, least)
	if os.Getenv("WELKIN_COVERAGE") != "" {
		for k, n := range coverage {
			t.Logf("%6d %s", n, k)
		}
	}
	if sheets >= 12_000 { // enough for the rarest
		assert.GreaterOrEqual(t, least, 50, at)
	}
}

// TestResultsDoNotDependOnHowTheyAreComputed runs random sheets with other batch
// sizes, workers, and a budget that makes every step spill.
func TestResultsDoNotDependOnHowTheyAreComputed(t *testing.T) {
	ways := map[string]engine.Trial{"rows of one": {Rows: 1}, "rows of 7": {Rows: 7}, "rows of 1000, one worker": {Rows: 1000, Workers: 1},
		"lean": {Lean: true}, "lean and spilling, rows of 7": {Lean: true, Rows: 7, Budget: 1, Temp: t.TempDir()},
		"spilling": {Budget: 1, Temp: t.TempDir()}, "spilling, rows of 7, two workers": {Budget: 1, Rows: 7, Workers: 2, Temp: t.TempDir()}}
	until := time.Now().Add(oracleTime() / 3)
	sheets := 0
	for seed := oracleSeed() + 500_000; time.Now().Before(until) && !t.Failed(); seed++ {
		a := newAuthor(seed)
		at := a.places[len(a.places)-1]
		want := within(a.plan, at, engine.Trial{})
		for name, way := range ways {
			got := within(a.plan, at, way)
			if got.err != nil || want.err != nil || got.aside != want.aside || !slices.Equal(got.rows, want.rows) {
				t.Errorf("seed %d at %s, %s: %v %v, %d and %d rows\n%s\n%s", seed, at, name, got.err, want.err, len(got.rows), len(want.rows), difference(got.rows, want.rows), a.describe())
			}
		}
		sheets++
	}
	t.Logf("%d sheets, each in %d ways", sheets, len(ways)+1)
	left, err := os.ReadDir(ways["spilling"].Temp)
	require.NoError(t, err)
	assert.Empty(t, left, "temporary files are removed")
}
