package demo

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"

	"welkin/core/batch"
	"welkin/core/format/avro"
	"welkin/core/format/excel"
	"welkin/core/format/fixed"
	"welkin/core/format/jsonl"
	"welkin/core/format/parquet"
	"welkin/core/schema"
)

// RadioLayout is the layout of radio_log.dat: the mountain radio's log has lines of two
// types, told apart by their first character.
var RadioLayout = fixed.Layout{Code: &fixed.Code{Start: 1, Length: 1}, Records: []fixed.RecordType{
	{Name: "weather", Code: "W", Fields: []fixed.Field{
		{Name: "hut", Start: 2, Length: 3, Type: schema.Of(schema.Text)},
		{Name: "at", Start: 5, Length: 12, Type: schema.Of(schema.Timestamp), Dates: "YYYYMMDDHH24MI"},
		{Name: "degrees", Start: 17, Length: 5, Type: schema.DecimalOf(4, 1), Scale: 1, Sign: fixed.SignTrailing, Note: "tenths of a degree, the sign last"},
		{Name: "pressure", Start: 22, Length: 5, Type: schema.DecimalOf(5, 1), Scale: 1, Note: "tenths of a hectopascal"},
		{Name: "sky", Start: 28, Length: 10, Type: schema.Of(schema.Text)}}},
	{Name: "call", Code: "C", Fields: []fixed.Field{
		{Name: "hut", Start: 2, Length: 3, Type: schema.Of(schema.Text)},
		{Name: "at", Start: 5, Length: 12, Type: schema.Of(schema.Timestamp), Dates: "YYYYMMDDHH24MI"},
		{Name: "seconds", Start: 17, Length: 4, Type: schema.Of(schema.Int), Fill: "0"},
		{Name: "balance", Start: 21, Length: 7, Type: schema.DecimalOf(7, 2), Scale: 2, Sign: fixed.SignOverpunch, Note: "what the hut owes; the sign in the last digit"},
		{Name: "who", Start: 28, Length: 12, Type: schema.Of(schema.Text)}}},
}}

// column is a column by its name and type.
type column struct {
	name, kind string
}

// rowsOf makes a batch of texts, "" being null.
func rowsOf(columns []column, rows [][]string) (*batch.Batch, error) {
	b := &batch.Batch{Schema: &schema.Schema{}, N: len(rows)}
	for i, c := range columns {
		t, err := schema.ParseType(c.kind)
		if err != nil {
			return nil, err
		}
		b.Schema.Columns = append(b.Schema.Columns, schema.Column{Name: c.name, Type: t, Nullable: true})
		to := batch.NewBuilder(t)
		for _, row := range rows {
			if row[i] == "" {
				to.AppendNull()
			} else if fault := batch.AppendText(to, t, row[i]); fault != nil {
				return nil, fmt.Errorf("%s: %s", c.name, fault.Sentence)
			}
		}
		b.Cols = append(b.Cols, to.NewArray())
	}
	return b, nil
}

// rowWriter is a writer of any format.
type rowWriter interface {
	Write(b *batch.Batch) error
	Flush() error
}

// writeAs writes rows as a file of a format.
func writeAs(path string, b *batch.Batch, begin func(w io.Writer) (rowWriter, error)) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	var out bytes.Buffer
	w, err := begin(&out)
	if err == nil {
		err = w.Write(b)
	}
	if err == nil {
		err = w.Flush()
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return os.WriteFile(path, out.Bytes(), 0o644)
}

// Formats writes the files of the folder incoming that are no CSV: the radio's log, the
// stays by month, the payments, the power boxes and the inventory.
func (g *Generator) Formats(folder string) error {
	for _, write := range []func(string) error{g.radioLog, g.staysByMonth, g.paymentLines, g.powerBoxes, g.inventory, g.roadReport} {
		if err := write(folder); err != nil {
			return err
		}
	}
	return nil
}

