package fixed

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"welkin/core/schema"
)

// entry is one data description of a copybook.
type entry struct {
	level            int
	name             string
	picture, usage   string
	redefines        string
	occurs           int
	leading, apart   bool
	inside           []*entry
	line             int
	digits, decimals int
	signed, text     bool
	characters       int
}

// Copybook reads a layout from a COBOL copybook: level numbers, PIC, USAGE DISPLAY,
// COMP, BINARY and COMP-3, SIGN, OCCURS with a fixed number, REDEFINES (the first
// description is taken). Each level 01 is a record type; several share their place.
// The notes say what was left out.
func Copybook(text string) (l Layout, notes []string, err error) {
	sentences, lines := sentencesOf(text)
	var tops []*entry
	var path []*entry
	for i, s := range sentences {
		e, err := readEntry(s, lines[i])
		if err != nil {
			return l, nil, err
		}
		if e == nil {
			continue
		}
		for len(path) > 0 && path[len(path)-1].level >= e.level {
			path = path[:len(path)-1]
		}
		if len(path) == 0 {
			if e.level != 1 && len(tops) == 0 && e.picture != "" { // fields without a record around them
				tops = append(tops, &entry{level: 1, name: "record"})
			}
			if len(tops) > 0 && tops[0].level == 1 && e.level > 1 && tops[len(tops)-1].name == "record" {
				path = append(path, tops[len(tops)-1])
			} else {
				tops = append(tops, e)
				path = append(path, e)
				continue
			}
		}
		parent := path[len(path)-1]
		if parent.picture != "" {
			return l, nil, fmt.Errorf("line %d: %s stands below %s, which has a PIC", e.line, e.name, parent.name)
		}
		parent.inside = append(parent.inside, e)
		path = append(path, e)
	}
	if len(tops) == 0 {
		return l, nil, fmt.Errorf("no data description was found; they begin with a level number, such as 05 HUT PIC X(4)")
	}
	bytewise := false
	for _, top := range tops {
		c := &copier{used: map[string]int{}}
		if _, err := c.place(top, 1, ""); err != nil {
			return l, nil, err
		}
		if len(c.fields) == 0 {
			return l, nil, fmt.Errorf("line %d: %s has no field with a PIC", top.line, top.name)
		}
		r := RecordType{Fields: c.fields}
		if len(tops) > 1 {
			r.Name, r.Code = strings.ToLower(strings.ReplaceAll(top.name, "-", "_")), fmt.Sprint(len(l.Records)+1)
		}
		l.Records = append(l.Records, r)
		notes = append(notes, c.notes...)
		bytewise = bytewise || c.bytewise
		l.Length = max(l.Length, c.length)
	}
	if len(tops) > 1 {
		l.Code = &Code{Start: 1, Length: 1}
		notes = append(notes, "there are several record types: say where their code stands, and what it is for each")
	}
	if bytewise {
		l.Encoding = EBCDIC
		notes = append(notes, fmt.Sprintf("packed or binary fields were found, so records have %d bytes and are read as EBCDIC; change the encoding if they are not", l.Length))
	} else {
		l.Length = 0
	}
	return l, notes, l.Validate()
}

// sentencesOf parts a copybook at its points, without comments and the numbers in
// columns 1 to 6.
func sentencesOf(text string) (sentences []string, lines []int) {
	var current strings.Builder
	begin := 0
	for n, line := range strings.Split(strings.ReplaceAll(text, "\r", ""), "\n") {
		if sequence.MatchString(line) {
			line = "      " + line[6:]
		}
		if len(line) > 6 && strings.TrimSpace(line[:6]) == "" && (line[6] == '*' || line[6] == '/') || strings.HasPrefix(strings.TrimSpace(line), "*") {
			continue
		}
		if len(line) > 72 {
			line = line[:72]
		}
		for _, word := range strings.Fields(line) {
			if current.Len() == 0 {
				begin = n + 1
			}
			if end, ok := strings.CutSuffix(word, "."); ok {
				current.WriteString(" " + end)
				sentences, lines = append(sentences, strings.TrimSpace(current.String())), append(lines, begin)
				current.Reset()
				continue
			}
			current.WriteString(" " + word)
		}
	}
	if rest := strings.TrimSpace(current.String()); rest != "" {
		sentences, lines = append(sentences, rest), append(lines, begin)
	}
	return sentences, lines
}

var (
	sequence = regexp.MustCompile(`^\d{6}[ */-]`)
	repeated = regexp.MustCompile(`(.)\((\d+)\)`)
)

