package avro

import (
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"regexp"
	"strconv"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/hamba/avro/v2"
	"github.com/hamba/avro/v2/ocf"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Codecs by name.
var codecs = map[string]ocf.CodecName{"": ocf.Deflate, "deflate": ocf.Deflate, "snappy": ocf.Snappy, "zstd": ocf.ZStandard, "none": ocf.Null}

// Writer writes rows; every column may be null.
type Writer struct {
	enc    *ocf.Encoder
	schema *schema.Schema
	types  []written
}

// written is a type as it is written: its Avro form, and what a union calls it.
type written struct {
	form   any
	name   string
	fields []written // of a record
	names  []string  // of its fields
	item   *written  // of a list
	t      schema.Type
}

// NewWriter begins a file. codec is deflate (which all readers know), snappy, zstd or
// none; "" is deflate.
func NewWriter(w io.Writer, s *schema.Schema, codec string) (*Writer, error) {
	name, ok := codecs[codec]
	if !ok {
		return nil, fmt.Errorf("there is no codec %q; there are deflate, snappy, zstd and none", codec)
	}
	out := &Writer{schema: s}
	m := &maker{}
	top := m.record("row", s.Columns)
	out.types = top.fields
	text, err := json.Marshal(top.form)
	if err != nil {
		return nil, err
	}
	parsed, err := avro.ParseBytesWithCache(text, "", &avro.SchemaCache{})
	if err != nil {
		return nil, fmt.Errorf("the columns make no Avro schema: %w", err)
	}
	out.enc, err = ocf.NewEncoderWithSchema(parsed, w, ocf.WithCodec(name), ocf.WithBlockLength(4000), ocf.WithSchemaMarshaler(ocf.FullSchemaMarshaler))
	return out, err
}

// maker numbers the records inside.
type maker struct{ n int }

var plainName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

func (m *maker) record(name string, columns []schema.Column) written {
	out := written{name: name}
	var fields []map[string]any
	for i, c := range columns {
		w := m.of(c.Type)
		f := map[string]any{"name": c.Name, "type": []any{"null", w.form}, "default": nil}
		if !plainName.MatchString(c.Name) {
			f["name"], f[nameProperty] = "c"+strconv.Itoa(i+1), c.Name
		}
		if c.Description != "" {
			f["doc"] = c.Description
		}
		out.names = append(out.names, f["name"].(string))
		out.fields, fields = append(out.fields, w), append(fields, f)
	}
	out.form = map[string]any{"type": "record", "name": name, "fields": fields}
	return out
}

func (m *maker) of(t schema.Type) written {
	logical := func(base, name string) written {
		return written{form: map[string]any{"type": base, "logicalType": name}, name: base + "." + name, t: t}
	}
	switch t.Kind {
	case schema.Bool:
		return written{form: "boolean", name: "boolean", t: t}
	case schema.Int:
		return written{form: "long", name: "long", t: t}
	case schema.Float:
		return written{form: "double", name: "double", t: t}
	case schema.Bytes:
		return written{form: "bytes", name: "bytes", t: t}
	case schema.Decimal:
		return written{form: map[string]any{"type": "bytes", "logicalType": "decimal", "precision": t.Precision, "scale": t.Scale}, name: "bytes.decimal", t: t}
	case schema.Date:
		return logical("int", "date")
	case schema.Time:
		return logical("long", "time-micros")
	case schema.Timestamp:
		return logical("long", "local-timestamp-micros")
	case schema.TimestampTZ:
		return logical("long", "timestamp-micros")
	case schema.UUID:
		return logical("string", "uuid")
	case schema.List:
		item := m.of(t.Elem())
		return written{form: map[string]any{"type": "array", "items": []any{"null", item.form}}, name: "array", item: &item, t: t}
	case schema.Record:
		m.n++
		var columns []schema.Column
		for _, f := range t.Fields() {
			columns = append(columns, schema.Column{Name: f.Name, Type: f.Type})
		}
		w := m.record(fmt.Sprintf("r%d", m.n), columns)
		w.t = t
		return w
	}
	return written{form: "string", name: "string", t: t}
}

// Write writes all rows of a batch.
func (w *Writer) Write(b *batch.Batch) error {
	row := map[string]any{}
	for i := range b.N {
		for c, t := range w.types {
			row[w.fieldName(c)] = t.union(valueOf(b.Cols[c], t, i))
		}
		if err := w.enc.Encode(row); err != nil {
			return fmt.Errorf("writing Avro: %w", err)
		}
	}
	return nil
}

func (w *Writer) fieldName(c int) string {
	if name := w.schema.Columns[c].Name; plainName.MatchString(name) {
		return name
	}
	return "c" + strconv.Itoa(c+1)
}

// Flush ends the file.
func (w *Writer) Flush() error { return w.enc.Close() }

func (w written) union(v any) any {
	if v == nil {
		return nil
	}
	return map[string]any{w.name: v}
}

// valueOf gives a value as the encoder takes it, nil for null.
func valueOf(a arrow.Array, w written, i int) any {
	if a.IsNull(i) {
		return nil
	}
	switch a := a.(type) {
	case *array.Boolean:
		return a.Value(i)
	case *array.Int64:
		return a.Value(i)
	case *array.Float64:
		return a.Value(i)
	case *array.Binary:
		return append([]byte{}, a.Value(i)...)
	case *array.Decimal128:
		r, _ := new(big.Rat).SetString(batch.Text(a, w.t, i))
		return r
	case *array.Date32:
		return a.Value(i).ToTime()
	case *array.Time64:
		return time.Duration(a.Value(i)) * time.Microsecond
	case *array.Timestamp:
		return time.UnixMicro(int64(a.Value(i))).UTC()
	case *array.List:
		items := []any{}
		from, to := a.ValueOffsets(i)
		for k := from; k < to; k++ {
			items = append(items, w.item.union(valueOf(a.ListValues(), *w.item, int(k))))
		}
		return items
	case *array.Struct:
		out := map[string]any{}
		for f, inner := range w.fields {
			out[w.names[f]] = inner.union(valueOf(a.Field(f), inner, i))
		}
		return out
	}
	return batch.Text(a, w.t, i)
}
