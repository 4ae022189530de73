// Package csv reads and writes delimited text: dialect.go finds out how a file
// is written, infer.go which types its columns hold, split.go cuts the stream
// into records (RFC 4180 with the liberties files take), read.go turns records
// into batches on several cores, write.go writes.
package csv

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"welkin/core/format"
)

// Dialect says how a file is written.
type Dialect struct {
	Delimiter string `json:"delimiter" yaml:"delimiter" jsonschema:"description=What stands between two values; one character or \\t"`
	Quote     string `json:"quote" yaml:"quote" jsonschema:"description=What encloses a value that holds the delimiter or a line break"`
	Encoding  string `json:"encoding" yaml:"encoding" jsonschema:"description=How characters are stored such as utf-8 or windows-1252"`
	Header    bool   `json:"header" yaml:"header" jsonschema:"description=Whether the first line names the columns"`
	Lines     int    `json:"header_lines,omitempty" yaml:"header_lines,omitempty" jsonschema:"title=header lines,description=How many lines the header takes; what stands in them is put together and an empty heading goes on from its left; 1 when left out"`

	Skip      int    `json:"skip_lines,omitempty" yaml:"skip_lines,omitempty" jsonschema:"title=lines before,description=Lines at the top that are neither header nor rows"`
	Trailer   int    `json:"last_lines,omitempty" yaml:"last_lines,omitempty" jsonschema:"title=lines behind,description=Lines at the end that are no rows such as a total"`
	Comment   string `json:"comment,omitempty" yaml:"comment,omitempty" jsonschema:"description=What a line begins with that is no row such as #"`
	Escape    string `json:"escape,omitempty" yaml:"escape,omitempty" jsonschema:"description=What stands before a quote inside of quotes when it is not doubled such as \\"`
	Decimal   string `json:"decimal,omitempty" yaml:"decimal,omitempty" jsonschema:"title=decimal mark,description=A point when left out"`
	Thousands string `json:"thousands,omitempty" yaml:"thousands,omitempty" jsonschema:"title=thousands mark,description=What parts thousands in numbers; nothing when left out"`
	Dates     string `json:"dates,omitempty" yaml:"dates,omitempty" jsonschema:"description=How dates are written such as DD.MM.YYYY; YYYY-MM-DD when left out"`
	Short     string `json:"short_rows,omitempty" yaml:"short_rows,omitempty" jsonschema:"title=rows too short,enum=set aside,enum=fill with null"`
	Long      string `json:"long_rows,omitempty" yaml:"long_rows,omitempty" jsonschema:"title=rows too long,enum=set aside,enum=leave out the rest"`
}

// What becomes of rows with too few or too many values; they are set aside when
// nothing is said.
const (
	FillShort = "fill with null"
	CutLong   = "leave out the rest"
	setAside  = "set aside"
)

// Default is RFC 4180 in UTF-8 with a header.
func Default() Dialect { return Dialect{Delimiter: ",", Quote: `"`, Encoding: "utf-8", Header: true} }

// headerLines is how many lines the header takes, 0 without one.
func (d Dialect) headerLines() int {
	if !d.Header {
		return 0
	}
	return max(d.Lines, 1)
}

func (d Dialect) delimiter() byte { return oneByte(d.Delimiter, ',') }
func (d Dialect) quote() byte     { return oneByte(d.Quote, '"') }

func oneByte(s string, fallback byte) byte {
	switch {
	case s == `\t`:
		return '\t'
	case s == "":
		return fallback
	}
	return s[0]
}

// Validate says what is wrong with a dialect, or nil.
func (d Dialect) Validate() error {
	if d.Delimiter != "" && d.Delimiter != `\t` && len(d.Delimiter) != 1 {
		return fmt.Errorf("the delimiter must be one character (or \\t), not %q", d.Delimiter)
	}
	if len(d.Quote) > 1 {
		return fmt.Errorf("the quote must be one character, not %q", d.Quote)
	}
	if d.Lines < 0 || d.Lines > 20 {
		return fmt.Errorf("a header has 1 to 20 lines, not %d", d.Lines)
	}
	for _, mark := range []struct{ what, is string }{{"comment", d.Comment}, {"escape", d.Escape}, {"decimal mark", d.Decimal}, {"thousands mark", d.Thousands}} {
		if utf8.RuneCountInString(mark.is) > 1 {
			return fmt.Errorf("the %s must be one character, not %q", mark.what, mark.is)
		}
	}
	if d.Decimal != "" && d.Decimal == d.Thousands {
		return fmt.Errorf("%q can't be both decimal and thousands mark", d.Decimal)
	}
	if d.Skip < 0 || d.Trailer < 0 || d.Trailer > mostTrailers {
		return fmt.Errorf("lines left out at the top are 0 or more, at the end up to %d", mostTrailers)
	}
	if d.Short != "" && d.Short != setAside && d.Short != FillShort {
		return fmt.Errorf("rows too short are %q or %q, not %q", setAside, FillShort, d.Short)
	}
	if d.Long != "" && d.Long != setAside && d.Long != CutLong {
		return fmt.Errorf("rows too long are %q or %q, not %q", setAside, CutLong, d.Long)
	}
	if _, err := dateLayout(d.Dates); err != nil {
		return err
	}
	_, err := format.Encoding(d.Encoding)
	return err
}

// mostTrailers is how many lines at the end can be left out.
const mostTrailers = 100

// placed is a record's values and the line of the file where it begins.
type placed struct {
	line   int64
	values []string
}

// recordsAt reads the first few records of a text, for looking at them.
func recordsAt(text string, d Dialect, limit int) []placed {
	var out []placed
	s := newSplitter(prepared(strings.NewReader(text), d), d)
	s.skip(d.Skip)
	for len(out) < limit {
		c, err := s.next(limit)
		for _, r := range c.records {
			if r.fault == nil {
				out = append(out, placed{r.line, fieldsOf(c.data[r.from:r.to], d)})
			}
		}
		if err != nil {
			break
		}
	}
	return out[:min(len(out), limit)]
}

// records is recordsAt without the lines.
func records(text string, d Dialect, limit int) [][]string { return values(recordsAt(text, d, limit)) }

// fieldsOf cuts one record into values.
func fieldsOf(rec []byte, d Dialect) []string {
	var out []string
	cut := cutter{delimiter: d.delimiter(), quote: d.quote()}
	cut.start(rec)
	for cut.next() {
		out = append(out, string(cut.value()))
	}
	return out
}
