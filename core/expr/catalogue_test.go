package expr_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/localpg/pgtest"
)

func TestTheCatalogueExplainsEveryFunction(t *testing.T) {
	names := map[string]bool{}
	own := 0
	for _, fn := range expr.Catalogue() {
		assert.NotEmpty(t, fn.Help, fn.Name)
		assert.NotEmpty(t, fn.Group, fn.Name)
		assert.Contains(t, fn.Example, " → ", fn.Name)
		assert.Contains(t, fn.Signature(), fn.Name+"(")
		names[fn.Name] = true
		if isOwn(fn) {
			own++
		}
	}
	assert.GreaterOrEqual(t, len(names)-own, 150, "functions of PostgreSQL")
}

func isOwn(fn expr.Function) bool { return strings.Contains(fn.Help, "Welkin's own") }

// connect gives a connection whose clock zone is UTC.
func connect(t *testing.T) *pgx.Conn {
	t.Helper()
	_, address := pgtest.Database(t)
	conn, err := pgx.Connect(context.Background(), address)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	_, err = conn.Exec(context.Background(), "SET TIME ZONE 'UTC'")
	require.NoError(t, err)
	return conn
}

// here evaluates an expression without columns, as text.
func here(text string) (value string, err error) {
	p, err := expr.Bind("CAST(("+text+") AS text)", expr.Scope{Schema: &schema.Schema{}})
	if err != nil {
		return "", err
	}
	out, problems := p.Eval(&expr.Env{Now: now}, &batch.Batch{Schema: &schema.Schema{}, N: 1})
	if len(problems) > 0 {
		return "", problems[0]
	}
	if out.IsNull(0) {
		return "∅", nil
	}
	return batch.Text(out, p.Type, 0), nil
}

func there(conn *pgx.Conn, text string) (string, error) {
	var out *string
	err := conn.QueryRow(context.Background(), "SELECT ("+text+")::text", pgx.QueryExecModeSimpleProtocol).Scan(&out)
	if err != nil || out == nil {
		return "∅", err
	}
	return *out, nil
}

// alike compares two texts, numbers to 1e-12 of their size.
func alike(a, b string) bool {
	if a == b {
		return true
	}
	x, e1 := strconv.ParseFloat(a, 64)
	y, e2 := strconv.ParseFloat(b, 64)
	return e1 == nil && e2 == nil && math.Abs(x-y) <= 1e-12*max(math.Abs(x), math.Abs(y), 1e-3)
}

func TestExamplesOfTheCatalogueAreTrue(t *testing.T) {
	conn := connect(t)
	for _, fn := range expr.Catalogue() {
		text, want, _ := strings.Cut(fn.Example, " → ")
		got, err := here(text)
		if !assert.NoError(t, err, fn.Example) {
			continue
		}
		assert.True(t, alike(got, want), "%s gives %s", fn.Example, got)
		if !isOwn(fn) {
			answer, err := there(conn, text)
			assert.NoError(t, err, fn.Example)
			assert.True(t, alike(got, answer), "%s: here %s, PostgreSQL %s", text, got, answer)
		}
	}
}

