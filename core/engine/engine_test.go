package engine_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/folder"
	"welkin/core/batch"
	"welkin/core/engine"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// journal keeps what the engine writes down.
type journal struct {
	rows                []engine.SetAsideRow
	prepared, committed int
}

func (j *journal) Restart(context.Context) error { j.rows = nil; return nil }
func (j *journal) SetAside(_ context.Context, rows []engine.SetAsideRow) error {
	j.rows = append(j.rows, rows...)
	return nil
}
func (j *journal) Prepared(context.Context, engine.Summary) error  { j.prepared++; return nil }
func (j *journal) Committed(context.Context, engine.Summary) error { j.committed++; return nil }

const files = "huts.csv: code,district\nH1,Saltmere\nH2,Ormskell\nH3,Saltmere\n---" +
	"stays.csv: id,hut,nights\n1,H1,3\n2,H2,0\n3,H9,2\n4,H1,x\n5,,1\n6,H2,5\n---" +
	"empty.csv: id,hut,nights\n---broken.csv: id,hut,nights\n1,H1\n\"2,H2,3\n3,H3,4\n---nothing.csv: "

// place makes a folder of the files above, and a world that calls it `here`.
func place(t testing.TB) (string, *connect.World) {
	t.Helper()
	dir := t.TempDir()
	for _, f := range strings.Split(files, "---") {
		name, text, _ := strings.Cut(f, ": ")
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	return dir, &connect.World{Open: func(ctx context.Context, name string) (connect.Connection, error) {
		if name != "here" {
			return nil, fmt.Errorf("there is no connection %q", name)
		}
		return folder.Kind.Open(ctx, &folder.Settings{Path: dir})
	}}
}

const read = `
  - {step: stays, does: read files, connection: here, files: stays.csv, columns: [{name: id, type: int}, {name: hut, type: text}, {name: nights, type: int}]}
  - {step: huts, does: read files, connection: here, files: huts.csv}`

func plan(t testing.TB, world step.World, steps string) *engine.Plan {
	t.Helper()
	s, problems := sheet.Parse("welkin: 1\nname: test\nsteps:"+steps, step.Kinds{})
	return engine.Bind(context.Background(), s, problems, engine.Binding{World: world, Now: time.Now()})
}

func run(t testing.TB, p *engine.Plan, number int64) (engine.Summary, *journal, error) {
	t.Helper()
	j := &journal{}
	sum, err := engine.Run(context.Background(), p, engine.Options{Epoch: step.Epoch{Pipeline: "p", Number: number, Run: fmt.Sprint(number)}, Journal: j, TempDir: t.TempDir()})
	return sum, j, err
}

// output runs steps that end in `out` and gives the lines of the file, sorted.
func output(t testing.TB, steps string) (lines []string, sum engine.Summary, j *journal) {
	t.Helper()
	dir, world := place(t)
	p := plan(t, world, steps+"\n  - {step: target, does: write file, from: out, connection: here, file: out.csv}")
	require.True(t, p.Ready(), "%v", p.Problems)
	sum, j, err := run(t, p, 1)
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(dir, "out.csv"))
	require.NoError(t, err)
	lines = strings.Split(strings.TrimSpace(string(text)), "\n")
	slices.Sort(lines[1:])
	assert.True(t, sum.Receipt().Balances)
	for _, a := range sum.Steps {
		assert.Empty(t, a.Imbalance())
	}
	return lines, sum, j
}

