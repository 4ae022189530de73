package step_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// TestMarksGoWithTheValues binds a step behind guests, whose e-mail address, birth
// and number are personal, and towns, which are not.
func TestMarksGoWithTheValues(t *testing.T) {
	text, whole, date := schema.Of(schema.Text), schema.Of(schema.Int), schema.Of(schema.Date)
	guests := schema.New(schema.Column{Name: "email", Type: text, Personal: true}, schema.Column{Name: "born", Type: date, Personal: true}, schema.Column{Name: "number", Type: whole, Personal: true},
		schema.Column{Name: "town", Type: text}, schema.Column{Name: "nights", Type: whole}, schema.Column{Name: "arrived", Type: date})
	towns := schema.New(schema.Column{Name: "town", Type: text}, schema.Column{Name: "mayor", Type: text, Personal: true}, schema.Column{Name: "people", Type: whole})
	for settings, want := range map[string]string{
		"keep rows, where: email LIKE 'a%'": "email born number",
		"sort, by: [{by: town}]":            "email born number",
		"choose columns, columns: [{take: email, as: mail}, {take: town, as: email}, {take: born, type: text}]": "mail born",
		"tidy names, columns: [town]": "email born number",
		"derive columns, columns: [{name: loud, value: upper(email)}, {name: far, value: upper(town)}, {name: length, value: length(email)}, {name: old, value: born < arrived}, {name: next, value: born + 1}]": "email born number loud next",
		"derive columns, columns: [{name: town, value: email || town}]":                                                                                                          "email born number town",
		"derive columns, columns: [{name: a, value: email}, {name: b, value: a || '!'}]":                                                                                         "email born number a b",
		"group, by: [town], values: [{name: n, value: count(email)}, {name: first, value: min(email)}, {name: last, value: max(town)}, {name: all, value: 'array_agg(number)'}]": "first all",
		"group, by: [email], values: [{name: nights, value: sum(nights)}]":                                                                                                       "email",
		"window, by: [email], order: [{by: arrived}], values: [{name: n, value: row_number()}, {name: before, value: lag(email)}, {name: other, value: lag(town)}]":              "email born number before",
		"mask, columns: [email], how: replace":                          "born number",
		"unpivot, columns: [email, town]":                               "born number value",
		"drop duplicates, by: [email]":                                  "email born number",
		"split column, column: email, at: '@', into: [who, domain]":     "born number who domain",
		"join, on: [{left: town, right: town}]":                         "email born number mayor",
		"compare, on: [{left: town, right: town}]":                      "email born number",
		"look up, on: [{left: town, right: town}], take: [people]":      "email born number",
		"sql, query: 'SELECT email AS town, nights FROM a'":             "town",
		"find personal data, columns: [town], do: extract, into: found": "email born number found",
	} {
		kind, rest, _ := strings.Cut(settings, ", ")
		s, problems := sheet.Parse("welkin: 1\nname: t\nsteps:\n  - {step: a, does: generate rows, column: x, from_value: '1', to_value: '2'}\n  - {step: b, does: generate rows, column: x, from_value: '1', to_value: '2'}\n  - {step: out, does: "+kind+", from: a, with: b, "+rest+"}\n", step.Kinds{})
		st := s.Step("out")
		require.NotNil(t, st, "%s: %v", settings, problems)
		c := &step.Context{Context: context.Background(), Step: "out", Inputs: []string{"a", "b"}}
		in := []*schema.Schema{guests, towns}
		bound := st.Settings.(step.Settings).Bind(c, in)
		require.False(t, c.Failed(), "%s: %v", settings, c.Problems())
		assert.Empty(t, bound.MarkPersonal(nil, in), settings)
		var marked []string
		for _, col := range bound.Schema.Columns {
			if col.Personal {
				marked = append(marked, col.Name)
			}
		}
		assert.Equal(t, want, strings.Join(marked, " "), settings)
	}
	assert.False(t, towns.Columns[0].Personal, "the inputs are not touched")
}

func TestNamedColumnsAreMarkedInEveryOutput(t *testing.T) {
	rest := schema.New(schema.Column{Name: "email", Type: schema.Of(schema.Text)})
	b := &step.Bound{Schema: rest, Branches: []step.Branch{{Name: "far", Schema: rest}}}
	assert.Equal(t, []string{"e-mail"}, b.MarkPersonal([]string{"email", "e-mail"}, nil))
	assert.True(t, b.Schema.Columns[0].Personal)
	assert.True(t, b.Branches[0].Schema.Columns[0].Personal)
	assert.False(t, rest.Columns[0].Personal)
}
