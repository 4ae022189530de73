package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"

	"welkin/core/batch"
	"welkin/core/format/csv"
	"welkin/core/format/fixed"
	"welkin/core/format/form"
	"welkin/core/format/jsondoc"
	"welkin/core/paging"
	"welkin/core/schema"
)

// difficulty is one thing that is found by itself: attempt makes a file or an API by
// chance and tells whether it was found right, and what it was.
type difficulty struct {
	name    string
	attempt func(r *rand.Rand) (hit bool, about string)
}

var difficulties = []difficulty{
	{"delimiter", func(r *rand.Rand) (bool, string) {
		f := someFile(r)
		return f.found().Dialect.Delimiter == f.delimiter, f.text
	}},
	{"encoding", encodingFound},
	{"header or none", func(r *rand.Rand) (bool, string) {
		f := someFile(r)
		f.header = r.IntN(2) == 0
		return f.found().Dialect.Header == f.header, f.text
	}},
	{"types", typesFound},
	{"decimal comma, thousands", func(r *rand.Rand) (bool, string) {
		f := someFile(r)
		f.delimiter, f.decimal, f.thousands = ";", ",", pick(r, []string{"", ".", " "})
		d := f.found().Dialect
		return d.Decimal == "," && (d.Thousands == f.thousands || !strings.Contains(f.text, f.thousands)), f.text
	}},
	{"form of dates", func(r *rand.Rand) (bool, string) {
		f := someFile(r)
		f.dates = pick(r, []string{"02.01.2006", "02/01/2006", "01/02/2006", "02-01-2006", "2 Jan 2006"})
		want := map[string]string{"02.01.2006": "DD.MM.YYYY", "02/01/2006": "DD/MM/YYYY", "01/02/2006": "MM/DD/YYYY", "02-01-2006": "DD-MM-YYYY", "2 Jan 2006": "DD Mon YYYY"}
		return f.found().Dialect.Dates == want[f.dates], f.text
	}},
	{"lines before the header", func(r *rand.Rand) (bool, string) {
		f := someFile(r)
		for range 1 + r.IntN(4) {
			f.before += pick(r, []string{"Larkfell Hut Association\n", "printed 23 November 2026\n", "\n", "Occupancy by hut\n", "all figures in nights\n"})
		}
		return f.reads(), f.text
	}},
	{"totals at the end", func(r *rand.Rand) (bool, string) {
		f := someFile(r)
		f.behind = pick(r, []string{"Total", "Sum", "TOTAL:", "Grand total"}) + strings.Repeat(f.separator(), len(f.columns)-2) + f.separator() + "99\n"
		return f.reads(), f.text
	}},
	{"comments", func(r *rand.Rand) (bool, string) {
		f := someFile(r)
		f.before = "# made by hand\n"
		f.comment = true
		return f.reads(), f.text
	}},
	{"where JSON's records stand", recordsFound},
	{"format of a file", formatFound},
	{"paging of an API", pagingFound},
	{"fields of fixed width", layoutFound},
}

