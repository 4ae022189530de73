package csv

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/wlynxg/chardet"

	"welkin/core/format"
	"welkin/core/schema"
)

// Found is what was found out about a file, and why.
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
	f.findComment(text)
	f.findDelimiter(text)
	f.findSkipped(text, whole)
	f.findHeader(text)
	f.findMarks(text)
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

// delimiters that are tried, the likeliest first.
var delimiters = []string{",", ";", `\t`, "|", "~", "^", ":"}

var delimiterNames = map[string]string{",": "comma", ";": "semicolon", `\t`: "tab", "|": "bar", "~": "tilde", "^": "caret", ":": "colon"}

// findDelimiter takes the delimiter that gives the most lines the same number
// of values, more than one. Of several that do so it takes the one that gives more
// values, unless it is one that stands in texts.
func (f *Found) findDelimiter(text string) {
	bestScore, share := 0.0, 0.0
	for i, candidate := range delimiters {
		d := f.Dialect
		d.Delimiter, d.Quote = candidate, `"`
		fields, same := usual(records(text, d, 300))
		if fields < 2 {
			continue
		}
		score := same*20 + float64(min(fields, 50))/50
		if i >= 4 { // these stand in times and texts too
			score /= 2
		}
		if score > bestScore {
			bestScore, share = score, same
			f.Dialect.Delimiter = candidate
		}
	}
	if bestScore < 5 {
		f.Dialect.Delimiter = ","
		f.because("one value a line; no delimiter was seen")
		return
	}
	f.because("values parted by %s, as in %.0f %% of the lines", delimiterNames[f.Dialect.Delimiter], share*100)
}

// usual gives the number of values that most records have, and their share.
func usual(list [][]string) (fields int, share float64) {
	counts := map[int]int{}
	for _, rec := range list {
		counts[len(rec)]++
		if n := counts[len(rec)]; n > counts[fields] || n == counts[fields] && len(rec) > fields {
			fields = len(rec)
		}
	}
	return fields, float64(counts[fields]) / float64(max(len(list), 1))
}

// findComment takes # for a comment when lines begin with it that hold no more
// than words, at the top or in several places.
func (f *Found) findComment(text string) {
	for _, mark := range []string{"#", "%"} {
		n, first := 0, false
		lines := strings.SplitN(text, "\n", 300)
		for i, line := range lines {
			if strings.HasPrefix(line, mark) {
				n++
				first = first || i == 0
			}
		}
		if n == 0 || n > len(lines)/2 || !first && n < 2 {
			continue
		}
		if n == 1 && !strings.HasPrefix(text, mark+" ") { // a heading such as #;name
			continue
		}
		f.Dialect.Comment = mark
		f.because("lines that begin with %s are comments", mark)
		return
	}
}

// findSkipped finds lines at the top and at the end that have not as many values
// as the others.
func (f *Found) findSkipped(text string, whole bool) {
	recs := recordsAt(text, f.Dialect, 300)
	fields, share := usual(values(recs))
	if fields < 2 || share < 0.5 || len(recs) < 4 {
		return
	}
	top := 0
	for top < len(recs) && top < 50 && filled(recs[top].values) < 2 && len(recs[top].values) < fields {
		top++
	}
	for top > 0 && top < len(recs) && len(recs[top].values) != fields {
		top++
	}
	if top > 0 && top < len(recs) {
		f.Dialect.Skip = int(recs[top].line) - 1
		f.because("the first %s no rows: only from line %d on there are %d values", lines(f.Dialect.Skip), recs[top].line, fields)
	}
	if !whole || len(recs) == 300 {
		return
	}
	n := 0 // a line that is only short may be a row that lost something: it is set aside
	for n < 5 && n < len(recs)-top-2 && total.MatchString(strings.TrimSpace(recs[len(recs)-1-n].values[0])) {
		n++
	}
	if n > 0 {
		f.Dialect.Trailer = n
		f.because("the last %s no rows, as %q", lines(n), recs[len(recs)-n].values[0])
	}
}

