package expr_test

import (
	"context"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/localpg/pgtest"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// asked gives PostgreSQL's answer on the first row of stays, as text.
func asked(ctx context.Context, conn *pgx.Conn, text string) (string, error) {
	var out *string
	err := conn.QueryRow(ctx, `SELECT (`+text+`)::text FROM (VALUES (3::bigint, 19.50::numeric(8,2), 'Ravenseat'::text, date '2026-11-23', '3,45'::text, 0.5::float8, true))
		AS s(nights, price, hut, arrived, "water level", share, warden)`).Scan(&out)
	if err != nil || out == nil {
		return "∅", err
	}
	return *out, nil
}

// same compares two texts, numbers by value.
func same(t schema.Type, a, b string) bool {
	if a == b {
		return true
	}
	if t.Kind == schema.Decimal && a != "∅" && b != "∅" {
		x, f1 := batch.ParseDecimal(a, schema.DecimalOf(38, 9))
		y, f2 := batch.ParseDecimal(b, schema.DecimalOf(38, 9))
		return f1 == nil && f2 == nil && x == y
	}
	return false
}

// answers are expressions whose value must be PostgreSQL's.
var answers = []string{
	"nights + 2 * 3", "(nights + 2) * 3", "-nights", "nights / 2", "nights % 2", "nights * price", "price / 3", "price * price", "price - 0.005", "1.0 / 3",
	"share * 3", "share / nights", "nights > 2", "nights <> 3", "nights BETWEEN 1 AND 3", "nights NOT BETWEEN 1 AND 3", "nights IN (1, 2, 3)", "nights NOT IN (1, NULL)",
	"nights IN (4, NULL)", "hut LIKE 'R_ven%'", "hut NOT LIKE '%x'", "hut ILIKE 'RAVEN%'", "hut ~ '^R'", "hut !~* 'SEAT$'", "hut LIKE 'Raven\\seat'", "warden AND NULL", "warden OR NULL", "NOT warden",
	"NULL AND false", "warden IS TRUE", "NULL::bool IS NOT TRUE", "hut IS NULL", "hut IS NOT NULL", "hut IS DISTINCT FROM NULL", "NULL IS NOT DISTINCT FROM hut",
	"CASE WHEN nights > 2 THEN 'long' ELSE 'short' END", "CASE nights WHEN 3 THEN 'three' END", "CASE nights WHEN 1 THEN 1 WHEN 2 THEN 2.5 ELSE 3 END",
	"COALESCE(NULL, hut, 'x')", "NULLIF(nights, 3)", "NULLIF(hut, 'x')", "GREATEST(nights, 5, NULL)", "LEAST(price, nights)", "CAST('7' AS int)", "'2026-02-28'::date + 1",
	"CAST(nights AS text) || '!'", "nights::decimal(5,1)", "2.5::int", "3.5::int", "(-2.5)::int", "0.5::float8::int", "1.5::float8::int", "'  12 '::int", "true::int", "price::int", "hut || nights", "NULL || hut",
	"replace(\"water level\", ',', '.')::decimal(6,2)", "lower(hut)", "upper(hut)", "initcap('ravens SEAT o''hut')", "length('høytt')", "trim('  a b ')", "trim(both 'x' from 'xxaxx')", "ltrim('007', '0')", "rtrim('a..', '.')",
	"substring(hut, 2, 3)", "substring(hut, -1, 4)", "substring(hut from 3)", "substr(hut, 4)", "left(hut, 3)", "left(hut, -3)", "right(hut, 3)", "right(hut, -3)", "replace(hut, 'a', '')", "split_part('a/b/c', '/', 2)",
	"split_part('a/b/c', '/', -1)", "split_part('a/b', '/', 5)", "strpos(hut, 'seat')", "position('x' in hut)", "starts_with(hut, 'Rav')", "lpad('7', 3, '0')", "rpad('7', 3, 'ab')", "lpad('abc', 2, 'x')", "reverse(hut)",
	"concat('a', NULL, 3)", "concat_ws('-', 'a', NULL, 'b')", "regexp_replace('3 m 4', '[^0-9]', '')", "regexp_replace('3 m 4', '[^0-9]', '', 'g')", "regexp_replace('Hut 7', '(\\d)', '<\\1>')",
	"abs(-3)", "abs(-3.5)", "abs(share)", "round(2.5)", "round(-2.5)", "round(2.345, 2)", "round(1234.5, -2)", "round(2.5::float8)", "ceil(2.1)", "ceil(-2.1)", "floor(-2.1)", "floor(2.9)", "trunc(-2.9)", "mod(7, -3)", "power(2, 3)", "sqrt(9)",
	"sign(-2.0::float8)", "exp(0)", "ln(1)", "arrived + 1", "arrived - 30", "arrived - date '2026-01-01'", "arrived + INTERVAL '1 month'", "date '2026-01-31' + INTERVAL '1 month'", "timestamp '2026-01-01 10:00' - INTERVAL '90 minutes'",
	"arrived > '2026-01-01'", "arrived = timestamp '2026-11-23 00:00'", "date_trunc('month', timestamp '2026-11-23 10:20')", "date_trunc('week', timestamp '2026-11-22 10:20')", "date_trunc('quarter', timestamp '2026-11-22')",
	"EXTRACT(year FROM arrived)", "EXTRACT(dow FROM arrived)", "EXTRACT(isodow FROM date '2026-11-22')", "EXTRACT(week FROM date '2027-01-01')", "EXTRACT(isoyear FROM date '2027-01-01')", "EXTRACT(doy FROM arrived)", "EXTRACT(quarter FROM arrived)",
	"EXTRACT(epoch FROM timestamp '2026-11-23 10:00:00.5')", "EXTRACT(second FROM timestamp '2026-11-23 10:00:07.5')", "to_date('23.11.2026', 'DD.MM.YYYY')", "to_date('3.1.2026', 'DD.MM.YYYY')", "to_date('23 Nov 2026', 'DD Mon YYYY')",
	"to_date('260102', 'YYMMDD')", "to_char(arrived, 'YYYY-MM')", "to_char(timestamp '2026-01-02 03:04:05', 'FMDD.FMMM.YY HH24:MI:SS')", "to_char(timestamp '2026-01-02 15:04:05', 'Day, HH12 PM')", "to_char(arrived, 'IYYY-IW')", "make_date(2026, 2, 28)",
	"ARRAY[nights, 4, NULL]", "ARRAY[1, 2] || 3", "0 || ARRAY[1, 2]", "ARRAY[1.5] || ARRAY[2.5]", "(ARRAY[5, 6, 7])[2]", "(ARRAY[5, 6, 7])[9]", "(ARRAY[5, 6, 7])[2:3]", "(ARRAY[5, 6, 7])[:2]", "ARRAY[1, 2] @> ARRAY[2]", "ARRAY[1] <@ ARRAY[1, 2]", "ARRAY[1, 2] && ARRAY[3]",
	"ARRAY[1, 2] = ARRAY[1, 2]", "ARRAY[1, 2] < ARRAY[1, 3]", "nights = ANY (ARRAY[1, 3])", "nights = ANY ('{4,5}'::bigint[])", "nights <> ALL (ARRAY[1, NULL])", "nights > ALL (ARRAY[1, 2])", "'{a,\"b c\",NULL}'::text[]", "ARRAY['a', 'b c', '', NULL, 'x,y']", "ARRAY[true, false]", "ARRAY[]::text[]", "ARRAY[1.5, 2]::int[]", "ARRAY['1', '2']::int[]",
	"ROW(1, 'a b', NULL)", "(nights, hut) = (3, 'Ravenseat')", "(nights, hut) IN ((1, 'x'), (3, 'Ravenseat'))", "(1, 2) < (1, 3)", "(1, NULL) < (2, 1)", "(1, NULL) = (1, 2)", "(1, NULL) = (2, 2)", "(2, 1) >= (1, NULL)",
	"'{\"a\": {\"b\": [1, 2.50]}}'::jsonb -> 'a'", "'{\"a\": {\"b\": [1, 2.50]}}'::jsonb #> '{a,b,1}'", "'{\"a\": {\"b\": [1, \"x\"]}}'::jsonb #>> '{a,b,1}'", "'{\"a\": null}'::jsonb ->> 'a'", "'[1,2,3]'::jsonb -> -1", "'[1,2,3]'::jsonb ->> 5", "'{\"b\":1,\"a\":2}'::jsonb",
	"'{\"a\": 1}'::jsonb || '{\"b\": 2}'", "'[1]'::jsonb || '[2]'::jsonb", "'{\"a\": 1, \"b\": 2}'::jsonb - 'a'", "'[1, 2, 3]'::jsonb - 1", "'{\"a\": {\"b\": 1}}'::jsonb #- '{a,b}'", "'{\"a\": 1, \"b\": 2}'::jsonb @> '{\"b\": 2}'", "'{\"a\": 1}'::jsonb ? 'a'", "'[\"a\"]'::jsonb ?| ARRAY['b', 'a']", "'[\"a\"]'::jsonb ?& ARRAY['b', 'a']",
	"('{\"n\": 2.5}'::jsonb -> 'n')::int", "('{\"n\": 12}'::jsonb ->> 'n')::int + 1", "('true'::jsonb)::bool", "('2.50'::jsonb)::numeric", "('{\"a\":1}'::jsonb)['a']", "'[1, 2]'::jsonb <@ '[1, 2, 3]'::jsonb",
	"hut SIMILAR TO 'Raven(seat|fell)'", "hut SIMILAR TO 'R%t'", "hut SIMILAR TO '_aven'", "hut NOT SIMILAR TO '[A-Z]+'", "'50%' LIKE '50#%' ESCAPE '#'", "'a.b' SIMILAR TO 'a.b'", "'axb' SIMILAR TO 'a.b'", "hut LIKE 'R%' ESCAPE ''",
	"nights BETWEEN SYMMETRIC 5 AND 1", "nights NOT BETWEEN SYMMETRIC 5 AND 4", "2 ^ 10", "|/ 16", "@ (-5)", "7 & 3", "7 | 8", "7 # 2", "~ 7", "1::bigint << 5", "hut COLLATE \"C\" < 'Z'", "'abc' ^@ 'ab'",
	"INTERVAL '1 day' + INTERVAL '2 hours'", "INTERVAL '1 month' * 2.5", "INTERVAL '1 day' / 2", "2 * INTERVAL '90 minutes'", "- INTERVAL '1 day 2 hours'", "INTERVAL '1 month' > INTERVAL '29 days'", "INTERVAL '3' DAY", "INTERVAL '1.5 hours'", "INTERVAL '1 year 2 months 3 days 4 hours'", "INTERVAL 'P1Y2M3DT4H5M6S'", "INTERVAL '1-2'", "INTERVAL '2 weeks ago'", "INTERVAL '1.5 months'", "'1 day'::interval", "INTERVAL '04:05'",
	"timestamp '2026-03-29 02:30' AT TIME ZONE 'Europe/Oslo'", "timestamptz '2026-11-23 12:00+00' AT TIME ZONE 'America/New_York'", "time '10:00' + INTERVAL '15 hours'", "time '10:00' - time '11:30'", "date '2026-11-23' + time '10:30'", "timestamp '2026-11-23 10:00' - timestamp '2026-11-20 12:00'", "time '10:30' < '11:00'",
	"timestamp '2026-11-23 10:00'::time", "INTERVAL '25 hours'::time", "time '10:30'::interval", "EXTRACT(epoch FROM INTERVAL '1 month 2 days')", "EXTRACT(hour FROM time '10:30')", "EXTRACT(century FROM arrived)", "EXTRACT(julian FROM arrived)", "EXTRACT(milliseconds FROM timestamp '2026-11-23 10:00:07.5')", "date_part('year', arrived)", "EXTRACT(epoch FROM arrived)", "EXTRACT(month FROM INTERVAL '14 months')", "EXTRACT(decade FROM arrived)",
	"hut::varchar(3)", "nights IS DISTINCT FROM 4", "ARRAY[1,2] IS DISTINCT FROM ARRAY[1,2]", "CASE WHEN NULL THEN 1 END", "trim(leading 'R' from hut)", "overlay(hut placing 'xx' from 2 for 3)", "position('seat' in hut)", "current_timestamp IS NOT NULL",
	"1e3", "0.1 + 0.2", "9223372036854775807 - 1", "100000::float8 * 1e10", "'a' < 'B'", "'NaN'::float8 > 1", "nights::float8 / 7",
}

func TestExpressionsAnswerAsPostgresDoes(t *testing.T) {
	ctx := context.Background()
	_, address := pgtest.Database(t)
	conn, err := pgx.Connect(ctx, address)
	require.NoError(t, err)
	defer conn.Close(ctx)
	for _, text := range answers {
		want, err := asked(ctx, conn, text)
		require.NoError(t, err, text)
		p, berr := expr.Bind(text, expr.Scope{Schema: stays})
		if !assert.NoError(t, berr, text) {
			continue
		}
		asText := text
		if p.Type.Nested() { // on a screen they are written as JSON
			asText = "CAST((" + text + ") AS text)"
		}
		got, problems := value(t, asText, nil)
		assert.Empty(t, problems, text)
		assert.True(t, same(p.Type, got, want), "%s: here %s, PostgreSQL %s", text, got, want)
	}
}

// refusals are expressions that PostgreSQL refuses for this row.
var refusals = []string{"1 / (nights - 3)", "9223372036854775807 + nights", "hut::int", "'2026-02-30'::date", "make_date(2026, 2, 30)", "sqrt(-1)", "ln(0)", "'1.x'::decimal(4,1)",
	"123456::decimal(5,2)", "substring(hut, 1, -1)", "to_date('31.02.2026', 'DD.MM.YYYY')", "'maybe'::bool", "power(-1, 0.5)"}

func TestWhatPostgresRefusesIsAProblem(t *testing.T) {
	ctx := context.Background()
	_, address := pgtest.Database(t)
	conn, err := pgx.Connect(ctx, address)
	require.NoError(t, err)
	defer conn.Close(ctx)
	for _, text := range refusals {
		_, err := asked(ctx, conn, text)
		require.Error(t, err, text)
		p, err := expr.Bind(text, expr.Scope{Schema: stays})
		if err != nil {
			continue // said before the run, which is sooner
		}
		_, problems := p.Eval(&expr.Env{}, stay(t))
		if assert.NotEmpty(t, problems, text) {
			assert.EqualValues(t, 0, problems[0].Row, text)
		}
	}
}

// generated draws an expression of a type; deep is how far it may nest.
func generated(t *rapid.T, kind string, deep int) string {
	leaf := map[string][]string{
		"int":  {"nights", "0", "1", "(-7)", "12", "NULL::bigint", "length(hut)"},
		"dec":  {"price", "1.5", "0.25", "(-3.125)", "NULL::numeric(8,2)"},
		"text": {"hut", "\"water level\"", "'a'", "''", "NULL::text", "'Éa b'"},
		"bool": {"warden", "true", "false", "NULL::bool"},
		"date": {"arrived", "date '2026-02-28'", "NULL::date"},
	}
	forms := map[string][]string{
		"int":  {"(%int + %int)", "(%int - %int)", "(%int * %int)", "(%int / %int)", "(%int %% %int)", "abs(%int)", "length(%text)", "(%date - %date)", "CASE WHEN %bool THEN %int ELSE %int END", "coalesce(%int, %int)", "nullif(%int, %int)", "greatest(%int, %int)", "strpos(%text, %text)"},
		"dec":  {"(%dec + %dec)", "(%dec - %int)", "(%dec * 2)", "round(%dec, 1)", "floor(%dec)", "ceil(%dec)", "CASE WHEN %bool THEN %dec ELSE %int END", "least(%dec, %dec)"},
		"text": {"(%text || %text)", "lower(%text)", "upper(%text)", "left(%text, 2)", "right(%text, -1)", "replace(%text, 'a', 'b')", "substring(%text, 2, 2)", "coalesce(%text, %text)", "concat(%text, %int)", "%int::text", "lpad(%text, 4, '*')", "split_part(%text, 'a', 1)"},
		"bool": {"(%bool AND %bool)", "(%bool OR %bool)", "(NOT %bool)", "(%int < %int)", "(%int = %int)", "(%text IS NULL)", "(%dec >= %dec)", "(%int BETWEEN %int AND %int)", "(%int IN (%int, %int))", "(%text LIKE 'R%%')", "(%int IS DISTINCT FROM %int)", "(%date > %date)", "(%bool IS NOT TRUE)"},
		"date": {"(%date + 3)", "(%date - 40)", "coalesce(%date, %date)", "CASE WHEN %bool THEN %date END"},
	}
	if deep == 0 || rapid.IntRange(0, 3).Draw(t, "leaf") == 0 {
		return rapid.SampledFrom(leaf[kind]).Draw(t, kind)
	}
	form := rapid.SampledFrom(forms[kind]).Draw(t, kind+" form")
	for _, k := range []string{"int", "dec", "text", "bool", "date"} {
		for strings.Contains(form, "%"+k) {
			form = strings.Replace(form, "%"+k, generated(t, k, deep-1), 1)
		}
	}
	return strings.ReplaceAll(form, "%%", "%")
}

// TestExpressionsAgreeWithPostgres compares generated expressions: the same
// value, or both refuse the row.
func TestExpressionsAgreeWithPostgres(t *testing.T) {
	ctx := context.Background()
	_, address := pgtest.Database(t)
	conn, err := pgx.Connect(ctx, address)
	require.NoError(t, err)
	defer conn.Close(ctx)
	valid := 0
	rapid.Check(t, func(rt *rapid.T) {
		text := generated(rt, rapid.SampledFrom([]string{"int", "dec", "text", "bool", "date"}).Draw(rt, "kind"), 3)
		want, werr := asked(ctx, conn, text)
		p, err := expr.Bind(text, expr.Scope{Schema: stays})
		if err != nil {
			rt.Fatalf("%s: %s", text, err)
		}
		out, problems := p.Eval(&expr.Env{Now: now}, stay(t))
		first := len(problems) > 0 && problems[0].Row == 0
		if werr != nil || first {
			// A branch that is not needed may fail there and not here, never the
			// other way round.
			if first && werr == nil {
				rt.Fatalf("%s: a problem here (%s), PostgreSQL says %s", text, problems[0].Sentence, want)
			}
			return
		}
		valid++
		got := "∅"
		if out.IsValid(0) {
			got = batch.Text(out, p.Type, 0)
		}
		if !same(p.Type, got, want) {
			rt.Fatalf("%s: here %s, PostgreSQL %s", text, got, want)
		}
	})
	require.Positive(t, valid)
}
