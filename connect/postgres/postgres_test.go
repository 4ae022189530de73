package postgres_test

import (
	"context"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/connecttest"
	"welkin/connect/postgres"
	"welkin/connect/way"
	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/schema"
	"welkin/core/step"
	"welkin/localpg/pgtest"
	"welkin/standin/sftpserver"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// database makes a database with statements run in it.
func database(t *testing.T, statements string) (*postgres.Settings, *pgx.Conn) {
	name, address := pgtest.Database(t)
	conn, err := pgx.Connect(context.Background(), address)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	_, err = conn.Exec(context.Background(), statements)
	require.NoError(t, err)
	s := pgtest.Server(t)
	return &postgres.Settings{Host: "127.0.0.1", Port: s.Port, Database: name, User: s.User(), Password: s.Password(), TLS: "disable"}, conn
}

func open(t *testing.T, s *postgres.Settings) step.Loader {
	c, err := postgres.Kind.Open(context.Background(), s)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c.(step.Loader)
}

func TestConformance(t *testing.T) {
	good, conn := database(t, `CREATE TABLE levels (id bigint PRIMARY KEY, name text, level numeric(18,2)); INSERT INTO levels VALUES (1,'Ravenseat',2.50),(2,'Larkfell',NULL),(3,NULL,-1.00); ANALYZE`)
	with := func(change func(*postgres.Settings)) connect.Settings {
		s := *good
		change(&s)
		return &s
	}
	connecttest.Run(t, connecttest.Harness{
		Kind: postgres.Kind, Good: good, Secret: good.Password, Path: "public.levels", Folder: "public",
		Bad: map[string]connect.Settings{
			"the name resolves": with(func(s *postgres.Settings) { s.Host = "no-such-hut.invalid" }),
			"the port answers":  with(func(s *postgres.Settings) { s.Port = 1 }),
			"sign-in":           with(func(s *postgres.Settings) { s.Password = "wrong" }),
		},
		Read: func(ctx context.Context, c connect.Connection) (step.Reader, error) {
			db := c.(step.Loader)
			table, err := db.Table(ctx, "levels")
			if err != nil {
				return nil, err
			}
			return db.Read(ctx, step.TableRead{Table: "levels", Schema: table.Schema, Columns: table.Schema.Names(), Keys: table.Keys})
		},
		Load: func(ctx context.Context, c connect.Connection, e step.Epoch) (step.Load, error) {
			return c.(step.Loader).Load(ctx, step.TableLoad{Epoch: e, Step: "s", Table: "copies.levels", Schema: connecttest.Rows(t).Schema, Mode: step.Append, Exists: exists(ctx, c, "copies.levels")})
		},
		Count: func(ctx context.Context, _ connect.Connection) (n int64) {
			_ = conn.QueryRow(ctx, `SELECT count(*) FROM copies.levels`).Scan(&n)
			return n
		},
	})
}

func exists(ctx context.Context, c any, name string) *step.Table {
	t, _ := c.(step.Loader).Table(ctx, name)
	return t
}

// rows makes a batch that comes from a file.
func rows(t *testing.T, columns string, lines ...string) *batch.Batch {
	b := batchtest.Rows(t, columns, lines...)
	for i := range lines {
		b.Origin.Row = append(b.Origin.Row, int64(i+2))
		b.Origin.Place = append(b.Origin.Place, "log.csv")
	}
	return b
}

// load loads a batch as an epoch and commits.
func load(t *testing.T, db step.Loader, l step.TableLoad, b *batch.Batch) (step.Result, []step.Refused) {
	ctx := context.Background()
	l.Exists, l.Schema, l.Step = exists(ctx, db, l.Table), b.Schema, "s"
	load, err := db.Load(ctx, l)
	require.NoError(t, err)
	require.NoError(t, load.Write(ctx, b))
	r, refused, err := load.Prepare(ctx)
	require.NoError(t, err)
	require.NoError(t, load.Commit(ctx))
	assert.EqualValues(t, b.N, r.Inserted+r.Updated+r.Unchanged+r.LeftOut+r.Superseded+r.Refused, "every row that came in is told of")
	return r, refused
}

func table(t *testing.T, conn *pgx.Conn, query string) string {
	list, err := conn.Query(context.Background(), query)
	require.NoError(t, err)
	out, err := pgx.CollectRows(list, pgx.RowTo[string])
	require.NoError(t, err)
	return strings.Join(out, " ")
}

func TestMergeUpdatesInsertsAndSaysWhatItDid(t *testing.T) {
	s, conn := database(t, `CREATE TABLE days (hut text, day int, level numeric(6,2), note text DEFAULT 'mine', PRIMARY KEY (hut, day)); INSERT INTO days VALUES ('H1',1,1.00),('H1',2,2.00),('H9',9,9.00)`)
	db := open(t, s)
	in := rows(t, "hut:text day:int level:decimal(6,2)", "H1|1|1.00", "H1|2|2.50", "H2|1|7.00", "H2|1|8.00", "∅|4|1.00")
	merge := step.TableLoad{Table: "days", Mode: step.Merge, Keys: []string{"hut", "day"}}
	for name, c := range map[string]struct {
		change func(*step.TableLoad)
		want   step.Result
		rows   string
	}{
		"as usual":           {func(*step.TableLoad) {}, step.Result{Inserted: 1, Updated: 1, Unchanged: 1, Superseded: 1, Refused: 1, Before: 3, After: 4}, "H1.1=1.00 H1.2=2.50 H2.1=8.00 H9.9=9.00"},
		"the first by order": {func(l *step.TableLoad) { l.OrderBy = "level" }, step.Result{Inserted: 1, Updated: 1, Unchanged: 1, Superseded: 1, Refused: 1, Before: 3, After: 4}, "H1.1=1.00 H1.2=2.50 H2.1=8.00 H9.9=9.00"},
		"matched stay":       {func(l *step.TableLoad) { l.Keep = true }, step.Result{Inserted: 1, LeftOut: 2, Superseded: 1, Refused: 1, Before: 3, After: 4}, "H1.1=1.00 H1.2=2.00 H2.1=8.00 H9.9=9.00"},
		"new left out":       {func(l *step.TableLoad) { l.NoNew = true }, step.Result{Updated: 1, Unchanged: 1, LeftOut: 1, Superseded: 1, Refused: 1, Before: 3, After: 3}, "H1.1=1.00 H1.2=2.50 H9.9=9.00"},
		"missing go":         {func(l *step.TableLoad) { l.Delete = true }, step.Result{Inserted: 1, Updated: 1, Unchanged: 1, Deleted: 1, Superseded: 1, Refused: 1, Before: 3, After: 3}, "H1.1=1.00 H1.2=2.50 H2.1=8.00"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := conn.Exec(context.Background(), `DROP TABLE IF EXISTS welkin_epochs; DELETE FROM days; INSERT INTO days VALUES ('H1',1,1.00),('H1',2,2.00),('H9',9,9.00)`)
			require.NoError(t, err)
			l := merge
			c.change(&l)
			l.Epoch = step.Epoch{Pipeline: "p", Number: 1, Run: "1"}
			got, refused := load(t, db, l, in)
			c.want.Target = "days"
			assert.Equal(t, c.want, got)
			require.Len(t, refused, 1)
			assert.Equal(t, "no key", refused[0].Code)
			assert.Equal(t, c.rows, table(t, conn, `SELECT hut || '.' || day || '=' || level FROM days ORDER BY hut, day`))
			if name == "as usual" { // a repeated load changes nothing
				l.Epoch.Number = 2
				again, _ := load(t, db, l, in)
				assert.Zero(t, again.Inserted+again.Updated)
				assert.EqualValues(t, 3, again.Unchanged)
			}
		})
	}
}