func TestStepsGiveTheirRows(t *testing.T) {
	for name, c := range map[string]struct{ steps, want string }{
		"keep rows: true alone stays":   {"\n  - {step: out, does: keep rows, from: stays, where: nights > 1}", "id,hut,nights/1,H1,3/3,H9,2/6,H2,5"},
		"choose: order, rename, retype": {"\n  - {step: out, does: choose columns, from: stays, columns: [{take: nights, as: n, type: 'decimal(4,1)'}, {take: id}]}", "n,id/0.0,2/1.0,5/2.0,3/3.0,1/5.0,6"},
		"choose: keep the others":       {"\n  - {step: out, does: choose columns, from: stays, columns: [{take: nights, as: n}], others: keep}", "n,id,hut/0,2,H2/1,5,/2,3,H9/3,1,H1/5,6,H2"},
		"derive: new, and in place":     {"\n  - {step: out, does: derive columns, from: stays, columns: [{name: twice, value: nights * 2}, {name: hut, value: 'lower(hut)'}, {name: more, value: twice + 1}]}", "id,hut,nights,twice,more/1,h1,3,6,7/2,h2,0,0,1/3,h9,2,4,5/5,,1,2,3/6,h2,5,10,11"},
		"group: nulls are a group":      {"\n  - {step: out, does: group, from: stays, by: [hut], values: [{name: n, value: count(*)}, {name: nights, value: sum(nights)}, {name: long, value: count(*) FILTER (WHERE nights > 2)}]}", "hut,n,nights,long/,1,1,0/H1,1,3,1/H2,2,5,1/H9,1,2,0"},
		"group: all rows":               {"\n  - {step: out, does: group, from: stays, values: [{name: mean, value: 'round(avg(nights), 1)'}, {name: huts, value: count(DISTINCT hut)}, {name: first, value: min(hut)}, {name: most, value: max(nights) - min(nights)}]}", "mean,huts,first,most/2.2,3,H1,5"},
		"join: matched":                 {"\n  - {step: out, does: join, from: stays, with: huts, 'on': [{left: hut, right: code}]}", "id,hut,nights,code,district/1,H1,3,H1,Saltmere/2,H2,0,H2,Ormskell/6,H2,5,H2,Ormskell"},
		"join: all left":                {"\n  - {step: out, does: join, from: stays, with: huts, rows: all left, take: [district], 'on': [{left: hut, right: code}]}", "id,hut,nights,district/1,H1,3,Saltmere/2,H2,0,Ormskell/3,H9,2,/5,,1,/6,H2,5,Ormskell"},
		"join: all":                     {"\n  - {step: out, does: join, from: stays, with: huts, rows: all, 'on': [{left: hut, right: code}]}", "id,hut,nights,code,district/,,,H3,Saltmere/1,H1,3,H1,Saltmere/2,H2,0,H2,Ormskell/3,H9,2,,/5,,1,,/6,H2,5,H2,Ormskell"},
		"join: left with a match":       {"\n  - {step: out, does: join, from: stays, with: huts, rows: left with a match, 'on': [{left: hut, right: code}]}", "id,hut,nights/1,H1,3/2,H2,0/6,H2,5"},
		"join: left without a match":    {"\n  - {step: out, does: join, from: stays, with: huts, rows: left without a match, 'on': [{left: hut, right: code}]}", "id,hut,nights/3,H9,2/5,,1"},
		"join: with itself":             {"\n  - {step: n, does: group, from: stays, by: [hut], values: [{name: n, value: count(*)}]}\n  - {step: out, does: join, from: stays, with: n, nulls_match: true, 'on': [{left: hut, right: hut}]}", "id,hut,nights,n/1,H1,3,1/2,H2,0,2/3,H9,2,1/5,,1,1/6,H2,5,2"},
		"pivot: values found":           {"\n  - {step: longer, does: keep rows, from: stays, where: nights > 0}\n  - {step: out, does: pivot, from: longer, column: hut, value: sum(nights), name: 'in {value}'}", "in H1,in H2,in H9/3,5,2"},
		"join: fan-out":                 {"\n  - {step: out, does: join, from: huts, with: stays, take: [id], 'on': [{left: code, right: hut}]}", "code,district,id/H1,Saltmere,1/H2,Ormskell,2/H2,Ormskell,6"},
	} {
		t.Run(name, func(t *testing.T) {
			lines, sum, j := output(t, read+c.steps)
			assert.Equal(t, c.want, strings.Join(lines, "/"))
			assert.EqualValues(t, 1, sum.SetAside, "the stay of x nights")
			require.Len(t, j.rows, 1)
			assert.Equal(t, "4,H1,x", j.rows[0].Raw)
			assert.EqualValues(t, 5, j.rows[0].Row)
		})
	}
}

