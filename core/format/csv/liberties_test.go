package csv_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/format/csv"
	"welkin/core/schema"
)

// TestFilesAreFoundAndReadAsTheyAreWritten finds dialect and types of files that
// take liberties, and reads them so.
func TestFilesAreFoundAndReadAsTheyAreWritten(t *testing.T) {
	for name, c := range map[string]struct {
		in      string
		types   string
		rows    string // the first row and the last
		skipped int
		dialect func(d csv.Dialect) bool
	}{
		"decimal commas":               {in: "hut;level\nH1;1,25\nH2;13,5\n", types: "text decimal(18,2)", rows: "H1 1.25|H2 13.50"},
		"thousands and decimal commas": {in: "hut;walkers\nH1;1.250,5\nH2;12.250.000\n", types: "text decimal(18,1)", rows: "H1 1250.5|H2 12250000.0"},
		"thousands as a blank":         {in: "hut;walkers\nH1;1 250\nH2;999\n", types: "text int", rows: "H1 1250|H2 999"},
		"thousands as a comma":         {in: "hut\twalkers\nH1\t1,250,000\nH2\t2,250.75\n", types: "text decimal(18,2)", rows: "H1 1250000.00|H2 2250.75"},
		"dates day first":              {in: "hut,day\nH1,23.11.2026\nH2,01.02.2026\n", types: "text date", rows: "H1 2026-11-23|H2 2026-02-01"},
		"dates with a stroke":          {in: "hut,day\nH1,12/31/2026\nH2,01/02/2026\n", types: "text date", rows: "H1 2026-12-31|H2 2026-01-02"},
		"dates with the month's name":  {in: "hut;day\nH1;3 Nov 2026\nH2;24 Dec 2026\n", types: "text date", rows: "H1 2026-11-03|H2 2026-12-24"},
		"dates and times":              {in: "hut;at\nH1;23.11.2026 18:30\nH2;24.11.2026 06:00\n", types: "text timestamp", rows: "H1 2026-11-23 18:30:00|H2 2026-11-24 06:00:00"},
		"a preamble": {in: "Larkfell Hut Association\nprinted on 23 November\n\nhut,beds\nH1,12\nH2,8\nH3,4\n", types: "text int", rows: "H1 12|H3 4",
			dialect: func(d csv.Dialect) bool { return d.Skip == 3 }},
		"a total at the end": {in: "hut,beds\nH1,12\nH2,8\nH3,4\nTotal,24\n", types: "text int", rows: "H1 12|H3 4", dialect: func(d csv.Dialect) bool { return d.Trailer == 1 }},
		"comments":           {in: "# made by hand\nhut,beds\nH1,12\n# a storm\nH2,8\n", types: "text int", rows: "H1 12|H2 8", dialect: func(d csv.Dialect) bool { return d.Comment == "#" }},
		"two header lines": {in: "hut,Jan,,Feb,\n,planned,counted,planned,counted\nH1,1,2,3,4\nH2,5,6,7,8\n", types: "text int int int int", rows: "H1 1 2 3 4|H2 5 6 7 8",
			dialect: func(d csv.Dialect) bool { return d.Lines == 2 }},
		"line ends of an old system": {in: "hut,beds\rH1,12\rH2,8\r", types: "text int", rows: "H1 12|H2 8"},
		"no header, only texts":      {in: "H01,Ravenseat\nH02,Larkfell\nH03,Cold Fell\nH04,Stone\n", types: "text text", rows: "H01 Ravenseat|H04 Stone", dialect: func(d csv.Dialect) bool { return !d.Header }},
		"years as headings":          {in: "hut,2024,2025\nH1,10,12\nH2,8,9\n", types: "text int int", rows: "H1 10 12|H2 8 9"},
		"codes with leading zeros":   {in: "code,beds\n007,12\n010,8\n", types: "text int", rows: "007 12|010 8"},
		"instants":                   {in: "at\n2026-11-23T18:30:00Z\n2026-11-23T19:30:00+01:00\n", types: "timestamptz", rows: "2026-11-23 18:30:00+00|2026-11-23 18:30:00+00"},
	} {
		t.Run(name, func(t *testing.T) {
			found := csv.Sniff([]byte(c.in), true)
			if c.dialect != nil {
				assert.True(t, c.dialect(found.Dialect), "%+v", found)
			}
			require.NoError(t, found.Dialect.Validate())
			s, err := csv.Infer([]byte(c.in), true, found.Dialect)
			require.NoError(t, err)
			var types []string
			for _, col := range s.Columns {
				types = append(types, col.Type.String())
			}
			assert.Equal(t, c.types, strings.Join(types, " "), "%v", found.Why)
			rows, refused := read(t, strings.NewReader(c.in), csv.Options{Dialect: found.Dialect, Schema: s})
			assert.Empty(t, refused)
			require.NotEmpty(t, rows)
			assert.Equal(t, c.rows, strings.Join(rows[0], " ")+"|"+strings.Join(rows[len(rows)-1], " "))
		})
	}
}

