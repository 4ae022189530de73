package demo

import (
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Incoming writes the files of the folder incoming: the wardens' logs, the
// occupancy of the huts, the list of towns and the lists of the partner clubs.
func (g *Generator) Incoming(folder string) error {
	if err := g.WardenLogs(folder); err != nil {
		return err
	}
	for year := g.Today.Year() - 1; year <= g.Today.Year(); year++ {
		if err := g.occupancy(folder, year); err != nil {
			return err
		}
	}
	if err := g.towns(folder); err != nil {
		return err
	}
	if err := g.clubs(filepath.Join(folder, "clubs")); err != nil {
		return err
	}
	return g.Formats(folder)
}

// writeRows writes records as a file of delimited text.
func writeRows(path string, delimiter rune, records [][]string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	w := csv.NewWriter(f)
	w.Comma = delimiter
	if err := w.WriteAll(records); err != nil {
		_ = f.Close()
		return err
	}
	return f.Close()
}

var measures = []string{"beds", "suppers", "dogs"}

// occupancy writes a row for each hut and measure and a pair of columns, planned
// and counted, for each month; two header rows, and a row of totals for each
// measure at the end. Months to come have no counts.
func (g *Generator) occupancy(folder string, year int) error {
	r := g.random(fmt.Sprint("occupancy ", year))
	months, kinds := []string{"hut", "measure"}, []string{"", ""}
	for m := time.January; m <= time.December; m++ {
		months, kinds = append(months, m.String()[:3], ""), append(kinds, "planned", "counted")
	}
	records := [][]string{months, kinds}
	totals := make(map[string][]int)
	for _, h := range g.huts {
		for k, measure := range measures {
			row := []string{h.code, measure}
			if totals[measure] == nil {
				totals[measure] = make([]int, 24)
			}
			for m := time.January; m <= time.December; m++ {
				planned := r.IntN(h.beds*25) / (k*k*2 + 1)
				counted := max(0, planned+r.IntN(21)-10)
				at := int(m-1) * 2
				totals[measure][at] += planned
				row = append(row, fmt.Sprint(planned))
				if time.Date(year, m+1, 1, 0, 0, 0, 0, time.UTC).After(g.Today) {
					row = append(row, "")
					continue
				}
				totals[measure][at+1] += counted
				row = append(row, fmt.Sprint(counted))
			}
			records = append(records, row)
		}
	}
	for _, measure := range measures {
		row := []string{"Total", measure}
		for _, n := range totals[measure] {
			row = append(row, fmt.Sprint(n))
		}
		records = append(records, row)
	}
	return writeRows(filepath.Join(folder, fmt.Sprintf("occupancy_%d.csv", year)), ';', records)
}

var (
	townBegins = []string{"Hol", "Bran", "Quen", "Orm", "Dun", "Mar", "Elm", "Nor", "Wes", "Thor", "Fen", "Ash", "Bir", "Cal", "Dra", "Ever", "Gar", "Hes", "Ings", "Kel"}
	townMiddle = []string{"la", "ni", "ste", "ska", "va", "de", "ler", "wa", "mi", "ro", "the", "bu", "go", "ra", "shi"}
	townEnds   = []string{"by", "dale", "ford", "ham", "mere", "stead", "wick", "well", "ton", "holt", "fleet", "gate", "rigg", "side", "thorpe", "vale", "worth", "beck", "low", "ness"}
)

// towns writes 6,000 towns with their district and their way to the huts. Some
// differ from another by a letter, and two are called the same.
func (g *Generator) towns(folder string) error {
	r := g.random("towns")
	records := [][]string{{"name", "district", "distance_km"}}
	add := func(name string) {
		records = append(records, []string{name, pick(r, districts), fmt.Sprint(3 + r.IntN(240))})
	}
	for _, name := range towns {
		add(name)
	}
	add("Nax") // the other one
	for _, a := range townBegins {
		for _, b := range townMiddle {
			for _, c := range townEnds {
				if len(records) <= 6000 {
					add(a + b + c)
				}
			}
		}
	}
	return writeRows(filepath.Join(folder, "towns.csv"), ',', records)
}

// club is how one partner club writes its list of members.
type club struct {
	name      string
	delimiter rune
	columns   []string // headings, in the order of the file
	member    func(r *rand.Rand, n int, name string, since time.Time) []string
}

var clubList = []club{
	{"fellside", ',', []string{"Member No", "Name", "Since"}, func(_ *rand.Rand, n int, name string, since time.Time) []string {
		return []string{fmt.Sprint(1000 + n), name, since.Format("2006-01-02")}
	}},
	{"north_ridge", ';', []string{"nr", "surname", "given_name", "joined"}, func(_ *rand.Rand, n int, name string, since time.Time) []string {
		given, family, _ := strings.Cut(name, " ")
		return []string{fmt.Sprint(n), family, given, since.Format("02.01.2006")}
	}},
	{"lake", ',', []string{"id", "full name", "member since", "e-mail"}, func(_ *rand.Rand, n int, name string, since time.Time) []string {
		return []string{"L" + fmt.Sprint(n), name, since.Format("2006-01-02"), fmt.Sprintf("member%d@lake.example", n)}
	}},
	{"dunvarrow", ';', []string{"No.", "Member", "Year"}, func(_ *rand.Rand, n int, name string, since time.Time) []string {
		return []string{fmt.Sprintf("D-%03d", n), strings.ToUpper(name), since.Format("2006")}
	}},
	{"saltmere", ',', []string{"name", "number", "since", "remark"}, func(r *rand.Rand, n int, name string, since time.Time) []string {
		return []string{name, fmt.Sprint(n), since.Format("02/01/2006"), pick(r, []string{"", "honorary", "has the key, back door"})}
	}},
	{"costes", '\t', []string{"MEMBER", "NAME", "ENTRY"}, func(_ *rand.Rand, n int, name string, since time.Time) []string {
		return []string{fmt.Sprint(n), name, since.Format("20060102")}
	}},
	{"quensted", ',', []string{"number", "name", "since"}, func(_ *rand.Rand, n int, name string, since time.Time) []string {
		return []string{fmt.Sprint(n), "  " + name + " ", since.Format("2006-01-02")}
	}},
}

// clubs writes the seven lists of members, each in its club's own way.
func (g *Generator) clubs(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	r := g.random("clubs")
	for _, c := range clubList {
		records := [][]string{c.columns}
		for n := range 20 + r.IntN(40) {
			since := g.Today.AddDate(0, 0, -30-r.IntN(12_000))
			records = append(records, c.member(r, n+1, pick(r, givenNames)+" "+pick(r, familyNames), since))
		}
		if err := writeRows(filepath.Join(folder, c.name+".csv"), c.delimiter, records); err != nil {
			return err
		}
	}
	return nil
}
