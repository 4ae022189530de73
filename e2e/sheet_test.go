package e2e

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"welkin/localpg/pgtest"
)

// TestStepsAreRewiredDuplicatedAndRemoved edits the demo's sheet by hand.
func TestStepsAreRewiredDuplicatedAndRemoved(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines/1?step=counted")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	lines := func(n string) string { return `document.querySelectorAll('button.line').length === ` + n }
	b.until("seven steps", lines("7"))

	b.press("d") // a copy beside it
	b.see("counted 2")
	b.until("eight steps", lines("8"))
	b.pick("select[aria-label=from]", "logs") // rewired past `typed`, which makes `day`
	b.see(`there is no column "day"`)
	b.pick("select[aria-label=from]", "typed")
	b.until("mended", `!document.body.innerText.includes('there is no column')`)
	b.until("nothing has the focus", `(() => { document.activeElement.blur(); return document.activeElement === document.body })()`)
	b.press(kb.Delete)
	b.until("seven again", lines("7"))

	// Removing a step in the middle joins what stood before and after it.
	b.visit("/pipelines/1?step=counted")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.push("Remove step")
	b.until("six steps", lines("6"))
	b.push("placed")
	b.until("wired to the step before", `document.querySelector('select[aria-label=from]')?.value === 'typed'`)
	b.press("u")
	b.until("undone", lines("7"))
	b.until("wired as before", `document.querySelector('select[aria-label=from]')?.value === 'counted'`)

	// The name of a step is changed wherever it stands.
	b.fill("[aria-label='Name of the step']", "with huts")
	b.press(kb.Enter)
	b.push("by day")
	b.until("renamed in the step after", `document.querySelector('select[aria-label=from]')?.value === 'with huts'`)
	b.push("Back to the saved one")
	b.see("placed")

	// Find opens anything by a part of its name.
	b.until("nothing has the focus", `(() => { document.activeElement.blur(); return document.activeElement === document.body })()`)
	b.press("/")
	b.fill("input[aria-label=Find]", "stays pipe")
	b.press(kb.Enter)
	b.see("read stays from booking")
	require.Empty(t, b.errors)
}

// TestARunIsWatchedAndStopped holds the target locked, so that the run waits
// there: the page shows how far each step has come, and Stop ends it.
func TestARunIsWatchedAndStopped(t *testing.T) {
	in := start(t, 0.05).withDemo()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, pgtest.Server(t).Address(in.database.warehouse))
	require.NoError(t, err)
	defer conn.Close(ctx)
	b := in.open().sign()
	b.visit("/pipelines/2")
	b.push("Run now")
	b.see("The books balance.")
	tx, err := conn.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, `LOCK TABLE warehouse.fact_overnight`)
	require.NoError(t, err)
	b.push("Run again")
	b.see("run 2")
	b.see("running")
	b.until("figures of a step while it runs", `[...document.querySelectorAll('.line')].some((l) => l.innerText.includes('worth') && l.innerText.replace(/\s/g, '').includes('10000'))`)
	b.see("rows read so far")
	b.push("Stop")
	b.see("stopped by M. Ostrander. Nothing was loaded")
	b.see("Run again")
	require.NoError(t, tx.Rollback(ctx))
	b.push("Run again")
	b.see("run 3")
	b.see("The books balance.")
	require.Empty(t, b.errors)
}
