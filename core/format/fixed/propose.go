package fixed

import (
	"fmt"
	"regexp"
	"sort"
	"strings"
	"time"

	"welkin/core/format"
	"welkin/core/schema"
)

// Proposal is a layout found by looking at records, and why.
type Proposal struct {
	Layout Layout   `json:"layout"`
	Why    []string `json:"why" doc:"One sentence a finding."`
}

// Propose proposes a layout for lines of characters: record types where lines of
// different shapes begin with different codes, fields where blanks, digits and
// letters part, with types and signs by what stands in them.
func Propose(lines []string) Proposal {
	var list [][]rune
	for _, l := range lines {
		if strings.TrimSpace(l) != "" {
			list = append(list, []rune(strings.TrimRight(l, "\r\n")))
		}
	}
	p := Proposal{}
	if len(list) == 0 {
		return p
	}
	codes := typeCodes(list)
	if codes == nil {
		p.Layout.Records = []RecordType{{Fields: fieldsOf(list, 0)}}
		p.Why = append(p.Why, fmt.Sprintf("one record type of %d fields, by %d lines", len(p.Layout.Records[0].Fields), len(list)))
		return p
	}
	length := len([]rune(codes[0]))
	p.Layout.Code = &Code{Start: 1, Length: length}
	for _, code := range codes {
		var mine [][]rune
		for _, l := range list {
			if len(l) >= length && string(l[:length]) == code {
				mine = append(mine, l)
			}
		}
		r := RecordType{Name: "type " + strings.TrimSpace(code), Code: strings.TrimRight(code, " "), Fields: fieldsOf(mine, length)}
		p.Layout.Records = append(p.Layout.Records, r)
		p.Why = append(p.Why, fmt.Sprintf("records of %q: %d lines, %d fields", code, len(mine), len(r.Fields)))
	}
	return p
}

// typeCodes finds the codes that lines begin with when their shapes differ by it.
func typeCodes(list [][]rune) []string {
	for length := 1; length <= 4; length++ {
		groups := map[string][][]rune{}
		for _, l := range list {
			if len(l) < length {
				return nil
			}
			groups[string(l[:length])] = append(groups[string(l[:length])], l)
		}
		if len(groups) < 2 {
			continue
		}
		if len(groups) > 12 || len(groups) > len(list)/3 {
			return nil
		}
		var codes []string
		for c := range groups {
			if strings.TrimSpace(c) == "" {
				return nil
			}
			codes = append(codes, c)
		}
		sort.Slice(codes, func(i, k int) bool { // the most frequent first
			a, b := len(groups[codes[i]]), len(groups[codes[k]])
			return a > b || a == b && codes[i] < codes[k]
		})
		differs := 0
		for _, c := range codes[1:] {
			if unlike(groups[codes[0]], groups[c], length) {
				differs++
			}
		}
		if differs*2 >= len(codes)-1 {
			return codes
		}
		return nil
	}
	return nil
}

// fewestAlike is how many lines a group has at least that is taken for a type.
const fewestAlike = 4

// unlike tells whether two groups of lines have other characters at the same places:
// signs where the others have digits, digits where they have letters, and here and
// there nothing at all.
func unlike(a, b [][]rune, from int) bool {
	if len(a) < fewestAlike || len(b) < fewestAlike {
		return false
	}
	pa, pb := profile(a), profile(b)
	other, n := 0, 0
	for i := from; i < max(len(pa), len(pb)); i++ {
		var x, y byte
		if i < len(pa) {
			x = pa[i].class()
		}
		if i < len(pb) {
			y = pb[i].class()
		}
		if x == 0 && y == 0 {
			continue
		}
		n++
		switch {
		case x == y:
		case x == 0 || y == 0:
			other++
		default:
			other += 2
		}
	}
	return other*12 >= n && other > 1
}

// place counts what stands at one place of all lines.
type place struct{ blank, digit, letter, sign, mark, punched, brace, lines int }

