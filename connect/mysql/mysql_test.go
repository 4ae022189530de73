package mysql_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/connecttest"
	"welkin/connect/mysql"
	"welkin/connect/way"
	"welkin/core/schema"
	"welkin/core/step"
	"welkin/localmaria"
	"welkin/standin/sftpserver"
)

var server *localmaria.Server

// TestMain starts one server for all tests.
func TestMain(m *testing.M) {
	folder, err := os.MkdirTemp("", "welkin-maria-")
	if err == nil {
		err = os.Chmod(folder, 0o755)
	}
	if err == nil {
		server, err = localmaria.Start(context.Background(), folder)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "starting MariaDB for the tests:", err)
		os.Exit(1)
	}
	code := m.Run()
	server.Stop()
	_ = os.RemoveAll(folder)
	os.Exit(code)
}

// database makes a database with some tables and gives the settings that reach it.
func database(t *testing.T, statements ...string) *mysql.Settings {
	name := "d" + strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' {
			return r
		}
		return -1
	}, strings.ToLower(t.Name()))
	_, err := server.Ensure(t.Context(), name)
	require.NoError(t, err)
	db, err := server.Open(name)
	require.NoError(t, err)
	defer db.Close()
	for _, s := range append([]string{"CREATE OR REPLACE TABLE levels (id int PRIMARY KEY, name varchar(40), level decimal(18,2)) COMMENT 'by hand'", "INSERT INTO levels VALUES (1, 'Ravenseat', 2.5), (2, 'Larkfell', NULL), (3, NULL, -1)"}, statements...) {
		_, err := db.ExecContext(t.Context(), s)
		require.NoError(t, err, s)
	}
	return &mysql.Settings{Host: "127.0.0.1", Port: server.Port, Database: name, User: localmaria.Owner, Password: server.Password(), TLS: "disable"}
}

func rowsOf(t *testing.T, r step.Reader) (rows []string, refused []step.Refused) {
	t.Helper()
	defer r.Close()
	for {
		c, err := r.Next(t.Context())
		if err == io.EOF {
			return rows, refused
		}
		require.NoError(t, err)
		refused = append(refused, c.Refused...)
		for i := range c.Batch.N {
			var cells []string
			for _, v := range c.Batch.Row(i) {
				if v == nil {
					cells = append(cells, "∅")
				} else {
					cells = append(cells, *v)
				}
			}
			rows = append(rows, strings.Join(cells, "|"))
		}
	}
}

func TestConformance(t *testing.T) {
	good := database(t)
	with := func(change func(*mysql.Settings)) connect.Settings {
		s := *good
		change(&s)
		return &s
	}
	connecttest.Run(t, connecttest.Harness{Kind: mysql.Kind, Good: good, Secret: good.Password, Path: "levels",
		Bad: map[string]connect.Settings{
			"the name resolves": with(func(s *mysql.Settings) { s.Host = "no-such-machine.invalid" }),
			"the port answers":  with(func(s *mysql.Settings) { s.Port = 1 }),
			"sign-in":           with(func(s *mysql.Settings) { s.Password = "another" }),
			"the tunnel opens":  with(func(s *mysql.Settings) { s.Tunnel = way.Tunnel{Host: "127.0.0.1", Port: 1, User: "x", Password: "y"} }),
		},
		Read: func(ctx context.Context, c connect.Connection) (step.Reader, error) {
			return connecttest.ReadTable(ctx, c, step.ReadTable{Table: "levels"})
		}})
}

func TestWhatGoesWrongOnTheWay(t *testing.T) {
	good := database(t, "CREATE OR REPLACE TABLE many (id int PRIMARY KEY, name varchar(60))", "INSERT INTO many SELECT seq, concat('a name of some length ', seq) FROM seq_1_to_100000")
	connecttest.RunFaults(t, connecttest.Faults{Address: fmt.Sprintf("127.0.0.1:%d", server.Port), Secret: good.Password, Rows: 100_000,
		Open: func(ctx context.Context, port int) (connect.Connection, error) {
			s := *good
			s.Port = port
			return mysql.Kind.Open(ctx, &s)
		},
		Read: func(ctx context.Context, c connect.Connection) (step.Reader, error) {
			return connecttest.ReadTable(ctx, c, step.ReadTable{Table: "many"})
		}})
}

