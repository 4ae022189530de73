// Package fixed reads and writes records of fixed width, in which each value stands
// at the same place. layout.go says what a layout is, field.go how a value is
// written (signs, decimals, packed digits), fixed.go reads, write.go writes,
// propose.go proposes the fields of a file by looking at it, copybook.go reads
// layouts that are written in COBOL.
package fixed

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// MaxLine is how long a record may be, in bytes.
const MaxLine = 1 << 20

// Options say how records become rows.
type Options struct {
	Layout Layout
	Record string         // reads records of this type alone; "" for all
	Schema *schema.Schema // the columns wanted, fields of the layout by name
	Nulls  []string       // texts that mean null
	Header bool           // the first line is no row
	Whole  bool           // text behind the last field makes a row too long
	Place  string         // what the origin of rows says
	Limit  int64          // rows wanted, 0 for all
}

// Reader reads one file.
type Reader struct {
	Options
	records *bufio.Scanner
	charset encoding.Encoding // of the records; nil for UTF-8
	single  bool              // a character is a byte
	fields  [][]*Field        // by record type: the field of each column, nil for none
	out     *format.TextRows
	at      int64 // number of the last record
	rows    int64
}

// Open begins to read r.
func Open(r io.Reader, o Options) (*Reader, error) {
	if err := o.Layout.Validate(); err != nil {
		return nil, err
	}
	out := &Reader{Options: o, out: format.NewTextRows(o.Schema, o.Place, o.Nulls)}
	var err error
	if out.charset, err = charset(o.Layout.Encoding); err != nil {
		return nil, err
	}
	out.single = out.charset != nil
	if strings.HasPrefix(strings.ToLower(o.Layout.Encoding), "utf-16") { // its characters are of several bytes
		if r, err = format.Decoded(r, o.Layout.Encoding); err != nil {
			return nil, err
		}
		out.charset, out.single = nil, false
	}
	if out.charset == nil && o.Layout.Length == 0 {
		buffered := bufio.NewReader(r)
		if head, _ := buffered.Peek(len(format.Mark)); string(head) == string(format.Mark) {
			_, _ = buffered.Discard(len(format.Mark))
		}
		r = buffered
	}
	for _, t := range o.Layout.Records {
		fields := make([]*Field, o.Schema.Len())
		for i, c := range o.Schema.Columns {
			if at := slices.IndexFunc(t.Fields, func(f Field) bool { return f.Name == c.Name }); at >= 0 {
				fields[i] = &t.Fields[at]
			}
		}
		out.fields = append(out.fields, fields)
	}
	out.records = bufio.NewScanner(r)
	out.records.Buffer(make([]byte, 64<<10), MaxLine)
	if n := o.Layout.Length; n > 0 {
		out.records.Split(func(data []byte, end bool) (int, []byte, error) {
			switch {
			case len(data) >= n:
				return n, data[:n], nil
			case end && len(data) > 0:
				return len(data), data, nil
			}
			return 0, nil, nil
		})
	}
	if o.Header {
		if !out.records.Scan() {
			return nil, errors.Join(out.failed(), format.ErrEmpty)
		}
		out.at++
	}
	return out, nil
}

func (r *Reader) failed() error {
	if err := r.records.Err(); errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("line %d is longer than %d bytes; is it a file of lines?", r.at+1, MaxLine)
	} else if err != nil {
		return err
	}
	return nil
}

// Next implements format.Reader. Blank lines are passed over.
func (r *Reader) Next(ctx context.Context) (format.Chunk, error) {
	for r.out.Seen() < batch.Rows && (r.Limit == 0 || r.rows < r.Limit) && r.records.Scan() {
		r.at++
		if r.at%1024 == 0 && ctx.Err() != nil {
			return format.Chunk{}, ctx.Err()
		}
		raw := r.records.Bytes()
		if r.Layout.Length == 0 && len(strings.TrimSpace(string(raw))) == 0 {
			continue
		}
		r.record(raw)
	}
	if err := r.failed(); err != nil {
		return format.Chunk{}, err
	}
	if r.out.Seen() == 0 {
		return format.Chunk{}, io.EOF
	}
	return r.out.Chunk(), nil
}

// record makes a row of one record. It may end before its last fields, which are
// null then.
func (r *Reader) record(raw []byte) {
	shown := func() string { return r.decode(raw) }
	refuse := func(fault *batch.Fault) {
		r.out.Refuse(format.Refused{Fault: fault, Line: r.at, Raw: shown()})
	}
	if n := r.Layout.Length; n > 0 && len(raw) < n {
		refuse(batch.Faultf("row too short", "the last record has %d bytes instead of %d", len(raw), n))
		return
	}
	var runes []rune // of a record whose characters are not all of one byte
	if !r.single && r.Layout.Length == 0 {
		if !utf8.Valid(raw) {
			refuse(format.WrongEncoding(r.Layout.Encoding))
			return
		}
		if utf8.RuneCount(raw) != len(raw) {
			runes = []rune(string(raw))
		}
	}
	cut := func(start, length int) []byte {
		if runes != nil {
			return []byte(string(runes[min(start-1, len(runes)):min(start-1+length, len(runes))]))
		}
		return raw[min(start-1, len(raw)):min(start-1+length, len(raw))]
	}
	at := 0
	if c := r.Layout.Code; c != nil {
		code := strings.TrimRight(r.decode(cut(c.Start, c.Length)), " ")
		at = slices.IndexFunc(r.Layout.Records, func(t RecordType) bool { return t.Code == code })
		if at < 0 {
			refuse(batch.Faultf("no record type", "no record type has the code %q", code))
			return
		}
	}
	kind := r.Layout.Records[at]
	if r.Record != "" && kind.Name != r.Record {
		return
	}
	if r.Whole {
		end := 0
		for _, f := range kind.Fields {
			end = max(end, f.End()-1)
		}
		if rest := r.decode(cut(end+1, len(raw))); strings.TrimSpace(rest) != "" {
			refuse(batch.Faultf("row too long", "the row goes on behind character %d, where the columns end", end))
			return
		}
	}
	if r.out.Add(r.at, func(c int) (string, *batch.Fault) {
		f := r.fields[at][c]
		switch {
		case f == nil && r.Schema.Columns[c].Name == TypeColumn:
			return kind.Name, nil
		case f == nil:
			return "", nil
		case f.Store == StorePacked || f.Store == StoreBinary:
			return f.stored(cut(f.Start, f.Length))
		}
		return f.text(r.decode(cut(f.Start, f.Length)))
	}, shown) {
		r.rows++
	}
}

// decode gives the text of bytes of a record.
func (r *Reader) decode(raw []byte) string {
	if r.charset == nil {
		return string(raw)
	}
	text, _ := r.charset.NewDecoder().Bytes(raw)
	return string(text)
}

// Close implements format.Reader.
func (r *Reader) Close() error { return nil }
