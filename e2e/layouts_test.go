package e2e

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/demo"
)

// at gives where a character of the drawn records stands on the screen: the left edge of
// the place, counted from 1, in the middle of the first record.
func (b *browser) at(place int) (x, y float64) {
	b.t.Helper()
	box := eval[[]float64](b, `(() => { const p = document.querySelector('.paper'); const r = p.getBoundingClientRect(); const one = r.width / parseFloat(p.style.width); return [r.left + one * `+strconv.Itoa(place-1)+`, r.top + 10] })()`)
	return box[0], box[1]
}

// drag presses the mouse at one point, moves it in steps, and lets go at another.
func (b *browser) drag(x1, y1, x2, y2 float64) {
	b.t.Helper()
	b.do("press the mouse", chromedp.MouseEvent(chromedp.MousePressed, x1, y1, chromedp.ButtonLeft))
	for i := 1; i <= 4; i++ {
		part := float64(i) / 4
		b.do("move the mouse", chromedp.MouseEvent(chromedp.MouseMoved, x1+(x2-x1)*part, y1+(y2-y1)*part, chromedp.ButtonLeft))
	}
	b.do("let the mouse go", chromedp.MouseEvent(chromedp.MouseReleased, x2, y2, chromedp.ButtonLeft))
}

// TestALayoutIsDrawnOnTheRecords draws the layout of the radio's weather lines by dragging,
// keeps it, and reads the file by it in a sheet: the rows are those the generator made.
func TestALayoutIsDrawnOnTheRecords(t *testing.T) {
	in := start(t, 0.1).withDemo()
	b := in.open().sign()
	b.visit("/layouts/new?connection=incoming&file=radio_log.dat")
	b.see("Proposed from the records")
	b.fill("[aria-label=Name]", "drawn by hand")
	field := func(name string) string { return `document.querySelector("[aria-label='Start of ` + name + `']")` }
	clear := func() {
		b.until("no field is left", `(() => { const x = document.querySelector("td button[aria-label^='Remove ']"); x?.click(); return x === null })()`)
	}
	clear()
	// Each field is drawn over its characters: first and last place.
	for _, f := range []struct {
		first, last int
		name        string
	}{{2, 4, "hut"}, {5, 16, "at"}, {17, 20, "degrees"}, {22, 26, "pressure"}, {28, 37, "sky"}} {
		x1, y := b.at(f.first)
		x2, _ := b.at(f.last)
		b.drag(x1+4.5, y, x2+4, y) // beside the edge that stands there
		drawn := "field_" + strconv.Itoa(f.first)
		b.until("the field "+drawn+" is drawn", field(drawn)+` !== null`)
		b.until("it is named", `(() => { const e = document.querySelector("[aria-label='Name of `+drawn+`']"); e.value = `+quoted(f.name)+`; e.dispatchEvent(new Event('change', { bubbles: true })); return true })()`)
		b.until("it is called "+f.name, field(f.name)+` !== null`)
	}
	// The sign belongs to the degrees: their edge is dragged one character on.
	x, y := b.at(21)
	to, _ := b.at(22)
	b.drag(x, y, to, y)
	length := func(name, want string) {
		b.until(name+" is "+want+" long", `document.querySelector("[aria-label='Length of `+name+`']").value === `+quoted(want))
	}
	length("degrees", "5")
	length("pressure", "5")
	// By keys an edge goes back and forth.
	b.until("the edge has the focus", `(() => { document.querySelector("[aria-label='End of sky']").focus(); return true })()`)
	b.press(kb.ArrowRight)
	length("sky", "11")
	b.press(kb.ArrowLeft)
	length("sky", "10")
	set := func(label, value string) {
		b.until(label, `(() => { const e = document.querySelector("[aria-label='`+label+`']"); if (!e) return false; e.value = `+quoted(value)+`; e.dispatchEvent(new Event('change', { bubbles: true })); return true })()`)
	}
	set("Type of at", "timestamp")
	set("Form of at", "YYYYMMDDHH24MI")
	set("Type of degrees", "decimal(4,1)")
	set("Decimals of degrees", "1")
	set("Sign of degrees", "trailing")
	set("Type of pressure", "decimal(5,1)")
	set("Decimals of pressure", "1")
	set("Name of the type", "weather")
	b.until("the values are read", `[...document.querySelectorAll('.reads')].some((e) => /^-?\d+\.\d, -?\d+\.\d/.test(e.innerText)) && !document.querySelector('.fault')`)
	x, y = b.at(5)
	b.do("point at a character", chromedp.MouseEvent(chromedp.MouseMoved, x+3, y))
	b.see("character 5, byte 32, in at")
	b.shot("layout")
	b.push("Keep it")
	b.until("it is kept", `/^\/layouts\/\d+$/.test(location.pathname)`)
	b.see("drawn by hand")

	b.visit("/pipelines")
	b.keep(`welkin: 1
name: Weather as drawn
steps:
  - {step: log, does: read files, connection: incoming, files: radio_log.dat, layout: drawn by hand, record: weather}
  - {step: out, does: write file, from: log, connection: incoming, file: weather_as_drawn.csv}
`)
	b.visit("/pipelines/3?step=log")
	b.there("[aria-label='Rows after'] [role=gridcell]")
	b.push("Run now")
	b.see("The books balance.")
	f, err := os.Open(filepath.Join(in.incoming, "weather_as_drawn.csv"))
	require.NoError(t, err)
	defer f.Close()
	got, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	var want [][]string
	for _, row := range demo.New(demo.Options{Scale: 0.1, Today: time.Now()}).RadioRows() {
		if row[0] == "weather" {
			want = append(want, row[1:6])
		}
	}
	assert.Equal(t, []string{"hut", "at", "degrees", "pressure", "sky"}, got[0])
	assert.Equal(t, len(want), len(got)-1)
	for i := range want {
		require.Equal(t, strings.Join(want[i], "|"), strings.Join(got[i+1], "|"))
	}
	require.Empty(t, b.errors)
}