func TestReplaceIsOneTransaction(t *testing.T) {
	s, conn := database(t, `CREATE TABLE days (day int); INSERT INTO days VALUES (1), (2)`)
	r, _ := load(t, open(t, s), step.TableLoad{Table: "days", Mode: step.Replace, Epoch: step.Epoch{Pipeline: "p", Number: 1}}, rows(t, "day:int", "7", "8", "9"))
	assert.Equal(t, step.Result{Target: "days", Inserted: 3, Deleted: 2, Before: 2, After: 3}, r)
	assert.Equal(t, "7 8 9", table(t, conn, `SELECT day::text FROM days ORDER BY 1`))
}

func TestWhatTheTargetRefusesIsTracedToItsRow(t *testing.T) {
	s, conn := database(t, `CREATE TABLE days (day smallint, name varchar(4) NOT NULL, level numeric(3,1), CHECK (level >= 0)); CREATE UNIQUE INDEX ON days (name)`)
	in := rows(t, "day:int name:text level:decimal(6,2)", "1|ok|1.0", "70000|big|1.0", "3|toolong|1.0", "4|∅|1.0", "5|neg|-1.0", "6|wide|123.0", "7|ok|2.0", "8|fine|2.0")
	r, refused := load(t, open(t, s), step.TableLoad{Table: "days", Mode: step.Append, Epoch: step.Epoch{Pipeline: "p", Number: 1}}, in)
	assert.EqualValues(t, 2, r.Inserted)
	assert.Equal(t, "1ok 8fine", table(t, conn, `SELECT day || name FROM days ORDER BY 1`))
	codes := map[int64]string{}
	for _, f := range refused {
		codes[f.Row] = f.Code
		assert.Equal(t, "log.csv", f.Place)
		assert.Len(t, f.Cells, 3)
	}
	assert.Equal(t, map[int64]string{3: "number too large", 4: "text too long", 5: "null not allowed", 6: "refused by the database", 7: "number too large", 8: "refused by the database"}, codes)
}