// RadioRows gives the rows of the radio's log by record type, as its layout reads them.
func (g *Generator) RadioRows() [][]string {
	r := g.random("radio")
	var rows [][]string
	for d := max(2, min(30, int(30*g.Scale))); d >= 1; d-- {
		for _, h := range g.huts {
			at := g.Today.AddDate(0, 0, -d).Add(time.Duration(r.IntN(24*60)) * time.Minute).Format("2006-01-02 15:04:05")
			if h.warden || r.IntN(3) > 0 {
				rows = append(rows, []string{"weather", h.code, at, fmt.Sprintf("%.1f", float64(r.IntN(400)-200)/10), fmt.Sprintf("%.1f", 780+float64(r.IntN(2300))/10), pick(r, []string{"clear", "cloudy", "fog", "snow", "snow, wind", ""}), "", "", ""})
			}
			if r.IntN(2) == 0 {
				rows = append(rows, []string{"call", h.code, at, "", "", "", fmt.Sprint(5 + r.IntN(1800)), fmt.Sprintf("%.2f", float64(r.IntN(90_000)-30_000)/100), pick(r, givenNames)})
			}
		}
	}
	return rows
}

func (g *Generator) radioLog(folder string) error {
	s, err := RadioLayout.Schema("")
	if err != nil {
		return err
	}
	var columns []column
	for _, c := range s.Columns {
		columns = append(columns, column{c.Name, c.Type.String()})
	}
	b, err := rowsOf(columns, g.RadioRows())
	if err != nil {
		return err
	}
	return writeAs(filepath.Join(folder, "radio_log.dat"), b, func(w io.Writer) (rowWriter, error) { return fixed.NewWriter(w, b.Schema, RadioLayout, "") })
}

// staysByMonth writes a file for each month into folders called year=… and month=….
func (g *Generator) staysByMonth(folder string) error {
	r := g.random("stays by month")
	id := 0
	for m := 5; m >= 0; m-- {
		month := time.Date(g.Today.Year(), g.Today.Month()-time.Month(m), 1, 0, 0, 0, 0, time.UTC)
		var rows [][]string
		for range max(20, int(4000*g.Scale)) {
			id++
			day := month.AddDate(0, 0, r.IntN(28))
			rows = append(rows, []string{fmt.Sprint(id), pick(r, g.huts).code, day.Format("2006-01-02"), fmt.Sprint(1 + r.IntN(5)), fmt.Sprint(1 + r.IntN(6)), fmt.Sprintf("%d.50", 18+r.IntN(30))})
		}
		b, err := rowsOf([]column{{"stay_id", "int"}, {"hut", "text"}, {"arrived", "date"}, {"nights", "int"}, {"guests", "int"}, {"price", "decimal(8,2)"}}, rows)
		if err != nil {
			return err
		}
		name := fmt.Sprintf("stays/year=%d/month=%02d/part-1.parquet", month.Year(), month.Month())
		if err := writeAs(filepath.Join(folder, name), b, func(w io.Writer) (rowWriter, error) { return parquet.NewWriter(w, b.Schema) }); err != nil {
			return err
		}
	}
	return nil
}

// paymentLines writes payments with what was paid for inside, as compressed JSON lines.
func (g *Generator) paymentLines(folder string) error {
	r := g.random("payment lines")
	var rows [][]string
	for i := range max(50, int(5000*g.Scale)) {
		var items []string
		for range 1 + r.IntN(3) {
			items = append(items, fmt.Sprintf(`{"what": %q, "amount": %d.%02d}`, pick(r, []string{"bed", "supper", "breakfast", "shower", "firewood"}), 2+r.IntN(40), 10*r.IntN(10)))
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), g.Today.AddDate(0, 0, -r.IntN(60)).Add(time.Duration(r.IntN(86400)) * time.Second).Format("2006-01-02 15:04:05"),
			fmt.Sprintf(`{"name": %q, "kind": %q}`, pick(r, givenNames)+" "+pick(r, familyNames), pick(r, guestKinds)), "[" + strings.Join(items, ", ") + "]"})
	}
	b, err := rowsOf([]column{{"payment", "int"}, {"at", "timestamptz"}, {"guest", "record{name text, kind text}"}, {"items", "list<record{what text, amount decimal(8,2)}>"}}, rows)
	if err != nil {
		return err
	}
	return writeAs(filepath.Join(folder, "payments.jsonl.gz"), b, func(w io.Writer) (rowWriter, error) {
		z := gzip.NewWriter(w)
		return zipped{jsonl.NewWriter(z, b.Schema), z}, nil
	})
}