func TestColumnsFoundInSomeOfTheRowsAreSaidToBe(t *testing.T) {
	_, world := place(t)
	s, problems := sheet.Parse("welkin: 1\nname: test\nsteps:"+read+"\n  - {step: out, does: pivot, from: stays, by: [nights], column: hut, value: count(*)}", step.Kinds{})
	for reach, columns := range map[int64]string{2: "nights H1 H2", 0: "nights H1 H2 H9"} {
		p := engine.Bind(context.Background(), s, problems, engine.Binding{World: world, Now: time.Now(), Reach: reach})
		require.True(t, p.Ready(), "%v", p.Problems)
		assert.Equal(t, columns, strings.Join(p.Step("out").Schema().Names(), " "))
		warned := slices.ContainsFunc(p.Problems, func(p sheet.Problem) bool { return strings.Contains(p.Sentence, "rows read so far") })
		assert.Equal(t, reach > 0, warned)
	}
}

func TestAPivotOfTooManyValuesIsRefused(t *testing.T) {
	p := plan(t, nil, "\n  - {step: n, does: generate rows, column: n, from_value: '1', to_value: '100000'}\n  - {step: out, does: pivot, from: n, column: n, value: count(*)}")
	require.False(t, p.Ready())
	assert.Contains(t, fmt.Sprint(p.Problems), "n has more than 1000 values and a pivot makes at most 1000 columns")
}

func TestAnEmptyFileGivesNoRowsAndOneWithoutALineIsSaid(t *testing.T) {
	lines, sum, _ := output(t, "\n  - {step: stays, does: read files, connection: here, files: empty.csv}\n  - {step: out, does: group, from: stays, values: [{name: n, value: count(*)}]}")
	assert.Equal(t, []string{"n", "0"}, lines)
	assert.Zero(t, sum.Read)
	_, world := place(t)
	p := plan(t, world, "\n  - {step: a, does: read files, connection: here, files: nothing.csv}")
	assert.Contains(t, p.Problems[0].Sentence, "the file is empty")
}

func TestBrokenRecordsLoseNothing(t *testing.T) {
	lines, sum, j := output(t, "\n  - {step: out, does: read files, connection: here, files: broken.csv}")
	assert.Equal(t, []string{"id,hut,nights", "3,H3,4"}, lines)
	assert.EqualValues(t, 3, sum.Read)
	var codes []string
	for _, r := range j.rows {
		codes = append(codes, r.Code)
	}
	assert.Equal(t, []string{"row too short", "broken quotes"}, codes)
}

func TestMistakesAreSaidBeforeARunAtTheirSetting(t *testing.T) {
	_, world := place(t)
	for steps, want := range map[string][2]string{
		"\n  - {step: a, does: read files, connection: there, files: x.csv}":                                      {"connection", `there is no connection "there"`},
		"\n  - {step: a, does: read files, connection: here, files: 'x*.csv'}":                                    {"files", `no file fits "x*.csv" in here`},
		"\n  - {step: a, does: read table, connection: here, table: huts}":                                        {"connection", `the connection "here" holds no tables`},
		read + "\n  - {step: out, does: keep rows, from: stays, where: nigths > 1}":                               {"where", `there is no column "nigths"; did you mean "nights"?`},
		read + "\n  - {step: out, does: keep rows, from: stays, where: 'nights >'}":                               {"where", "ends too early"},
		read + "\n  - {step: out, does: group, from: stays, by: [hut], values: [{name: n, value: nights}]}":       {"values[0].value", "must stand inside an aggregate"},
		read + "\n  - {step: out, does: join, from: stays, with: huts, 'on': [{left: nights, right: code}]}":      {"on[0]", "give them one type"},
		read + "\n  - {step: out, does: choose columns, from: stays, columns: [{take: id}, {take: hut, as: id}]}": {"columns[1]", `two columns would be called "id"`},
	} {
		p := plan(t, world, steps)
		require.False(t, p.Ready(), steps)
		i := slices.IndexFunc(p.Problems, func(p sheet.Problem) bool { return !p.Warning })
		assert.Equal(t, want[0], p.Problems[i].Path, steps)
		assert.Contains(t, p.Problems[i].Sentence, want[1])
		assert.NotZero(t, p.Problems[i].Line)
		_, _, err := run(t, p, 1)
		assert.ErrorContains(t, err, "the sheet can't run")
	}
}

