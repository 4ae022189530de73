package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTwoPeopleSaveOneSheet has another version saved while one is edited: both
// are shown in words, and either can be kept.
func TestTwoPeopleSaveOneSheet(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines")
	b.keep(hutsByClass)
	elsewhere := func(version, from, to string) {
		t.Helper()
		b.until("another one saves", `(window.v`+version+` ??= fetch('/api/pipelines/3/versions/`+version+`').then((r) => r.json()).then((v) => fetch('/api/pipelines/3', {method: 'PUT', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({yaml: v.yaml.replace(`+quoted(from)+`, `+quoted(to)+`), version: `+version+`})})).then((r) => { window.saved`+version+` = r.ok }), window.saved`+version+` === true)`)
	}
	b.visit("/pipelines/3?step=real")
	b.fill("[aria-label=where]", "beds > 2")
	b.press("\t")
	b.see("changed, not saved")
	elsewhere("1", "count(*)", "count(DISTINCT code)")
	b.push("Save")
	b.see("Two versions")
	b.see("classes: values had huts = count(*), have huts = count(DISTINCT code)")
	b.see("real: where was beds > 0, is beds > 2")
	b.shot("conflict")
	b.push("Save mine as version 3")
	b.see("version 3, changed")

	b.push("Whole sheet")
	b.see("Versions")
	b.see("real: where was beds > 0, is beds > 2")
	b.shot("versions")
	b.push("Bring it back")
	b.see("Not saved yet")
	b.see("real: where was beds > 2, is beds > 0")
	require.Empty(t, filter(b.errors, "409"))
}