// pools are the arguments tried for each kind, written as SQL.
var pools = map[schema.Kind][]string{
	schema.Text:        {"''", "'hut'", "'Ravens Seat 7'", "' høyfjell  '", "'a,b,,c'", "'ÅNGSTRÖM'", "'12.50'", "'x''y\"z'", "'aXbXc'", "E'tab\\tline\\nend'", "'日本'", "'{}'", "NULL::text", "'hut hut'", "'%_\\'", "'1'", "'-'"},
	schema.Int:         {"0", "1", "2", "3", "7", "(-1)", "(-3)", "12", "255", "1000", "2147483647", "9223372036854775807", "(-9223372036854775807)", "NULL::int"},
	schema.Decimal:     {"0.0", "1.5", "(-2.5)", "0.005", "19.50", "1234.567", "(-0.001)", "99999999.99", "NULL::numeric", "2.0", "0.50"},
	schema.Float:       {"0::float8", "1::float8", "(-1)::float8", "0.5::float8", "2.5::float8", "(-3.75)::float8", "1e10::float8", "1e-5::float8", "720::float8", "'NaN'::float8", "'Infinity'::float8", "NULL::float8", "30::float8"},
	schema.Bool:        {"true", "false", "NULL::bool"},
	schema.Date:        {"date '2026-11-23'", "date '2024-02-29'", "date '1970-01-01'", "date '1999-12-31'", "date '0044-03-15'", "NULL::date"},
	schema.Time:        {"time '00:00'", "time '18:30:15.25'", "time '23:59:59.999999'", "NULL::time"},
	schema.Timestamp:   {"timestamp '2026-11-23 18:30:15.25'", "timestamp '2024-02-29 00:00'", "timestamp '1969-12-31 23:59:59.5'", "timestamp '2026-03-29 02:30'", "timestamp '2026-10-25 02:30'", "timestamp '0999-01-05 12:00'", "timestamp '2027-01-01 00:00:00.001'", "NULL::timestamp"},
	schema.TimestampTZ: {"timestamptz '2026-11-23 18:30:15.25+00'", "timestamptz '2024-02-29 23:59+00'", "timestamptz '2026-03-29 01:30+00'", "timestamptz '1969-12-31 23:59:59.5+00'", "NULL::timestamptz"},
	schema.Interval:    {"interval '1 day'", "interval '1 mon -3 days 04:05:06.5'", "interval '-2 years 40 days'", "interval '27 hours'", "interval '90 minutes'", "interval '0'", "interval '35 days -25 hours'", "NULL::interval"},
	schema.Bytes:       {`'\x'::bytea`, `'\x0aff00'::bytea`, `'hut'::bytea`, `'\xc3b8'::bytea`, "NULL::bytea"},
	schema.JSON:        {`'{"a": 1, "b": [1, 2, {"c": null}]}'::jsonb`, `'[]'::jsonb`, `'[3, "x", null, 1.50]'::jsonb`, `'"text"'::jsonb`, `'null'::jsonb`, `'12.0'::jsonb`, `'true'::jsonb`, `'{"a": {"b": {"c": [5]}}}'::jsonb`, "NULL::jsonb"},
}

