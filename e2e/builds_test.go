package e2e

import (
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"welkin/core/match"
)

func sorted(list []string) []string {
	out := slices.Clone(list)
	slices.Sort(out)
	return out
}

// build is a sheet that is built by hand, and the file that must come of it.
type build struct {
	name string
	does func(b *builder)
	file string
	want func(in *installation) []string // the file's lines, made without Welkin
}

// TestSheetsAreBuiltByHand builds five sheets of the scenario by the keyboard
// alone and by the mouse alone, runs them and compares the files they write.
func TestSheetsAreBuiltByHand(t *testing.T) {
	in := start(t, 0.02).withDemo()
	for _, how := range []string{"keyboard", "mouse"} {
		b := in.open().sign()
		for _, c := range builds {
			t.Run(c.name+" by "+how, func(t *testing.T) {
				b.t = t
				h := &builder{browser: b, hands: mouse{b}}
				if how == "keyboard" {
					h.hands = keyboard{b}
				}
				path := filepath.Join(in.incoming, "made", c.file)
				require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
				_ = os.Remove(path)
				h.sheetNamed(c.name + " by " + how)
				c.does(h)
				h.run()
				b.shot("built " + c.name)
				text, err := os.ReadFile(path)
				require.NoError(t, err)
				require.Equal(t, c.want(in), lines(string(text)))
				require.Empty(t, b.errors)
			})
		}
	}
}

// readsFiles adds a read of files.
func (b *builder) readsFiles(pattern, name string) {
	b.t.Helper()
	b.reads("read files", "incoming", "files", pattern, name)
}

// readsTable adds a read of a table of the booking database.
func (b *builder) readsTable(table string) {
	b.t.Helper()
	b.reads("read table", "booking", "table", table, table)
}

// reads adds a read of what a setting names, and gives the step a name.
func (b *builder) reads(kind, connection, setting, value, name string) {
	b.t.Helper()
	b.add(kind)
	b.pickFor("connection", connection)
	b.set(setting, value)
	b.ready()
	b.name(name)
}

// writesFile ends with a file in the folder made.
func (b *builder) writesFile(name string) {
	b.t.Helper()
	b.add("write file")
	b.pickFor("connection", "incoming")
	b.set("file", "made/"+name)
	b.until("the file is named", `document.body.innerText.includes(`+quoted(name)+`)`)
}

// combines sets both inputs of a step.
func (b *builder) combines(from, with string) {
	b.t.Helper()
	b.choose(element("select[aria-label=from]", ""), from)
	b.choose(element("select[aria-label=with]", ""), with)
}

// derives adds a step that derives columns, given as name and value in turn.
func (b *builder) derives(columns ...string) {
	b.t.Helper()
	b.add("derive columns")
	for i := 0; i < len(columns); i += 2 {
		text := "Add one"
		if i == 0 {
			text = "Write one"
		}
		b.pushOn("[data-setting=columns] button", text)
		b.write(fmt.Sprintf("[aria-label='columns %d name']", i/2+1), columns[i])
		b.write(fmt.Sprintf("[aria-label='columns %d value']", i/2+1), columns[i+1])
	}
	b.ready()
}

// takes adds a step that chooses columns, in an order, given as name and new name in turn.
func (b *builder) takes(columns ...string) {
	b.t.Helper()
	b.add("choose columns")
	for i := 0; i < len(columns); i += 2 {
		b.pushOn("[aria-label='take "+columns[i]+"']", "")
		if columns[i+1] != columns[i] {
			b.write("[aria-label='new name of "+columns[i]+"']", columns[i+1])
		}
	}
	b.ready()
}

