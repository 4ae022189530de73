package fixed_test

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"

	"welkin/core/batch/batchtest"
	"welkin/core/format/fixed"
	"welkin/core/schema"
)

func decimalField(name string, start, length int, change func(*fixed.Field)) fixed.Field {
	f := fixed.Field{Name: name, Start: start, Length: length, Type: schema.DecimalOf(18, 2), Scale: 2}
	change(&f)
	return f
}

func TestSignsAndPointsThatAreNotWritten(t *testing.T) {
	none := func(*fixed.Field) {}
	sign := func(s string) func(*fixed.Field) { return func(f *fixed.Field) { f.Sign = s } }
	for _, c := range []struct {
		raw, want string
		change    func(*fixed.Field)
	}{
		{"001234", "12.34", none}, {"000005", "0.05", none}, {"-00123", "-1.23", none}, {"      ", "∅", none},
		{"-01234", "-12.34", sign(fixed.SignLeading)}, {"+01234", "12.34", sign(fixed.SignLeading)}, {"01234-", "-12.34", sign(fixed.SignTrailing)}, {"01234+", "12.34", sign(fixed.SignTrailing)},
		{"00123D", "12.34", sign(fixed.SignOverpunch)}, {"00123M", "-12.34", sign(fixed.SignOverpunch)}, {"00123}", "-12.30", sign(fixed.SignOverpunch)}, {"001234", "12.34", sign(fixed.SignOverpunch)},
		{"00123t", "-12.34", sign(fixed.SignOverpunch)}, {"}01234", "-12.34", sign(fixed.SignLeadingOverpunch)},
		{"12.300", "12.30", none}, {"00x234", "!", none}, {"00123?", "!", sign(fixed.SignOverpunch)},
	} {
		l := fixed.Layout{Records: []fixed.RecordType{{Fields: []fixed.Field{decimalField("level", 2, 6, c.change)}}}}
		s, err := l.Schema("")
		require.NoError(t, err)
		rows, refused := read(t, strings.NewReader("#"+c.raw+"#\n"), fixed.Options{Layout: l, Schema: s})
		if c.want == "!" {
			if assert.Len(t, refused, 1, c.raw) {
				assert.Equal(t, "level", refused[0].Column)
			}
			continue
		}
		assert.Equal(t, []string{c.want}, rows, c.raw)
	}
}

func TestPackedAndBinaryNumbersOfAnotherCodePage(t *testing.T) {
	l := fixed.Layout{Encoding: fixed.EBCDIC, Length: 12, Records: []fixed.RecordType{{Fields: []fixed.Field{
		{Name: "hut", Start: 1, Length: 4, Type: schema.Of(schema.Text)},
		decimalField("level", 5, 3, func(f *fixed.Field) { f.Store = fixed.StorePacked }),
		{Name: "beds", Start: 8, Length: 2, Type: schema.Of(schema.Int), Store: fixed.StoreBinary},
		decimalField("watts", 10, 3, func(f *fixed.Field) { f.Sign, f.Scale = fixed.SignOverpunch, 0; f.Type = schema.Of(schema.Int) }),
	}}}}
	require.NoError(t, l.Validate())
	s, err := l.Schema("")
	require.NoError(t, err)
	name, err := charmap.CodePage037.NewEncoder().Bytes([]byte("Høyt"))
	require.NoError(t, err)
	data := append(name, 0x12, 0x34, 0x5d, 0xff, 0xfe, 0xf0, 0xf1, 0xd2)
	data = append(data, append(name, 0x40, 0x40, 0x40, 0x00, 0x07, 0xf0, 0xf1, 0xc2)...)
	data = append(data, append(name, 0xab, 0x34, 0x5d, 0xff, 0xfe, 0xf0, 0xf1, 0xd2)...)
	data = append(data, 'x')
	rows, refused := read(t, bytes.NewReader(data), fixed.Options{Layout: l, Schema: s})
	assert.Equal(t, []string{"Høyt|-123.45|-2|-12", "Høyt|∅|7|12"}, rows)
	require.Len(t, refused, 2)
	assert.Contains(t, refused[0].Sentence, "no packed number")
	assert.Contains(t, refused[1].Sentence, "1 bytes instead of 12")
}

