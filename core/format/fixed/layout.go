package fixed

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"welkin/core/format"
	"welkin/core/schema"
)

// Layout says where the values of a file of fixed width stand. A file may hold
// records of several types, told apart by a code that stands at the same place in
// all of them.
type Layout struct {
	Encoding string       `json:"encoding,omitempty" yaml:"encoding,omitempty" jsonschema:"title=encoding,description=How characters are stored such as utf-8 or windows-1252 or ebcdic"`
	Length   int          `json:"length,omitempty" yaml:"length,omitempty" jsonschema:"title=record length,description=Bytes of a record in a file without line ends; 0 where each line is one"`
	Code     *Code        `json:"code,omitempty" yaml:"code,omitempty" jsonschema:"title=code,description=Where it stands which type a record is of"`
	Records  []RecordType `json:"records" yaml:"records" jsonschema:"title=record types"`
}

// Code is the place that tells the types of records apart.
type Code struct {
	Start  int `json:"start" yaml:"start" jsonschema:"title=start,description=Its first character counted from 1"`
	Length int `json:"length" yaml:"length" jsonschema:"title=length"`
}

// RecordType is one type of records.
type RecordType struct {
	Name   string  `json:"name,omitempty" yaml:"name,omitempty" jsonschema:"title=name"`
	Code   string  `json:"code,omitempty" yaml:"code,omitempty" jsonschema:"title=code,description=What stands at the code's place"`
	Fields []Field `json:"fields" yaml:"fields" jsonschema:"title=fields"`
}

// Field is one value of a record. Its place counts characters, or bytes where
// records have a length and no lines.
type Field struct {
	Name   string      `json:"name" yaml:"name" jsonschema:"title=name"`
	Start  int         `json:"start" yaml:"start" jsonschema:"title=start,description=Its first character counted from 1"`
	Length int         `json:"length" yaml:"length" jsonschema:"title=length"`
	Type   schema.Type `json:"type" yaml:"type" jsonschema:"title=type,type=string"`
	Scale  int         `json:"scale,omitempty" yaml:"scale,omitempty" jsonschema:"title=decimals,description=Digits at the end that stand behind a point that is not written"`
	Sign   string      `json:"sign,omitempty" yaml:"sign,omitempty" jsonschema:"title=sign,enum=leading,enum=trailing,enum=overpunch,enum=leading overpunch"`
	Store  string      `json:"store,omitempty" yaml:"store,omitempty" jsonschema:"title=stored as,enum=text,enum=packed,enum=binary"`
	Fill   string      `json:"fill,omitempty" yaml:"fill,omitempty" jsonschema:"title=fill,description=The character that fills up the place: a blank when left out; 0 for numbers with a sign"`
	Dates  string      `json:"dates,omitempty" yaml:"dates,omitempty" jsonschema:"title=written as,description=How a date or time is written such as YYYYMMDD or HH24MI"`
	Note   string      `json:"note,omitempty" yaml:"note,omitempty" jsonschema:"title=note"`
}

// Signs of numbers: none (or one before the digits), a character of its own before
// or behind the digits, or marked in the last or first digit.
const (
	SignLeading          = "leading"
	SignTrailing         = "trailing"
	SignOverpunch        = "overpunch"
	SignLeadingOverpunch = "leading overpunch"
)

// Stores of numbers besides text: two digits a byte with the sign in the last half
// byte, or a whole number of 1, 2, 4 or 8 bytes, the highest first.
const (
	StoreText   = "text"
	StorePacked = "packed"
	StoreBinary = "binary"
)

// EBCDIC is the name of code page 037.
const EBCDIC = "ebcdic"

// MostFields is how many fields a record may have.
const MostFields = 10_000

// End is the place behind the field's last character, from 1.
func (f Field) End() int { return f.Start + f.Length }

// Validate says what is wrong with a layout and where, or nil.
func (l Layout) Validate() error {
	if l.Encoding != EBCDIC {
		if _, err := format.Encoding(l.Encoding); err != nil {
			return err
		}
	}
	if l.Length < 0 || l.Length > MaxLine {
		return fmt.Errorf("a record has up to %d bytes, not %d", MaxLine, l.Length)
	}
	if len(l.Records) == 0 {
		return fmt.Errorf("the layout has no record type yet")
	}
	if len(l.Records) > 1 && l.Code == nil {
		return fmt.Errorf("there are %d record types; say at which place their code stands", len(l.Records))
	}
	if l.Code != nil && (l.Code.Start < 1 || l.Code.Length < 1) {
		return fmt.Errorf("the code's start and length are at least 1")
	}
	codes, names := map[string]bool{}, map[string]bool{}
	for i, r := range l.Records {
		if l.Code != nil && codes[r.Code] {
			return fmt.Errorf("two record types have the code %q", r.Code)
		}
		if len(l.Records) > 1 && (r.Name == "" || names[r.Name]) {
			return fmt.Errorf("record type %d needs a name of its own", i+1)
		}
		codes[r.Code], names[r.Name] = true, true
		if err := r.validate(l); err != nil {
			return err
		}
	}
	return nil
}

