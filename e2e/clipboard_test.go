package e2e

import (
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// TestStepsAreFoundCopiedAndPasted finds a column by typing, walks along the rows'
// way, and takes a step to another sheet as text.
func TestStepsAreFoundCopiedAndPasted(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines/2?step=placed")
	b.see("used by load")
	b.press(kb.ArrowLeft)
	b.see("used by placed")
	b.press(kb.ArrowRight)
	b.see("used by load")
	b.press("/")
	b.fill("input[aria-label=Find]", "overnights worth")
	b.see("column at worth")
	b.press(kb.Enter)
	b.see("row 1, overnights")
	b.shot("found")

	// The clipboard is a script's: a headless browser has none of its own.
	b.until("the step is copied", `(() => {
		document.activeElement?.blur();
		const data = new DataTransfer();
		document.body.dispatchEvent(new ClipboardEvent('copy', { clipboardData: data, bubbles: true, cancelable: true }));
		sessionStorage.setItem('copied', data.getData('text/plain'));
		return data.getData('text/plain').includes('- step: worth');
	})()`)
	b.visit("/pipelines/1?step=typed")
	b.see("used by")
	b.until("the step is pasted", `(() => {
		const data = new DataTransfer();
		data.setData('text/plain', sessionStorage.getItem('copied'));
		document.body.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }));
		return true;
	})()`)
	b.until("the pasted step is chosen", `document.querySelector('[aria-label="Name of the step"]')?.value === 'worth' && location.search.includes('step=worth')`)
	b.see(`no column "arrived"`)
	b.visit("/pipelines/1?step=worth")
	b.see("changed, not saved")
	b.push("Undo")
	b.until("the pasted step is gone", `![...document.querySelectorAll('.steps .line b')].some((e) => e.innerText === 'worth')`)
	require.Empty(t, filter(b.errors, "422"))
}
