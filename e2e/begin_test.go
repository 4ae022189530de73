package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestASheetBeginsWithWhatOneHas begins sheets from a table, from a file that is
// dropped and from an address; rows are seen within three actions.
func TestASheetBeginsWithWhatOneHas(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/connections/2?path=public&open=public.huts")
	b.push("Begin a pipeline with it")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.until("it is named after the table", `document.querySelector("[aria-label='Name of the pipeline']").value === 'Huts'`)

	b.fresh("/pipelines")
	b.see("Warden logs")
	b.until("a file is dropped", `(() => { const d = new DataTransfer(); d.items.add(new File(['club;members\nFellside;41\nLake;12\n'], 'clubs of 2026.csv', {type: 'text/csv'})); for (const what of ['dragover', 'drop']) document.body.dispatchEvent(new DragEvent(what, {dataTransfer: d, bubbles: true, cancelable: true})); return true })()`)
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.see("Fellside")
	b.shot("dropped")

	b.fresh("/pipelines/new")
	b.fill("[aria-label=address]", b.url+"/api/nothing")
	b.push("incoming")
	b.see("is a private address, which this installation does not fetch from")
	b.shot("address")
	require.Empty(t, filter(b.errors, "422"))
}

// TestPeopleOnOneSheetSeeEachOther has two people open one sheet.
func TestPeopleOnOneSheetSeeEachOther(t *testing.T) {
	in := start(t, 0.02).withDemo()
	b := in.open().sign()
	b.visit("/pipelines/1?step=typed")
	b.see("What next after")
	other := in.open()
	other.visit("/")
	other.fill("[name=login]", "builder")
	other.fill("[name=password]", in.signIn.Password)
	other.push("Sign in")
	other.see("Needs a person")
	other.visit("/pipelines/1?step=logs")
	other.see("also here:")
	other.see("at typed")
	b.push("placed") // what is told at once is answered with who else is there
	b.see("also here:")
	b.see("at logs")
	b.shot("also here")
	other.visit("/pipelines")
	other.see("Warden logs")
	b.push("typed")
	b.until("the other one has left", `!document.body.innerText.includes('also here')`)
	require.Empty(t, b.errors)
}