func TestEveryTypeComesAndGoesUnchanged(t *testing.T) {
	columns := "b:bool i:int d:decimal(20,6) f:float t:text y:bytes day:date at:time ts:timestamp tz:timestamptz u:uuid j:json l:list<int> m:list<text> w:list<timestamptz> n:list<decimal(6,2)>"
	lines := []string{
		`true|-9223372036854775808|-12345678901234.567891|1.5e+300|æ "x"|\x00ff|0001-01-01|23:59:59.999999|1999-12-31 23:59:59.999999|2026-11-23 10:00:00+00|00112233-4455-6677-8899-aabbccddeeff|{"a": 1}|[1, null, -3]|["a", "b, c", null]|["2026-11-23T10:00:00+00:00"]|[1.50, null]`,
		`false|9223372036854775807|0.000001|-0.1||\x|9999-12-31|00:00:00|2000-01-01 00:00:00|1969-12-31 23:59:59.999999+00|ffffffff-ffff-ffff-ffff-ffffffffffff|[]|[]|[""]|[null]|[]`,
		`∅|∅|∅|∅|∅|∅|∅|∅|∅|∅|∅|∅|∅|∅|∅|∅`, `true|0|10000|0|a|\x01|2026-02-28|12:00:00|2026-11-23 00:00:00|2026-11-23 00:00:00+00|00000000-0000-0000-0000-000000000000|null|[0]|["x"]|[]|[9999.99]`,
	}
	s, _ := database(t, `SELECT 1`)
	db, ctx := open(t, s), context.Background()
	in := rows(t, columns, lines...)
	load(t, db, step.TableLoad{Table: "everything", Mode: step.Append, Epoch: step.Epoch{Pipeline: "p", Number: 1}}, in)
	made, err := db.Table(ctx, "everything")
	require.NoError(t, err)
	assert.True(t, in.Schema.Equal(made.Schema), "%v", made.Schema)
	r, err := db.Read(ctx, step.TableRead{Table: "everything", Schema: made.Schema, Columns: made.Schema.Names()})
	require.NoError(t, err)
	defer r.Close()
	c, err := r.Next(ctx)
	require.NoError(t, err)
	for i := range lines {
		assert.Equal(t, in.Row(i), c.Batch.Row(i), "row %d", i)
	}
}