var builds = []build{
	{
		name: "Occupancy", file: "occupancy.csv",
		does: func(b *builder) {
			b.readsFiles("occupancy_*.csv", "months")
			b.pushOn("button", "Change how they are read")
			b.until("the two lines of the header are found", `document.querySelector("[data-setting='dialect.header_lines'] input")?.value === '2'`)
			b.pushOn(".also button", "file name as")
			b.set("file_as", "file")
			b.see("Jan planned")
			b.add("keep rows")
			b.set("where", "hut <> 'Total'")
			b.ready()
			b.add("unpivot")
			b.write("[aria-label='columns: by name or words']", "all but hut, measure, file")
			b.press(kb.Enter)
			b.ready()
			b.derives("month", "split_part(header, ' ', 1)", "what", "split_part(header, ' ', 2)", "year", "substring(file from '[0-9]{4}')::int")
			b.add("pivot")
			for _, c := range []string{"hut", "measure", "year", "month"} {
				b.pushOn("[data-setting=by] button", c)
			}
			b.set("column", "what")
			b.set("value", "sum(value)")
			b.ready()
			b.takes("hut", "hut", "measure", "measure", "year", "year", "month", "month", "planned", "planned", "counted", "counted")
			b.writesFile("occupancy.csv")
		},
		want: func(in *installation) []string {
			out := []string{"hut,measure,year,month,planned,counted"}
			files, err := filepath.Glob(filepath.Join(in.incoming, "occupancy_*.csv"))
			require.NoError(in.t, err)
			require.Len(in.t, files, 2)
			for _, f := range files {
				year := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(f), "occupancy_"), ".csv")
				records := recordsOf(in, f, ';')
				for _, r := range records[2:] {
					if r[0] == "Total" {
						continue
					}
					for c := 2; c < len(r); c += 2 {
						out = append(out, strings.Join([]string{r[0], r[1], year, records[0][c], r[c], r[c+1]}, ","))
					}
				}
			}
			return append(out[:1:1], sorted(out[1:])...)
		},
	},
	{
		name: "Guest origins", file: "origins.csv",
		does: func(b *builder) {
			b.readsTable("guests")
			b.readsFiles("towns.csv", "towns")
			b.add("match names")
			b.combines("guests", "towns")
			b.set("column", "home_town")
			b.set("name", "name")
			b.see("closest to a threshold")
			b.name("homes")
			b.add("stack")
			b.combines("homes.exact", "homes.near")
			b.ready()
			b.name("known")
			b.add("group")
			b.pushOn("[data-setting=by] button", "district")
			b.choose(element("[aria-label='what is computed']", ""), "rows")
			b.pushOn(".compose button", "Add it")
			b.ready()
			b.writesFile("origins.csv")
			b.goTo("homes")
			b.add("write file")
			b.choose(element("select[aria-label=from]", ""), "homes.unclear")
			b.pickFor("connection", "incoming")
			b.set("file", "made/unclear.csv")
		},
		want: func(in *installation) []string {
			byDistrict, unclear := map[string]int{}, 0
			towns := recordsOf(in, filepath.Join(in.incoming, "towns.csv"), ',')[1:]
			for _, r := range queried(in, "SELECT home_town FROM guests") {
				at, branch := nearestTown(in, towns, r[0])
				switch branch {
				case "known":
					byDistrict[towns[at][1]]++
				case "unclear":
					unclear++
				}
			}
			require.Positive(in.t, unclear, "some are unclear")
			made := recordsOf(in, filepath.Join(in.incoming, "made", "unclear.csv"), ',')
			require.Len(in.t, made, unclear+1)
			var out []string
			for district, n := range byDistrict {
				out = append(out, fmt.Sprintf("%s,%d", district, n))
			}
			return append([]string{"district,rows"}, sorted(out)...)
		},
	},
	{
		name: "Calendar", file: "calendar.csv",
		does: func(b *builder) {
			b.add("generate rows")
			b.set("column", "date")
			b.set("from_value", "date '2025-12-20'")
			b.set("to_value", "date '2026-12-31'")
			b.ready()
			b.add("calendar parts")
			b.set("column", "date")
			b.ready()
			b.takes("date", "date", "iso_year", "iso_year", "iso_week", "iso_week", "weekday_name", "weekday_name", "quarter", "quarter", "is_weekend", "is_weekend")
			b.writesFile("calendar.csv")
		},
		want: func(*installation) []string {
			out := []string{"date,iso_year,iso_week,weekday_name,quarter,is_weekend"}
			for d := time.Date(2025, 12, 20, 0, 0, 0, 0, time.UTC); d.Year() < 2027; d = d.AddDate(0, 0, 1) {
				y, w := d.ISOWeek()
				out = append(out, fmt.Sprintf("%s,%d,%d,%s,%d,%t", d.Format("2006-01-02"), y, w, d.Weekday(), (int(d.Month())+2)/3, d.Weekday() == 0 || d.Weekday() == 6))
			}
			return out
		},
	},
	{
		name: "Tariffs", file: "tariffs.csv",
		does: func(b *builder) {
			b.readsTable("tariffs")
			b.derives("until", "valid_to + 1")
			b.name("periods")
			b.readsTable("guests")
			b.readsTable("huts")
			b.readsTable("stays")
			b.add("join")
			b.combines("stays", "guests")
			b.pushOn("[data-setting=on] .found button", "guest_id = guest_id")
			b.ready()
			b.name("by guest")
			b.add("join")
			b.combines("by guest", "huts")
			b.pushOn("[data-setting=on] .found button", "hut_id = hut_id")
			b.ready()
			b.add("find valid")
			b.choose(element("select[aria-label=with]", ""), "periods")
			for i, key := range []string{"class", "kind"} {
				b.pushOn("[data-setting=on] button", "Add a key")
				b.choose(element(fmt.Sprintf("[aria-label='on %d left']", i+1), ""), key)
				b.choose(element(fmt.Sprintf("[aria-label='on %d right']", i+1), ""), key)
			}
			b.set("at", "arrived")
			b.set("valid_from", "valid_from")
			b.set("valid_to", "until")
			b.ready()
			b.takes("stay_id", "stay_id", "class", "class", "kind", "kind", "arrived", "arrived", "price_2", "tariff")
			b.writesFile("tariffs.csv")
		},
		want: func(in *installation) []string {
			out := []string{"stay_id,class,kind,arrived,tariff"}
			for _, r := range queried(in, `SELECT s.stay_id::text, h.class::text, g.kind, s.arrived::text, coalesce(t.price::text, '') FROM stays s JOIN guests g USING (guest_id) JOIN huts h USING (hut_id)
				LEFT JOIN tariffs t ON t.class = h.class AND t.kind = g.kind AND s.arrived BETWEEN t.valid_from AND t.valid_to`) {
				out = append(out, strings.Join(r, ","))
			}
			return append(out[:1:1], sorted(out[1:])...)
		},
	},
	{
		name: "Clubs", file: "members.csv",
		does: func(b *builder) {
			for _, c := range clubShapes {
				b.readsFiles("clubs/"+c.file+".csv", c.file)
				b.derives("club", "'"+c.file+"'", "no", c.number, "member", c.member, "joined", c.since)
				b.name(c.file + " shaped")
			}
			b.add("stack")
			b.choose(element("select[aria-label=from]", ""), clubShapes[0].file+" shaped")
			b.choose(element("select[aria-label=with]", ""), clubShapes[1].file+" shaped")
			for i, c := range clubShapes[2:] {
				b.pushOn(".wires button", "Add a step")
				b.choose(element(fmt.Sprintf("select[aria-label='with %d']", i+2), ""), c.file+" shaped")
			}
			b.pickFor("columns", "of all")
			b.ready()
			b.takes("club", "club", "no", "number", "member", "member", "joined", "joined")
			b.writesFile("members.csv")
		},
		want: func(in *installation) []string {
			out := []string{"club,number,member,joined"}
			for _, c := range clubShapes {
				for _, r := range recordsOf(in, filepath.Join(in.incoming, "clubs", c.file+".csv"), c.delimiter)[1:] {
					out = append(out, c.file+","+c.want(r))
				}
			}
			return append(out[:1:1], sorted(out[1:])...)
		},
	},
}

