package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"
)

const hutsByClass = `welkin: 1
name: beds by class
steps:
  - step: huts
    does: read table
    connection: booking
    table: huts
  - step: real
    does: keep rows
    from: huts
    where: beds > 0
  - step: classes
    does: group
    from: real
    by: [class]
    values:
      - {name: huts, value: count(*)}
      - {name: beds, value: sum(beds)}
  - step: load
    does: write table
    from: classes
    connection: booking
    table: report.beds_by_class
    mode: replace
`

// keep saves a sheet through the API, as the signed-in person.
func (b *browser) keep(yaml string) {
	b.t.Helper()
	b.until("the sheet is kept", `(() => { const kept = (window.kept ??= {}), text = `+quoted(yaml)+`;
		kept[text] ??= (fetch('/api/pipelines', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({yaml: text})}).then(async (r) => { kept[text] = await r.json() }), {});
		return kept[text].id > 0 })()`)
}

// TestColumnsAreDescribedAndRowsEdited looks into the columns of a trial and
// tries a step on rows edited by hand.
func TestColumnsAreDescribedAndRowsEdited(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines/1?step=typed&view=columns")
	b.there("svg[aria-label^='distribution of']")
	b.push("water level")
	b.see("frequent values")
	b.see("shapes: x a letter")
	b.shot("columns")

	b.visit("/pipelines")
	b.keep(hutsByClass)
	b.visit("/pipelines/3?step=classes&view=before")
	b.see("Edit these rows")
	b.push("Edit these rows")
	b.fill("[aria-label='class, row 1']", "moored")
	b.press("\t")
	b.see("edited rows")
	b.shot("edited")
	b.push("After")
	b.see("moored")
	b.push("Before")
	b.fill("[aria-label='beds, row 1']", "many")
	b.press("\t")
	b.see(`row 1, column "beds": "many" is not a whole number`)
	b.push("Back to the rows read")
	b.push("After")
	b.until("the rows read are back", `!document.body.innerText.includes('moored') && !document.body.innerText.includes('edited rows')`)
	require.Empty(t, filter(b.errors, "422"))
}

// TestASheetRunsInItsDatabase sees the statement and its plan first, runs it
// there, and then has the engine do it.
func TestASheetRunsInItsDatabase(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines")
	b.keep(hutsByClass)
	b.visit("/pipelines/3")
	b.see("In the database of booking, as the statement below")
	b.see(`"step classes" AS (`)
	b.push("Ask the database for its plan")
	b.see("Aggregate")
	b.shot("where")
	b.push("Run now")
	b.see("Done in the database")
	b.see("The books balance.")
	b.shot("ran")

	b.visit("/pipelines/3")
	b.pick("[aria-label='runs in']", "own")
	b.see("In Welkin's engine, as the sheet says")
	b.push("Save and run")
	b.see("The books balance.")
	require.Empty(t, b.errors)
}
