package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const guestOrigins = `welkin: 1
name: Guest origins
steps:
  - {step: guests, does: read table, connection: booking, table: guests}
  - {step: towns, does: read files, connection: incoming, files: towns.csv}
  - step: homes
    does: match names
    from: guests
    with: towns
    column: home_town
    name: name
    decided: [{value: near Nax, name: Nax}]
  - {step: known, does: stack, from: homes.exact, with: homes.near}
  - {step: by district, does: group, from: known, by: [district], values: [{name: guests, value: count(*)}]}
  - {step: load, does: write table, from: by district, connection: warehouse, table: warehouse.guest_origin, mode: replace}
  - {step: to be looked at, does: write file, from: homes.unclear, connection: incoming, file: unclear_towns.csv}
`

const occupancyByMonth = `welkin: 1
name: Occupancy by month
steps:
  - step: months
    does: read files
    connection: incoming
    files: occupancy_*.csv
    dialect: {delimiter: ";", quote: "\"", encoding: utf-8, header: true, header_lines: 2}
    file_as: file
  - {step: huts alone, does: keep rows, from: months, where: hut <> 'Total', note: the last rows are totals}
  - {step: by slot, does: unpivot, from: huts alone, columns: ["all but hut, measure, file"], header_as: slot, value_as: n}
  - step: named
    does: derive columns
    from: by slot
    columns:
      - {name: month, value: "split_part(slot, ' ', 1)"}
      - {name: what, value: "split_part(slot, ' ', 2)"}
  - {step: wide again, does: pivot, from: named, by: [hut, measure, file, month], column: what, value: sum(n)}
  - {step: load, does: write table, from: wide again, connection: warehouse, table: warehouse.occupancy, mode: replace}
`

// TestEveryPageFitsAndIsQuiet opens every page of the demo at 1280×800: none
// scrolls sideways and none leaves an error in the console. With WELKIN_SHOTS
// it also takes the pictures of docs/screenshots.
func TestEveryPageFitsAndIsQuiet(t *testing.T) {
	b := start(t, 0.1).withDemo().open().sign()
	for _, name := range []string{"Stays by night", "Warden logs"} {
		b.visit("/pipelines")
		b.see(name)
		b.push(name)
		b.push("Run now")
		b.see("The books balance.")
	}
	for _, page := range []struct{ path, seen, shot string }{
		{"/", "Needs a person", "today"},
		{"/connections", "Choose a connection", ""},
		{"/connections/1", "What is inside", "connection"},
		{"/connections/2?path=public&open=public.stays", "First rows", "inside"},
		{"/connections/new", "New connection", ""},
		{"/pipelines", "from → to", "pipelines"},
		{"/pipelines/1?step=typed", "After", "sheet"},
		{"/pipelines/1?step=logs", "Found by looking", ""},
		{"/pipelines/1?step=placed", "warn above", "join"},
		{"/pipelines/1?step=load", "nothing has been written", "load"},
		{"/pipelines/1?step=typed&view=columns", "most frequent", "columns"},
		{"/pipelines/1?step=typed&text=1", "warden_log_*.csv", "text"},
		{"/pipelines/1", "The sheet", ""},
		{"/runs", "asked for", "runs"},
		{"/runs/2", "The books balance.", "run"},
		{"/runs/2?view=aside", "Export as CSV", "set_aside"},
		{"/runs/2?view=accounts", "in + made", ""},
		{"/runs/2?view=log", "begins on", ""},
		{"/timetable", "Turn off", ""},
		{"/timetable/1", "Next ten times", "timetable"},
		{"/people", "signs in as", ""},
		{"/nowhere", "Nothing is here", ""},
	} {
		b.visit(page.path)
		b.see(page.seen)
		b.until("nothing is being read", `![...document.querySelectorAll('p')].some((p) => /^(Trying|Reading)…$/.test(p.innerText))`)
		if strings.HasPrefix(page.path, "/timetable/") {
			b.there("[aria-label='Next ten times'] tr:nth-child(10)")
		}
		b.until("the page fits: "+page.path, `document.documentElement.scrollWidth <= 1280 && document.body.scrollWidth <= 1280`)
		if page.shot != "" {
			b.shot(page.shot)
		}
		require.Empty(t, b.errors, page.path)
	}
	b.visit("/pipelines")
	b.keep(hutsByClass)
	b.visit("/pipelines/3")
	b.push("Ask the database for its plan")
	b.see("Aggregate")
	b.until("the plan fits", `document.documentElement.scrollWidth <= 1280`)
	b.shot("database")
	b.visit("/pipelines")
	b.keep(guestOrigins)
	b.visit("/pipelines/4?step=homes&branch=unclear")
	b.see("closest to a threshold")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.shot("pairs")
	b.visit("/pipelines")
	b.keep(occupancyByMonth)
	b.visit("/pipelines/5?step=by%20slot&view=before")
	b.there("[aria-label='Rows before'] .lit")
	b.shot("unpivot")
	b.until("night", `(() => { localStorage.setItem('welkin.theme', 'night'); return true })()`)
	b.visit("/pipelines/1?step=by%20day")
	b.see("After")
	b.until("night is on", `document.documentElement.dataset.mode === 'night'`)
	b.shot("sheet_night")
	require.Empty(t, b.errors)
}