// clubShape says how the list of a club becomes one of numbers, members and days.
type clubShape struct {
	file                  string
	delimiter             rune
	number, member, since string // expressions
	want                  func(r []string) string
}

func day(form, text string) string {
	d, err := time.Parse(form, text)
	if err != nil {
		panic(err)
	}
	return d.Format("2006-01-02")
}

var clubShapes = []clubShape{
	{"fellside", ',', `"Member No"::text`, `"Name"`, `"Since"`, func(r []string) string { return r[0] + "," + r[1] + "," + r[2] }},
	{"north_ridge", ';', `nr::text`, `given_name || ' ' || surname`, `joined`, func(r []string) string { return r[0] + "," + r[2] + " " + r[1] + "," + day("02.01.2006", r[3]) }},
	{"lake", ',', `id`, `"full name"`, `"member since"`, func(r []string) string { return r[0] + "," + r[1] + "," + r[2] }},
	{"dunvarrow", ';', `"No."`, `initcap("Member")`, `make_date("Year", 1, 1)`, func(r []string) string {
		words := strings.Fields(strings.ToLower(r[1]))
		for i := range words {
			words[i] = strings.ToUpper(words[i][:1]) + words[i][1:]
		}
		return r[0] + "," + strings.Join(words, " ") + "," + r[2] + "-01-01"
	}},
	{"saltmere", ',', `number::text`, `name`, `since`, func(r []string) string { return r[1] + "," + r[0] + "," + day("02/01/2006", r[2]) }},
	{"costes", '\t', `"MEMBER"::text`, `"NAME"`, `to_date("ENTRY"::text, 'YYYYMMDD')`, func(r []string) string { return r[0] + "," + r[1] + "," + day("20060102", r[2]) }},
	{"quensted", ',', `number::text`, `trim(name)`, `since`, func(r []string) string { return r[0] + "," + strings.TrimSpace(r[1]) + "," + r[2] }},
}

