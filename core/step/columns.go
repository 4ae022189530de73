package step

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Wherever a step names columns, an entry of the list is a column's name, or
// words that pick columns by what they are like, so that they are bound anew
// for each file or table:
//
//	all                      every column
//	all but remarks, id      every column but some
//	like m_*                 by name; * stands for anything
//	matching ^m[0-9]+$       by a regular expression
//	of type decimal          by type
//	reading as number        whose name is a number; also: reading as date
//
// A column that is really called so comes before these words.

// pick gives the places of the columns that entries name, each once, in the
// order of the entries. path is the list's setting.
func (c *Context) pick(path string, s *schema.Schema, entries []string) []int {
	var out []int
	for i, entry := range entries {
		for _, at := range c.pickOne(fmt.Sprintf("%s[%d]", path, i), s, entry) {
			if !slices.Contains(out, at) {
				out = append(out, at)
			}
		}
	}
	return out
}

// pickOne gives the columns that one entry names; none is a mistake.
func (c *Context) pickOne(path string, s *schema.Schema, entry string) []int {
	if slices.Contains(s.Names(), entry) {
		return []int{s.Index(entry)}
	}
	fits, ok, err := picker(entry)
	switch {
	case err != nil:
		c.Problem(path, "%s", err)
		return nil
	case !ok:
		if at := c.column(path, s, entry); at >= 0 {
			return []int{at}
		}
		return nil
	}
	var out []int
	for i, col := range s.Columns {
		if fits(col) {
			out = append(out, i)
		}
	}
	if len(out) == 0 {
		c.Problem(path, "no column is %q; there are %s", entry, strings.Join(s.Names(), ", "))
	}
	return out
}

// picks tells whether an entry picks columns by words.
func picks(entry string) bool {
	_, ok, _ := picker(entry)
	return ok
}

// picker reads an entry of words; ok is false for a plain name.
func picker(entry string) (fits func(schema.Column) bool, ok bool, err error) {
	entry = strings.TrimSpace(entry)
	if entry == "all" {
		return func(schema.Column) bool { return true }, true, nil
	}
	if rest, found := strings.CutPrefix(entry, "all but "); found {
		var left []func(schema.Column) bool
		for _, part := range strings.Split(rest, ",") {
			name := strings.Trim(strings.TrimSpace(part), `"`)
			if fits, words, err := picker(name); err != nil {
				return nil, true, err
			} else if words {
				left = append(left, fits)
				continue
			}
			left = append(left, func(c schema.Column) bool { return strings.EqualFold(c.Name, name) })
		}
		return func(c schema.Column) bool {
			return !slices.ContainsFunc(left, func(fits func(schema.Column) bool) bool { return fits(c) })
		}, true, nil
	}
	if pattern, found := strings.CutPrefix(entry, "like "); found {
		parts := strings.Split(strings.TrimSpace(pattern), "*")
		for i := range parts {
			parts[i] = regexp.QuoteMeta(parts[i])
		}
		re, err := regexp.Compile("(?is)^" + strings.Join(parts, ".*") + "$")
		if err != nil {
			return nil, true, fmt.Errorf("%q is no pattern: %w", pattern, err)
		}
		return func(c schema.Column) bool { return re.MatchString(c.Name) }, true, nil
	}
	if pattern, found := strings.CutPrefix(entry, "matching "); found {
		re, err := regexp.Compile(pattern)
		if err != nil {
			return nil, true, fmt.Errorf("%q is no regular expression: %w", pattern, err)
		}
		return func(c schema.Column) bool { return re.MatchString(c.Name) }, true, nil
	}
	if name, found := strings.CutPrefix(entry, "of type "); found {
		kind := strings.TrimSpace(name)
		t, err := schema.ParseType(kind)
		if err != nil {
			if kind == "number" {
				return func(c schema.Column) bool { return c.Type.Numeric() }, true, nil
			}
			return nil, true, fmt.Errorf("%w, or number", err)
		}
		exact := strings.ContainsAny(kind, "(<{")
		return func(c schema.Column) bool { return c.Type == t || !exact && c.Type.Kind == t.Kind }, true, nil
	}
	if kind, found := strings.CutPrefix(entry, "reading as "); found {
		switch strings.TrimSpace(kind) {
		case "number":
			return func(c schema.Column) bool {
				_, fault := batch.ParseFloat(c.Name)
				return fault == nil
			}, true, nil
		case "date":
			return func(c schema.Column) bool {
				_, fault := batch.ParseDate(c.Name)
				return fault == nil
			}, true, nil
		}
		return nil, true, fmt.Errorf("a header reads as number or as date, not as %q", kind)
	}
	return nil, false, nil
}

// named writes a new name for a column: {name} in the form stands for its own.
func named(form, name string) string { return strings.ReplaceAll(form, "{name}", name) }

// placesAll lists the places of all columns.
func placesAll(s *schema.Schema) []int {
	out := make([]int, s.Len())
	for i := range out {
		out[i] = i
	}
	return out
}

// with gives a schema with one more column, or the column of the same name
// replaced, and the column's place.
func with(s *schema.Schema, col schema.Column) (out *schema.Schema, place int) {
	out = &schema.Schema{Columns: slices.Clone(s.Columns)}
	if place = slices.Index(s.Names(), col.Name); place >= 0 {
		out.Columns[place] = col
		return out, place
	}
	out.Columns = append(out.Columns, col)
	return out, len(out.Columns) - 1
}