// class is 'b' where mostly blanks stand, 'd' digits, 'a' others; 0 for nothing.
func (p place) class() byte {
	switch filled := p.lines - p.blank; {
	case p.lines == 0 || filled == 0:
		return 0
	case p.digit*20 >= filled*19:
		return 'd'
	case p.sign*20 >= filled*19:
		return 's'
	}
	return 'a'
}

func profile(list [][]rune) []place {
	longest := 0
	for _, l := range list {
		longest = max(longest, len(l))
	}
	out := make([]place, longest)
	for _, l := range list {
		for i := range out {
			p := &out[i]
			p.lines++
			if i >= len(l) {
				p.blank++
				continue
			}
			switch c := l[i]; {
			case c == ' ':
				p.blank++
			case c >= '0' && c <= '9':
				p.digit++
			case c == '+' || c == '-':
				p.sign++
			case c == '.' || c == ',' || c == ':' || c == '/':
				p.mark++
			default:
				p.letter++
			}
			if l[i] == '{' || l[i] == '}' {
				p.brace++
			}
			if i < len(l) {
				if _, _, ok := overpunched(l[i]); ok && (l[i] < '0' || l[i] > '9') {
					p.punched++
				}
			}
		}
	}
	return out
}

// fieldsOf finds the fields of lines of one type, from a place on.
func fieldsOf(list [][]rune, from int) []Field {
	places := profile(list)
	var cuts []int // where a field begins
	for i := from; i < len(places); i++ {
		if places[i].class() == 0 {
			continue
		}
		if i == from || begins(list, places, i) {
			cuts = append(cuts, i)
		}
	}
	if len(cuts) > 0 && cuts[0] > from && places[from].class() != 0 {
		cuts = append([]int{from}, cuts...)
	}
	var out []Field
	for k, start := range cuts {
		end := len(places)
		if k+1 < len(cuts) {
			end = cuts[k+1]
		}
		out = append(out, parted(list, places, start, end)...)
	}
	used := map[string]int{}
	for i := range out {
		name := out[i].Name
		if used[name]++; used[name] > 1 {
			out[i].Name = fmt.Sprintf("%s_%d", name, used[name])
		}
	}
	return out
}

// begins tells whether a field begins at a place.
func begins(list [][]rune, places []place, i int) bool {
	before, at := places[i-1].class(), places[i].class()
	switch {
	case before == 0: // blanks stand before in all lines
		return !(at == 'a' && isBetweenWords(list, places, i))
	case i > 1 && places[i-2].class() == 'd' && places[i-1].brace > 0 && endsPunched(places, i-1): // behind a digit that holds a sign
		return true
	case at == 's' && before != 's': // a sign begins a number, unless it ends one
		return i+1 < len(places) && places[i+1].class() == 'd' || places[i+1:min(i+2, len(places))] == nil
	case before == 's':
		return at != 'd' // behind a sign that ended a number
	case before == 'a' && at == 'd' && isCode(places, i), before == 'd' && at == 'a' && endsPunched(places, i), places[i].mark*10 >= (places[i].lines-places[i].blank)*9 && places[i].mark > 0:
		return false
	case before != at && places[i-1].mark*10 < (places[i-1].lines-places[i-1].blank)*9:
		return true
	}
	// Blank before and filled here in many lines, never the other way round where
	// numbers stand to the right: texts that end at many places, and one that begins
	// here in all lines.
	left := 0
	for _, l := range list {
		if i < len(l) && l[i-1] == ' ' && l[i] != ' ' {
			left++
		}
	}
	full := places[i].lines - places[i].blank
	return at == 'a' && full == places[i].lines && left*3 >= len(list) || at == 'd' && before == 'd' && full == places[i].lines && left*2 >= len(list) && places[i-1].blank*2 >= places[i-1].lines
}

// isBetweenWords tells whether the one blank before a place parts words of a text: all
// lines that go on behind it reach up to it, and others are blank from it on.
func isBetweenWords(list [][]rune, places []place, i int) bool {
	if i < 2 || places[i-2].class() != 'a' || places[i].blank == 0 {
		return false
	}
	for _, l := range list {
		if i < len(l) && l[i] != ' ' && l[i-2] == ' ' {
			return false
		}
	}
	return true
}

