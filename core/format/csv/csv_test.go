package csv_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/format/csv"
	"welkin/core/format/formattest"
	"welkin/core/schema"
)

func text(names ...string) *schema.Schema {
	s := &schema.Schema{}
	for _, n := range names {
		s.Columns = append(s.Columns, schema.Column{Name: n, Type: schema.Of(schema.Text), Nullable: true})
	}
	return s
}

// read gives all rows, a null as ∅, and what was refused.
func read(t testing.TB, r io.Reader, o csv.Options) ([][]string, []format.Refused) {
	t.Helper()
	rd, err := csv.Open(context.Background(), r, o)
	require.NoError(t, err)
	return formattest.Read(t, rd)
}

func TestRecordsBecomeRows(t *testing.T) {
	semicolon := csv.Dialect{Delimiter: ";", Quote: `"`, Header: true}
	for name, c := range map[string]struct {
		in      string
		d       csv.Dialect
		columns []string
		want    [][]string
	}{
		"plain":                        {"a,b\n1,2\n3,4\n", csv.Default(), []string{"a", "b"}, [][]string{{"1", "2"}, {"3", "4"}}},
		"without a last line end":      {"a,b\n1,2", csv.Default(), []string{"a", "b"}, [][]string{{"1", "2"}}},
		"line ends of other systems":   {"a,b\r\n1,2\r\n", csv.Default(), []string{"a", "b"}, [][]string{{"1", "2"}}},
		"quotes, delimiters, lines":    {"a,b\n\"x,\"\"y\"\"\nz\",2\n", csv.Default(), []string{"a", "b"}, [][]string{{"x,\"y\"\nz", "2"}}},
		"a quote inside a value":       {"a,b\n3\" snow,2\n", csv.Default(), []string{"a", "b"}, [][]string{{"3\" snow", "2"}}},
		"empty is null, quoted is not": {"a,b\n,\"\"\n", csv.Default(), []string{"a", "b"}, [][]string{{"∅", ""}}},
		"columns by name":              {"a,b,c\n1,2,3\n", csv.Default(), []string{"c", "a"}, [][]string{{"3", "1"}}},
		"blank lines":                  {"a,b\n\n1,2\n\n", csv.Default(), []string{"a", "b"}, [][]string{{"1", "2"}}},
		"byte order mark":              {"\xef\xbb\xbfa,b\n1,2\n", csv.Default(), []string{"a", "b"}, [][]string{{"1", "2"}}},
		"another delimiter":            {"a;b\n1,5;2\n", semicolon, []string{"a", "b"}, [][]string{{"1,5", "2"}}},
		"windows-1252":                 {"a\nH\xf8yt\n", csv.Dialect{Delimiter: ",", Quote: `"`, Encoding: "windows-1252", Header: true}, []string{"a"}, [][]string{{"Høyt"}}},
		"a header of two lines":        {"hut,Jan,,Feb,\n,planned,counted,planned,counted\nH1,1,2,3,4\n", csv.Dialect{Delimiter: ",", Quote: `"`, Header: true, Lines: 2}, []string{"hut", "Jan counted", "Feb planned"}, [][]string{{"H1", "2", "3"}}},
		"two lines, names below":       {",Jan\nhut,beds\nH1,7\n", csv.Dialect{Delimiter: ",", Quote: `"`, Header: true, Lines: 2}, []string{"hut", "Jan beds"}, [][]string{{"H1", "7"}}},
		"no header":                    {"1,2\n", csv.Dialect{Delimiter: ",", Quote: `"`}, []string{"x", "y"}, [][]string{{"1", "2"}}},
	} {
		t.Run(name, func(t *testing.T) {
			got, refused := read(t, strings.NewReader(c.in), csv.Options{Dialect: c.d, Schema: text(c.columns...)})
			assert.Equal(t, c.want, got)
			assert.Empty(t, refused)
		})
	}
}

