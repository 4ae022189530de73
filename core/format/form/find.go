package form

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path"
	"strings"

	"welkin/core/format"
	"welkin/core/format/avro"
	"welkin/core/format/csv"
	"welkin/core/format/excel"
	"welkin/core/format/fixed"
	"welkin/core/format/jsondoc"
	"welkin/core/format/parquet"
	"welkin/core/format/xml"
	"welkin/core/schema"
)

// Found is a form with nothing left open, the columns of the file, and how they were
// found.
type Found struct {
	Form   Form
	Schema *schema.Schema
	Why    []string // one sentence a finding
	Sheets []string // of a workbook
}

// sampleBytes is how much of a file is looked at.
const sampleBytes = 1 << 20

// Find finds what a form leaves open, from the first megabyte of a file; whole reads
// all of it, for types that are right in all rows.
func Find(ctx context.Context, name string, open Open, f Form, whole bool) (Found, error) {
	file, err := open(ctx)
	if err != nil {
		return Found{}, err
	}
	defer file.Close()
	out := Found{Form: f}
	plain, compression, err := format.Decompressed(file)
	if err != nil {
		return out, err
	}
	defer plain.Close()
	most := int64(sampleBytes)
	if whole {
		most = 1 << 32
	}
	head, err := io.ReadAll(io.LimitReader(plain, most))
	if err != nil {
		return out, err
	}
	all := int64(len(head)) < most
	if len(head) == 0 {
		return out, format.ErrEmpty
	}
	if compression != "" {
		out.because("compressed with %s", compression)
	}
	if f.Format == "" {
		out.Form.Format = out.detect(stem(name, compression), head, all)
	}
	switch out.Form.Format {
	case CSV:
		out.csv(head, all)
		out.Schema, err = csv.Infer(head, all, *out.Form.Dialect, f.Nulls...)
	case JSONLines:
		var n int
		if out.Schema, n, err = jsondoc.InferLines(bytes.TrimPrefix(head, format.Mark), all); err == nil {
			out.because("columns and types by %d records", n)
		}
	case JSON:
		err = out.json(bytes.TrimPrefix(head, format.Mark))
	case XML:
		err = out.xml(head)
	case Parquet:
		err = out.parquet(ctx, open)
	case Avro:
		err = out.avro(ctx, head, all, open)
	case Excel:
		err = out.excel(ctx, open)
	case Fixed:
		err = out.fixed(head, all)
	default:
		err = fmt.Errorf("there is no format %q; there are %s", out.Form.Format, strings.Join(Names(), ", "))
	}
	return out, err
}

func (f *Found) because(format string, args ...any) {
	f.Why = append(f.Why, fmt.Sprintf(format, args...))
}

// stem is a file's name without the ending of its compression.
func stem(name, compression string) string {
	name = strings.ToLower(name)
	if compression != "" {
		for _, end := range []string{".gz", ".gzip", ".zst", ".zstd", ".bz2"} {
			name = strings.TrimSuffix(name, end)
		}
	}
	return name
}

// detect finds the format by the first bytes, and where they don't tell by the name.
func (f *Found) detect(name string, head []byte, whole bool) string {
	text := bytes.TrimSpace(bytes.TrimPrefix(head, format.Mark))
	switch {
	case bytes.HasPrefix(head, []byte("PAR1")):
		return f.sure(Parquet, "its first bytes")
	case bytes.HasPrefix(head, []byte(avro.Magic)):
		return f.sure(Avro, "its first bytes")
	case bytes.HasPrefix(head, []byte(excel.Magic)):
		return f.sure(Excel, "its first bytes")
	case jsondoc.Lines(text, whole):
		return f.sure(JSONLines, "an object on each line")
	case len(text) > 0 && (text[0] == '[' && !bytes.HasPrefix(text, []byte("[\n#")) || text[0] == '{'):
		return f.sure(JSON, "its first character")
	case len(text) > 0 && text[0] == '<':
		return f.sure(XML, "its first character")
	}
	switch path.Ext(name) {
	case ".csv", ".tsv", ".tab", ".psv":
		return CSV
	}
	if likelyFixed(head, whole) {
		return f.sure(Fixed, "lines of equal length without a delimiter")
	}
	return CSV
}

func (f *Found) sure(what, by string) string {
	f.because("%s, by %s", what, by)
	return what
}