// zipped ends the compression with the rows.
type zipped struct {
	rowWriter
	z io.Closer
}

func (z zipped) Flush() error {
	if err := z.rowWriter.Flush(); err != nil {
		return err
	}
	return z.z.Close()
}

func (g *Generator) powerBoxes(folder string) error {
	r := g.random("power boxes")
	var rows [][]string
	for _, h := range g.huts {
		battery := ""
		if r.IntN(3) > 0 {
			battery = fmt.Sprintf(`{"volts": %d.%d, "cycles": %d}`, 11+r.IntN(3), r.IntN(10), r.IntN(900))
		}
		rows = append(rows, []string{h.code, "2020-0" + fmt.Sprint(1+r.IntN(9)) + "-15", fmt.Sprint(r.IntN(3) + 1), fmt.Sprintf("[%d, %d]", 100+r.IntN(300), 50+r.IntN(200)), battery})
	}
	b, err := rowsOf([]column{{"hut", "text"}, {"built", "date"}, {"version", "int"}, {"panels_watts", "list<int>"}, {"battery", "record{volts decimal(4,1), cycles int}"}}, rows)
	if err != nil {
		return err
	}
	return writeAs(filepath.Join(folder, "power_boxes.avro"), b, func(w io.Writer) (rowWriter, error) { return avro.NewWriter(w, b.Schema, "zstd") })
}

func (g *Generator) inventory(folder string) error {
	r := g.random("inventory")
	var rows [][]string
	for _, h := range g.huts {
		for _, what := range []string{"blankets", "gas bottles", "first aid", "snow shovels"} {
			rows = append(rows, []string{h.code, what, fmt.Sprint(r.IntN(60)), g.Today.AddDate(0, 0, -r.IntN(300)).Format("2006-01-02"), pick(r, []string{"", "some worn", "to be renewed"})})
		}
	}
	b, err := rowsOf([]column{{"hut", "text"}, {"what", "text"}, {"count", "int"}, {"counted on", "date"}, {"remark", "text"}}, rows)
	if err != nil {
		return err
	}
	return writeAs(filepath.Join(folder, "inventory.xlsx"), b, func(w io.Writer) (rowWriter, error) { return excel.NewWriter(w, b.Schema, "inventory") })
}

// roadReport writes what the council's road office sends as XML.
func (g *Generator) roadReport(folder string) error {
	r := g.random("road report")
	var out strings.Builder
	out.WriteString("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<report day=\"" + g.Today.Format("2006-01-02") + "\">\n")
	for i, road := range roadNames {
		fmt.Fprintf(&out, "  <road id=\"%d\" open=\"%t\"><name>%s</name><km>%d</km>", i+1, r.IntN(4) > 0, road, 3+r.IntN(40))
		for range r.IntN(3) {
			fmt.Fprintf(&out, "<works from=\"%s\">%s</works>", g.Today.AddDate(0, 0, r.IntN(40)).Format("2006-01-02"), pick(r, []string{"bridge", "tunnel", "surface", "slide"}))
		}
		out.WriteString("</road>\n")
	}
	out.WriteString("</report>\n")
	return os.WriteFile(filepath.Join(folder, "roads.xml"), []byte(out.String()), 0o644)
}

var roadNames = []string{"Fell road", "Saltmere pass", "Quensted lane", "Ormskell bridge road", "Costes climb", "Dunvarrow valley road", "Lake shore", "Old mule way"}