func TestBadRecordsAreRefusedWithTheirPlaceAndTheOthersKept(t *testing.T) {
	s := schema.New(schema.Column{Name: "hut", Type: schema.Of(schema.Text)}, schema.Column{Name: "guests", Type: schema.Of(schema.Int)})
	for name, c := range map[string]struct {
		line, code, sentence string
	}{
		"too short":      {"H01", "row too short", "the row has 1 values where the header names 2"},
		"too long":       {"H01,2,3", "row too long", "the row has 3 values where the header names 2"},
		"not a number":   {"H01,a few", "not a number", `"a few" is not a whole number`},
		"never closed":   {`"H01,2`, "broken quotes", "a quote is opened on line 3 and never closed"},
		"behind a quote": {`"H01"x,2`, "broken quotes", "text stands between a closing quote and the next delimiter"},
		"not UTF-8":      {"H\xf8,2", "wrong encoding", "the row holds bytes that are not valid utf-8; set the file's encoding, such as windows-1252"},
	} {
		t.Run(name, func(t *testing.T) {
			got, refused := read(t, strings.NewReader("hut,guests\nH00,1\n"+c.line+"\nH02,3\n"), csv.Options{Dialect: csv.Default(), Schema: s, Place: "log.csv"})
			assert.Equal(t, [][]string{{"H00", "1"}, {"H02", "3"}}, got)
			require.Len(t, refused, 1)
			assert.Equal(t, c.code, refused[0].Code)
			assert.Equal(t, c.sentence, refused[0].Sentence)
			assert.EqualValues(t, 3, refused[0].Line)
			assert.Equal(t, strings.ToValidUTF8(c.line, "�"), refused[0].Raw)
		})
	}
}

func TestLinesAreThoseOfTheFile(t *testing.T) {
	_, refused := read(t, strings.NewReader("a,b\n\"two\nlines\",1\nshort\n"), csv.Options{Dialect: csv.Default(), Schema: text("a", "b")})
	require.Len(t, refused, 1)
	assert.EqualValues(t, 4, refused[0].Line)
}

func TestRecordsOfAFileAreCutAsALineIs(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	values := []string{"", "a", `"`, `""`, `"x"`, `"x""y"`, `""x`, `"x"y`, `6" tall`, `"a,b"`, ",", "eight by", "hut_12 at the beck", `"two beds"`, "ü", `"` + "ä" + `"`}
	var lines []string
	for range 5000 {
		var record []string
		for range 1 + r.IntN(4) {
			record = append(record, values[r.IntN(len(values))])
		}
		lines = append(lines, strings.Join(record, ","))
	}
	for _, line := range lines {
		d := csv.Default()
		d.Header = false
		rows, refused := read(t, strings.NewReader(line+"\n"), csv.Options{Dialect: d, Schema: text("a", "b", "c")})
		want, fault := csv.Line(line, ',')
		switch {
		case line == "": // a line without anything is no record
			assert.Empty(t, rows)
		case fault != nil || len(want) != 3 || len(refused) == 1 && strings.Contains(refused[0].Fault.Sentence, "never closed"):
			assert.Empty(t, rows, line)
			assert.Len(t, refused, 1, line)
		default:
			require.Len(t, rows, 1, line)
			for i, v := range want {
				if v == "" && rows[0][i] == "∅" { // an unquoted empty value
					continue
				}
				assert.Equal(t, v, rows[0][i], line)
			}
		}
	}
}

func TestAMissingColumnIsSaidBeforeReading(t *testing.T) {
	_, err := csv.Open(context.Background(), strings.NewReader("hut,day\n"), csv.Options{Dialect: csv.Default(), Schema: text("hut", "guests")})
	assert.EqualError(t, err, `the file has no column "guests"; its header names hut, day`)
	_, err = csv.Open(context.Background(), strings.NewReader(""), csv.Options{Dialect: csv.Default(), Schema: text("hut")})
	assert.ErrorIs(t, err, format.ErrEmpty)
}