func TestEveryTypeIsRead(t *testing.T) {
	good := database(t, `CREATE OR REPLACE TABLE kinds (id bigint unsigned PRIMARY KEY, tiny tinyint, yes tinyint(1), bits bit(10), small smallint, d decimal(10,3), f float, dd double, c char(5), v varchar(20), t text, e enum('snow','fair'), s set('a','b'),
		day date, at datetime(6), tz timestamp(6) NULL, tm time, y year, j json, b blob, u uuid, p point)`,
		`SET time_zone='+02:00'; INSERT INTO kinds VALUES (18446744073709551615, -5, 1, b'1000000001', -300, 12.345, 0.5, 1e300, 'ab', 'Høyt', '日本', 'fair', 'a,b', '2026-11-23', '2026-11-23 18:30:15.25', '2026-11-23 18:30:15.25', '18:30:15', 2026, '{"k": [1]}', x'00ff', '00112233-4455-6677-8899-aabbccddeeff', POINT(1,2))`,
		`INSERT INTO kinds (id) VALUES (1)`, `SET sql_mode=''; INSERT INTO kinds (id, day) VALUES (2, '0000-00-00')`, `INSERT INTO kinds (id, tm) VALUES (3, '99:00:00')`)
	c, err := mysql.Kind.Open(t.Context(), good)
	require.NoError(t, err)
	defer c.Close()
	table, err := c.(step.Tables).Table(t.Context(), "kinds")
	require.NoError(t, err)
	var types []string
	for _, col := range table.Schema.Columns {
		types = append(types, col.Type.String())
	}
	assert.Equal(t, "decimal(20,0) int bool int int decimal(10,3) float float text text text text text date timestamp timestamptz time int text bytes uuid text", strings.Join(types, " "))
	assert.Equal(t, []string{"p"}, table.Strange)
	assert.Equal(t, []string{"id"}, table.Keys)
	names := table.Schema.Names()[:21]
	rows, refused := rowsOf(t, func() step.Reader {
		r, err := connecttest.ReadTable(t.Context(), c, step.ReadTable{Table: "kinds", Columns: names})
		require.NoError(t, err)
		return r
	}())
	require.Len(t, rows, 2)
	assert.Equal(t, "1"+strings.Repeat("|∅", 20), rows[0])
	assert.Equal(t, `18446744073709551615|-5|true|513|-300|12.345|0.5|1e+300|ab|Høyt|日本|fair|a,b|2026-11-23|2026-11-23 18:30:15.25|2026-11-23 16:30:15.25+00|18:30:15|2026|{"k": [1]}|\x00ff|00112233-4455-6677-8899-aabbccddeeff`, rows[1])
	require.Len(t, refused, 2)
	assert.Equal(t, "day", refused[0].Column)
	assert.Equal(t, "id=2", refused[0].Key)
	assert.Equal(t, "tm", refused[1].Column)

	queried, err := c.(step.Tables).Query(t.Context(), "SELECT d * 2 AS d, count(*) AS n, day FROM kinds GROUP BY d, day;")
	require.NoError(t, err)
	assert.Equal(t, []string{"d", "n", "day"}, queried.Names())
	assert.Equal(t, schema.Date, queried.Columns[2].Type.Kind)
	_, err = c.(step.Tables).Query(t.Context(), "SELECT nights FROM kinds")
	assert.ErrorContains(t, err, "nights")
}

func TestWhatIsNewIsReadBySlices(t *testing.T) {
	good := database(t, "CREATE OR REPLACE TABLE stays (id int PRIMARY KEY, changed datetime)", "INSERT INTO stays VALUES (1, '2026-11-23 10:00:00'), (2, '2026-11-23 11:00:00')")
	c, err := mysql.Kind.Open(t.Context(), good)
	require.NoError(t, err)
	defer c.Close()
	connecttest.RunGrowing(t, c, "stays", func(statement string) {
		db, err := server.Open(good.Database)
		require.NoError(t, err)
		defer db.Close()
		_, err = db.Exec(statement)
		require.NoError(t, err)
	})
}

func TestADatabaseIsReachedThroughATunnel(t *testing.T) {
	good := database(t)
	machine, err := sftpserver.Start("127.0.0.1:0", t.TempDir(), "keeper", "of the tunnel", [32]byte{7})
	require.NoError(t, err)
	defer machine.Close()
	good.Tunnel = way.Tunnel{Host: "127.0.0.1", Port: machine.Port(), User: "keeper", Password: "of the tunnel", HostKey: machine.Fingerprint()}
	c, err := mysql.Kind.Open(t.Context(), good)
	require.NoError(t, err)
	defer c.Close()
	for _, l := range c.Check(t.Context()) {
		assert.Equal(t, connect.Good, l.State, "%s: %s", l.What, l.Found)
	}
	r, err := connecttest.ReadTable(t.Context(), c, step.ReadTable{Table: "levels"})
	require.NoError(t, err)
	rows, _ := rowsOf(t, r)
	assert.Len(t, rows, 3)
	bad := *good
	bad.Tunnel.HostKey = "SHA256:another"
	c2, err := mysql.Kind.Open(t.Context(), &bad)
	require.NoError(t, err)
	defer c2.Close()
	assert.Contains(t, c2.Check(t.Context())[0].Found, "is not the one expected")
}