// radio is a layout of two record types.
var radio = fixed.Layout{Code: &fixed.Code{Start: 1, Length: 1}, Records: []fixed.RecordType{
	{Name: "weather", Code: "W", Fields: []fixed.Field{
		{Name: "hut", Start: 2, Length: 3, Type: schema.Of(schema.Text)}, {Name: "at", Start: 5, Length: 12, Type: schema.Of(schema.Timestamp), Dates: "YYYYMMDDHH24MI"},
		{Name: "degrees", Start: 17, Length: 5, Type: schema.DecimalOf(4, 1), Scale: 1, Sign: fixed.SignTrailing}}},
	{Name: "call", Code: "C", Fields: []fixed.Field{
		{Name: "hut", Start: 2, Length: 3, Type: schema.Of(schema.Text)}, {Name: "seconds", Start: 5, Length: 4, Type: schema.Of(schema.Int), Fill: "0"}, {Name: "who", Start: 9, Length: 8, Type: schema.Of(schema.Text)}}},
}}

const radioLines = "WH01202611231830" + "0125-\n" + "CH020090Ada     \n" + "X?\n" + "WH02202611240600" + "0031+\n"

func TestSeveralTypesOfRecordsAreToldApart(t *testing.T) {
	s, err := radio.Schema("")
	require.NoError(t, err)
	assert.Equal(t, []string{"record", "hut", "at", "degrees", "seconds", "who"}, s.Names())
	rows, refused := read(t, strings.NewReader(radioLines), fixed.Options{Layout: radio, Schema: s})
	assert.Equal(t, []string{"weather|H01|2026-11-23 18:30:00|-12.5|∅|∅", "call|H02|∅|∅|90|Ada", "weather|H02|2026-11-24 06:00:00|3.1|∅|∅"}, rows)
	require.Len(t, refused, 1)
	assert.Equal(t, `no record type has the code "X"`, refused[0].Sentence)
	assert.EqualValues(t, 3, refused[0].Line)
	s, err = radio.Schema("call")
	require.NoError(t, err)
	rows, _ = read(t, strings.NewReader(radioLines), fixed.Options{Layout: radio, Record: "call", Schema: s})
	assert.Equal(t, []string{"H02|90|Ada"}, rows)
	_, err = radio.Schema("snow")
	assert.ErrorContains(t, err, "there are weather, call")
}

func TestWhatIsWrittenByALayoutComesBack(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 200 {
		l := fixed.Layout{Encoding: []string{"", "windows-1252", fixed.EBCDIC}[r.IntN(3)]}
		kind := fixed.RecordType{}
		at := 1 + r.IntN(3)
		for i := range 1 + r.IntN(8) {
			f := fixed.Field{Name: fmt.Sprintf("f%d", i), Start: at}
			switch r.IntN(6) {
			case 0:
				f.Type, f.Length = schema.Of(schema.Text), 8
			case 1:
				f.Type, f.Length, f.Dates = schema.Of(schema.Date), 8, "YYYYMMDD"
			case 2:
				f.Type, f.Length, f.Scale, f.Store = schema.DecimalOf(9, 2), 5, 2, fixed.StorePacked
				l.Length = 1
			case 3:
				f.Type, f.Length, f.Store = schema.Of(schema.Int), 4, fixed.StoreBinary
				l.Length = 1
			default:
				f.Type, f.Length, f.Scale = schema.DecimalOf(9, 2), 10, 2
				f.Sign = []string{"", fixed.SignLeading, fixed.SignTrailing, fixed.SignOverpunch, fixed.SignLeadingOverpunch}[r.IntN(5)]
			}
			kind.Fields = append(kind.Fields, f)
			at += f.Length + r.IntN(3)
		}
		if l.Length > 0 {
			l.Length = at
		}
		l.Records = []fixed.RecordType{kind}
		require.NoError(t, l.Validate())
		s, err := l.Schema("")
		require.NoError(t, err)
		var lines [][]string
		for range 1 + r.IntN(20) {
			var row []string
			for _, f := range kind.Fields {
				switch {
				case f.Store != fixed.StoreBinary && r.IntN(5) == 0 && len(row) > 0:
					row = append(row, "∅")
				case f.Type.Kind == schema.Text:
					row = append(row, []string{"Høyt", "Larkfell", "a b"}[r.IntN(3)])
				case f.Type.Kind == schema.Date:
					row = append(row, fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28)))
				case f.Type.Kind == schema.Int:
					row = append(row, fmt.Sprint(r.IntN(2000)-1000))
				default:
					row = append(row, fmt.Sprintf("%s%d.%02d", []string{"", "-"}[r.IntN(2)], 1+r.IntN(5000), r.IntN(100)))
				}
			}
			lines = append(lines, row)
		}
		var out bytes.Buffer
		w, err := fixed.NewWriter(&out, s, l, "")
		require.NoError(t, err)
		require.NoError(t, w.Write(batchtest.Cells(t, s, lines...)))
		require.NoError(t, w.Flush())
		rows, refused := read(t, bytes.NewReader(out.Bytes()), fixed.Options{Layout: l, Schema: s})
		require.Empty(t, refused, "%+v", l)
		require.Len(t, rows, len(lines))
		for i, line := range lines {
			require.Equal(t, strings.Join(line, "|"), rows[i], "%+v", l)
		}
	}
}