func (r RecordType) validate(l Layout) error {
	if len(r.Fields) == 0 || len(r.Fields) > MostFields {
		return fmt.Errorf("a record type has 1 to %d fields; %q has %d", MostFields, r.Name, len(r.Fields))
	}
	names := map[string]bool{}
	for _, f := range r.Fields {
		switch {
		case strings.TrimSpace(f.Name) == "":
			return fmt.Errorf("the field at %d has no name", f.Start)
		case names[f.Name]:
			return fmt.Errorf("two fields are called %q", f.Name)
		case f.Start < 1 || f.Length < 1 || f.End() > MaxLine:
			return fmt.Errorf("the field %q can't stand at %d with length %d", f.Name, f.Start, f.Length)
		case l.Length > 0 && f.End()-1 > l.Length:
			return fmt.Errorf("the field %q ends at %d, behind the record's %d bytes", f.Name, f.End()-1, l.Length)
		case f.Sign != "" && !slices.Contains([]string{SignLeading, SignTrailing, SignOverpunch, SignLeadingOverpunch}, f.Sign):
			return fmt.Errorf("the field %q has the sign %q; signs are leading, trailing, overpunch or leading overpunch", f.Name, f.Sign)
		case f.Store != "" && f.Store != StoreText && f.Store != StorePacked && f.Store != StoreBinary:
			return fmt.Errorf("the field %q is stored as %q; values are stored as text, packed or binary", f.Name, f.Store)
		case f.Store == StoreBinary && f.Length != 1 && f.Length != 2 && f.Length != 4 && f.Length != 8:
			return fmt.Errorf("the field %q has %d bytes; binary numbers have 1, 2, 4 or 8", f.Name, f.Length)
		case (f.Sign != "" || f.Scale != 0 || f.Store == StorePacked || f.Store == StoreBinary) && !f.Type.Numeric():
			return fmt.Errorf("the field %q is %s; signs, decimals and packed or binary values are for numbers", f.Name, f.Type)
		case f.Scale < 0 || f.Scale > schema.MaxPrecision:
			return fmt.Errorf("the field %q has %d decimals; there can be 0 to %d", f.Name, f.Scale, schema.MaxPrecision)
		case f.Scale > 0 && f.Type.Kind == schema.Int:
			return fmt.Errorf("the field %q has decimals, which int can't hold; make it decimal(%d,%d)", f.Name, max(f.Length, f.Scale), f.Scale)
		case f.Fill != "" && len([]rune(f.Fill)) != 1:
			return fmt.Errorf("the field %q is filled with %q; it must be one character", f.Name, f.Fill)
		case f.Type.Kind == schema.Unknown:
			return fmt.Errorf("the field %q has no type", f.Name)
		}
		if f.Dates != "" {
			if _, err := f.dateLayout(); err != nil {
				return err
			}
		}
		names[f.Name] = true
	}
	return nil
}

// Record finds a record type by its name; "" is the only one.
func (l Layout) Record(name string) (*RecordType, error) {
	var names []string
	for i := range l.Records {
		if l.Records[i].Name == name || name == "" && len(l.Records) == 1 {
			return &l.Records[i], nil
		}
		names = append(names, l.Records[i].Name)
	}
	return nil, fmt.Errorf("the layout has no record type %q; there are %s", name, strings.Join(names, ", "))
}

// TypeColumn is the column that names a record's type where several are read as one.
const TypeColumn = "record"

// Schema gives the columns of one record type, or with "" of all: then the first
// names the type, fields of the same name are one column, and what a type has not
// is null.
func (l Layout) Schema(record string) (*schema.Schema, error) {
	out := &schema.Schema{}
	types := l.Records
	if record != "" || len(l.Records) == 1 {
		r, err := l.Record(record)
		if err != nil {
			return nil, err
		}
		types = []RecordType{*r}
	} else {
		out.Columns = append(out.Columns, schema.Column{Name: TypeColumn, Type: schema.Of(schema.Text), Description: "type of the record"})
	}
	for _, r := range types {
		for _, f := range r.Fields {
			at := out.Index(f.Name)
			if at < 0 {
				out.Columns = append(out.Columns, schema.Column{Name: f.Name, Type: f.Type, Nullable: true, Description: f.Note})
				continue
			}
			t, ok := schema.Common(out.Columns[at].Type, f.Type)
			if !ok {
				return nil, fmt.Errorf("the field %q is %s in one record type and %s in another; give one of them another name", f.Name, out.Columns[at].Type, f.Type)
			}
			out.Columns[at].Type = t
		}
	}
	return out, nil
}

// OfWidths is the layout of columns that stand side by side, each so many characters
// wide.
func OfWidths(s *schema.Schema, widths []int, encoding string) Layout {
	r := RecordType{}
	at := 1
	for i, c := range s.Columns {
		r.Fields = append(r.Fields, Field{Name: c.Name, Start: at, Length: widths[i], Type: c.Type})
		at += widths[i]
	}
	return Layout{Encoding: encoding, Records: []RecordType{r}}
}

// ParseLayout reads a layout from YAML (or JSON, which is YAML too), strictly.
func ParseLayout(text []byte) (*Layout, error) {
	var l Layout
	if err := yaml.UnmarshalWithOptions(text, &l, yaml.Strict(), yaml.UseJSONUnmarshaler()); err != nil {
		return nil, errors.New(strings.TrimSpace(yaml.FormatError(err, false, false)))
	}
	if err := l.Validate(); err != nil {
		return nil, err
	}
	return &l, nil
}

// YAML writes a layout as text.
func (l Layout) YAML() (string, error) {
	text, err := yaml.MarshalWithOptions(l, yaml.UseJSONMarshaler())
	return string(text), err
}
