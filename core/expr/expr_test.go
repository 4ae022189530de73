package expr_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/expr"
	"welkin/core/schema"
)

func column(name, typ string) schema.Column {
	t, err := schema.ParseType(typ)
	if err != nil {
		panic(err)
	}
	return schema.Column{Name: name, Type: t, Nullable: true}
}

var stays = schema.New(column("nights", "int"), column("price", "decimal(8,2)"), column("hut", "text"), column("arrived", "date"),
	column("water level", "text"), column("share", "float"), column("warden", "bool"))

func stay(t testing.TB) *batch.Batch {
	return batchtest.Cells(t, stays, []string{"3", "19.50", "Ravenseat", "2026-11-23", "3,45", "0.5", "true"},
		[]string{"∅", "∅", "∅", "∅", "∅", "∅", "∅"})
}

var now = time.Date(2026, 11, 23, 5, 10, 0, 0, time.UTC)

// value evaluates an expression on the first row, as text.
func value(t testing.TB, text string, params map[string]expr.Param) (string, []expr.Problem) {
	t.Helper()
	p, err := expr.Bind(text, expr.Scope{Schema: stays, Params: params})
	require.NoError(t, err, text)
	out, problems := p.Eval(&expr.Env{Now: now}, stay(t))
	require.Equal(t, 2, out.Len())
	if out.IsNull(0) {
		return "∅", problems
	}
	return batch.Text(out, p.Type, 0), problems
}

func TestParametersAreBoundValues(t *testing.T) {
	evil := "x'; DROP TABLE huts; --"
	got, _ := value(t, "hut || :tail", map[string]expr.Param{"tail": {Type: schema.Of(schema.Text), Value: &evil}})
	assert.Equal(t, "Ravenseat"+evil, got)
	two := "2"
	got, _ = value(t, "nights * :n + :n", map[string]expr.Param{"n": {Type: schema.Of(schema.Int), Value: &two}})
	assert.Equal(t, "8", got)
	got, _ = value(t, "coalesce(:missing, 'none')", map[string]expr.Param{"missing": {Type: schema.Of(schema.Text)}})
	assert.Equal(t, "none", got)
}

func TestNowIsTheStartOfTheEpoch(t *testing.T) {
	got, _ := value(t, "now()", nil)
	assert.Equal(t, "2026-11-23 05:10:00+00", got)
	got, _ = value(t, "current_date - arrived", nil)
	assert.Equal(t, "0", got)
}

func TestARowsFailureIsThatRowsProblem(t *testing.T) {
	b := batchtest.Cells(t, stays, []string{"1", "1", "7", "2026-01-01", "", "1", "true"}, []string{"0", "1", "seven", "2026-01-01", "", "1", "true"},
		[]string{"2", "1", "8", "2026-01-01", "", "1", "true"})
	for text, code := range map[string]string{"6 / nights": "division by zero", "CAST(hut AS int)": "not a number", "6 % nights": "division by zero",
		"to_date(hut, 'D')": "bad argument"} {
		p, err := expr.Bind(text, expr.Scope{Schema: stays})
		require.NoError(t, err)
		out, problems := p.Eval(&expr.Env{}, b)
		require.Equal(t, 3, out.Len())
		require.NotEmpty(t, problems, text)
		if code != "bad argument" {
			require.Len(t, problems, 1, text)
			assert.EqualValues(t, 1, problems[0].Row)
			assert.True(t, out.IsValid(0) && out.IsNull(1) && out.IsValid(2), text)
		}
		assert.Equal(t, code, problems[0].Code, text)
	}
}

func TestABranchIsEvaluatedForItsRowsAlone(t *testing.T) {
	b := batchtest.Cells(t, stays, []string{"0", "1", "x", "2026-01-01", "", "1", "true"}, []string{"2", "1", "4", "2026-01-01", "", "1", "true"})
	for _, text := range []string{
		"CASE WHEN nights = 0 THEN 0 ELSE 6 / nights END", "nights <> 0 AND 6 / nights > 1", "nights = 0 OR 6 / nights > 1",
		"coalesce(nullif(nights, 0), 1) * CASE WHEN hut ~ '^[0-9]+$' THEN hut::int ELSE 1 END",
	} {
		p, err := expr.Bind(text, expr.Scope{Schema: stays})
		require.NoError(t, err)
		_, problems := p.Eval(&expr.Env{}, b)
		assert.Empty(t, problems, text)
	}
}

func TestMistakesNameTheirPlaceAndWhatWouldFit(t *testing.T) {
	for text, want := range map[string]struct {
		offset   int
		sentence string
	}{
		"nigths * 2":                           {0, `there is no column "nigths"; did you mean "nights"?`},
		"nights * pric":                        {9, `there is no column "pric"; did you mean "price"?`},
		"nights +":                             {8, "ends too early"},
		"nights + ) 2":                         {9, "syntax error"},
		"lowr(hut)":                            {0, `there is no function lowr; did you mean "lower"?`},
		"lower(nights)":                        {0, "lower(int) does not fit; use lower(text)"},
		"hut + 1":                              {4, "needs numbers"},
		"sum(nights)":                          {0, "use it in a group step"},
		":since > arrived":                     {0, `the sheet has no parameter "since"`},
		"nights = 'many'":                      {7, `"many" is not a whole number`},
		"CASE WHEN warden THEN 1 ELSE 'a' END": {0, "not a whole number"},
		"":                                     {0, "the expression is empty"},
		"nights FROM huts":                     {0, "a whole query has no place"},
		"CAST(nights AS wibble)":               {0, "there is no type"},
	} {
		_, err := expr.Bind(text, expr.Scope{Schema: stays})
		var e *expr.Error
		require.ErrorAs(t, err, &e, text)
		assert.Contains(t, e.Sentence, want.sentence, text)
		assert.Equal(t, want.offset, e.Offset, text)
	}
}

func TestConditionsMustBeTrueOrFalse(t *testing.T) {
	_, err := expr.BindCondition("nights + 1", expr.Scope{Schema: stays})
	assert.ErrorContains(t, err, "a condition is expected here")
}

func FuzzBind(f *testing.F) {
	for _, seed := range []string{"nights * 2", "CASE WHEN hut LIKE 'R%' THEN 1 END", ":p::int", "'a''b' || \"water level\"", "-- x", "1e400"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := expr.Bind(text, expr.Scope{Schema: stays})
		if err != nil {
			return
		}
		out, _ := p.Eval(&expr.Env{Now: now}, stay(t))
		require.Equal(t, 2, out.Len())
	})
}

func BenchmarkFilter(b *testing.B) {
	cells := make([][]string, batch.Rows)
	for i := range cells {
		cells[i] = []string{"3", "19.50", "Ravenseat", "2026-11-23", "3,45", "0.5", "true"}
	}
	data := batchtest.Cells(b, stays, cells...)
	p, err := expr.BindCondition("nights > 2 AND hut = 'Ravenseat'", expr.Scope{Schema: stays})
	require.NoError(b, err)
	b.SetBytes(int64(batch.Rows))
	for b.Loop() {
		p.Eval(&expr.Env{}, data)
	}
}