func TestRowsOfAnotherLengthFollowThePolicy(t *testing.T) {
	const in = "a,b\n1\n1,2,3\n1,2\n"
	d := csv.Default()
	rows, refused := read(t, strings.NewReader(in), csv.Options{Dialect: d, Schema: text("a", "b")})
	assert.Len(t, rows, 1)
	assert.Len(t, refused, 2)
	d.Short, d.Long = csv.FillShort, csv.CutLong
	rows, refused = read(t, strings.NewReader(in), csv.Options{Dialect: d, Schema: text("a", "b")})
	assert.Equal(t, [][]string{{"1", "∅"}, {"1", "2"}, {"1", "2"}}, rows)
	assert.Empty(t, refused)
}

func TestEscapedQuotesAndColumnsThatAreNotThere(t *testing.T) {
	d := csv.Default()
	d.Escape = `\`
	rows, refused := read(t, strings.NewReader("a,b\n\"say \\\"hey\\\", twice\",\"C:\\\\huts\"\n"), csv.Options{Dialect: d, Schema: text("a", "b", "c"), Missing: true})
	assert.Empty(t, refused)
	assert.Equal(t, [][]string{{`say "hey", twice`, `C:\huts`, "∅"}}, rows)
}

// TestLinesLeftOutDoNotShiftTheNumbers reads a long file with lines to be left out
// at both ends, in which a row is bad.
func TestLinesLeftOutDoNotShiftTheNumbers(t *testing.T) {
	var in strings.Builder
	in.WriteString("a title\nn\n")
	for i := range 200_000 {
		if i == 150_000 {
			in.WriteString("many\n")
		} else {
			fmt.Fprintln(&in, i)
		}
	}
	in.WriteString("total 7\nend\n")
	d := csv.Default()
	d.Skip, d.Trailer = 1, 2
	rows, refused := read(t, strings.NewReader(in.String()), csv.Options{Dialect: d, Schema: schema.New(schema.Column{Name: "n", Type: schema.Of(schema.Int)})})
	assert.Len(t, rows, 199_999)
	assert.Equal(t, []string{"199999"}, rows[len(rows)-1])
	require.Len(t, refused, 1)
	assert.EqualValues(t, 150_003, refused[0].Line)
}

func TestDialectsThatCannotBeAreRefused(t *testing.T) {
	for want, d := range map[string]csv.Dialect{
		"is no form of dates":       {Dates: "YYYY-Q"},
		"can't be both":             {Decimal: ",", Thousands: ","},
		"rows too short":            {Short: "guess"},
		"rows too long":             {Long: "guess"},
		"the comment must be":       {Comment: "//"},
		"lines left out at the top": {Skip: -1},
	} {
		assert.ErrorContains(t, d.Validate(), want)
	}
}
