package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"
)

const guestTowns = `welkin: 1
name: guest towns
steps:
  - step: typed
    does: pasted rows
    rows: |
      guest,town,nights
      1,Saltmere,3
      2,Saltmeer,2
      3,Ormskel,1
      4,,5
  - step: towns
    does: pasted rows
    rows: |
      name,district
      Saltmere,East
      Ormskell,West
      Ormskall,West
  - step: homes
    does: match names
    from: typed
    with: towns
    column: town
    name: name
    near: 0.9
    margin: 0.1
  - step: checked
    does: check rules
    from: homes.near
    rules:
      - columns: [nights]
        range: {least: "1", most: "60"}
  - step: all
    does: stack
    from: homes.exact
    with: [checked, homes.unclear]
  - step: by district
    does: sql
    from: all
    query: SELECT district, count(*) AS guests, sum(nights) AS nights FROM "all" GROUP BY district ORDER BY 1
`

// TestBranchesAndFurtherInputsAreSeenAndChanged opens a sheet whose steps have
// several outputs and several inputs, and changes them by hand.
func TestBranchesAndFurtherInputsAreSeenAndChanged(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines")
	b.until("the sheet is kept", `(window.kept ??= fetch('/api/pipelines', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({yaml: `+quoted(guestTowns)+`})}).then(async (r) => { window.made = await r.json() }), window.made?.id > 0)`)
	b.visit("/pipelines/3?step=homes")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.pick("select[aria-label=Output]", "unclear")
	b.see("Ormskel")
	b.shot("branches")
	b.push("checked")
	b.until("reads one output", `document.querySelector('select[aria-label=from]')?.value === 'homes.near'`)
	b.until("a rule is a form of its own", `document.querySelector("[aria-label='rules 1']") !== null`)
	b.shot("rules")
	b.push("all")
	b.until("a further input", `document.querySelector("select[aria-label='with 2']")?.value === 'homes.unclear'`)
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.pick("select[aria-label='with 2']", "homes.too far")
	b.until("its rows come", `document.body.innerText.includes('Saltmeer')`)
	b.push("Add a step")
	b.there("select[aria-label='with 3']")
	b.pick("select[aria-label='with 3']", "homes.unclear")
	b.shot("stack")
	b.push("by district")
	b.see("East")
	b.shot("sql")
	require.Empty(t, b.errors)
}