// of gives arguments for one function that mean something to it.
var of = map[string]map[int][]string{
	"to_char/text":     {1: {"'999'", "'FM9G999D00'", "'S99.9'", "'0000.00'", "'999,999.99'", "'9.99'", "'FM99999999999.999'", "'999MI'", "'PL99'", "'SG99'", "'99.99PR'", "'\"no \"999'", "'FM0999th'", "'99D9S'", "'FM990.099'", "''"}},
	"to_char/time":     {1: {"'YYYY-MM-DD'", "'DD.MM.YY HH24:MI:SS'", "'FMDay, FMDDth FMMonth YYYY'", "'MON DY D ID Q WW IW IYYY DDD IDDD J CC W'", "'HH12:MI:SS.MS US AM'", "'month day dy mon'", "'Y,YYY YYY Y RM SSSS'", "'\"on \"DD'", "'FMHH:FMMI p.m.'"}},
	"to_date":          {0: {"'23.11.2026'", "'2026-02-30'", "'1 Jan 2026'", "'nonsense'", "''", "'05/06/1999'"}, 1: {"'DD.MM.YYYY'", "'YYYY-MM-DD'", "'FMDD Mon YYYY'", "'DD/MM/YYYY'"}},
	"to_timestamp":     {0: {"'23.11.2026 18:30'", "'2026-02-27 05:06'", "'x'"}, 1: {"'DD.MM.YYYY HH24:MI'", "'YYYY-MM-DD HH24:MI'"}},
	"to_number":        {0: {"'1,234.5'", "'-12.34'", "'  7'", "'12.34-'", "'x'"}, 1: {"'9G999D9'", "'S99D99'", "'999'", "'99D99S'"}},
	"date_trunc":       {0: {"'year'", "'month'", "'week'", "'day'", "'hour'", "'minute'", "'second'", "'quarter'", "'decade'", "'century'", "'millennium'", "'wibble'", "'milliseconds'"}, 2: {"'Europe/Oslo'", "'America/New_York'", "'UTC'", "'Nowhere/Land'"}},
	"date_bin":         {0: {"interval '15 minutes'", "interval '1 day'", "interval '7 days'", "interval '1 month'", "interval '0'"}},
	"timezone":         {0: {"'Europe/Oslo'", "'America/New_York'", "'UTC'", "'Asia/Kolkata'", "'Nowhere/Land'"}},
	"regexp":           {1: {"'[0-9]+'", "'([a-z])(X)?'", "'^h'", "'u.'", "'(x'", "'HUT'"}, 2: {"'i'", "''", "'c'"}},
	"regexp_replace":   {1: {"'[0-9]+'", "'([a-z])(X)?'", "'^h'", "'X'"}, 2: {"'<\\1>'", "''", "'[\\&]'", "'$1'"}, 3: {"'g'", "'i'", "'gi'", "''"}},
	"encode":           {1: {"'hex'", "'base64'", "'escape'", "'wibble'"}},
	"decode":           {0: {"'687574'", "'aHV0'", "'h\\\\u'", "'zz'", "''"}, 1: {"'hex'", "'base64'", "'escape'", "'wibble'"}},
	"convert_to":       {1: {"'UTF8'", "'LATIN1'"}},
	"convert_from":     {1: {"'UTF8'", "'LATIN1'"}},
	"repeat":           {1: {"0", "1", "3", "(-1)"}},
	"lpad":             {1: {"0", "1", "3", "12", "(-1)"}},
	"rpad":             {1: {"0", "1", "3", "12", "(-1)"}},
	"chr":              {0: {"65", "104", "229", "8364", "(-1)"}},
	"format":           {0: {"'hut %s'", "'%L and %I'", "'%2$s %1$s'", "'100 %%'", "'%s'", "'%'", "'%q'"}},
	"make_date":        {0: {"2026", "2024", "0", "1"}, 1: {"1", "2", "12", "13"}, 2: {"1", "29", "31", "0"}},
	"make_time":        {0: {"0", "23", "25"}, 1: {"0", "59", "60"}, 2: {"0::float8", "59.5::float8", "61::float8"}},
	"make_timestamp":   {0: {"2026", "2024"}, 1: {"1", "2", "13"}, 2: {"1", "29", "31"}, 3: {"0", "23"}, 4: {"0", "59"}, 5: {"0::float8", "59.5::float8"}},
	"make_timestamptz": {0: {"2026", "2024"}, 1: {"1", "2", "13"}, 2: {"1", "29", "31"}, 3: {"0", "23"}, 4: {"0", "59"}, 5: {"0::float8", "59.5::float8"}},
	"make_interval":    {0: {"0", "(-3)", "2"}, 1: {"0", "14"}, 2: {"0", "(-1)"}, 3: {"0", "40"}, 4: {"0", "27", "(-5)"}, 5: {"0", "90"}, 6: {"0::float8", "1.5::float8", "(-61)::float8"}},
	"factorial":        {0: {"0", "1", "5", "20", "33", "(-1)"}},
	"lcm":              {0: {"0", "4", "(-6)"}, 1: {"0", "6", "9"}}, "bit_left": {0: {"0", "1", "7", "(-3)"}, 1: {"0", "1", "8"}}, "bit_right": {1: {"0", "1", "8"}}, "to_hex": {0: {"0", "255", "2147483647"}},
	"width_bucket":      {3: {"1", "4", "10", "0"}},
	"jsonb_set":         {1: {"'{a}'", "'{b,0}'", "'{b,-1}'", "'{0}'", "'{zz}'", "'{}'", "'{a,b,c,0}'", "'{5}'", "'{x,y}'"}, 2: {"'9'", "'{\"n\": 1}'"}},
	"array_fill":        {0: {"7", "'x'::text"}, 1: {"ARRAY[0]", "ARRAY[3]", "ARRAY[-1]"}},
	"trim_array":        {1: {"0", "1", "2", "5", "(-1)"}},
	"to_timestamp/real": {0: {"0::float8", "1.5::float8", "(-1e9)::float8", "1764000000.123456::float8"}},
	"chars":             {},
	"power":             {0: {"2::float8", "0::float8", "(-2)::float8", "2.5::float8"}, 1: {"0::float8", "3::float8", "(-1)::float8", "0.5::float8"}},
	"translate":         {1: {"'ab'", "'Xhut'", "''"}, 2: {"'AB'", "''", "'x'"}},
	"normalize":         {},
	"overlay":           {2: {"1", "3", "0", "30"}, 3: {"0", "2", "40", "(-1)"}},
}

// written gives the form in which PostgreSQL is asked where a function is an
// operator there, or its name a key word.
var written = map[string]string{"bit_and": "(%s & %s)", "bit_or": "(%s | %s)", "bit_xor": "(%s # %s)", "bit_not": "(~ %s)", "bit_left": "(%s << %s)", "bit_right": "(%s >> %s)",
	"interval_negate": "(- %s)", "position": "pg_catalog.position(%s, %s)", "current_date": "current_date", "localtime": "localtime", "localtimestamp": "localtimestamp"}

