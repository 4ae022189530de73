package api_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"welkin/demo"
	"welkin/localpg/pgtest"
)

const twelveSteps = `welkin: 1
name: logs by hut
steps:
  - {step: logs, does: read files, connection: incoming, files: warden_log_*.csv}
  - {step: tidy, does: tidy names, from: logs}
  - {step: day, does: derive columns, from: tidy, columns: [{name: day, value: "CASE WHEN date ~ '^[0-9]{4}-' THEN to_date(date, 'YYYY-MM-DD') WHEN date ~ '[.]' THEN to_date(date, 'DD.MM.YYYY') ELSE to_date(date, 'DD Mon YYYY') END"}]}
  - {step: level, does: derive columns, from: day, columns: [{name: water_m, value: "replace(water_level, ',', '.')::decimal(6,2)"}]}
  - {step: kept, does: keep rows, from: level, where: walkers IS NOT NULL AND water_m > 0}
  - {step: huts, does: read table, connection: booking, table: huts}
  - {step: placed, does: join, from: kept, with: huts, on: [{left: hut, right: code}]}
  - {step: paths, does: read files, connection: incoming, files: paths.csv}
  - {step: known, does: look up, from: placed, with: paths, on: [{left: path, right: path}], take: [name], suffix: _of_path}
  - {step: ranked, does: window, from: known, by: [hut], order: [{by: water_m, order: falling}], values: [{name: place, value: rank()}]}
  - {step: calendar, does: calendar parts, from: ranked, column: day, parts: [iso_week, weekday_name]}
  - {step: weeks, does: group, from: calendar, by: [district, iso_week], values: [{name: walkers, value: count(walkers)}, {name: level, value: avg(water_m)}]}
`

// BenchmarkTrialAfterAnEdit tries the first 200 rows of a sheet of twelve steps
// after an edit, over the API and on the demo's data: of the last step, and of
// the fifth, whose change the seven steps behind it see.
func BenchmarkTrialAfterAnEdit(b *testing.B) {
	ctx := context.Background()
	at, _ := serve(b)
	c := as(b, at, "builder")
	folder := b.TempDir()
	name, booking := pgtest.Database(b)
	g := demo.New(demo.Options{Scale: 1, Today: time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)})
	if err := g.Incoming(folder); err != nil {
		b.Fatal(err)
	}
	if err := g.Booking(ctx, booking); err != nil {
		b.Fatal(err)
	}
	pg := pgtest.Server(b)
	for _, body := range []map[string]any{
		{"name": "incoming", "kind": "folder", "settings": map[string]any{"path": folder}},
		{"name": "booking", "kind": "postgresql", "settings": map[string]any{"host": "127.0.0.1", "port": pg.Port, "database": name, "user": pg.User(), "password": pg.Password(), "tls": "disable"}},
	} {
		if status, said := c.do("POST", "/api/connections", body); status != http.StatusOK {
			b.Fatal(said)
		}
	}
	for _, edit := range []struct{ name, step, from, to string }{
		{"last step", "weeks", "avg(water_m)", "avg(water_m) + %d"},
		{"fifth step", "weeks", "water_m > 0", "water_m > 0 - %d"},
	} {
		b.Run(edit.name, func(b *testing.B) {
			var took []time.Duration
			try := func(n int) {
				body := map[string]any{"yaml": strings.Replace(twelveSteps, edit.from, fmt.Sprintf(edit.to, n), 1), "step": edit.step, "sample": 200, "show": 200}
				began := time.Now()
				status, said := c.do("POST", "/api/sheets/try", body)
				if took = append(took, time.Since(began)); status != http.StatusOK || !json.Valid([]byte(said)) {
					b.Fatal(said)
				}
			}
			try(-1) // the first trial reads; what is measured are those after an edit
			took = took[:0]
			for n := range max(b.N, 9) {
				try(n)
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-median")
			b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "ms-worst")
		})
	}
}
