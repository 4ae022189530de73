package e2e

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheSheetIsAccessible looks for faults of accessibility by axe-core, in the
// sheet's main situations and in both themes.
func TestTheSheetIsAccessible(t *testing.T) {
	axe, err := os.ReadFile("../web/ui/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines")
	b.keep(guestTowns)
	b.keep(longSheet(40, 8))
	for _, theme := range []string{"day", "night"} {
		b.until(theme, `(() => { localStorage.setItem('welkin.theme', `+quoted(theme)+`); return true })()`)
		for _, page := range []struct{ path, seen string }{
			{"/pipelines", "from → to"},
			{"/pipelines/1?step=typed", "After"},
			{"/pipelines/1?step=typed&view=before", "Edit these rows"},
			{"/pipelines/1?step=typed&view=columns", "most frequent"},
			{"/pipelines/1?step=typed&view=aside", "why"},
			{"/pipelines/1?step=placed", "with a partner"},
			{"/pipelines/1?step=load", "nothing has been written"},
			{"/pipelines/1", "The sheet"},
			{"/pipelines/1?step=typed&text=1", "warden_log_*.csv"},
			{"/pipelines/3?step=homes", "closest to a threshold"},
			{"/pipelines/3?step=checked", "Add a rule"},
			{"/pipelines/4?step=step%205", "What next after"},
			{"/pipelines/new", "or give an address"},
		} {
			b.visit(page.path)
			b.see(page.seen)
			b.until("nothing is being read", `![...document.querySelectorAll('p')].some((p) => /^(Trying|Reading)…$/.test(p.innerText))`)
			b.until("axe is there", `(() => { if (!window.axe) { (0, eval)(`+quoted(string(axe))+`) } return !!window.axe })()`)
			b.until("axe has looked", `(window.looked ??= (window.axe.run({resultTypes: ['violations']}).then((r) => { window.found = r.violations.filter((v) => v.impact === 'serious' || v.impact === 'critical').map((v) => v.id + ' (' + v.impact + '): ' + v.nodes.slice(0, 3).map((n) => n.target.join(' ') + ' ' + (n.any[0]?.message ?? '')).join(' | ')) }), true), window.found !== undefined)`)
			text := eval[string](b, `JSON.stringify(window.found)`)
			var found []string
			require.NoError(t, json.Unmarshal([]byte(text), &found))
			if len(found) > 0 {
				t.Errorf("%s by %s:\n  %s", page.path, theme, strings.Join(found, "\n  "))
			}
		}
	}
	require.Empty(t, b.errors)
}

// TestALongWideSheetStaysFluid scrolls and edits a sheet of 150 steps with 300
// columns and says how long the longest task of the page took.
func TestALongWideSheetStaysFluid(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines")
	b.keep(longSheet(150, 299))
	b.visit("/pipelines/3?step=step%20145")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.until("tasks are watched", `(() => { window.tasks = []; new PerformanceObserver((l) => window.tasks.push(...l.getEntries().map((e) => Math.round(e.duration)))).observe({entryTypes: ['longtask']}); return true })()`)
	b.until("the ledger, the rows and the columns are scrolled", `(() => {
		window.scrolled ??= (async () => {
			const frame = () => new Promise(requestAnimationFrame);
			const ledger = document.querySelector('[aria-label=Steps]'), grid = document.querySelector('.cells');
			for (let i = 0; i <= 60; i++) { ledger.scrollTop = ledger.scrollHeight * i / 60; await frame(); }
			for (let i = 0; i <= 60; i++) { grid.scrollLeft = grid.scrollWidth * i / 60; await frame(); }
			for (let i = 0; i <= 30; i++) { grid.scrollTop = grid.scrollHeight * i / 30; await frame(); }
			window.done = true;
		})();
		return window.done === true })()`)
	scrolling := eval[string](b, `JSON.stringify(window.tasks.splice(0))`)
	b.push("step 144")
	b.there("[aria-label=where]")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	choosing := eval[string](b, `JSON.stringify(window.tasks.splice(0))`)
	b.fill("[aria-label=where]", "night_1 >= 0 AND night_2 >= 0 AND night_299 >= 0")
	b.until("the rows come anew", `document.querySelector('.steps .line.on .what')?.innerText.includes('night_299')`)
	editing := eval[string](b, `JSON.stringify(window.tasks.splice(0))`)
	t.Logf("150 steps, 300 columns: tasks over 50 ms while scrolling %s, choosing a step %s, typing %s", scrolling, choosing, editing)
	b.shot("wide")
	require.Empty(t, b.errors)
}