// total is how a line of sums or the end of a file is called.
var total = regexp.MustCompile(`(?i)^(grand )?(totals?|sums?|summe|gesamt|end of (file|report|list)|eof|\*+ ?end.*|records?: ?\d+|rows?: ?\d+|count: ?\d+)\b:?`)

func lines(n int) string {
	if n == 1 {
		return "line is"
	}
	return fmt.Sprintf("%d lines are", n)
}

func values(recs []placed) [][]string {
	out := make([][]string, len(recs))
	for i, r := range recs {
		out[i] = r.values
	}
	return out
}

// filled counts the values that are not blank.
func filled(values []string) int {
	n := 0
	for _, v := range values {
		if strings.TrimSpace(v) != "" {
			n++
		}
	}
	return n
}

// findHeader finds whether the first line, or the first few, name the columns: they
// hold no numbers, and what stands below them differs.
func (f *Found) findHeader(text string) {
	recs := records(text, f.Dialect, 60)
	if len(recs) == 0 {
		return
	}
	if n := mergedHeader(recs); n > 1 {
		f.Dialect.Lines = n
		f.because("the first %d lines name the columns: headings stand above others", n)
		return
	}
	first := recs[0]
	seen := map[string]bool{}
	for i, name := range first {
		name = strings.TrimSpace(name)
		switch {
		case name == "" && (i == 0 || i == len(first)-1) && len(first) > 1: // a column of row names, or a delimiter at the end
			continue
		case name == "" || seen[name] || looksTyped(name) && !(year.MatchString(name) && i > 0):
			f.Dialect.Header = false
			f.because("no header, since the first line holds %q", name)
			return
		}
		seen[name] = true
	}
	if rest := recs[1:]; len(rest) >= 3 && likeRows(first, rest) {
		f.Dialect.Header = false
		f.because("no header, since the first line looks as those below it")
		return
	}
	f.because("the first line names the columns")
}

var year = regexp.MustCompile(`^(19|20)\d\d$`)

// mergedHeader tells how many lines of headings there are where those above are
// gaps that go on from their left, as where cells of a sheet were merged.
func mergedHeader(recs [][]string) int {
	if len(recs) < 3 || len(recs[0]) < 4 {
		return 1
	}
	gaps := 0
	for i, v := range recs[0] {
		if strings.TrimSpace(v) == "" && i > 0 {
			gaps++
		} else if looksTyped(v) && !year.MatchString(strings.TrimSpace(v)) {
			return 1
		}
	}
	if gaps*3 < len(recs[0]) || len(recs[1]) != len(recs[0]) || filled(recs[1])*4 < 3*len(recs[1]) {
		return 1
	}
	typed := 0
	for _, v := range recs[1] {
		if looksTyped(v) && !year.MatchString(strings.TrimSpace(v)) {
			return 1
		}
	}
	for _, v := range recs[2] {
		if looksTyped(v) {
			typed++
		}
	}
	if typed == 0 {
		return 1
	}
	return 2
}

// likeRows tells whether the first line has the shape of the lines below in columns
// whose shape hardly changes: letters and digits in the same places.
func likeRows(first []string, rest [][]string) bool {
	alike, other := 0, 0
	for i, v := range first {
		shapes := map[string]int{}
		repeated, most, n := false, 0, 0
		for _, rec := range rest {
			if i < len(rec) && rec[i] != "" {
				n++
				shapes[shapeOf(rec[i])]++
				most = max(most, shapes[shapeOf(rec[i])])
				repeated = repeated || rec[i] == v
			}
		}
		switch digits := strings.ContainsAny(v, "0123456789"); {
		case n < 3:
		case repeated, most*10 >= n*9 && digits && shapes[shapeOf(v)] > 0:
			alike++
		case most*10 >= n*9 && shapes[shapeOf(v)] == 0:
			other++
		}
	}
	return alike > other
}