func recordsOf(in *installation, path string, delimiter rune) [][]string {
	in.t.Helper()
	f, err := os.Open(path)
	require.NoError(in.t, err)
	defer f.Close()
	r := csv.NewReader(f)
	r.Comma = delimiter
	all, err := r.ReadAll()
	require.NoError(in.t, err)
	return all
}

func queried(in *installation, query string) [][]string {
	in.t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, fmt.Sprintf("host=%s port=%s user=%s password=%s dbname=%s sslmode=disable", in.database.host, in.database.port, in.database.user, in.database.password, in.database.booking))
	require.NoError(in.t, err)
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, query)
	require.NoError(in.t, err)
	all, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) ([]string, error) {
		values, err := r.Values()
		out := make([]string, len(values))
		for i, v := range values {
			out[i] = fmt.Sprint(v)
		}
		return out, err
	})
	require.NoError(in.t, err)
	return all
}

// nearestTown compares a name with every town, without any index.
func nearestTown(in *installation, towns [][]string, name string) (at int, branch string) {
	fold := match.Folding{Case: true, Accents: true, Punctuation: true}
	wanted := fold.Apply(name)
	best, second, exact := -1.0, -1.0, 0
	for i, town := range towns {
		folded := fold.Apply(town[0])
		if folded == wanted {
			exact++
		}
		score, err := match.Score(match.JaroWinkler, folded, wanted)
		require.NoError(in.t, err)
		if score > best {
			at, best, second = i, score, best
		} else if score > second {
			second = score
		}
	}
	switch {
	case exact == 1, exact == 0 && best >= 0.92 && best-second >= 0.02:
		return at, "known"
	case exact > 1 || best >= 0.8:
		return at, "unclear"
	}
	return at, "too far"
}