func TestRowsAreReadByTheValuesWanted(t *testing.T) {
	s, _ := database(t, `CREATE TYPE kind AS ENUM ('hut', 'bothy');
		CREATE TABLE huts (code varchar(4) PRIMARY KEY, beds smallint, kind kind, level numeric(8,2), opened date, seen timestamptz, ident uuid, open bool, share float8, at time);
		INSERT INTO huts VALUES ('H1', 12, 'hut', 410.50, '2001-05-04', '2026-11-23 10:00:00+01', '00112233-4455-6677-8899-aabbccddeeff', true, 0.5, '10:00'),
			('H"2', -3, 'bothy', -1, '1999-12-31', '1969-12-31 23:59:59.999999+00', 'ffffffff-ffff-ffff-ffff-ffffffffffff', false, 'NaN', '23:59:59.5'), ('H,3', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)`)
	db, ctx := open(t, s), context.Background()
	table, err := db.Table(ctx, "huts")
	require.NoError(t, err)
	read := func(r step.TableRead) []string {
		r.Schema, r.Columns = table.Schema, table.Schema.Names()
		reader, err := db.Read(ctx, r)
		require.NoError(t, err)
		defer reader.Close()
		c, err := reader.Next(ctx)
		if err == io.EOF {
			return nil
		}
		require.NoError(t, err)
		var codes []string
		for i := range c.Batch.N {
			codes = append(codes, batch.Text(c.Batch.Cols[0], schema.Of(schema.Text), i))
		}
		return codes
	}
	for column, values := range map[string][2]string{
		"code": {"H1", `H"2`}, "beds": {"12", "-3"}, "kind": {"hut", "bothy"}, "level": {"410.50", "-1.00"}, "opened": {"2001-05-04", "1999-12-31"},
		"seen": {"2026-11-23 09:00:00+00:00", "1969-12-31 23:59:59.999999+00:00"}, "ident": {"00112233-4455-6677-8899-aabbccddeeff", "ffffffff-ffff-ffff-ffff-ffffffffffff"},
		"open": {"true", "false"}, "share": {"0.5", "NaN"}, "at": {"10:00:00", "23:59:59.5"},
	} {
		typ := table.Schema.Columns[table.Schema.Index(column)].Type
		only := func(values ...string) step.Among { return step.Among{Column: column, Type: typ, Values: values} }
		for _, from := range []step.TableRead{{Table: "huts"}, {Query: "SELECT * FROM huts"}} {
			from.Only = []step.Among{only(values[1])}
			assert.Equal(t, []string{`H"2`}, read(from), column)
			from.Only = []step.Among{only(values[0], values[1]), {Column: "code", Type: schema.Of(schema.Text), Values: []string{"H1", "H,3"}}}
			assert.Equal(t, []string{"H1"}, read(from), column)
			from.Only = []step.Among{only()}
			assert.Empty(t, read(from), column)
		}
	}
}

func TestStrangeNamesAndQueriesJustWork(t *testing.T) {
	s, _ := database(t, `CREATE SCHEMA "my huts"; CREATE TABLE "my huts"."a.b ""c""" ("select" int, "blank name" text); INSERT INTO "my huts"."a.b ""c""" VALUES (1, 'x')`)
	db, ctx := open(t, s), context.Background()
	list, err := db.(connect.Connection).Browse(ctx, "my huts")
	require.NoError(t, err)
	require.Len(t, list, 1)
	d, err := db.(connect.Connection).Describe(ctx, list[0].Path)
	require.NoError(t, err, list[0].Path)
	assert.Len(t, d.Columns, 2)
	q, err := db.Query(ctx, "SELECT 1::numeric(6,2) AS level, 'x' AS name -- the end;\n;")
	require.NoError(t, err)
	assert.Equal(t, "decimal(6,2)", q.Columns[0].Type.String())
	_, err = db.Query(ctx, "SELECT nothing")
	assert.ErrorContains(t, err, `the database said: column "nothing" does not exist`)
	gone, err := db.Table(ctx, "gone")
	assert.NoError(t, err)
	assert.Nil(t, gone)
}