// finding prints how often what is found by itself is right, by kind of difficulty, on
// files and APIs made from a seed.
func finding(w io.Writer, seed uint64, attempts int) (worst float64) {
	fmt.Fprintf(w, "\nfound by itself, %d attempts each, seed %d\n", attempts, seed)
	all, hits := 0, 0
	worst = 1
	for i, d := range difficulties {
		r := rand.New(rand.NewPCG(seed, uint64(i)))
		n, missed := 0, ""
		for range attempts {
			hit, about := d.attempt(r)
			if hit {
				n++
			} else if missed == "" {
				missed = about
			}
		}
		all, hits = all+attempts, hits+n
		worst = min(worst, float64(n)/float64(attempts))
		fmt.Fprintf(w, "%-28s %6.1f %%", d.name, 100*float64(n)/float64(attempts))
		if missed != "" {
			fmt.Fprintf(w, "   missed: %.150q", missed)
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintf(w, "%-28s %6.1f %%\n", "all", 100*float64(hits)/float64(all))
	return worst
}

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

// file is delimited text that is made up.
type file struct {
	r                                            *rand.Rand
	columns                                      []string
	kinds                                        []string
	rows                                         [][]string
	delimiter, decimal, thousands, dates, before string
	behind, text                                 string
	header, comment                              bool
}

var headings = []string{"hut", "day", "water level", "walkers", "remark", "guest", "price", "code", "district", "beds", "Name", "No.", "since", "town", "amount"}

func someFile(r *rand.Rand) *file {
	f := &file{r: r, delimiter: pick(r, []string{",", ";", `\t`, "|"}), header: true, dates: "2006-01-02"}
	order := r.Perm(len(headings))
	for i := range 3 + r.IntN(6) {
		f.columns = append(f.columns, headings[order[i]])
		f.kinds = append(f.kinds, pick(r, []string{"text", "int", "decimal", "date", "code"}))
	}
	f.kinds[0], f.kinds[1], f.kinds[2] = "code", "decimal", "date"
	return f
}

func (f *file) separator() string {
	if f.delimiter == `\t` {
		return "\t"
	}
	return f.delimiter
}

func (f *file) value(kind string) string {
	r := f.r
	switch kind {
	case "int":
		return strconv.Itoa(r.IntN(900))
	case "decimal":
		whole := strconv.Itoa(1 + r.IntN(900))
		if f.thousands != "" && r.IntN(2) == 0 {
			whole += f.thousands + fmt.Sprintf("%03d", r.IntN(1000))
		}
		return whole + orPoint(f.decimal) + fmt.Sprintf("%02d", r.IntN(100))
	case "date":
		return day(r).Format(f.dates)
	case "code":
		return fmt.Sprintf("H%02d", r.IntN(48))
	}
	return pick(r, []string{"snow, path marked anew", "clear", "two walkers late; both well", "fog until noon", "", "said \"back on Sunday\"", "pump frozen\nthawed by ten"})
}

func orPoint(mark string) string {
	if mark == "" {
		return "."
	}
	return mark
}

// write makes the text.
func (f *file) write() {
	var out strings.Builder
	cell := func(v string) string {
		if strings.ContainsAny(v, "\"\n"+f.separator()) || f.r.IntN(30) == 0 {
			return `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
		}
		return v
	}
	line := func(values []string) {
		for i, v := range values {
			if i > 0 {
				out.WriteString(f.separator())
			}
			out.WriteString(cell(v))
		}
		out.WriteByte('\n')
	}
	out.WriteString(f.before)
	if f.header {
		line(f.columns)
	}
	f.rows = nil
	for i := range 8 + f.r.IntN(60) {
		var row []string
		for _, k := range f.kinds {
			row = append(row, f.value(k))
		}
		f.rows = append(f.rows, row)
		line(row)
		if f.comment && i == 3 {
			out.WriteString("# counted twice\n")
		}
	}
	out.WriteString(f.behind)
	f.text = out.String()
}

func (f *file) found() csv.Found {
	f.write()
	return csv.Sniff([]byte(f.text), true)
}

// reads tells whether as many rows come as were made, with their first values.
func (f *file) reads() bool {
	found := f.found()
	s, err := csv.Infer([]byte(f.text), true, found.Dialect)
	if err != nil || !slices.Equal(s.Names(), f.columns) {
		return false
	}
	r, err := csv.Open(context.Background(), strings.NewReader(f.text), csv.Options{Dialect: found.Dialect, Schema: s})
	if err != nil {
		return false
	}
	defer r.Close()
	n := 0
	for {
		c, err := r.Next(context.Background())
		if err != nil {
			return n == len(f.rows)
		}
		if n += c.Batch.N; len(c.Refused) > 0 {
			return false
		}
	}
}

func encodingFound(r *rand.Rand) (bool, string) {
	f := someFile(r)
	f.kinds = append(f.kinds, "name")
	f.columns = append(f.columns, "place")
	f.write()
	text := strings.ReplaceAll(f.text, "clear", "Høyt på fjellet – «klart»")
	text += strings.Repeat(strings.Join(slices.Repeat([]string{"Blåfjell"}, len(f.columns)), f.separator())+"\n", 4)
	switch r.IntN(4) {
	case 0:
		return csv.Sniff([]byte(text), true).Dialect.Encoding == "utf-8", text
	case 1:
		return csv.Sniff([]byte("\xef\xbb\xbf"+text), true).Dialect.Encoding == "utf-8", text
	case 2:
		wide := []byte{0xff, 0xfe}
		for _, c := range text {
			wide = append(wide, byte(c), byte(c>>8))
		}
		return csv.Sniff(wide, true).Dialect.Encoding == "utf-16le", text
	}
	western, err := charmap.Windows1252.NewEncoder().Bytes([]byte(text))
	found := csv.Sniff(western, true).Dialect.Encoding // all of these read such letters alike
	return err == nil && slices.Contains([]string{"windows-1252", "iso-8859-1", "iso-8859-15"}, found), text
}

func typesFound(r *rand.Rand) (bool, string) {
	f := someFile(r)
	found := f.found()
	s, err := csv.Infer([]byte(f.text), true, found.Dialect)
	if err != nil || s.Len() != len(f.kinds) {
		return false, f.text
	}
	want := map[string]schema.Kind{"int": schema.Int, "decimal": schema.Decimal, "date": schema.Date, "code": schema.Text, "text": schema.Text}
	for i, c := range s.Columns {
		if c.Type.Kind != want[f.kinds[i]] {
			return false, f.text
		}
	}
	return true, f.text
}

// day gives a day of the last years.
func day(r *rand.Rand) time.Time {
	return time.Date(2020+r.IntN(7), time.Month(1+r.IntN(12)), 1+r.IntN(28), 0, 0, 0, 0, time.UTC)
}

// document makes JSON with records somewhere inside, and their path.
func document(r *rand.Rand) (text, path string) {
	var records []any
	for i := range 2 + r.IntN(12) {
		records = append(records, map[string]any{"id": i, "hut": fmt.Sprintf("H%02d", r.IntN(48)), "tags": []any{"a", "b"}, "place": map[string]any{"x": r.IntN(9)}})
	}
	var doc any = records
	for range r.IntN(4) {
		key := pick(r, []string{"data", "items", "result", "huts", "response", "payload", "rows"})
		doc = map[string]any{key: doc, "count": len(records), "took": r.Float64(), "warnings": []any{}, "links": map[string]any{"self": "/v1"}}
		path = strings.TrimSuffix(key+"."+path, ".")
	}
	out, _ := json.Marshal(doc)
	return string(out), path
}

func recordsFound(r *rand.Rand) (bool, string) {
	text, want := document(r)
	path, _ := jsondoc.FindRecords([]byte(text))
	return path == want, text
}

func formatFound(r *rand.Rand) (bool, string) {
	f := someFile(r)
	f.write()
	doc, _ := document(r)
	type made struct{ want, name, text string }
	var lines, xml strings.Builder
	xml.WriteString("<list>")
	for i := range 5 + r.IntN(10) {
		fmt.Fprintf(&lines, `{"hut": "H%02d", "n": %d}`+"\n", r.IntN(48), i)
		fmt.Fprintf(&xml, "<hut n=\"%d\">H%02d</hut>", i, r.IntN(48))
	}
	xml.WriteString("</list>")
	fields, _ := fixedLines(r)
	m := pick(r, []made{{form.CSV, "rows.csv", f.text}, {form.CSV, "rows.txt", f.text}, {form.JSON, "rows.json", doc}, {form.JSON, "rows", doc}, {form.JSONLines, "rows.json", lines.String()}, {form.XML, "rows.txt", xml.String()}, {form.Fixed, "rows.dat", fields}})
	found, err := form.Find(context.Background(), m.name, func(context.Context) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(m.text)), nil }, form.Form{}, false)
	return err == nil && found.Form.Format == m.want, m.text
}

// fixedLines makes lines of fixed width, and where their fields begin.
func fixedLines(r *rand.Rand) (text string, starts []int) {
	kinds := []string{"code"}
	for range 2 + r.IntN(4) {
		kinds = append(kinds, pick(r, []string{"day", "text", "number", "signed"}))
	}
	var out strings.Builder
	for i := range 40 + r.IntN(40) {
		var line strings.Builder
		for _, kind := range kinds {
			if i == 0 {
				starts = append(starts, line.Len()+1)
			}
			switch kind {
			case "code":
				fmt.Fprintf(&line, "H%02d ", r.IntN(48))
			case "day":
				line.WriteString(day(r).Format("20060102") + " ")
			case "text":
				fmt.Fprintf(&line, "%-12s ", pick(r, []string{"Ravenseat", "Larkfell", "Cold", "Thornwater", "Mist", "Greygap", "Foxseat"}))
			case "number":
				fmt.Fprintf(&line, "%07d ", r.IntN(1e6))
			case "signed":
				fmt.Fprintf(&line, "%s%05d ", pick(r, []string{"+", "-"}), r.IntN(1e5))
			}
		}
		out.WriteString(line.String() + "\n")
	}
	return out.String(), starts
}

func layoutFound(r *rand.Rand) (bool, string) {
	text, starts := fixedLines(r)
	p := fixed.Propose(strings.Split(text, "\n"))
	if len(p.Layout.Records) != 1 {
		return false, text
	}
	var got []int
	for _, f := range p.Layout.Records[0].Fields {
		got = append(got, f.Start)
	}
	return slices.Equal(got, starts), text
}

// pagingFound makes an API of some way, and lets its way be found.
func pagingFound(r *rand.Rand) (bool, string) {
	size, total := 5+r.IntN(20), 60+r.IntN(100)
	kind := pick(r, []string{paging.Link, paging.Next, paging.Cursor, paging.Page, paging.Offset})
	inside := pick(r, []string{"items", "data", "results", "huts"})
	cursorKey := pick(r, []string{"next_cursor", "nextPageToken", "cursor", "next_token", "continuation", "after"})
	cursorParam := map[string]string{"next_cursor": "cursor", "nextPageToken": "pageToken", "cursor": "cursor", "next_token": "token", "continuation": "continuation", "after": "after"}[cursorKey]
	nextKey := pick(r, []string{"next", "next_url", "nextLink", "next_page_url"})
	pageParam, offsetParam := pick(r, []string{"page", "p"}), pick(r, []string{"offset", "skip", "start"})
	nested := r.IntN(2) == 0
	reply := func(address string, q url.Values) (paging.Reply, []string) {
		from := 0
		number := func(name string) int { n, _ := strconv.Atoi(strings.TrimPrefix(q.Get(name), "c")); return n }
		switch kind {
		case paging.Page:
			from = max(number(pageParam)-1, 0) * size
		case paging.Offset:
			from = number(offsetParam)
		case paging.Cursor:
			from = number(cursorParam)
		default:
			from = number("from")
		}
		from = min(from, total)
		to := min(from+size, total)
		around := map[string]any{}
		header := map[string][]string{}
		next := fmt.Sprintf("https://council.example/v1/x?from=%d", to)
		switch kind {
		case paging.Link:
			if to < total {
				header["Link"] = []string{"<" + next + ">; rel=\"next\""}
			}
		case paging.Next:
			if to < total {
				around[nextKey] = next
			}
		case paging.Cursor:
			if to < total {
				around[cursorKey] = fmt.Sprintf("c%d", to)
			}
		case paging.Page:
			around[pick(r, []string{"page", "current_page"})], around["total_pages"] = from/size+1, (total+size-1)/size
		case paging.Offset:
			around["offset"], around["total"] = from, total
		}
		body := map[string]any{}
		if nested {
			body["meta"] = around
		} else {
			body = around
		}
		var records []any
		var marks []string
		for i := from; i < to; i++ {
			records = append(records, map[string]any{"id": i})
			marks = append(marks, strconv.Itoa(i))
		}
		body[inside] = records
		text, _ := json.Marshal(body)
		parsed, _ := batch.ParseJSON(string(text))
		return paging.Reply{Address: address, Header: header, Body: parsed, Records: len(records)}, marks
	}
	first, marks := reply("https://council.example/v1/x", url.Values{})
	found, err := paging.Find(context.Background(), first, marks, func(_ context.Context, f paging.Follow) (paging.Reply, []string, error) {
		q := f.Params
		if f.Address != "" {
			u, err := url.Parse(f.Address)
			if err != nil {
				return paging.Reply{}, nil, err
			}
			q = u.Query()
		}
		out, marks := reply("https://council.example/v1/x", q)
		return out, marks, nil
	})
	return err == nil && found.Paging.Kind == kind && found.Sure, fmt.Sprintf("%s, %s, %s, %s: %s", kind, cursorKey, pageParam, offsetParam, strings.Join(found.Why, "; "))
}
