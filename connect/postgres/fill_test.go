package postgres_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/postgres"
	"welkin/core/engine"
	"welkin/core/sheet"
	"welkin/core/step"
)

const stays = `
CREATE TABLE huts (hut text PRIMARY KEY, beds int);
CREATE TABLE stays (stay bigint PRIMARY KEY, hut text, night date, guests bigint, price numeric(8,2), wind text);
INSERT INTO huts VALUES ('RAV', 28), ('LAR', 16), ('ORM', 0);
INSERT INTO stays SELECT i, (ARRAY['RAV','LAR','QUE',NULL])[i % 4 + 1], date '2026-01-01' + i % 50, i % 5, (i % 7) * 10.5, (i % 9)::text FROM generate_series(1, 500) AS i;
`

// nights is the chain that the tests run, with the engine's line and the last
// derived value open.
const nights = `welkin: 1
name: nights
%s
steps:
  - {step: stays, does: read table, connection: db, table: stays}
  - {step: huts, does: read table, connection: db, table: huts}
  - {step: real, does: keep rows, from: stays, where: guests > 0}
  - {step: both, does: join, from: real, with: huts, on: [{left: hut}]}
  - {step: worth, does: derive columns, from: both, columns: [{name: worth, value: "%s"}]}
  - {step: days, does: group, from: worth, by: [hut, night], values: [{name: guests, value: sum(guests)::int}, {name: worth, value: sum(worth)}]}
  - {step: out, does: write table, from: days, connection: db, table: %s, mode: merge, keys: [hut, night]}
`

// bound binds a sheet in which the connection db is a database.
func bound(t *testing.T, s *postgres.Settings, text string) *engine.Plan {
	world := &connect.World{Open: func(ctx context.Context, _ string) (connect.Connection, error) { return postgres.Kind.Open(ctx, s) }}
	t.Cleanup(world.Close)
	sh, problems := sheet.Parse(text, step.Kinds{})
	return engine.Bind(context.Background(), sh, problems, engine.Binding{World: world, Now: time.Now()})
}

// asideJournal keeps the rows set aside.
type asideJournal struct {
	quietJournal
	rows []engine.SetAsideRow
}

func (j *asideJournal) Restart(context.Context) error { j.rows = nil; return nil }
func (j *asideJournal) SetAside(_ context.Context, rows []engine.SetAsideRow) error {
	j.rows = append(j.rows, rows...)
	return nil
}

func runBound(t *testing.T, p *engine.Plan, epoch int64) (engine.Summary, []engine.SetAsideRow) {
	require.True(t, p.Ready(), "%v", p.Problems)
	j := &asideJournal{}
	s, err := engine.Run(context.Background(), p, engine.Options{Epoch: step.Epoch{Pipeline: "nights", Number: epoch, Run: fmt.Sprint(epoch)}, Journal: j, TempDir: t.TempDir()})
	require.NoError(t, err)
	assert.True(t, s.Receipt().Balances, "%+v", s.Receipt())
	return s, j.rows
}

func account(s engine.Summary, id string) engine.Account {
	for _, a := range s.Steps {
		if a.Step == id {
			return a
		}
	}
	return engine.Account{}
}

func TestASheetRunsInItsDatabaseAndGivesTheSame(t *testing.T) {
	settings, conn := database(t, stays)
	const worth = "guests * price"
	own, _ := runBound(t, bound(t, settings, fmt.Sprintf(nights, "engine: own", worth, "by_engine")), 1)
	there, _ := runBound(t, bound(t, settings, fmt.Sprintf(nights, "engine: database", worth, "by_database")), 2)
	byItself, _ := runBound(t, bound(t, settings, fmt.Sprintf(nights, "", worth, "by_itself")), 3)

	want := table(t, conn, `SELECT row(hut, night, guests, worth)::text FROM by_engine ORDER BY hut, night`)
	assert.NotEmpty(t, want)
	assert.Equal(t, want, table(t, conn, `SELECT row(hut, night, guests, worth)::text FROM by_database ORDER BY hut, night`))
	assert.Equal(t, want, table(t, conn, `SELECT row(hut, night, guests, worth)::text FROM by_itself ORDER BY hut, night`))

	assert.False(t, account(own, "both").InDatabase)
	for _, s := range []engine.Summary{there, byItself} {
		for _, id := range []string{"stays", "huts", "real", "both", "worth", "days", "out"} {
			a, b := account(own, id), account(s, id)
			assert.True(t, b.InDatabase, id)
			assert.Equal(t, a.In, b.In, "rows into %s", id)
			assert.Equal(t, a.Out, b.Out, "rows out of %s", id)
			assert.Empty(t, b.Imbalance())
		}
		assert.Equal(t, own.Read, s.Read)
		assert.Equal(t, own.Loaded, s.Loaded)
	}

	again, _ := runBound(t, bound(t, settings, fmt.Sprintf(nights, "", worth, "by_itself")), 4)
	assert.EqualValues(t, 0, again.Targets["out"].Inserted)
	assert.Equal(t, byItself.Targets["out"].Inserted, again.Targets["out"].Unchanged, "loading the same again changes nothing")
}

func TestARowTheDatabaseCannotComputeIsSetAsideByTheEngine(t *testing.T) {
	settings, conn := database(t, stays)
	s, aside := runBound(t, bound(t, settings, fmt.Sprintf(nights, "engine: database", "guests / (wind::int - 3)", "out")), 1)
	require.NotEmpty(t, aside)
	assert.Equal(t, "division by zero", aside[0].Code)
	assert.Equal(t, "worth", aside[0].Step)
	assert.Contains(t, aside[0].Names, "price", "the row is whole")
	assert.NotNil(t, aside[0].Cells[4])
	require.Len(t, s.Warnings, 1)
	assert.Contains(t, s.Warnings[0], "could not compute a row")
	assert.NotEqual(t, "0", table(t, conn, `SELECT count(*)::text FROM out`))
}

