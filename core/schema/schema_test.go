package schema_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/schema"
)

func TestTypesReadAndWriteAsTheirNames(t *testing.T) {
	for text, want := range map[string]string{"int": "int", "BIGINT": "int", "numeric(10,2)": "decimal(10,2)", "decimal( 5 , 0 )": "decimal(5,0)", "decimal": "decimal(38,9)", "double precision": "float", "varchar(40)": "text", "timestamp with time zone": "timestamptz"} {
		got, err := schema.ParseType(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.String())
	}
	for _, text := range []string{"wibble", "decimal(39,0)", "decimal(3,4)", "", "wibble[]"} {
		_, err := schema.ParseType(text)
		assert.Error(t, err, text)
	}
}

func TestPostgresTypesAreMapped(t *testing.T) {
	for formatted, want := range map[string]string{"character varying(40)": "text", "character(1)": "text", "numeric(8,2)": "decimal(8,2)", "numeric": "decimal(38,9)", "smallint": "int", "timestamp(3) without time zone": "timestamp", "jsonb": "json", "real": "float", "text[]": "list<text>", "integer[]": "list<int>", "numeric(8,2)[]": "list<decimal(8,2)>"} {
		got, known := schema.FromPostgres(formatted)
		assert.True(t, known, formatted)
		assert.Equal(t, want, got.String(), formatted)
	}
	for _, formatted := range []string{"point", "point[]", "booking.mood"} {
		got, known := schema.FromPostgres(formatted)
		assert.False(t, known, formatted)
		assert.Equal(t, "text", got.String())
	}
}

func TestNestedTypesReadBackAsTheyAreWritten(t *testing.T) {
	for text, postgres := range map[string]string{
		"list<int>": "bigint[]", "list<decimal(8,2)>": "numeric(8,2)[]", "list<list<text>>": "jsonb", "record{a int, \"b c\" list<record{x text}>}": "jsonb",
		"record{\"say \"\"hut\"\"\" decimal(4,1), n timestamptz}": "jsonb", "list<record{at timestamp}>": "jsonb",
	} {
		typ, err := schema.ParseType(text)
		require.NoError(t, err, text)
		assert.Equal(t, text, typ.String())
		again, err := schema.ParseType(typ.String())
		require.NoError(t, err)
		assert.True(t, typ == again, "types are compared with ==")
		assert.Equal(t, postgres, typ.Postgres())
	}
	typ, err := schema.ParseType("record{a int, \"b c\" list<text>}")
	require.NoError(t, err)
	assert.Equal(t, []schema.Field{{Name: "a", Type: schema.Of(schema.Int)}, {Name: "b c", Type: schema.ListOf(schema.Of(schema.Text))}}, typ.Fields())
	short, err := schema.ParseType("bigint[]")
	require.NoError(t, err)
	assert.Equal(t, schema.ListOf(schema.Of(schema.Int)), short)
	for _, text := range []string{"list<wibble>", "record{a}", "list<int", "record{a wibble}"} {
		_, err := schema.ParseType(text)
		assert.Error(t, err, text)
	}
}

func TestCommonTypesAreThoseOfPostgres(t *testing.T) {
	d := schema.DecimalOf
	for _, c := range []struct {
		a, b, want schema.Type
		ok         bool
	}{
		{schema.Of(schema.Int), schema.Of(schema.Float), schema.Of(schema.Float), true},
		{schema.Of(schema.Int), d(5, 2), d(21, 2), true},
		{d(5, 2), d(9, 4), d(9, 4), true},
		{schema.Of(schema.Date), schema.Of(schema.TimestampTZ), schema.Of(schema.TimestampTZ), true},
		{schema.Type{}, schema.Of(schema.Text), schema.Of(schema.Text), true},
		{schema.Of(schema.Int), schema.Of(schema.Text), schema.Type{}, false},
	} {
		got, ok := schema.Common(c.a, c.b)
		back, _ := schema.Common(c.b, c.a)
		assert.Equal(t, c.ok, ok)
		assert.Equal(t, c.want, got)
		assert.Equal(t, got, back)
	}
}

func TestColumnsAreFoundByNameAndMistypedOnesAreNear(t *testing.T) {
	s := schema.New(schema.Column{Name: "Hut"}, schema.Column{Name: "nights"}, schema.Column{Name: "a"}, schema.Column{Name: "A"})
	assert.Equal(t, 1, s.Index("NIGHTS"))
	assert.Equal(t, 3, s.Index("A"))
	assert.Equal(t, 0, s.Index("hut"))
	assert.Equal(t, -1, s.Index("guests"))
	assert.Equal(t, "nights", s.Nearest("nigths"))
	assert.Equal(t, "", s.Nearest("guests_total"))
}