func TestAFailedLoadLeavesNothing(t *testing.T) {
	s, conn := database(t, `CREATE TABLE days (day int); CREATE FUNCTION no() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'the warden says no'; END $$; CREATE TRIGGER no BEFORE INSERT ON days EXECUTE FUNCTION no()`)
	db, ctx := open(t, s), context.Background()
	in := rows(t, "day:int", "1")
	l, err := db.Load(ctx, step.TableLoad{Table: "days", Mode: step.Append, Schema: in.Schema, Exists: exists(ctx, db, "days"), Step: "s", Epoch: step.Epoch{Pipeline: "p", Number: 1}})
	require.NoError(t, err)
	require.NoError(t, l.Write(ctx, in))
	_, _, err = l.Prepare(ctx)
	require.ErrorContains(t, err, "the warden says no")
	require.NoError(t, l.Abort(ctx))
	assert.Equal(t, "0", table(t, conn, `SELECT count(*)::text FROM days`))
	assert.Equal(t, "", table(t, conn, `SELECT coalesce(to_regclass('welkin_epochs')::text, '')`))
}

func TestATableThatVanishedIsSaidBeforeTheRun(t *testing.T) {
	s, conn := database(t, `CREATE TABLE days (day int)`)
	world := &connect.World{Open: func(ctx context.Context, _ string) (connect.Connection, error) { return postgres.Kind.Open(ctx, s) }}
	defer world.Close()
	bind := func() *step.Context {
		c := &step.Context{Context: context.Background(), World: world}
		(&step.ReadTable{Connection: "booking", Table: "days"}).Bind(c, nil)
		return c
	}
	assert.Empty(t, bind().Problems())
	_, err := conn.Exec(context.Background(), `DROP TABLE days`)
	require.NoError(t, err)
	problems := bind().Problems()
	require.Len(t, problems, 1)
	assert.Equal(t, "table", problems[0].Path)
	assert.Contains(t, problems[0].Sentence, `there is no table "days" in booking; it may have been renamed or dropped`)
}

func TestColumnsThatDoNotFitTheTargetAreSaidBeforeTheRun(t *testing.T) {
	s, _ := database(t, `CREATE TABLE days (hut text, day int NOT NULL, level numeric(6,2))`)
	world := &connect.World{Open: func(ctx context.Context, _ string) (connect.Connection, error) { return postgres.Kind.Open(ctx, s) }}
	defer world.Close()
	c := &step.Context{Context: context.Background(), World: world}
	(&step.WriteTable{Connection: "warehouse", Table: "days"}).Bind(c, []*schema.Schema{rows(t, "huts:text level:text", "a|b").Schema})
	var said []string
	for _, p := range c.Problems() {
		said = append(said, p.Sentence)
	}
	assert.Equal(t, []string{`days has no column "huts"; did you mean "hut"?; rename it or leave it out in a step before`,
		`column "level" is text here and numeric(6,2) in days; retype it in a step before`, `days needs a value for "day", and no column of that name comes in`}, said)
}