func TestRowsGoToTheRecordTypeTheyName(t *testing.T) {
	s, err := radio.Schema("")
	require.NoError(t, err)
	var out bytes.Buffer
	w, err := fixed.NewWriter(&out, s, radio, "")
	require.NoError(t, err)
	require.NoError(t, w.Write(batchtest.Cells(t, s, []string{"weather", "H01", "2026-11-23 18:30:00", "-12.5", "∅", "∅"}, []string{"call", "H02", "∅", "∅", "90", "Ada"})))
	require.NoError(t, w.Flush())
	assert.Equal(t, "WH012026112318300125-\nCH020090Ada     \n", out.String())
	require.ErrorContains(t, w.Write(batchtest.Cells(t, s, []string{"snow", "H01", "∅", "∅", "∅", "∅"})), `no record type "snow"`)
	require.ErrorContains(t, w.Write(batchtest.Cells(t, s, []string{"call", "H02", "∅", "∅", "90", "Ada of Larkfell"})), "longer than the 8 characters")
	_, err = fixed.NewWriter(io.Discard, batchtest.Columns(t, "hut:text"), radio, "")
	assert.ErrorContains(t, err, "record types")
}

func TestLayoutsThatCannotBeAreRefused(t *testing.T) {
	field := func(change func(*fixed.Field)) fixed.Layout {
		return fixed.Layout{Length: 20, Records: []fixed.RecordType{{Fields: []fixed.Field{decimalField("level", 1, 6, change)}}}}
	}
	for want, l := range map[string]fixed.Layout{
		"no record type yet":     {},
		"has no name":            field(func(f *fixed.Field) { f.Name = "" }),
		"can't stand at 0":       field(func(f *fixed.Field) { f.Start = 0 }),
		"behind the record's 20": field(func(f *fixed.Field) { f.Start = 18 }),
		`the sign "above"`:       field(func(f *fixed.Field) { f.Sign = "above" }),
		`stored as "gold"`:       field(func(f *fixed.Field) { f.Store = "gold" }),
		"1, 2, 4 or 8":           field(func(f *fixed.Field) { f.Store = fixed.StoreBinary }),
		"are for numbers":        field(func(f *fixed.Field) { f.Type = schema.Of(schema.Text) }),
		"int can't hold":         field(func(f *fixed.Field) { f.Type = schema.Of(schema.Int) }),
		"must be one character":  field(func(f *fixed.Field) { f.Fill = "ab" }),
		"no form of dates":       field(func(f *fixed.Field) { f.Dates, f.Type, f.Scale = "soon", schema.Of(schema.Date), 0 }),
		"say at which place":     {Records: []fixed.RecordType{{}, {}}},
		"the encoding":           {Encoding: "morse"},
	} {
		assert.ErrorContains(t, l.Validate(), want)
	}
}

