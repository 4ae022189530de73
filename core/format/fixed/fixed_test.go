package fixed_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/batch/batchtest"
	"welkin/core/format"
	"welkin/core/format/fixed"
	"welkin/core/format/formattest"
	"welkin/core/schema"
)

// read gives all rows as cells parted by |, and what was refused.
func read(t require.TestingT, r io.Reader, o fixed.Options) (lines []string, refused []format.Refused) {
	rd, err := fixed.Open(r, o)
	require.NoError(t, err)
	rows, refused := formattest.Read(t, rd)
	for _, row := range rows {
		lines = append(lines, strings.Join(row, "|"))
	}
	return lines, refused
}

// of gives options for columns side by side.
func of(s *schema.Schema, widths ...int) fixed.Options {
	return fixed.Options{Schema: s, Layout: fixed.OfWidths(s, widths, ""), Whole: true}
}

func TestValuesStandAtTheirCharacters(t *testing.T) {
	s := batchtest.Columns(t, "hut:text day:date guests:int")
	usual := of(s, 5, 10, 4)
	with := func(change func(*fixed.Options)) fixed.Options {
		o := usual
		change(&o)
		return o
	}
	for name, c := range map[string]struct {
		in   string
		o    fixed.Options
		want []string
	}{
		"plain":                        {"H01  2026-11-23  12\nH02  2026-11-24   7\n", usual, []string{"H01|2026-11-23|12", "H02|2026-11-24|7"}},
		"without a last line end":      {"H01  2026-11-23  12", usual, []string{"H01|2026-11-23|12"}},
		"line ends of other systems":   {"H01  2026-11-23  12\r\n", usual, []string{"H01|2026-11-23|12"}},
		"blank values are null":        {"     2026-11-23\n", usual, []string{"∅|2026-11-23|∅"}},
		"lines that end early":         {"H01\n", usual, []string{"H01|∅|∅"}},
		"blank lines":                  {"\n   \nH01\n", usual, []string{"H01|∅|∅"}},
		"blanks behind the last":       {"H01  2026-11-23  12    \n", usual, []string{"H01|2026-11-23|12"}},
		"characters, not bytes":        {"Høyt 2026-11-23  12\n", usual, []string{"Høyt|2026-11-23|12"}},
		"a header":                     {"hut  day       gsts\nH01\n", with(func(o *fixed.Options) { o.Header = true }), []string{"H01|∅|∅"}},
		"texts that mean null":         {"n/a  -           12\n", with(func(o *fixed.Options) { o.Nulls = []string{"n/a", "-"} }), []string{"∅|∅|12"}},
		"another encoding":             {"H\xf8yt 2026-11-23  12\n", with(func(o *fixed.Options) { o.Layout.Encoding = "windows-1252" }), []string{"Høyt|2026-11-23|12"}},
		"a limit":                      {"H01\nH02\nH03\n", with(func(o *fixed.Options) { o.Limit = 2 }), []string{"H01|∅|∅", "H02|∅|∅"}},
		"byte order mark":              {"\xef\xbb\xbfH01  2026-11-23  12\n", usual, []string{"H01|2026-11-23|12"}},
		"nothing":                      {"", usual, nil},
		"values that touch each other": {"H01xx2026-11-231234\n", usual, []string{"H01xx|2026-11-23|1234"}},
	} {
		t.Run(name, func(t *testing.T) {
			got, refused := read(t, strings.NewReader(c.in), c.o)
			assert.Equal(t, c.want, got)
			assert.Empty(t, refused)
		})
	}
}

func TestLinesThatDoNotFitAreRefusedWithTheirPlace(t *testing.T) {
	o := of(batchtest.Columns(t, "hut:text guests:int"), 4, 3)
	for line, want := range map[string]string{
		"H01 few":     `"few" is not a whole number`,
		"H01  12 too": "the row goes on behind character 7, where the columns end",
		"H\xf8y  12":  "the row holds bytes that are not valid utf-8; set the file's encoding, such as windows-1252",
	} {
		rows, refused := read(t, strings.NewReader("H00  1\n"+line+"\nH02  3\n"), o)
		assert.Equal(t, []string{"H00|1", "H02|3"}, rows)
		require.Len(t, refused, 1)
		assert.Equal(t, want, refused[0].Sentence)
		assert.EqualValues(t, 2, refused[0].Line)
	}
}

func TestWhatIsNoFileOfLinesIsSaid(t *testing.T) {
	o := of(batchtest.Columns(t, "hut:text"), 4)
	r, err := fixed.Open(strings.NewReader(strings.Repeat("x", fixed.MaxLine+10)), o)
	require.NoError(t, err)
	_, err = r.Next(context.Background())
	assert.ErrorContains(t, err, "line 1 is longer than")
	o.Header = true
	_, err = fixed.Open(strings.NewReader(""), o)
	assert.ErrorIs(t, err, format.ErrEmpty)
	o.Layout.Encoding = "klingon"
	_, err = fixed.Open(strings.NewReader(""), o)
	assert.ErrorContains(t, err, "is not known")
}

// TestWhatIsPaddedReadsBack holds for any values without blanks at their ends.
func TestWhatIsPaddedReadsBack(t *testing.T) {
	s := batchtest.Columns(t, "a:text b:text")
	rapid.Check(t, func(rt *rapid.T) {
		value := rapid.StringOfN(rapid.SampledFrom([]rune("abø€ 1")), 1, 6, -1).Filter(func(v string) bool { return strings.TrimSpace(v) == v })
		var file bytes.Buffer
		var want []string
		for range rapid.IntRange(0, 30).Draw(rt, "rows") {
			a, b := value.Draw(rt, "a"), value.Draw(rt, "b")
			fmt.Fprintf(&file, "%-7s%7s\n", a, b)
			want = append(want, a+"|"+b)
		}
		got, refused := read(rt, &file, of(s, 7, 7))
		require.Empty(rt, refused)
		require.Equal(rt, want, got)
	})
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"H01  12\n", "\r\n\xff", "€€€€€€€\n", strings.Repeat(" ", 100)} {
		f.Add(seed, 3, 4)
	}
	f.Fuzz(func(t *testing.T, in string, first, second int) {
		if first < 1 || second < 1 || first > 1<<20 || second > 1<<20 {
			return
		}
		r, err := fixed.Open(strings.NewReader(in), of(batchtest.Columns(t, "a:text b:int"), first, second))
		if err != nil {
			return
		}
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
