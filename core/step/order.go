package step

import (
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

// SortKey is one column by which rows are ordered.
type SortKey struct {
	By    string `json:"by" jsonschema:"title=by,description=A column"`
	Order string `json:"order,omitempty" jsonschema:"title=order,enum=rising,enum=falling"`
	Nulls string `json:"nulls,omitempty" jsonschema:"title=nulls,description=Where nulls stand; last when rising and first when falling if left out,enum=first,enum=last"`
}

// Orders of a sort key.
const (
	Rising  = "rising"
	Falling = "falling"
)

// ordering is sort keys that fit a schema.
type ordering []struct {
	column                 int
	descending, nullsFirst bool
}

// ordering binds sort keys.
func (c *Context) ordering(path string, s *schema.Schema, keys []SortKey) ordering {
	out := make(ordering, 0, len(keys))
	for i, k := range keys {
		at := fmt.Sprintf("%s[%d]", path, i)
		column := c.column(at+".by", s, k.By)
		if column < 0 {
			continue
		}
		if t := s.Columns[column].Type; !batch.Orderable(t) {
			c.Problem(at+".by", "%s has no order", t)
		}
		down := k.Order == Falling
		if k.Order != "" && k.Order != Rising && !down {
			c.Problem(at+".order", "order is %s or %s, not %q", Rising, Falling, k.Order)
		}
		if k.Nulls != "" && k.Nulls != "first" && k.Nulls != "last" {
			c.Problem(at+".nulls", "nulls is first or last, not %q", k.Nulls)
		}
		out = append(out, struct {
			column                 int
			descending, nullsFirst bool
		}{column, down, k.Nulls == "first" || down && k.Nulls == ""})
	}
	return out
}

// key appends the sort key of a row.
func (o ordering) key(dst []byte, cols []arrow.Array, i int) []byte {
	for _, k := range o {
		dst = batch.AppendSortKey(dst, cols[k.column], i, k.descending, k.nullsFirst)
	}
	return dst
}

// keys gives the sort keys of all rows of a batch.
func (o ordering) keys(b *batch.Batch) batch.SortKeys { return o.groupKeys(b, nil) }

// groupKeys gives the sort keys of rows that are ordered within groups: the
// columns that make a group come first.
func (o ordering) groupKeys(b *batch.Batch, group []int) batch.SortKeys {
	columns := make([]batch.SortColumn, 0, len(group)+len(o))
	for _, c := range group {
		columns = append(columns, batch.SortColumn{Values: b.Cols[c]})
	}
	for _, k := range o {
		columns = append(columns, batch.SortColumn{Values: b.Cols[k.column], Descending: k.descending, NullsFirst: k.nullsFirst})
	}
	return batch.NewSortKeys(b.N, len(group), columns...)
}

// sql writes an ORDER BY list.
func (o ordering) sql(s *schema.Schema) string {
	parts := make([]string, len(o))
	for i, k := range o {
		parts[i] = expr.QuoteName(s.Columns[k.column].Name)
		if s.Columns[k.column].Type.Kind == schema.Text {
			parts[i] += ` COLLATE "C"`
		}
		if k.descending {
			parts[i] += " DESC"
		}
		if k.nullsFirst {
			parts[i] += " NULLS FIRST"
		} else {
			parts[i] += " NULLS LAST"
		}
	}
	return strings.Join(parts, ", ")
}

// words says the order for a sentence.
func words(keys []SortKey) string {
	names := make([]string, len(keys))
	for i, k := range keys {
		if names[i] = k.By; k.Order == Falling {
			names[i] += " falling"
		}
	}
	return list(names, 3)
}
