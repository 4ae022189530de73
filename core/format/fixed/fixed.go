// Package fixed reads text of fixed width: each value stands at the same
// characters of every line, without anything between two values.
package fixed

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// MaxLine is how long a line may be, in bytes.
const MaxLine = 1 << 20

// Options say where the values of a line stand.
type Options struct {
	Schema   *schema.Schema
	Widths   []int // characters by column; the first column begins at the line's first character
	Nulls    []string
	Encoding string
	Header   bool   // the first line is no row
	Place    string // what the origin of rows says
	Limit    int64  // rows wanted, 0 for all
}

// Reader reads one file.
type Reader struct {
	Options
	lines *bufio.Scanner
	nulls map[string]bool
	line  int64
	rows  int64
	width int
}

// Open begins to read r.
func Open(r io.Reader, o Options) (*Reader, error) {
	text, err := format.Decoded(r, o.Encoding)
	if err != nil {
		return nil, err
	}
	out := &Reader{Options: o, lines: bufio.NewScanner(text), nulls: map[string]bool{}}
	out.lines.Buffer(make([]byte, 64<<10), MaxLine)
	for _, n := range o.Nulls {
		out.nulls[n] = true
	}
	for _, w := range o.Widths {
		out.width += w
	}
	if o.Header {
		if !out.lines.Scan() {
			return nil, errors.Join(out.failed(), format.ErrEmpty)
		}
		out.line++
	}
	return out, nil
}

func (r *Reader) failed() error {
	if err := r.lines.Err(); errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("line %d is longer than %d bytes; is it a file of lines?", r.line+1, MaxLine)
	} else if err != nil {
		return err
	}
	return nil
}

// Next gives the following rows, io.EOF after the last. Blank lines are passed
// over.
func (r *Reader) Next(context.Context) (format.Chunk, error) {
	columns := make([]batch.TextColumn, r.Schema.Len())
	for i, c := range r.Schema.Columns {
		columns[i] = batch.NewTextColumn(c.Type, batch.Rows)
	}
	var out format.Chunk
	var good []int32
	var lines []int64
	at := 0
	for at < batch.Rows && (r.Limit == 0 || r.rows < r.Limit) && r.lines.Scan() {
		r.line++
		text := strings.TrimSuffix(r.lines.Text(), "\r")
		if strings.TrimSpace(text) == "" {
			continue
		}
		if refused := r.row(at, text, columns); refused.Fault != nil {
			refused.Line, refused.Raw = r.line, strings.ToValidUTF8(text, "�")
			out.Refused = append(out.Refused, refused)
		} else {
			good, lines = append(good, int32(at)), append(lines, r.line)
			r.rows++
		}
		at++
	}
	if err := r.failed(); err != nil {
		return format.Chunk{}, err
	}
	if at == 0 {
		return format.Chunk{}, io.EOF
	}
	out.Seen = int64(at)
	out.Batch = &batch.Batch{Schema: r.Schema, N: len(good), Cols: make([]arrow.Array, len(columns)), Origin: batch.Origin{All: r.Place, Row: lines}}
	for i, c := range columns {
		out.Batch.Cols[i] = batch.Take(c.Column(), good)
	}
	return out, nil
}

// row reads one line as row at of the columns. A line may end before its last
// values, which are null then; blanks around a value are no part of it.
func (r *Reader) row(at int, text string, columns []batch.TextColumn) format.Refused {
	if !utf8.ValidString(text) {
		return format.Refused{Fault: format.WrongEncoding(r.Encoding)}
	}
	rest := text
	for i, width := range r.Widths {
		value := rest
		value, rest = cut(rest, width)
		if value = strings.TrimSpace(value); value == "" || r.nulls[value] {
			columns[i].SetNull(at)
			continue
		}
		if fault := columns[i].Set(at, value); fault != nil {
			return format.Refused{Fault: fault, Column: r.Schema.Columns[i].Name, Value: value}
		}
	}
	if strings.TrimSpace(rest) != "" {
		return format.Refused{Fault: batch.Faultf("row too long", "the row goes on behind character %d, where the columns end", r.width)}
	}
	return format.Refused{}
}

// cut parts a text behind so many characters.
func cut(text string, characters int) (before, behind string) {
	if len(text) <= characters {
		return text, ""
	}
	end := 0
	for range characters {
		if end == len(text) {
			break
		}
		_, size := utf8.DecodeRuneInString(text[end:])
		end += size
	}
	return text[:end], text[end:]
}

// Close implements io.Closer; the file itself is closed by whoever opened it.
func (r *Reader) Close() error { return nil }
