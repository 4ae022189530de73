package e2e

import (
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

const club = `welkin: 1
name: club list
steps:
  - step: list
    does: pasted rows
    columns: [{name: guest, type: text}, {name: joined, type: text}, {name: town, type: text}, {name: notes, type: text}]
    rows: |
      guest,joined,town,notes
      Ann Orm,2026-03-01,Saltmere,"{""beds"": [1, 2]}"
      Bo Fell,2026-03-02,Larkfell,
      Cy Beck,2026-03-03,saltmere,
      Di Tarn,2026-03-04,Ormby,
      Ed Moor,2026-03-05,Ormby,
      Flo Gill,2026-03-06,Ormby,
      Gus Holm,2026-03-07,Ormby,
      Hal Wick,2026-03-08,Ormby,
      Ida Ness,2026-03-09,Ormby,
      Jo Scar,2026-03-10,Ormby,
      Kit Dale,2026-03-11,Ormby,
      Lu Crag,2026-03-12,Ormby,
      Mo Thorn,2026-03-13,Ormby,
      Ned Raven,2026-03-14,Ormby,
      Oda Seat,2026-03-15,Ormby,
      Pat Mere,2026-03-16,Ormby,
      Quin Salt,2026-03-17,Ormby,
      Ray Lark,2026-03-18,Ormby,
      Sue Orm,2026-03-19,Ormby,
      Tom Fell,2026-03-20,Ormby,
      Una Beck,soon,Ormby,
  - {step: named, does: derive columns, from: list, columns: [{name: short, value: "left(guest, 3)"}]}
  - {step: some, does: keep rows, from: named, where: town <> 'Larkfell'}
`

// TestRowsAreLookedAtInOtherWays sorts, filters, keeps columns in view, opens a
// cell, follows a row and takes an offer.
func TestRowsAreLookedAtInOtherWays(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines")
	b.keep(club)
	b.visit("/pipelines/3?step=named")
	first := func(column int, value string) {
		t.Helper()
		b.until("the first row's column is "+value, `document.querySelectorAll('[role=grid] [aria-rowindex="2"] [role=gridcell]')[`+string(rune('0'+column))+`]?.innerText.trim() === `+quoted(value))
	}
	first(0, "Ann Orm")
	b.push("guest")
	b.push("Falling")
	first(0, "Una Beck")
	b.see("in order of guest")
	b.push("town")
	b.fill("[aria-label='Show rows whose town is']", "= Ormby")
	b.see("18 of 21 rows: town")
	b.push("Keep in view")
	first(0, "Ormby")
	b.shot("rows")
	b.push("As they come")
	b.push("Let it move")
	first(0, "Ann Orm")

	// A cell by keys: the fourth of the first row, all of it.
	b.until("stand on the first cell", `(() => { document.querySelector('[role=grid] [role=gridcell]').click(); document.querySelector('[role=grid]').focus(); return true })()`)
	for range 3 {
		b.press(kb.ArrowRight)
	}
	b.see("row 1, notes")
	b.press(kb.Enter)
	b.see("beds 2 values")
	b.shot("cell")
	b.press(kb.Escape)
	b.until("the cell is closed", `!document.body.innerText.includes('2 values')`)

	// The way of a row that is dropped.
	b.press(kb.ArrowDown)
	b.push("Follow this row")
	b.see("The way of one row")
	b.see("dropped by the rule of this step")
	b.see("short Bo")
	b.shot("way")
	b.push("Close")

	// What fits a column becomes a step.
	b.push("joined")
	b.see("reads as a date in 95.2 % of rows: Retype it, 1 set aside")
	b.shot("offers")
	b.push("Retype it")
	b.see("take joined as date, keep the others")
	b.push("Set aside")
	b.see("soon")
	require.Empty(t, b.errors)
}