func TestALimitStopsTheRunCommitsNothingAndKeepsTheRows(t *testing.T) {
	for name, limits := range map[string]string{"count": "limits: {set_aside: 1}", "share": "limits: {share: 20}", "policy": "problems"} {
		t.Run(name, func(t *testing.T) {
			dir, world := place(t)
			text := "welkin: 1\nname: x\nsteps:\n  - {step: a, does: read files, connection: here, files: broken.csv}\n  - {step: b, does: write file, from: a, connection: here, file: out.csv}\n" + limits
			if limits == "problems" {
				text = strings.Replace(strings.Replace(text, "files: broken.csv", "files: broken.csv, problems: stop", 1), "problems\n", "", 1)
				text = strings.TrimSuffix(text, "problems")
			}
			s, problems := sheet.Parse(text, step.Kinds{})
			p := engine.Bind(context.Background(), s, problems, engine.Binding{World: world})
			_, j, err := run(t, p, 1)
			var stop *engine.StopError
			require.ErrorAs(t, err, &stop)
			assert.Zero(t, j.prepared+j.committed)
			assert.NoFileExists(t, filepath.Join(dir, "out.csv"))
			left, _ := filepath.Glob(filepath.Join(dir, ".welkin", "*.part"))
			assert.Empty(t, left)
			if name != "policy" {
				assert.NotEmpty(t, j.rows)
			}
		})
	}
}

// lossy passes rows on but for one in 10,000.
type lossy struct{ seen int }

func (l *lossy) Push(_ int, b *batch.Batch, out step.Emitter) error {
	keep := make([]int32, 0, b.N)
	for i := range int32(b.N) {
		if l.seen++; l.seen%10_000 != 0 {
			keep = append(keep, i)
		}
	}
	return out.Emit(b.Take(keep))
}
func (l *lossy) End(int, step.Emitter) error { return nil }

func TestAnOperatorThatLosesARowFailsTheRunAndIsNamed(t *testing.T) {
	dir, world := place(t)
	var many strings.Builder
	many.WriteString("id,hut,nights\n")
	for i := range 30_000 {
		fmt.Fprintf(&many, "%d,H1,1\n", i)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "many.csv"), []byte(many.String()), 0o644))
	p := plan(t, world, "\n  - {step: a, does: read files, connection: here, files: many.csv}\n  - {step: leaky, does: keep rows, from: a, where: nights > 0}\n  - {step: t, does: write file, from: leaky, connection: here, file: out.csv}")
	p.Step("leaky").Bound.Operator = func() step.Operator { return &lossy{} }
	_, j, err := run(t, p, 1)
	require.ErrorContains(t, err, "step leaky does not balance: in 30000 + made 0 = 30000, but out 29997")
	assert.Zero(t, j.prepared)
	assert.NoFileExists(t, filepath.Join(dir, "out.csv"))
}

func TestAnEpochAppliedTwiceGivesTheSameTarget(t *testing.T) {
	dir, world := place(t)
	steps := read + "\n  - {step: t, does: write file, from: stays, connection: here, file: out.csv}"
	first, _, err := run(t, plan(t, world, steps), 7)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stays.csv"), []byte("id,hut,nights\n9,H9,9\n"), 0o644))
	j := &journal{}
	again, err := engine.Run(context.Background(), plan(t, world, steps), engine.Options{Epoch: step.Epoch{Pipeline: "p", Number: 7, Run: "7"}, Journal: j, Before: &first})
	require.NoError(t, err)
	assert.True(t, again.Again)
	assert.Equal(t, first.Targets, again.Targets)
	assert.Equal(t, 1, j.committed)
	text, _ := os.ReadFile(filepath.Join(dir, "out.csv"))
	assert.Contains(t, string(text), "1,H1,3")
}