func TestRowsThatDoNotFitTheTableAreRefusedInTheDatabaseToo(t *testing.T) {
	settings, conn := database(t, stays+`
CREATE TABLE target (stay bigint NOT NULL, hut varchar(3) NOT NULL, small smallint, price numeric(4,2));
INSERT INTO stays VALUES (1001, 'RAVENSEAT', '2026-02-01', 1, 1, '1'), (1002, 'RAV', '2026-02-01', 70000, 1, '1'), (1003, 'RAV', '2026-02-01', 1, 999, '1');`)
	text := `welkin: 1
name: n
engine: %s
steps:
  - {step: stays, does: read table, connection: db, table: stays}
  - {step: few, does: choose columns, from: stays, columns: [{take: stay}, {take: hut}, {take: guests, as: small}, {take: price}]}
  - {step: out, does: write table, from: few, connection: db, table: target, mode: replace}
`
	refused := map[string]map[string]int{}
	for epoch, way := range []string{"own", "database"} {
		s, aside := runBound(t, bound(t, settings, fmt.Sprintf(text, way)), int64(epoch+1))
		refused[way] = map[string]int{}
		for _, row := range aside {
			refused[way][row.Code+" "+row.Column]++
		}
		assert.EqualValues(t, len(aside), s.Targets["out"].Refused)
		assert.Equal(t, fmt.Sprint(s.Targets["out"].After), table(t, conn, `SELECT count(*)::text FROM target`))
	}
	assert.Equal(t, map[string]int{"null not allowed hut": 125, "text too long hut": 1, "number too large small": 1, "number too large price": 1}, refused["own"])
	assert.Equal(t, refused["own"], refused["database"])
}

func TestWhatCannotRunInADatabaseIsSaidBefore(t *testing.T) {
	settings, _ := database(t, stays)
	for name, c := range map[string]struct{ middle, want string }{
		"a step without SQL":      {"{step: x, does: sample, from: stays, share: 50}", `step x: runs in Welkin's own engine: there is no SQL for "sample"`},
		"a function of Welkin's":  {`{step: x, does: derive columns, from: stays, columns: [{name: h, value: "fold_accents(hut)"}]}`, "own function"},
		"a source somewhere else": {"{step: x, does: stack, from: stays, with: far}\n  - {step: far, does: read table, connection: other, table: stays}", "step far does not read from db"},
	} {
		t.Run(name, func(t *testing.T) {
			p := bound(t, settings, "welkin: 1\nname: n\nengine: database\nsteps:\n  - {step: stays, does: read table, connection: db, table: stays}\n  - "+c.middle+"\n  - {step: out, does: write table, from: x, connection: db, table: t}\n")
			require.False(t, p.Ready())
			require.Len(t, p.Problems, 1, "%v", p.Problems)
			assert.Contains(t, p.Problems[0].Sentence, c.want)
			assert.Equal(t, 3, p.Problems[0].Line)
		})
	}
	p := bound(t, settings, fmt.Sprintf(nights, "engine: moon", "guests * price", "t"))
	require.NotEmpty(t, p.Problems)
	assert.Equal(t, `engine is database or own, not "moon"`, p.Problems[0].Sentence)
}

func TestTheStatementAndItsPlanAreSeenFirst(t *testing.T) {
	settings, conn := database(t, stays)
	p := bound(t, settings, fmt.Sprintf(nights, "", "guests * price", "t"))
	d, err := p.InDatabase()
	require.NoError(t, err)
	assert.Equal(t, "db", d.Connection)
	rows, err := conn.Query(context.Background(), d.Statement)
	require.NoError(t, err)
	found, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (string, error) { return "", nil })
	require.NoError(t, err)
	assert.NotEmpty(t, found, "the statement shown is one that runs")
	world := &connect.World{Open: func(ctx context.Context, _ string) (connect.Connection, error) {
		return postgres.Kind.Open(ctx, settings)
	}}
	t.Cleanup(world.Close)
	plan, err := d.Explain(context.Background(), world)
	require.NoError(t, err)
	assert.Contains(t, plan, "Aggregate")
	assert.Contains(t, plan, "rows=")
}

func TestStepsMayBeCalledLikeTables(t *testing.T) {
	settings, conn := database(t, stays+`CREATE SCHEMA "a.b"; CREATE TABLE "a.b"."c.d" AS SELECT 'RAV' AS hut;`)
	text := `welkin: 1
name: n
engine: %s
steps:
  - {step: huts, does: read table, connection: db, table: stays}
  - {step: stays, does: read table, connection: db, query: SELECT hut AS code FROM huts}
  - {step: both, does: join, from: huts, with: stays, on: [{left: hut, right: code}]}
  - {step: few, does: join, from: both, with: odd, on: [{left: hut}], rows: left with a match}
  - {step: odd, does: read table, connection: db, table: '"a.b"."c.d"'}
  - {step: out, does: write table, from: few, connection: db, table: out_%s, mode: replace}
`
	for epoch, way := range []string{"own", "database"} {
		runBound(t, bound(t, settings, fmt.Sprintf(text, way, way)), int64(epoch+1))
	}
	assert.Equal(t, "125", table(t, conn, `SELECT count(*)::text FROM out_own`))
	assert.Equal(t, "125", table(t, conn, `SELECT count(*)::text FROM out_database`))
}