// isCode tells whether digits go on a code such as H01: a few letters stand before
// them in all lines, and few digits follow.
func isCode(places []place, i int) bool {
	letters, digits := 0, 0
	for k := i - 1; k >= 0 && places[k].class() == 'a'; k-- {
		if letters++; places[k].blank > 0 || places[k].mark > 0 {
			return false
		}
	}
	for k := i; k < len(places) && places[k].class() == 'd'; k++ {
		digits++
	}
	return letters >= 1 && letters <= 2 && (digits <= 4 || digits >= 10) // with a day behind it, which is parted later
}

// endsPunched tells whether the place holds last digits with signs in them, and not
// the first letters of a text.
func endsPunched(places []place, i int) bool {
	p := places[i]
	filled := p.lines - p.blank
	if p.punched == 0 || p.punched+p.digit < filled {
		return false
	}
	return i+1 >= len(places) || places[i+1].letter*2 < filled || p.digit > 0 || p.brace > 0
}

var dateShapes = []struct {
	form  string
	shape *regexp.Regexp
	kind  schema.Kind
}{
	{"YYYYMMDDHH24MISS", regexp.MustCompile(`^\d{14}$`), schema.Timestamp},
	{"YYYYMMDDHH24MI", regexp.MustCompile(`^\d{12}$`), schema.Timestamp},
	{"YYYYMMDD", regexp.MustCompile(`^\d{8}$`), schema.Date},
	{"DDMMYYYY", regexp.MustCompile(`^\d{8}$`), schema.Date},
	{"DD.MM.YYYY", regexp.MustCompile(`^\d\d\.\d\d\.\d{4}$`), schema.Date},
	{"YYMMDD", regexp.MustCompile(`^\d{6}$`), schema.Date},
	{"HH24MISS", regexp.MustCompile(`^\d{6}$`), schema.Time},
	{"HH24:MI", regexp.MustCompile(`^\d\d:\d\d$`), schema.Time},
	{"HH24MI", regexp.MustCompile(`^\d{4}$`), schema.Time},
}

// parted makes one field of a stretch, or several where a long run of digits begins
// with a day.
func parted(list [][]rune, places []place, start, end int) []Field {
	last := end
	for last > start && places[last-1].class() == 0 {
		last--
	}
	values := valuesAt(list, start, last)
	f := Field{Start: start + 1, Length: last - start}
	if form, kind, ok := dated(values, start, last); ok {
		f.Dates, f.Type, f.Name = form, schema.Of(kind), map[schema.Kind]string{schema.Date: "day", schema.Time: "time", schema.Timestamp: "at"}[kind]
		return []Field{f}
	}
	if lead := codeLength(values); lead > 0 { // a code such as H01, and a day right behind it
		for _, digits := range []int{2, 3, 4, 1} {
			at := start + lead + digits
			for _, length := range []int{14, 12, 8} {
				if at+length > last {
					continue
				}
				if _, kind, ok := dated(valuesAt(list, at, at+length), at, at+length); ok && kind != schema.Time {
					f.Length, f.Name, f.Type = lead+digits, fmt.Sprintf("field_%d", f.Start), schema.Of(schema.Text)
					return append([]Field{f}, parted(list, places, at, end)...)
				}
			}
		}
	}
	if digitsButLast(values) && f.Length > 8 { // a day, and what follows
		for _, length := range []int{14, 12, 8} {
			if f.Length <= length {
				continue
			}
			if form, kind, ok := dated(valuesAt(list, start, start+length), start, start+length); ok && kind != schema.Time {
				day := Field{Start: f.Start, Length: length, Dates: form, Type: schema.Of(kind), Name: map[schema.Kind]string{schema.Date: "day", schema.Timestamp: "at"}[kind]}
				return append([]Field{day}, parted(list, places, start+length, end)...)
			}
		}
	}
	f.Name = fmt.Sprintf("field_%d", f.Start)
	f.typed(values)
	return []Field{f}
}