func TestParquetIsWrittenAndReadAgain(t *testing.T) {
	dir, world := place(t)
	p := plan(t, world, read+"\n  - {step: w, does: write file, from: stays, connection: here, file: stays.parquet, format: parquet}")
	require.True(t, p.Ready(), "%v", p.Problems)
	_, _, err := run(t, p, 1)
	require.NoError(t, err)
	require.FileExists(t, filepath.Join(dir, "stays.parquet"))
	p = plan(t, world, "\n  - {step: back, does: read files, connection: here, files: '*.parquet', file_as: file}\n  - {step: out, does: write file, from: back, connection: here, file: back.jsonl, format: json lines}")
	require.True(t, p.Ready(), "%v", p.Problems)
	_, _, err = run(t, p, 2)
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(dir, "back.jsonl"))
	require.NoError(t, err)
	assert.Equal(t, 5, strings.Count(string(text), "\n"))
	assert.Contains(t, string(text), `{"id":5,"hut":null,"nights":1,"file":"stays.parquet"}`)
	bad := plan(t, world, "\n  - {step: back, does: read files, connection: here, files: stays.parquet, columns: [{name: id, type: text}]}")
	assert.Contains(t, bad.Problems[0].Sentence, "id is int in the file")
}

func TestWhatCanNotSpillIsHeldToTheBudget(t *testing.T) {
	p := plan(t, nil, `
  - {step: g, does: generate rows, column: n, from_value: "1", to_value: "3000000"}
  - {step: all, does: group, from: g, values: [{name: list, value: array_agg(n)}]}`)
	_, err := engine.Run(context.Background(), p, engine.Options{Epoch: step.Epoch{Pipeline: "p", Number: 1}, Journal: &journal{}, Budget: 64, TempDir: t.TempDir()})
	require.ErrorContains(t, err, "step all: what it must keep needs more than twice the run's")
}

func TestGroupsThatDoNotFitSpillAndGiveTheSame(t *testing.T) {
	p := plan(t, nil, `
  - {step: g, does: generate rows, column: n, from_value: "1", to_value: "200000"}
  - {step: many, does: group, from: g, by: [n], values: [{name: c, value: count(*)}]}
  - {step: all, does: group, from: many, values: [{name: groups, value: count(*)}, {name: total, value: sum(n)}, {name: rows, value: sum(c)}]}`)
	tried, err := engine.Try(context.Background(), p, engine.Trial{Step: "all", Show: 5, Clock: time.Now, Budget: 1 << 20, Temp: t.TempDir()})
	require.NoError(t, err)
	var cells []string
	for _, c := range tried.After.Rows[0] {
		cells = append(cells, *c)
	}
	assert.Equal(t, []string{"200000", "20000100000", "200000"}, cells)
	for _, a := range tried.Steps {
		assert.Less(t, a.Memory, int64(4<<20), a.Step)
	}
}

func TestRowsThatWaitForAJoinsOtherSideSpillAndComeBack(t *testing.T) {
	dir, world := place(t)
	var many strings.Builder
	many.WriteString("id,hut\n")
	for i := range 40_000 {
		fmt.Fprintf(&many, "%d,H%d\n", i, i%50)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "many.csv"), []byte(many.String()), 0o644))
	// One read feeds both sides: its rows wait until the groups are made.
	p := plan(t, world, "\n  - {step: a, does: read files, connection: here, files: many.csv}\n  - {step: g, does: group, from: a, by: [hut], values: [{name: n, value: count(*)}]}\n"+
		"  - {step: j, does: join, from: a, with: g, 'on': [{left: hut, right: hut}]}\n  - {step: t, does: write file, from: j, connection: here, file: out.csv}")
	require.True(t, p.Ready(), "%v", p.Problems)
	temp := t.TempDir()
	sum, err := engine.Run(context.Background(), p, engine.Options{Epoch: step.Epoch{Pipeline: "p", Number: 1}, Journal: &journal{}, Budget: 200_000, TempDir: temp})
	require.NoError(t, err)
	assert.EqualValues(t, 40_000, sum.Loaded)
	left, _ := os.ReadDir(temp)
	assert.Empty(t, left, "temporary files are removed")
}