func TestALimitEndsReading(t *testing.T) {
	got, _ := read(t, strings.NewReader("a\n1\n2\n3\n"), csv.Options{Dialect: csv.Default(), Schema: text("a"), Limit: 2})
	assert.Equal(t, [][]string{{"1"}, {"2"}}, got)
}

func TestTheDialectIsFoundByLooking(t *testing.T) {
	for name, c := range map[string]struct {
		in   string
		want csv.Dialect
	}{
		"comma":     {"hut,day,guests\nH1,2026-11-23,4\n", csv.Dialect{Delimiter: ",", Quote: `"`, Encoding: "utf-8", Header: true}},
		"semicolon": {"hut;level\nH1;3,5\nH2;2,5\n", csv.Dialect{Delimiter: ";", Quote: `"`, Encoding: "utf-8", Header: true, Decimal: ","}},
		"tab":       {"hut\tlevel\nH1\t3\n", csv.Dialect{Delimiter: `\t`, Quote: `"`, Encoding: "utf-8", Header: true}},
		"bar":       {"hut|level\nH1|3\n", csv.Dialect{Delimiter: "|", Quote: `"`, Encoding: "utf-8", Header: true}},
		"no header": {"1,2026-11-23\n2,2026-11-24\n", csv.Dialect{Delimiter: ",", Quote: `"`, Encoding: "utf-8"}},
		"western":   {"hut,name\n1,H\xf8yt\n", csv.Dialect{Delimiter: ",", Quote: `"`, Encoding: "windows-1252", Header: true}},
		"utf-16":    {"\xff\xfeh\x00,\x00d\x00\n\x001\x00,\x002\x00\n\x00", csv.Dialect{Delimiter: ",", Quote: `"`, Encoding: "utf-16le", Header: true}},
	} {
		t.Run(name, func(t *testing.T) {
			found := csv.Sniff([]byte(c.in), true)
			assert.Equal(t, c.want, found.Dialect)
			assert.NotEmpty(t, found.Why)
		})
	}
}

func TestTypesAreFoundByLooking(t *testing.T) {
	s, err := csv.Infer([]byte("n,d,day,at,yes,code,words,empty\n1,2.5,2026-11-23,2026-11-23 10:00,true,007,x,\n-20,10.25,2026-01-01,2026-11-23T10:00:01,FALSE,012,1,\n"), true, csv.Default())
	require.NoError(t, err)
	var types []string
	for _, c := range s.Columns {
		types = append(types, c.Type.String())
	}
	assert.Equal(t, []string{"int", "decimal(18,2)", "date", "timestamp", "bool", "text", "text", "text"}, types)
}

func TestDialectsThatCannotBeAreSaid(t *testing.T) {
	assert.ErrorContains(t, csv.Dialect{Delimiter: "::"}.Validate(), "one character")
	assert.ErrorContains(t, csv.Dialect{Encoding: "klingon"}.Validate(), "is not known")
	assert.NoError(t, csv.Default().Validate())
}

