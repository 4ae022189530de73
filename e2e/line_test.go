package e2e

import (
	"context"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/localpg/pgtest"
)

// TestTheWholeLine does what a new user does: signs in, adds connections, builds
// a sheet of three steps, tries it, runs it, reads the receipt, schedules it.
func TestTheWholeLine(t *testing.T) {
	in := start(t, 0.05)
	b := in.open()
	b.visit("/")
	b.fill("[name=login]", in.signIn.Login)
	b.fill("[name=password]", "not the password")
	b.push("Sign in")
	b.see("name or password is wrong")
	b.sign()

	// A folder, checked before it is added.
	b.visit("/connections/new")
	b.fill("#name", "incoming")
	b.fill("[data-setting=path] input", in.incoming+"x")
	b.push("Check")
	b.see("there is no folder")
	b.fill("[data-setting=path] input", in.incoming)
	b.push("Check")
	b.see("a file was made and removed again")
	b.push("Add it")
	b.see("What is inside")
	b.see("warden_log_h01_")

	// A database with a wrong password first.
	b.visit("/connections/new")
	b.fill("#name", "warehouse")
	b.pick("#kind", "postgresql")
	for setting, v := range map[string]string{"host": in.database.host, "port": in.database.port, "database": in.database.warehouse, "user": in.database.user, "password": "wrong"} {
		b.fill("[data-setting="+setting+"] input", v)
	}
	b.push("Check")
	b.see("wrong password, or no right to sign in")
	b.fill("[data-setting=password] input", in.database.password)
	b.push("Check")
	b.see("new ones may be made")
	b.push("Add it")
	b.see("What is inside")
	b.push("Settings and check")
	b.until("the password is not shown", `document.querySelector('[data-setting=password] input').value === '' && document.querySelector('[data-setting=password] input').placeholder.startsWith('kept')`)

	// Three steps: the first is offered at once, the others by the keyboard.
	b.visit("/pipelines/new")
	b.fill("[aria-label='Name of the pipeline']", "Day logs")
	b.push("read files")
	b.pick("[data-setting=connection] select", "incoming")
	b.fill("[data-setting=files] input", "warden_log_h*.csv")
	b.see("values parted by semicolon")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.press(kb.Escape)
	b.press("a")
	b.fill("input[aria-label='What next']", "filter")
	b.press(kb.Enter)
	b.there("[data-setting=where] .cm-content")
	b.fill("[data-setting=where] .cm-content", "walkrs IS NOT NULL")
	b.see(`there is no column "walkrs"; did you mean "walkers"?`)
	b.until("the mistake is in the way of a run", `[...document.querySelectorAll('button')].some((e) => e.innerText.startsWith('Save and run') && e.disabled)`)
	b.fill("[data-setting=where] .cm-content", "walkers > 5 AND hut < 'H20'")
	b.until("the sheet has no mistake", `![...document.querySelectorAll('button')].some((e) => e.innerText.startsWith('Save and run') && e.disabled)`)
	b.press(kb.Escape)
	b.until("the field is left", `document.activeElement === document.body`)
	b.press("a")
	b.fill("input[aria-label='What next']", "load")
	b.see("write table")
	b.press(kb.Enter)
	b.pick("[data-setting=connection] select", "warehouse")
	b.fill("[data-setting=table] input", "warehouse.day_logs")
	b.see("append to warehouse.day_logs")

	// Undo takes the last edit back, redo makes it again; what is typed survives
	// a reload.
	b.push("Undo")
	b.until("undone", `!document.body.innerText.includes('append to warehouse.day_logs')`)
	b.push("Redo")
	b.see("append to warehouse.day_logs")
	b.visit("/pipelines/new")
	b.see("append to warehouse.day_logs")

	// The text is the same document.
	b.push("Text")
	b.see("walkers > 5 AND hut < 'H20'")
	b.push("Steps")

	b.push("Save and run")
	b.see("The books balance.")
	b.see("made by this run")
	receipt := b.figure("after, counted in the target")
	conn, err := pgx.Connect(context.Background(), pgtest.Server(t).Address(in.database.warehouse))
	require.NoError(t, err)
	defer conn.Close(context.Background())
	var there string
	require.NoError(t, conn.QueryRow(context.Background(), `SELECT count(*)::text FROM warehouse.day_logs WHERE hut < 'H20'`).Scan(&there))
	assert.Equal(t, there, receipt)
	assert.NotEqual(t, "0", there)

	// It starts by the timetable.
	b.push("Day logs")
	b.push("Schedule")
	b.see("Next ten times")
	b.fill("#cron", "61 * * * *")
	b.see("is not a cron expression")
	b.fill("#cron", "* * * * *")
	b.fill("#zone", "Europe/Oslo")
	b.until("ten times", `document.querySelectorAll('[aria-label="Next ten times"] tr').length === 10`)
	b.push("Save")
	b.see("Turn off")
	_, err = in.store.Pool.Exec(context.Background(), `UPDATE schedules SET next_at = now() WHERE cron = '* * * * *'`)
	require.NoError(t, err)
	b.visit("/runs?text=Day")
	b.see("by the timetable")
	b.until("two runs are done", `[...document.querySelectorAll('tbody tr')].filter((r) => r.innerText.includes('Day logs') && r.innerText.includes('done')).length >= 2`)
	// A browser logs each refusal that was provoked above.
	require.Empty(t, filter(b.errors, "the server responded with a status of 4"))
}

func TestAReaderSeesAndMayNotChange(t *testing.T) {
	in := start(t, 0.02).withDemo()
	b := in.open()
	b.visit("/pipelines/1?step=typed")
	b.fill("[name=login]", "reader")
	b.fill("[name=password]", in.signIn.Password)
	b.push("Sign in")
	b.see("derive columns")
	for _, text := range []string{"Save", "Run now", "Try", "Undo"} {
		b.until("no "+text, `![...document.querySelectorAll('button')].some((e) => e.innerText.trim().startsWith(`+quoted(text)+`))`)
	}
	b.until("the server refuses too", `(() => { window.said ??= fetch('/api/pipelines/1/runs', { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{}' }).then((r) => (window.status1 = r.status)); return window.status1 === 403 })()`)
	require.Empty(t, filter(b.errors, "403"))
}

// filter leaves out messages that hold a text.
func filter(list []string, without string) (out []string) {
	for _, s := range list {
		if !strings.Contains(s, without) {
			out = append(out, s)
		}
	}
	return out
}