func TestATrialWritesNothingAndShowsRowsBeforeAndAfter(t *testing.T) {
	dir, world := place(t)
	p := plan(t, world, read+"\n  - {step: out, does: keep rows, from: stays, where: nights > 1}\n  - {step: t, does: write file, from: out, connection: here, file: out.csv}")
	got, err := engine.Try(context.Background(), p, engine.Trial{Step: "out", Sample: 3, Others: 10, Show: 10})
	require.NoError(t, err)
	assert.Len(t, got.Before[0].Rows, 3)
	assert.Len(t, got.After.Rows, 2)
	assert.Equal(t, "stays.csv·2", got.After.Origins[0])
	i := slices.IndexFunc(got.Steps, func(a engine.Account) bool { return a.Step == "out" })
	assert.True(t, got.Steps[i].Sample)
	assert.NoFileExists(t, filepath.Join(dir, "out.csv"))
	_, err = engine.Try(context.Background(), p, engine.Trial{Step: "none"})
	assert.EqualError(t, err, `there is no step "none"`)
}

func TestACancelledRunSaysWhyAndLeavesNothing(t *testing.T) {
	dir, world := place(t)
	ctx, cancel := context.WithCancelCause(context.Background())
	why := errors.New("stopped by O. Vask")
	_, err := engine.Run(ctx, plan(t, world, read+"\n  - {step: t, does: write file, from: stays, connection: here, file: out.csv}"), engine.Options{
		Epoch: step.Epoch{Pipeline: "p", Number: 1}, Journal: &journal{}, Phase: func(phase string) {
			if phase == engine.Applying {
				cancel(why)
			}
		}})
	require.ErrorIs(t, err, why)
	assert.NoFileExists(t, filepath.Join(dir, "out.csv"))
}

func TestUnusedRowsAreWarnedOf(t *testing.T) {
	_, world := place(t)
	p := plan(t, world, read)
	require.True(t, p.Ready())
	require.Len(t, p.Problems, 2)
	assert.Contains(t, p.Problems[0].Sentence, "go nowhere yet")
	assert.Equal(t, schema.Of(schema.Int), p.Step("stays").Schema().Columns[0].Type)
}

func TestTextOfFixedWidthIsReadByItsColumns(t *testing.T) {
	dir, world := place(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nights.txt"), []byte("H01 2026-11-23  3\nH02 2026-11-24  x\nH03 2026-11-24\n"), 0o644))
	p := plan(t, world, "\n  - {step: nights, does: read files, connection: here, files: '*.txt', file_as: file, columns: [{name: hut, type: text, width: 4}, {name: night, type: date, width: 10}, {name: guests, type: int, width: 3}]}\n"+
		"  - {step: t, does: write file, from: nights, connection: here, file: out.csv}")
	sum, j, err := run(t, p, 1)
	require.NoError(t, err)
	assert.Equal(t, []string{"hut,night,guests,file", "H01,2026-11-23,3,nights.txt", "H03,2026-11-24,,nights.txt"}, lines(t, dir, "out.csv"))
	require.Len(t, j.rows, 1)
	assert.Equal(t, `"x" is not a whole number`, j.rows[0].Sentence)
	assert.EqualValues(t, 2, j.rows[0].Row)
	assert.EqualValues(t, 3, sum.Read)

	bad := plan(t, world, "\n  - {step: nights, does: read files, connection: here, files: '*.txt', columns: [{name: hut, type: text, width: 4}, {name: night, type: date}]}")
	assert.False(t, bad.Ready())
	assert.Contains(t, bad.Problems[0].Sentence, `"night" has 0`)
}