// likelyFixed tells whether lines are of one length, or of a few, and hold no
// delimiter that parts all of them alike.
func likelyFixed(head []byte, whole bool) bool {
	lines := strings.Split(string(head), "\n")
	if !whole && len(lines) > 1 {
		lines = lines[:len(lines)-1]
	}
	lengths, n := map[int]int{}, 0
	for _, l := range lines[:min(len(lines), 500)] {
		l = strings.TrimRight(l, "\r")
		if strings.TrimSpace(l) == "" {
			continue
		}
		lengths[len([]rune(l))]++
		n++
	}
	if n < 5 || len(lengths) > 4 {
		return false
	}
	found := csv.Sniff(head, whole)
	for _, why := range found.Why {
		if strings.HasPrefix(why, "values parted by") && !strings.Contains(why, "colon") {
			return false
		}
	}
	for length := range lengths {
		if length > 8 {
			return true
		}
	}
	return false
}

func (f *Found) csv(head []byte, whole bool) {
	if f.Form.Dialect != nil {
		f.because("written as set in the step")
		return
	}
	found := csv.Sniff(head, whole)
	f.Form.Dialect = &found.Dialect
	f.Why = append(f.Why, found.Why...)
}

func (f *Found) json(head []byte) (err error) {
	if f.Form.Records == "" {
		var n int
		if f.Form.Records, n = jsondoc.FindRecords(head); f.Form.Records != "" {
			f.because("records at %s, %d of them in what was looked at", f.Form.Records, n)
		}
	}
	var n int
	if f.Schema, n, err = jsondoc.Infer(head, f.Form.Records); err == nil {
		f.because("columns and types by %d records", n)
	} else if f.Form.Records != "" {
		err = fmt.Errorf("no records stand at %q", f.Form.Records)
	}
	return err
}

func (f *Found) xml(head []byte) (err error) {
	if f.Form.Records == "" {
		var n int
		f.Form.Records, n = xml.FindRecords(head)
		f.because("records are the elements <%s>, %d of them in what was looked at", f.Form.Records, n)
	}
	var n int
	if f.Schema, n, err = xml.Infer(head, f.Form.Records); err == nil {
		f.because("columns and types by %d records", n)
	} else {
		err = fmt.Errorf("no element <%s> was found", f.Form.Records)
	}
	return err
}

func (f *Found) parquet(ctx context.Context, open Open) error {
	file, err := open(ctx)
	if err != nil {
		return err
	}
	defer file.Close()
	random, err := randomly(file)
	if err != nil {
		return err
	}
	defer random.Close()
	r, err := parquet.Open(ctx, random, nil)
	if err != nil {
		return err
	}
	f.Schema = r.Schema()
	return r.Close()
}

func (f *Found) avro(ctx context.Context, head []byte, whole bool, open Open) error {
	var source io.Reader = bytes.NewReader(head)
	if !whole {
		file, err := open(ctx)
		if err != nil {
			return err
		}
		defer file.Close()
		plain, _, err := format.Decompressed(file)
		if err != nil {
			return err
		}
		defer plain.Close()
		source = plain
	}
	r, err := avro.Open(source, avro.Options{})
	if err != nil {
		return err
	}
	f.Schema = r.Schema()
	return r.Close()
}

func (f *Found) excel(ctx context.Context, open Open) error {
	file, err := open(ctx)
	if err != nil {
		return err
	}
	defer file.Close()
	plain, _, err := format.Decompressed(file)
	if err != nil {
		return err
	}
	defer plain.Close()
	s, found, err := excel.Infer(plain, f.Form.Place)
	f.Schema, f.Form.Place, f.Sheets = s, found.Place, found.Sheets
	f.Why = append(f.Why, found.Why...)
	return err
}

func (f *Found) fixed(head []byte, whole bool) (err error) {
	if f.Form.Layout == nil {
		lines := strings.Split(string(bytes.TrimPrefix(head, format.Mark)), "\n")
		if !whole {
			lines = lines[:len(lines)-1]
		}
		p := fixed.Propose(lines[:min(len(lines), 5000)])
		if len(p.Layout.Records) == 0 {
			return format.ErrEmpty
		}
		f.Form.Layout = &p.Layout
		f.Why = append(f.Why, p.Why...)
	}
	if err := f.Form.Layout.Validate(); err != nil {
		return err
	}
	f.Schema, err = f.Form.Layout.Schema(f.Form.Record)
	return err
}
