package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// TestRowsAreKeptAsAnExampleThatTestsTheSheet edits rows, keeps them, says that
// what comes out is right, and sees the test fail after a change.
func TestRowsAreKeptAsAnExampleThatTestsTheSheet(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines")
	b.keep(hutsByClass)
	b.visit("/pipelines/3?step=real&view=before")
	b.push("Edit these rows")
	b.fill("[aria-label='beds, row 1']", "0")
	b.press("\t")
	b.see("edited rows")
	b.fill("[aria-label='Name of the example']", "a hut without beds")
	b.push("Keep them")
	b.see("kept as a hut without beds")
	b.push("What comes out is right")
	b.shot("example")
	b.push("Whole sheet")
	b.see("Examples")
	b.push("Check them")
	b.see("rows at real, as expected")
	b.push("real")
	b.fill("[aria-label=where]", "beds >= 0")
	b.push("Whole sheet")
	b.push("Check them")
	b.see("1 came that were not expected")
	b.shot("examples")
	b.push("Save")
	b.see("version 2, changed")
	require.Empty(t, b.errors)
}

// longSheet is a sheet of so many steps: reads, chains, joins, routes.
func longSheet(steps int, columns int) string {
	var s strings.Builder
	s.WriteString("welkin: 1\nname: long\nstretches:\n  - {name: the first nights, first: step 3, last: step 7}\nsteps:\n")
	heads, values := make([]string, columns), make([]string, columns)
	for i := range columns {
		heads[i], values[i] = fmt.Sprintf("night_%d", i+1), fmt.Sprint(i)
	}
	fmt.Fprintf(&s, "  - step: step 1\n    does: pasted rows\n    rows: |\n      hut,%s\n", strings.Join(heads, ","))
	for i := range 40 {
		fmt.Fprintf(&s, "      H%02d,%s\n", i+1, strings.Join(values, ","))
	}
	from, side := "step 1", ""
	for i := 2; i <= steps; i++ {
		id := fmt.Sprintf("step %d", i)
		switch {
		case i%10 == 8:
			fmt.Fprintf(&s, "  - {step: %s, does: route, from: %s, branches: [{name: many, where: night_2 > 0}], rest: few}\n", id, from)
			from, side = id+".many", id+".few"
			continue
		case i%10 == 2 && side != "":
			fmt.Fprintf(&s, "  - {step: %s, does: stack, from: %s, with: %s}\n", id, from, side)
			side = ""
		case i%10 == 5:
			fmt.Fprintf(&s, "  - {step: %s, does: derive columns, from: %s, columns: [{name: night_3, value: night_3 + 1}]}\n", id, from)
		default:
			fmt.Fprintf(&s, "  - {step: %s, does: keep rows, from: %s, where: night_1 >= 0}\n", id, from)
		}
		from = id
	}
	return s.String()
}

// TestALongSheetIsFoldedAndOverseen folds stretches of a long sheet, gathers a
// new one by hand and keys, and goes along it.
func TestALongSheetIsFoldedAndOverseen(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines")
	b.keep(longSheet(60, 12))
	b.visit("/pipelines/3?step=step%205")
	b.there(".overview svg rect")
	b.see("What next after “step 5”?")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.shot("long")
	b.press("f")
	b.see("5 steps, step 3 to step 7")
	b.until("its steps are one line", `![...document.querySelectorAll('.steps .line')].some((e) => /^step 4\s/.test(e.innerText))`)
	b.push("step 9")
	b.press("g")
	b.pick("[aria-label='last step of the stretch']", "step 11")
	b.fill("[aria-label='name of the stretch']", "the many")
	b.press(kb.Enter)
	b.see("3 steps, step 9 to step 11")
	b.shot("folded")
	b.press(kb.ArrowDown)
	b.until("the step behind the stretch is chosen", `document.querySelector("[aria-label='Name of the step']")?.value === 'step 12'`)
	b.push("the first nights")
	b.see("step 4")
	require.Empty(t, b.errors)
}
