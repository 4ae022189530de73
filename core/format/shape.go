package format

import (
	"encoding/json"
	"math"
	"strings"

	"welkin/core/schema"
)

// Shape collects what values of JSON's kinds have in common: records with the
// union of their fields, lists with the type of their items. The zero Shape has
// seen nothing.
type Shape struct {
	// Texts says that a text may be a number or a truth value, as in XML, where
	// there is nothing but texts.
	Texts bool

	bools, numbers, floats, texts, lists, records int
	guess                                         Guess
	item                                          *Shape
	fields                                        map[string]*Shape
	order                                         []string
}

// Add looks at one more value as batch.ParseJSON gives it. keys gives the keys of
// a record in the order in which they shall be seen.
func (s *Shape) Add(v any, keys func(map[string]any) []string) {
	switch v := v.(type) {
	case nil:
	case bool:
		s.bools++
	case json.Number:
		s.number(v.String())
	case string:
		s.texts++
		s.guess.Add(v)
	case []any:
		s.lists++
		if s.item == nil {
			s.item = &Shape{Texts: s.Texts}
		}
		for _, item := range v {
			s.item.Add(item, keys)
		}
	case map[string]any:
		s.records++
		for _, k := range keys(v) {
			s.Field(k).Add(v[k], keys)
		}
	}
}

// Field gives the shape of a record's field, which is made where it is new.
func (s *Shape) Field(name string) *Shape {
	if s.fields == nil {
		s.fields = map[string]*Shape{}
	}
	f, ok := s.fields[name]
	if !ok {
		f = &Shape{Texts: s.Texts}
		s.fields[name] = f
		s.order = append(s.order, name)
	}
	return f
}

func (s *Shape) number(text string) {
	s.numbers++
	if strings.ContainsAny(text, "eE") {
		s.floats++
		return
	}
	s.guess.Add(text)
}

// Type gives the narrowest type that holds all values seen; text for none.
func (s *Shape) Type() schema.Type {
	scalars := s.bools + s.numbers + s.texts
	switch {
	case scalars+s.lists+s.records == 0:
		return schema.Of(schema.Text)
	case scalars == 0 && s.lists == 0 && len(s.order) > 0:
		return schema.RecordOf(s.Fields()...)
	case scalars == 0 && s.records == 0:
		return schema.ListOf(s.item.Type())
	case s.lists+s.records > 0 || s.bools > 0 && s.bools < scalars:
		return schema.Of(schema.JSON)
	case s.bools > 0:
		return schema.Of(schema.Bool)
	case s.numbers == scalars:
		t := s.guess.Type()
		if s.floats > 0 || !t.Numeric() || t.Precision > 18 {
			return schema.Of(schema.Float)
		}
		return t
	case s.numbers > 0:
		return schema.Of(schema.Text)
	case s.Texts:
		return s.guess.Type()
	}
	if t := s.guess.Temporal(); t.Kind != schema.Unknown {
		return t
	}
	return schema.Of(schema.Text)
}

// Fields gives the fields of the records seen, in the order in which they came.
func (s *Shape) Fields() []schema.Field {
	out := make([]schema.Field, len(s.order))
	for i, name := range s.order {
		out[i] = schema.Field{Name: name, Type: s.fields[name].Type()}
	}
	return out
}

// Columns gives a column for each field of the records seen.
func (s *Shape) Columns() *schema.Schema {
	out := &schema.Schema{}
	for _, f := range s.Fields() {
		out.Columns = append(out.Columns, schema.Column{Name: f.Name, Type: f.Type, Nullable: true})
	}
	return out
}

// Records counts the records seen.
func (s *Shape) Records() int { return s.records }

// SampleRecords is how many records are looked at to find the columns of a file.
const SampleRecords = 2000

// MostColumns is how many columns a file may have.
const MostColumns = math.MaxInt16