// TestALoadIsPreviewedAsItWouldBe compares what a preview tells with what the
// load then does, for every way to load, and sees that the preview wrote nothing.
func TestALoadIsPreviewedAsItWouldBe(t *testing.T) {
	ctx := context.Background()
	rows := rows(t, "hut:int beds:int name:text",
		"1|20|Ravenseat",
		"2|30|Larkfell",
		"3|10|Ormskell",
		"3|12|Ormskell", // the same key again
		"∅|5|nowhere",
		"4|7|a name that is far too long")
	for name, c := range map[string]struct {
		load step.TableLoad
		want map[string]int64
		says []string // by row
	}{
		"merge":                     {step.TableLoad{Mode: step.Merge}, nil, []string{"refuse", "refuse", "same", "change", "superseded", "insert"}},
		"merge, the highest stays":  {step.TableLoad{Mode: step.Merge, OrderBy: "beds"}, nil, nil},
		"merge, matches are kept":   {step.TableLoad{Mode: step.Merge, Keep: true}, nil, []string{"refuse", "refuse", "leave out", "leave out", "superseded", "insert"}},
		"merge, no new ones":        {step.TableLoad{Mode: step.Merge, NoNew: true}, nil, nil},
		"merge, others are deleted": {step.TableLoad{Mode: step.Merge, Delete: true}, nil, nil},
		"replace":                   {step.TableLoad{Mode: step.Replace}, nil, nil},
		"append":                    {step.TableLoad{Mode: step.Append}, nil, nil},
	} {
		t.Run(name, func(t *testing.T) {
			s, conn := database(t, `CREATE SCHEMA w; CREATE TABLE w.huts (hut int PRIMARY KEY, beds int, name varchar(20)); INSERT INTO w.huts VALUES (1, 20, 'Ravenseat'), (2, 25, 'Larkfell'), (9, 1, 'gone')`)
			db := open(t, s)
			l := c.load
			l.Table, l.Schema, l.Step, l.Epoch = "w.huts", rows.Schema, "load", step.Epoch{Pipeline: "p", Number: 1, Run: "1"}
			l.Exists = exists(ctx, db, "w.huts")
			if l.Mode == step.Merge {
				l.Keys = []string{"hut"}
			}
			p, err := db.(step.Previewer).PreviewLoad(ctx, l, []*batch.Batch{rows}, true)
			require.NoError(t, err)
			var left int
			require.NoError(t, conn.QueryRow(ctx, `SELECT count(*) FROM pg_class WHERE relname LIKE 'welkin%'`).Scan(&left))
			require.Zero(t, left, "nothing is left behind")
			if c.says != nil {
				var says []string
				for _, r := range p.Rows {
					says = append(says, r.What)
				}
				assert.Equal(t, c.says, says)
			}
			require.NotEmpty(t, p.Statements)

			load, err := db.Load(ctx, l)
			require.NoError(t, err)
			require.NoError(t, load.Write(ctx, rows))
			did, _, err := load.Prepare(ctx)
			require.NoError(t, err)
			require.NoError(t, load.Commit(ctx))
			assert.Equal(t, []int64{did.Inserted, did.Updated, did.Unchanged, did.LeftOut, did.Superseded, did.Refused, did.Deleted},
				[]int64{p.Inserted, p.Changed, p.Unchanged, p.LeftOut, p.Superseded, p.Refused, *p.Deleted}, "%+v", p.Rows)
		})
	}
}

func TestAPreviewTellsWhichColumnsChange(t *testing.T) {
	ctx := context.Background()
	s, _ := database(t, `CREATE TABLE huts (hut int PRIMARY KEY, beds int, name text); INSERT INTO huts VALUES (1, 20, 'Ravenseat')`)
	db := open(t, s)
	staged := rows(t, "hut:int beds:int name:text", "1|21|Ravenseat")
	l := step.TableLoad{Table: "huts", Schema: staged.Schema, Mode: step.Merge, Keys: []string{"hut"}, Exists: exists(ctx, db, "huts")}
	p, err := db.(step.Previewer).PreviewLoad(ctx, l, []*batch.Batch{staged}, false)
	require.NoError(t, err)
	require.Len(t, p.Rows, 1)
	assert.Equal(t, []string{"beds"}, p.Rows[0].Changed)
	assert.Equal(t, "20", *p.Rows[0].Before[1])
	assert.Equal(t, "21", *p.Rows[0].Cells[1])

	l.Delete = true
	p, err = db.(step.Previewer).PreviewLoad(ctx, l, []*batch.Batch{staged}, false)
	require.NoError(t, err)
	assert.Nil(t, p.Deleted, "a sample can't tell which rows are missing")

	l.Exists, l.Table = nil, "reports.huts"
	p, err = db.(step.Previewer).PreviewLoad(ctx, l, []*batch.Batch{staged}, true)
	require.NoError(t, err)
	assert.True(t, p.Create)
	assert.Equal(t, int64(1), p.Inserted)
}