func TestACopybookBecomesALayout(t *testing.T) {
	l, notes, err := fixed.Copybook(`
      * the mountain radio's log
000100 01  RADIO-LOG.
           05  HUT            PIC X(4).
           05  LOG-DAY        PIC 9(8).
           05  READINGS OCCURS 2 TIMES.
               10  LEVEL      PIC S9(3)V99.
               10  WATTS      PIC S9(5) COMP-3.
           05  FILLER         PIC X(3).
           05  WARDEN-ID      PIC 9(4) COMP.
           05  WHOLE REDEFINES WARDEN-ID PIC X(2).
           05  STATE          PIC X.
               88  CLOSED     VALUE 'C'.
           05  BALANCE        PIC S9(7)V9(2) SIGN IS TRAILING SEPARATE CHARACTER.
`)
	require.NoError(t, err)
	var got []string
	for _, f := range l.Records[0].Fields {
		got = append(got, strings.Join(strings.Fields(fmt.Sprintf("%s %d+%d %s %s %s", f.Name, f.Start, f.Length, f.Type, f.Sign, f.Store)), " "))
	}
	assert.Equal(t, []string{"hut 1+4 text", "log_day 5+8 int", "level_1 13+5 decimal(5,2) overpunch", "watts_1 18+3 int packed", "level_2 21+5 decimal(5,2) overpunch", "watts_2 26+3 int packed",
		"warden_id 32+2 int binary", "state 34+1 text", "balance 35+10 decimal(9,2) trailing"}, got)
	assert.Equal(t, 44, l.Length)
	assert.Equal(t, fixed.EBCDIC, l.Encoding)
	assert.Len(t, notes, 2)
	for text, want := range map[string]string{"": "no data description", "05 A PIC Q.": "can't be read", "05 A OCCURS 1 TO 9 DEPENDING ON N PIC X.": "DEPENDING", "DATA DIVISION.": "level number"} {
		_, _, err := fixed.Copybook(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestALayoutIsProposedFromTheRecords(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	var lines []string
	for i := range 60 {
		if i%3 == 0 {
			lines = append(lines, fmt.Sprintf("CH%02d  202611%02d%04d%-10s%05d%s", r.IntN(48), 1+r.IntN(28), r.IntN(24)*100+r.IntN(60), []string{"Ada", "Bo", "Christina"}[r.IntN(3)], r.IntN(3000), []string{"+", "-"}[r.IntN(2)]))
		} else {
			lines = append(lines, fmt.Sprintf("WH%02d%8.2f %-12s%03d", r.IntN(48), r.Float64()*3000, []string{"snow", "fair", "thunder", "fog, or rain"}[r.IntN(4)], r.IntN(360)))
		}
	}
	p := fixed.Propose(lines)
	require.NoError(t, p.Layout.Validate(), "%+v", p.Layout)
	require.Len(t, p.Layout.Records, 2, "%v", p.Why)
	describe := func(kind fixed.RecordType) string {
		var out []string
		for _, f := range kind.Fields {
			out = append(out, strings.Join(strings.Fields(fmt.Sprintf("%d+%d %s %s %s", f.Start, f.Length, f.Type, f.Dates, f.Sign)), " "))
		}
		return kind.Code + ": " + strings.Join(out, ", ")
	}
	assert.Equal(t, "W: 2+3 text, 6+7 decimal(18,2), 14+12 text, 26+3 int", describe(p.Layout.Records[0]))
	assert.Equal(t, "C: 2+3 text, 7+12 timestamp YYYYMMDDHH24MI, 19+9 text, 29+6 int trailing", describe(p.Layout.Records[1]))
	assert.Empty(t, fixed.Propose(nil).Layout.Records)
}

func FuzzCopybook(f *testing.F) {
	f.Add("01 A.\n 05 B PIC S9(3)V9 COMP-3.\n 05 C OCCURS 3 TIMES PIC X(2).")
	f.Fuzz(func(t *testing.T, text string) {
		l, _, err := fixed.Copybook(text)
		if err == nil {
			require.NoError(t, l.Validate())
		}
		p := fixed.Propose(strings.Split(text, "\n"))
		if len(p.Layout.Records) > 0 {
			for _, r := range p.Layout.Records {
				for _, field := range r.Fields {
					require.Positive(t, field.Length)
				}
			}
		}
	})
}