// shapeOf writes 9 for digits and x for letters, runs of them once.
func shapeOf(v string) string {
	var out []byte
	for i := range len(v) {
		c := v[i]
		switch {
		case c >= '0' && c <= '9':
			c = '9'
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= 0x80:
			c = 'x'
		}
		if len(out) == 0 || out[len(out)-1] != c || c != '9' && c != 'x' {
			out = append(out, c)
		}
	}
	return string(out)
}

var (
	commaNumber  = regexp.MustCompile(`^[-+]?\d+,\d+$`)
	dottedNumber = regexp.MustCompile(`^[-+]?\d{1,3}(\.\d{3})+(,\d+)?$`)
	commaGroups  = regexp.MustCompile(`^[-+]?\d{1,3}(,\d{3})+(\.\d+)?$`)
	plainNumber  = regexp.MustCompile(`^[-+]?\d+$`)
	blankGroups  = regexp.MustCompile("^[-+]?\\d{1,3}([ \u00a0\u202f']\\d{3})+([.,]\\d+)?$")
)

// findMarks finds how numbers and dates are written, by columns that can be read in
// one way only.
func (f *Found) findMarks(text string) {
	recs := records(text, f.Dialect, 2000)
	recs = recs[min(f.Dialect.headerLines(), len(recs)):]
	columns := 0
	for _, r := range recs {
		columns = max(columns, len(r))
	}
	dates := map[string]int{}
	for c := range columns {
		var column []string
		for _, r := range recs {
			if c < len(r) && strings.TrimSpace(r[c]) != "" {
				column = append(column, strings.TrimSpace(r[c]))
			}
		}
		if len(column) == 0 {
			continue
		}
		f.numberMarks(column)
		for _, form := range dateForms {
			if readsAll(form, column) {
				dates[form]++
				break
			}
		}
	}
	best := ""
	for _, form := range dateForms {
		if dates[form] > dates[best] {
			best = form
		}
	}
	if best != "" {
		f.Dialect.Dates = best
		f.because("dates are written %s", best)
	}
	if f.Dialect.Decimal != "" {
		f.because("numbers have a decimal %s", map[string]string{",": "comma", ".": "point"}[f.Dialect.Decimal])
	}
	if f.Dialect.Thousands != "" {
		f.because("thousands are parted by %q", f.Dialect.Thousands)
	}
}

// numberMarks takes a column's marks when all its values are numbers with them.
func (f *Found) numberMarks(column []string) {
	comma, dotted, groups, blank, other := 0, 0, 0, 0, 0
	mark := ""
	for _, v := range column {
		switch {
		case plainNumber.MatchString(v):
		case dottedNumber.MatchString(v) && (strings.Contains(v, ",") || strings.Count(v, ".") > 1):
			dotted++
		case commaGroups.MatchString(v) && (strings.Contains(v, ".") || strings.Count(v, ",") > 1):
			groups++
		case commaNumber.MatchString(v):
			comma++
		case dottedNumber.MatchString(v): // 1.234 may be either
		case blankGroups.MatchString(v):
			blank++
			mark = string([]rune(strings.TrimLeft(v, "+-0123456789"))[:1])
		default:
			other++
		}
	}
	switch {
	case other > 0:
	case groups > 0 && dotted == 0:
		f.Dialect.Thousands, f.Dialect.Decimal = ",", ""
	case dotted > 0:
		f.Dialect.Decimal, f.Dialect.Thousands = ",", "."
	case blank > 0:
		f.Dialect.Thousands = mark
		if comma > 0 {
			f.Dialect.Decimal = ","
		}
		for _, v := range column {
			if strings.Contains(v, ",") {
				f.Dialect.Decimal = ","
			}
		}
	case comma > 0 && f.Dialect.Thousands != ",":
		f.Dialect.Decimal = ","
	}
}

func looksTyped(value string) bool {
	g := format.Guess{}
	g.Add(value)
	return g.Type().Kind != schema.Text
}
