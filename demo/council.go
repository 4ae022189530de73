package demo

import (
	"fmt"

	"welkin/standin/councilapi"
)

// Council gives what the regional council's API holds: the provisions it pays for, its
// roads, and the figures that it publishes.
func (g *Generator) Council(key string) *councilapi.API {
	r := g.random("council")
	provisions := councilapi.Collection{Columns: []string{"id", "hut", "day", "article", "kg", "paid"}, Way: "page", Inside: "provisions", Size: 100, Since: "day_since"}
	for i := range max(250, int(3000*g.Scale)) {
		provisions.Records = append(provisions.Records, councilapi.Record{fmt.Sprint(i + 1), pick(r, g.huts).code, g.Today.AddDate(0, 0, -60+i*60/max(250, int(3000*g.Scale))).Format("2006-01-02"),
			pick(r, articleNames), fmt.Sprintf("%d.%d", 1+r.IntN(90), r.IntN(10)), fmt.Sprint(r.IntN(5) > 0)})
	}
	roads := councilapi.Collection{Columns: []string{"id", "name", "state", "chains", "seen_at"}, Way: "cursor", Inside: "roads", Size: 3}
	for i, name := range roadNames {
		roads.Records = append(roads.Records, councilapi.Record{fmt.Sprint(i + 1), name, pick(r, []string{"open", "open", "closed"}), pick(r, []string{"no", "needed"}), g.Today.AddDate(0, 0, -r.IntN(3)).Format("2006-01-02") + "T06:00:00Z"})
	}
	figures := councilapi.Collection{Columns: []string{"district", "month", "overnights", "share"}, Way: "link", Form: "csv", Size: 25}
	for m := range 12 {
		for _, d := range districts {
			month := g.Today.AddDate(0, -m, 0)
			figures.Records = append(figures.Records, councilapi.Record{d, month.Format("2006-01"), fmt.Sprint(200 + r.IntN(4000)), fmt.Sprintf("0.%02d", r.IntN(100))})
		}
	}
	return &councilapi.API{Key: key, Rate: 20, FailEach: 40, Collections: map[string]councilapi.Collection{"/v1/provisions": provisions, "/v1/roads": roads, "/v1/council/figures": figures}}
}