// readEntry reads one description; nil for those that are no data.
func readEntry(sentence string, line int) (*entry, error) {
	words := strings.Fields(strings.ToUpper(sentence))
	if len(words) == 0 {
		return nil, nil
	}
	level, err := strconv.Atoi(words[0])
	if err != nil {
		if words[0] == "COPY" || words[0] == "EJECT" || strings.HasPrefix(words[0], "SKIP") {
			return nil, nil
		}
		return nil, fmt.Errorf("line %d: %q is no data description; they begin with a level number", line, sentence)
	}
	if level == 88 || level == 66 || level == 77 && len(words) < 2 {
		return nil, nil
	}
	e := &entry{level: level, name: "FILLER", line: line, occurs: 1}
	rest := words[1:]
	clauses := map[string]bool{"PIC": true, "PICTURE": true, "REDEFINES": true, "OCCURS": true, "USAGE": true, "COMP": true, "COMP-3": true, "COMP-4": true, "BINARY": true, "PACKED-DECIMAL": true, "SIGN": true, "VALUE": true, "DISPLAY": true}
	if len(rest) > 0 && !clauses[rest[0]] {
		e.name, rest = rest[0], rest[1:]
	}
	for i := 0; i < len(rest); i++ {
		next := func() string {
			if i+1 < len(rest) {
				i++
				return rest[i]
			}
			return ""
		}
		switch w := rest[i]; w {
		case "PIC", "PICTURE":
			if e.picture = next(); e.picture == "IS" {
				e.picture = next()
			}
		case "REDEFINES":
			e.redefines = next()
		case "OCCURS":
			n, err := strconv.Atoi(next())
			if err != nil || n < 1 || n > 1000 {
				return nil, fmt.Errorf("line %d: OCCURS needs a number from 1 to 1000", line)
			}
			e.occurs = n
		case "DEPENDING":
			return nil, fmt.Errorf("line %d: OCCURS … DEPENDING makes records of different lengths, which a layout can't hold", line)
		case "COMP", "COMP-4", "COMP-5", "BINARY", "COMPUTATIONAL":
			e.usage = StoreBinary
		case "COMP-3", "COMPUTATIONAL-3", "PACKED-DECIMAL":
			e.usage = StorePacked
		case "COMP-1", "COMP-2":
			return nil, fmt.Errorf("line %d: %s is a floating number of IBM's form, which a layout can't hold", line, w)
		case "LEADING":
			e.leading = true
		case "SEPARATE":
			e.apart = true
		case "VALUE", "VALUES":
			next()
		}
	}
	return e, e.pictured()
}

// pictured reads the picture.
func (e *entry) pictured() error {
	if e.picture == "" {
		return nil
	}
	var n int
	long := repeated.ReplaceAllStringFunc(e.picture, func(m string) string {
		parts := repeated.FindStringSubmatch(m)
		count, _ := strconv.Atoi(parts[2])
		if n += count; count > MaxLine || n > MaxLine {
			return "?"
		}
		return strings.Repeat(parts[1], count)
	})
	point := false
	for _, c := range long {
		switch c {
		case 'X', 'A':
			e.text = true
			e.characters++
		case '9':
			e.digits++
			if point {
				e.decimals++
			}
		case 'S':
			e.signed = true
		case 'V':
			point = true
		case 'Z', '*', ',', '.', '-', '+', 'B', '/', '0', '$': // edited for people: read as a text
			e.text = true
			e.characters++
		default:
			return fmt.Errorf("line %d: the PIC %s of %s can't be read", e.line, e.picture, e.name)
		}
	}
	if e.text {
		e.characters += e.digits
	}
	return nil
}

// copier gives places to the fields of one record.
type copier struct {
	fields   []Field
	used     map[string]int
	notes    []string
	bytewise bool
	length   int
}

// place puts an entry at a start and gives the place behind it.
func (c *copier) place(e *entry, start int, suffix string) (int, error) {
	at := start
	for n := 1; n <= e.occurs; n++ {
		inner := suffix
		if e.occurs > 1 {
			inner += fmt.Sprintf("_%d", n)
		}
		if e.picture != "" {
			f := e.field(at, inner)
			if f.Store != "" {
				c.bytewise = true
			}
			at = f.End()
			if e.name != "FILLER" {
				if c.used[f.Name]++; c.used[f.Name] > 1 {
					f.Name = fmt.Sprintf("%s_%d", f.Name, c.used[f.Name])
				}
				if c.fields = append(c.fields, f); len(c.fields) > MostFields {
					return 0, fmt.Errorf("the record has more than %d fields", MostFields)
				}
			}
			continue
		}
		for _, child := range e.inside {
			if child.redefines != "" {
				c.notes = append(c.notes, fmt.Sprintf("%s describes the place of %s once more and is left out", child.name, child.redefines))
				continue
			}
			var err error
			if at, err = c.place(child, at, inner); err != nil {
				return 0, err
			}
		}
	}
	if at > MaxLine {
		return 0, fmt.Errorf("the record has more than %d bytes", MaxLine)
	}
	c.length = max(c.length, at-1)
	return at, nil
}

func (e *entry) field(start int, suffix string) Field {
	f := Field{Name: strings.ToLower(strings.ReplaceAll(e.name, "-", "_")) + suffix, Start: start}
	if e.text {
		f.Length, f.Type = max(e.characters, 1), schema.Of(schema.Text)
		return f
	}
	f.Scale, f.Type = e.decimals, schema.Of(schema.Int)
	if e.decimals > 0 || e.digits > 18 {
		f.Type = schema.DecimalOf(max(e.digits, e.decimals), e.decimals)
	}
	switch e.usage {
	case StorePacked:
		f.Store, f.Length = StorePacked, e.digits/2+1
		return f
	case StoreBinary:
		f.Store = StoreBinary
		switch {
		case e.digits <= 4:
			f.Length = 2
		case e.digits <= 9:
			f.Length = 4
		default:
			f.Length = 8
		}
		return f
	}
	f.Length = max(e.digits, 1)
	f.Fill = "0"
	if e.signed {
		switch {
		case e.apart && e.leading:
			f.Sign, f.Length = SignLeading, f.Length+1
		case e.apart:
			f.Sign, f.Length = SignTrailing, f.Length+1
		case e.leading:
			f.Sign = SignLeadingOverpunch
		default:
			f.Sign = SignOverpunch
		}
	}
	return f
}
