// Package avro reads and writes Avro object container files (the Avro 1.11
// specification), blocks compressed or not. avro.go reads, write.go writes; types.go
// says which of Welkin's types an Avro type is.
//
// A file says itself which columns it has. Columns wanted that it lacks are null,
// those it has besides are passed over, and numbers become the type wanted where
// they fit: so files written under an older or newer schema are read as one.
package avro

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/big"
	"reflect"
	"slices"
	"strconv"
	"time"

	"github.com/hamba/avro/v2"
	"github.com/hamba/avro/v2/ocf"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// Magic is what a file begins with.
const Magic = "Obj\x01"

// Options say which columns are wanted.
type Options struct {
	Schema *schema.Schema // nil for those of the file
	Nulls  []string       // texts that mean null
	Place  string         // what the origin of rows says
	Limit  int64          // rows wanted, 0 for all
}

// Reader reads one file.
type Reader struct {
	dec    *ocf.Decoder
	fields []*avro.Field
	names  []string
	types  []schema.Type // of the file's own
	schema *schema.Schema
	rows   *format.Rows
	o      Options
	n      int64
	made   int64
}

// Open begins to read r.
func Open(r io.Reader, o Options) (*Reader, error) {
	dec, err := ocf.NewDecoder(r, ocf.WithDecoderSchemaCache(&avro.SchemaCache{}))
	if err != nil {
		return nil, fmt.Errorf("this is no Avro file: %w", err)
	}
	record, ok := dec.Schema().(*avro.RecordSchema)
	if !ok {
		return nil, fmt.Errorf("the file's values are of the Avro type %s; only records make rows", dec.Schema().Type())
	}
	out := &Reader{dec: dec, fields: record.Fields(), o: o, schema: &schema.Schema{}}
	for _, f := range out.fields {
		t, nullable := typeOf(f.Type(), 0)
		name := columnName(f)
		out.names, out.types = append(out.names, name), append(out.types, t)
		out.schema.Columns = append(out.schema.Columns, schema.Column{Name: name, Type: t, Nullable: nullable, Description: f.Doc()})
	}
	if o.Schema == nil {
		out.o.Schema = out.schema
	}
	out.rows = format.NewRows(out.o.Schema, o.Place, o.Nulls)
	return out, nil
}

// Schema gives the file's own columns.
func (r *Reader) Schema() *schema.Schema { return r.schema }

// Next implements format.Reader.
func (r *Reader) Next(ctx context.Context) (format.Chunk, error) {
	for r.rows.Seen() < batch.Rows && (r.o.Limit == 0 || r.made < r.o.Limit) && r.dec.HasNext() {
		if err := ctx.Err(); err != nil {
			return format.Chunk{}, err
		}
		var record map[string]any
		if err := r.dec.Decode(&record); err != nil {
			return format.Chunk{}, fmt.Errorf("the record behind row %d can't be read: %w", r.n, err)
		}
		r.n++
		plain := make(map[string]any, len(r.fields))
		for i, f := range r.fields {
			plain[r.names[i]] = plainValue(record[f.Name()], f.Type())
		}
		before := r.rows.Good()
		r.rows.Add(plain, r.n, func() string {
			text, _ := batch.AppendNormalJSON(nil, plain)
			return string(text)
		})
		r.made += int64(r.rows.Good() - before)
	}
	if err := r.dec.Error(); err != nil && !errors.Is(err, io.EOF) {
		return format.Chunk{}, fmt.Errorf("the file is broken behind row %d: %w", r.n, err)
	}
	if r.rows.Seen() == 0 {
		return format.Chunk{}, io.EOF
	}
	return r.rows.Chunk(), nil
}

// Close implements format.Reader.
func (r *Reader) Close() error { return r.dec.Close() }

// plainValue makes a value of JSON's kinds of one that was decoded.
func plainValue(v any, s avro.Schema) any {
	s = deref(s)
	switch v := v.(type) {
	case nil:
		return nil
	case bool, string:
		return v
	case int:
		return jsonNumber(strconv.Itoa(v))
	case int32:
		return jsonNumber(strconv.FormatInt(int64(v), 10))
	case int64:
		switch logicalOf(s) { // which the library leaves as they are inside of unions
		case avro.LocalTimestampMicros:
			return time.UnixMicro(v).UTC().Format("2006-01-02 15:04:05.999999")
		case avro.LocalTimestampMillis:
			return time.UnixMilli(v).UTC().Format("2006-01-02 15:04:05.999999")
		}
		return jsonNumber(strconv.FormatInt(v, 10))
	case float32:
		return floatText(float64(v), 32)
	case float64:
		return floatText(v, 64)
	case []byte:
		return `\x` + hex.EncodeToString(v)
	case *big.Rat:
		return v.FloatString(scaleOf(s))
	case big.Rat:
		return v.FloatString(scaleOf(s))
	case time.Duration:
		return time.Unix(0, 0).UTC().Add(v).Format("15:04:05.999999")
	case time.Time:
		switch logicalOf(s) {
		case avro.Date:
			return v.UTC().Format("2006-01-02")
		case avro.LocalTimestampMillis, avro.LocalTimestampMicros:
			return v.Format("2006-01-02 15:04:05.999999")
		}
		return v.UTC().Format("2006-01-02 15:04:05.999999Z07:00")
	case []any:
		items, _ := s.(*avro.ArraySchema)
		for i := range v {
			if items != nil {
				v[i] = plainValue(v[i], items.Items())
			}
		}
		return v
	case map[string]any:
		return plainObject(v, s)
	}
	if fixed := reflect.ValueOf(v); fixed.Kind() == reflect.Array && fixed.Type().Elem().Kind() == reflect.Uint8 {
		raw := make([]byte, fixed.Len())
		reflect.Copy(reflect.ValueOf(raw), fixed)
		return `\x` + hex.EncodeToString(raw)
	}
	return fmt.Sprint(v)
}

func plainObject(v map[string]any, s avro.Schema) any {
	if inner, ok := v[typeName(s)]; ok && len(v) == 1 && !hasField(s, typeName(s)) { // of a union with null
		return plainValue(inner, s)
	}
	switch s := s.(type) {
	case *avro.RecordSchema:
		out := map[string]any{}
		for _, f := range s.Fields() {
			out[columnName(f)] = plainValue(v[f.Name()], f.Type())
		}
		return out
	case *avro.MapSchema:
		for k := range v {
			v[k] = plainValue(v[k], s.Values())
		}
		return v
	case *avro.UnionSchema: // the value stands under the name of its type
		for name, inner := range v {
			for _, t := range s.Types() {
				if typeName(t) == name {
					return plainValue(inner, t)
				}
			}
			return plainValue(inner, s)
		}
	}
	return v
}

// hasField tells whether a name may be one of a record's or map's own.
func hasField(s avro.Schema, name string) bool {
	switch s := s.(type) {
	case *avro.MapSchema:
		return true
	case *avro.RecordSchema:
		return slices.ContainsFunc(s.Fields(), func(f *avro.Field) bool { return f.Name() == name })
	}
	return false
}