func valuesAt(list [][]rune, start, end int) []string {
	var out []string
	for _, l := range list {
		if v := strings.TrimSpace(string(l[min(start, len(l)):min(end, len(l))])); v != "" {
			out = append(out, v)
		}
	}
	return out
}

// codeLength tells how many letters all values begin with when nothing but digits
// follows; 0 when they are no such codes.
func codeLength(values []string) int {
	n := 0
	for i, v := range values {
		letters := len(v) - len(strings.TrimLeft(v, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"))
		if i == 0 {
			n = letters
		}
		if letters != n || len(v) < n+2 || strings.Trim(v[letters:len(v)-1], "0123456789") != "" { // the last may hold a sign
			return 0
		}
	}
	return n
}

// digitsButLast tells whether values are digits, of which the last may hold a sign.
func digitsButLast(values []string) bool {
	for _, v := range values {
		if strings.Trim(v[:len(v)-1], "0123456789") != "" {
			return false
		}
	}
	return len(values) > 0
}

// dated tells whether all values are days or times of one form, likely ones.
func dated(values []string, start, end int) (form string, kind schema.Kind, ok bool) {
	for _, d := range dateShapes {
		layout := datePieces.Replace(d.form)
		if len(layout) != end-start || len(values) == 0 {
			continue
		}
		good, zeros, distinct := 0, 0, map[string]bool{}
		for _, v := range values {
			if strings.Trim(v, "0") == "" && d.kind != schema.Time {
				zeros++
				continue
			}
			at, err := time.Parse(layout, v)
			if err == nil && d.shape.MatchString(v) && (d.kind == schema.Time || at.Year() >= 1950 && at.Year() <= 2070) {
				good++
				distinct[v] = true
			}
		}
		if good+zeros < len(values) || good == 0 {
			continue
		}
		if d.kind == schema.Time && !strings.Contains(d.form, ":") && (len(values) < 8 || len(distinct) < 3 || !lateHours(distinct)) {
			continue
		}
		if d.form == "YYMMDD" && len(values) < 3 {
			continue
		}
		return d.form, d.kind, true
	}
	return "", 0, false
}

// lateHours tells whether some of the times lie behind noon: else they may be small
// numbers.
func lateHours(values map[string]bool) bool {
	for v := range values {
		if v >= "12" {
			return true
		}
	}
	return false
}

var trailingSign = regexp.MustCompile(`^\s*\d+[-+]$`)
var leadingSign = regexp.MustCompile(`^\s*[-+] *\d+$`)

// typed finds a field's type and sign.
func (f *Field) typed(values []string) {
	guess := format.Guess{}
	leading, trailing, punched, digits := 0, 0, 0, 0
	zeros := 0
	for _, v := range values {
		guess.Add(v)
		switch {
		case leadingSign.MatchString(v):
			leading++
		case trailingSign.MatchString(v):
			trailing++
		case strings.Trim(v, "0123456789") == "":
			digits++
		case strings.Trim(v[:len(v)-1], "0123456789") == "" && len(v) > 1:
			if _, _, ok := overpunched(rune(v[len(v)-1])); ok {
				punched++
			}
		}
		if len(v) > 1 && v[0] == '0' {
			zeros++
		}
	}
	whole := schema.Of(schema.Int)
	if f.Length > 18 {
		whole = schema.DecimalOf(schema.MaxPrecision, 0)
	}
	switch n := len(values); {
	case n == 0:
		f.Type = schema.Of(schema.Text)
	case trailing > 0 && trailing+digits == n:
		f.Type, f.Sign = whole, SignTrailing
	case leading > 0 && leading+digits == n && (leading == n || zeros > 0):
		f.Type, f.Sign = whole, SignLeading
	case punched > 0 && punched+digits == n && punched*10 >= n:
		f.Type, f.Sign = whole, SignOverpunch
	case digits == n && zeros > 0 && f.Length > 2: // filled up with zeros: a number or a code
		f.Type, f.Fill = whole, "0"
	case digits == n:
		f.Type = whole
	default:
		f.Type = guess.Type()
	}
}