// TestWhatIsWrittenReadsBack holds for any text, quotes and line breaks too.
func TestWhatIsWrittenReadsBack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		d := csv.Dialect{Delimiter: rapid.SampledFrom([]string{",", ";", `\t`, "|"}).Draw(rt, "delimiter"), Quote: `"`, Encoding: "utf-8", Header: true}
		cell := rapid.StringOf(rapid.SampledFrom([]rune("ab,;|\t\"\n\r é0 ")))
		want := rapid.SliceOfN(rapid.SliceOfN(rapid.Custom(func(t *rapid.T) *string {
			if rapid.IntRange(0, 4).Draw(t, "null") == 0 {
				return nil
			}
			v := cell.Draw(t, "cell")
			return &v
		}), 3, 3), 0, 20).Draw(rt, "rows")
		s := text("a", "b", "c")
		b := &batch.Batch{Schema: s, N: len(want)}
		for c := range 3 {
			builder := batch.NewBuilder(s.Columns[c].Type)
			for _, row := range want {
				if row[c] == nil {
					builder.AppendNull()
				} else {
					_ = batch.AppendText(builder, s.Columns[c].Type, *row[c])
				}
			}
			b.Cols = append(b.Cols, builder.NewArray())
		}
		var file bytes.Buffer
		w, err := csv.NewWriter(&file, s, d, "")
		require.NoError(rt, err)
		require.NoError(rt, w.Write(b))
		require.NoError(rt, w.Flush())
		got, refused := read(t, &file, csv.Options{Dialect: d, Schema: s})
		require.Empty(rt, refused)
		require.Len(rt, got, len(want))
		for i, row := range want {
			for c, v := range row {
				expected := "∅"
				if v != nil {
					expected = *v
				}
				require.Equal(rt, expected, got[i][c])
			}
		}
	})
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"a,b\n1,2\n", "a\n\"", "\"\n\n\"x,", "a;b\r\n;;\r\n", "\xff\xfe"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, in string) {
		found := csv.Sniff([]byte(in), true)
		s, err := csv.Infer([]byte(in), true, found.Dialect)
		if err != nil {
			return
		}
		r, err := csv.Open(context.Background(), strings.NewReader(in), csv.Options{Dialect: found.Dialect, Schema: s})
		if err != nil {
			return
		}
		defer r.Close()
		for {
			c, err := r.Next(context.Background())
			if err != nil {
				return
			}
			for i := range c.Batch.N {
				c.Batch.Row(i)
			}
		}
	})
}

func BenchmarkRead(b *testing.B) {
	var file bytes.Buffer
	file.WriteString("stay,hut,arrived,nights,price\n")
	for i := range 200_000 {
		fmt.Fprintf(&file, "%d,H%02d,2026-%02d-%02d,%d,%d.50\n", i, i%48, i%12+1, i%28+1, i%9, i%90)
	}
	s, err := csv.Infer(file.Bytes()[:100_000], false, csv.Default())
	require.NoError(b, err)
	b.SetBytes(int64(file.Len()))
	for b.Loop() {
		r, err := csv.Open(context.Background(), bytes.NewReader(file.Bytes()), csv.Options{Dialect: csv.Default(), Schema: s})
		require.NoError(b, err)
		for {
			if _, err := r.Next(context.Background()); err == io.EOF {
				break
			}
		}
		_ = r.Close()
	}
}

// BenchmarkReadEveryType reads a file of ten columns of all types, as bench's
// first task does, by one core with -cpu 1.
func BenchmarkReadEveryType(b *testing.B) {
	var file bytes.Buffer
	file.WriteString("id,hut,guest,arrived,seen,nights,price,rating,paid,remark\n")
	remarks := []string{"", "late, by the north path", "with a dog", "paid in cash", `said ""never again""`, "two beds"}
	for i := range 200_000 {
		fmt.Fprintf(&file, "%d,hut_%02d,%d,2026-%02d-%02d,2026-%02d-%02d %02d:%02d:17,%d,%d.%02d,%.3f,%t,\"%s\"\n",
			i, i%48, i*7919%1_000_000, i%12+1, i%28+1, i%12+1, i%28+1, i%24, i%60, i%14, i%400, i%100, float64(i%5000)/1000, i%2 == 0, remarks[i%len(remarks)])
	}
	s := &schema.Schema{}
	for i, name := range strings.Split("id,hut,guest,arrived,seen,nights,price,rating,paid,remark", ",") {
		t, err := schema.ParseType([]string{"int", "text", "int", "date", "timestamp", "int", "decimal(8,2)", "float", "bool", "text"}[i])
		require.NoError(b, err)
		s.Columns = append(s.Columns, schema.Column{Name: name, Type: t})
	}
	b.SetBytes(int64(file.Len()))
	for b.Loop() {
		r, err := csv.Open(context.Background(), bytes.NewReader(file.Bytes()), csv.Options{Dialect: csv.Default(), Schema: s})
		require.NoError(b, err)
		for err == nil {
			_, err = r.Next(context.Background())
		}
		require.ErrorIs(b, err, io.EOF)
		require.NoError(b, r.Close())
	}
}