func special(fn expr.Function, i int) []string {
	keys := []string{fn.Name}
	switch {
	case fn.Name == "to_char" && fn.Args[0] != schema.Int && fn.Args[0] != schema.Decimal:
		keys = []string{"to_char/time"}
	case fn.Name == "to_char":
		keys = []string{"to_char/text"}
	case fn.Name == "to_timestamp" && len(fn.Args) == 1:
		keys = []string{"to_timestamp/real"}
	case fn.Name == "pow":
		keys = []string{"power"}
	case fn.Group == "regexp" && fn.Name != "regexp_replace":
		keys = []string{"regexp"}
	}
	return of[keys[0]][i]
}

// arguments draws the arguments of one call.
func arguments(r *rand.Rand, fn expr.Function) []string {
	lists := [][2][]string{
		{{"ARRAY[1, 2, NULL, 2]::bigint[]", "ARRAY[]::bigint[]", "ARRAY[7]::bigint[]", "NULL::bigint[]"}, {"2::bigint", "7::bigint", "NULL::bigint"}},
		{{"ARRAY['a', 'b c', NULL, 'a']::text[]", "ARRAY[]::text[]", "ARRAY['', 'NULL', 'x\"y']::text[]"}, {"'a'::text", "''::text", "NULL::text"}},
	}
	of := lists[r.IntN(len(lists))]
	n := len(fn.Args)
	if fn.Variadic {
		n += r.IntN(3)
	}
	args := make([]string, n)
	for i := range args {
		kind := fn.Args[min(i, len(fn.Args)-1)]
		pool := special(fn, i)
		switch {
		case pool != nil:
		case kind == schema.List:
			pool = of[0]
		case kind > 200: // any, or the lists' values
			if pool = of[1]; kind == 255 {
				kinds := []schema.Kind{schema.Text, schema.Int, schema.Decimal, schema.Bool, schema.Date}
				pool = pools[kinds[r.IntN(len(kinds))]]
			}
		default:
			pool = pools[kind]
		}
		args[i] = pool[r.IntN(len(pool))]
	}
	return args
}

func call(fn expr.Function, args []string, postgres bool) string {
	if form, ok := written[fn.Name]; ok {
		list := make([]any, len(args))
		for i, a := range args {
			list[i] = a
		}
		return fmt.Sprintf(form, list...)
	}
	text := fn.Name + "(" + strings.Join(args, ", ") + ")"
	if postgres && strings.HasPrefix(fn.Name, "json_") {
		return strings.ReplaceAll(text, "::jsonb", "::json")
	}
	return text
}

// differs says why an answer may differ from PostgreSQL's, or "".
func differs(fn expr.Function, text string) string {
	switch {
	case len(fn.Args) == 0 && fn.Group == "time":
		return "now is the start of the epoch"
	case strings.Contains(text, "'Infinity'") && fn.Name == "to_timestamp":
		return "Welkin holds no endless dates"
	case fn.Name == "to_date" || fn.Name == "to_timestamp" && len(fn.Args) == 2:
		return "to_date reads strictly: what stands between the marks must be there"
	case fn.Name == "to_number":
		return "to_number reads no more than digits, point and sign"
	case strings.HasPrefix(fn.Name, "scale") || fn.Name == "min_scale":
		return "a decimal has its column's decimals"
	case strings.HasPrefix(fn.Name, "json_extract_path"):
		return "json is kept in one form"
	}
	return ""
}

// TestEveryFunctionAgreesWithPostgres calls each entry of the catalogue with
// drawn arguments and compares values, nulls and errors.
func TestEveryFunctionAgreesWithPostgres(t *testing.T) {
	conn := connect(t)
	seed := uint64(20261123)
	r := rand.New(rand.NewPCG(seed, 1))
	for _, fn := range expr.Catalogue() {
		if isOwn(fn) {
			continue
		}
		same, shown := 0, 0
		for range 60 {
			args := arguments(r, fn)
			text := call(fn, args, false)
			want, err := there(conn, call(fn, args, true))
			var refused *pgconn.PgError
			if errors.As(err, &refused) && (refused.Code == "42883" || refused.Code == "42725" || refused.Code == "42804") {
				continue // no such function for these types there
			}
			if differs(fn, text) != "" {
				same++
				continue
			}
			got, mine := here(text)
			switch {
			case err != nil && mine != nil, err == nil && mine == nil && alike(got, want):
				same++
			case shown < 3:
				shown++
				t.Errorf("%s (seed %d): here %s %v, PostgreSQL %s %v", text, seed, got, mine, want, err)
			}
		}
		assert.NotZero(t, same, "no call of %s could be compared", fn.Signature())
	}
}