func TestWhatIsNewIsReadBySlices(t *testing.T) {
	s, conn := database(t, `CREATE TABLE stays (id int PRIMARY KEY, changed timestamp); INSERT INTO stays VALUES (1, '2026-11-23 10:00:00'), (2, '2026-11-23 11:00:00')`)
	ctx := context.Background()
	c, err := postgres.Kind.Open(ctx, s)
	require.NoError(t, err)
	defer c.Close()
	connecttest.RunGrowing(t, c, "stays", func(statement string) {
		_, err := conn.Exec(ctx, statement)
		require.NoError(t, err)
	})
}

func TestWhatGoesWrongOnTheWay(t *testing.T) {
	s, _ := database(t, `CREATE TABLE many AS SELECT n AS id, 'a name of some length ' || n AS name FROM generate_series(1, 100000) AS n`)
	connecttest.RunFaults(t, connecttest.Faults{Address: fmt.Sprintf("%s:%d", s.Host, s.Port), Secret: s.Password, Rows: 100_000,
		Open: func(ctx context.Context, port int) (connect.Connection, error) {
			other := *s
			other.Port = port
			return postgres.Kind.Open(ctx, &other)
		},
		Read: func(ctx context.Context, c connect.Connection) (step.Reader, error) {
			return connecttest.ReadTable(ctx, c, step.ReadTable{Table: "many"})
		}})
}

// TestALargeTableIsReadInPartsOfOneMoment reads while rows are added and changed.
func TestALargeTableIsReadInPartsOfOneMoment(t *testing.T) {
	s, conn := database(t, `CREATE TABLE large AS SELECT n AS id, repeat('x', 400) AS filler FROM generate_series(1, 100000) AS n; ALTER TABLE large ADD PRIMARY KEY (id)`)
	ctx := context.Background()
	c, err := postgres.Kind.Open(ctx, s)
	require.NoError(t, err)
	defer c.Close()
	r, err := connecttest.ReadTable(ctx, c, step.ReadTable{Table: "large"})
	require.NoError(t, err)
	defer r.Close()
	_, err = conn.Exec(ctx, `UPDATE large SET id = -id WHERE id % 2 = 0; INSERT INTO large SELECT n, 'new' FROM generate_series(200000, 210000) AS n; DELETE FROM large WHERE id < 1000 AND id > 0`)
	require.NoError(t, err)
	seen := map[string]bool{}
	numbers := map[int64]bool{}
	for {
		chunk, err := r.Next(ctx)
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		for i := range chunk.Batch.N {
			seen[*chunk.Batch.Row(i)[0]] = true
			_, row, _ := chunk.Batch.Origin.At(i)
			numbers[row] = true
		}
	}
	assert.Len(t, seen, 100_000)
	assert.Len(t, numbers, 100_000, "each row has a number of its own")
	for id := range 100_000 {
		require.True(t, seen[fmt.Sprint(id+1)], id+1)
	}
}

func TestADatabaseIsReachedThroughATunnelAndByOwnCertificates(t *testing.T) {
	s, _ := database(t, `CREATE TABLE huts (id int)`)
	machine, err := sftpserver.Start("127.0.0.1:0", t.TempDir(), "keeper", "of the tunnel", [32]byte{7})
	require.NoError(t, err)
	defer machine.Close()
	s.Tunnel = way.Tunnel{Host: "127.0.0.1", Port: machine.Port(), User: "keeper", Password: "of the tunnel"}
	c, err := postgres.Kind.Open(context.Background(), s)
	require.NoError(t, err)
	defer c.Close()
	lines := c.Check(context.Background())
	assert.Equal(t, "the tunnel opens", lines[0].What)
	for _, l := range lines {
		assert.Equal(t, connect.Good, l.State, "%s: %s", l.What, l.Found)
	}
	s.Authority = "no certificate"
	assert.ErrorContains(t, s.Validate(), "tls_authority holds no certificate")
	s.Authority, s.Certificates.Certificate = "", "half of a pair"
	assert.ErrorContains(t, s.Validate(), "belong together")
	s.Certificates.Certificate, s.Tunnel.User = "", ""
	assert.ErrorContains(t, s.Validate(), "ssh_user is missing")
}
