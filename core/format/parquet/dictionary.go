package parquet

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"welkin/core/batch"
)

// maxDictionary is how many different texts a column of a row group may have to
// be stored as places in a list of them.
const maxDictionary = 1 << 12

// withDictionary gives the texts of a row group as places in one list, where few
// of them differ; other columns, and texts that mostly differ, as they are.
func withDictionary(cols []arrow.Array) []arrow.Array {
	places, list := map[string]int32{}, array.NewStringBuilder(memory.DefaultAllocator)
	indices := make([]arrow.Array, len(cols))
	for k, col := range cols {
		texts, ok := col.(*array.String)
		if !ok {
			return cols
		}
		ids, firsts := batch.Number([]arrow.Array{col}, col.Len())
		if len(firsts) > maxDictionary || len(firsts) > col.Len()/2+1 {
			return cols
		}
		byID := make([]int32, len(firsts))
		for id, row := range firsts {
			if texts.IsNull(int(row)) {
				continue
			}
			text := texts.Value(int(row))
			place, known := places[text]
			if !known {
				place = int32(len(places))
				places[text] = place
				list.Append(text)
			}
			byID[id] = place
		}
		if len(places) > maxDictionary {
			return cols
		}
		for i, id := range ids {
			ids[i] = byID[id]
		}
		indices[k] = batch.NewColumn(arrow.PrimitiveTypes.Int32, ids, batch.Valid(len(ids), col))
	}
	if len(places) == 0 {
		return cols
	}
	values, out := list.NewArray(), make([]arrow.Array, len(cols))
	t := &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Int32, ValueType: values.DataType()}
	for k, ids := range indices {
		out[k] = array.NewDictionaryArray(t, ids, values)
	}
	return out
}
