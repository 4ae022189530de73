// Package csv reads and writes delimited text: dialect.go finds out how a file
// is written, infer.go which types its columns hold, split.go cuts the stream
// into records (RFC 4180 with the liberties files take), read.go turns records
// into batches on several cores, write.go writes.
package csv

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/wlynxg/chardet"

	"welkin/core/format"
)

// Dialect says how a file is written.
type Dialect struct {
	Delimiter string `json:"delimiter" yaml:"delimiter" jsonschema:"description=What stands between two values; one character or \\t"`
	Quote     string `json:"quote" yaml:"quote" jsonschema:"description=What encloses a value that holds the delimiter or a line break"`
	Encoding  string `json:"encoding" yaml:"encoding" jsonschema:"description=How characters are stored such as utf-8 or windows-1252"`
	Header    bool   `json:"header" yaml:"header" jsonschema:"description=Whether the first line names the columns"`
	Lines     int    `json:"header_lines,omitempty" yaml:"header_lines,omitempty" jsonschema:"title=header lines,description=How many lines the header takes; what stands in them is put together and an empty heading goes on from its left; 1 when left out"`
}

// Default is RFC 4180 in UTF-8 with a header.
func Default() Dialect { return Dialect{Delimiter: ",", Quote: `"`, Encoding: "utf-8", Header: true} }

// headerLines is how many lines the header takes, 0 without one.
func (d Dialect) headerLines() int {
	if !d.Header {
		return 0
	}
	return max(d.Lines, 1)
}

// columnNames gives the names of n columns from the lines of a header, each name
// once: an empty heading in a line above the last takes the one at its left, as
// where a spreadsheet's cells were merged; what stands above each other is put
// together with a blank between; a column without any is called by its place.
func columnNames(lines [][]string, n int) []string {
	names := make([]string, n)
	for at, line := range lines {
		last := ""
		for i := range n {
			heading := ""
			if i < len(line) {
				heading = strings.TrimSpace(line[i])
			}
			if heading == "" && at < len(lines)-1 {
				heading = last
			}
			last = heading
			names[i] = strings.TrimSpace(names[i] + " " + heading)
		}
	}
	used := map[string]int{}
	for i, name := range names {
		if name == "" {
			name = fmt.Sprintf("column_%d", i+1)
		}
		if used[name]++; used[name] > 1 {
			name = fmt.Sprintf("%s_%d", name, used[name])
		}
		names[i] = name
	}
	return names
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
	_, err := format.Encoding(d.Encoding)
	return err
}

// Found is what was found out about a file, and how sure that is.
type Found struct {
	Dialect Dialect  `json:"dialect"`
	Why     []string `json:"why" doc:"One sentence a finding."`
}

// Sniff finds the dialect from the first bytes of a file; whole says that they
// are all of it.
func Sniff(head []byte, whole bool) Found {
	f := Found{Dialect: Default()}
	text := f.findEncoding(head)
	if !whole {
		if i := strings.LastIndexByte(text, '\n'); i > 0 {
			text = text[:i+1] // the last line is cut
		}
	}
	f.findDelimiter(text)
	f.findHeader(text)
	return f
}

func (f *Found) because(format string, args ...any) {
	f.Why = append(f.Why, fmt.Sprintf(format, args...))
}

func (f *Found) findEncoding(head []byte) string {
	switch {
	case bytes.HasPrefix(head, format.Mark):
		f.because("UTF-8, by its byte order mark")
		return string(head[3:])
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}):
		f.Dialect.Encoding = "utf-16le"
		f.because("UTF-16, by its byte order mark")
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		f.Dialect.Encoding = "utf-16be"
		f.because("UTF-16, by its byte order mark")
	case validUTF8(head):
		f.because("UTF-8, since every character is valid")
		return string(head)
	default:
		f.Dialect.Encoding = "windows-1252"
		guess := chardet.Detect(head)
		if e, err := format.Encoding(guess.Encoding); err == nil && e != nil && guess.Confidence > 0.9 {
			f.Dialect.Encoding = strings.ToLower(guess.Encoding)
		}
		f.because("%s, since some bytes are not valid UTF-8", f.Dialect.Encoding)
	}
	e, _ := format.Encoding(f.Dialect.Encoding)
	text, _ := e.NewDecoder().Bytes(head)
	return string(bytes.TrimPrefix(text, format.Mark))
}

// validUTF8 allows for a character cut at the end.
func validUTF8(b []byte) bool {
	for cut := 0; cut < 4 && cut <= len(b); cut++ {
		if utf8.Valid(b[:len(b)-cut]) {
			return true
		}
	}
	return false
}

// findDelimiter takes the delimiter that gives the most lines the same number
// of values, more than one.
func (f *Found) findDelimiter(text string) {
	bestScore := 0
	for _, candidate := range []string{",", ";", `\t`, "|"} {
		d := Dialect{Delimiter: candidate, Quote: `"`}
		counts := map[int]int{}
		lines := 0
		for _, rec := range records(text, d, 200) {
			counts[len(rec)]++
			lines++
		}
		for fields, n := range counts {
			if score := n*100/max(lines, 1)*20 + min(fields, 50); fields > 1 && score > bestScore {
				bestScore = score
				f.Dialect.Delimiter = candidate
			}
		}
	}
	names := map[string]string{",": "comma", ";": "semicolon", `\t`: "tab", "|": "bar"}
	if bestScore == 0 {
		f.because("one value a line; no delimiter was seen")
	} else {
		f.because("values parted by %s", names[f.Dialect.Delimiter])
	}
}

func (f *Found) findHeader(text string) {
	recs := records(text, f.Dialect, 50)
	if len(recs) == 0 {
		return
	}
	first := recs[0]
	seen := map[string]bool{}
	for _, name := range first {
		name = strings.TrimSpace(name)
		if name == "" || seen[name] || looksTyped(name) {
			f.Dialect.Header = false
			f.because("no header, since the first line holds %q", name)
			return
		}
		seen[name] = true
	}
	f.because("the first line names the columns")
}

func looksTyped(value string) bool {
	g := guess{}
	g.add(value)
	return g.best().Kind.String() != "text"
}

// records reads the first few records of a text, for looking at them.
func records(text string, d Dialect, limit int) [][]string {
	var out [][]string
	s := newSplitter(strings.NewReader(text), d)
	for len(out) < limit {
		c, err := s.next(limit)
		for _, r := range c.records {
			if r.fault == nil {
				out = append(out, slices.Clone(fieldsOf(c.data[r.from:r.to], d)))
			}
		}
		if err != nil {
			break
		}
	}
	return out[:min(len(out), limit)]
}

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
