package xml_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch/batchtest"
	"welkin/core/format/formattest"
	"welkin/core/format/xml"
)

const roads = `<?xml version="1.0" encoding="ISO-8859-1"?>
<report xmlns:w="urn:larkfell"><made>2026-11-23</made>
<roads>
  <road id="7" open="true"><w:name>Fell road &amp; pass</w:name><toll>2.50</toll><closed on="2026-01-02">snow</closed><closed on="2026-02-03">slide</closed></road>
  <road id="8" open="false"><name><![CDATA[H` + "\xf8" + `yt <upper>]]></name><toll/><closed on="2026-03-04">snow</closed><surface><kind>gravel</kind><km>12</km></surface></road>
</roads></report>`

func TestRecordsAreFoundAndRead(t *testing.T) {
	name, n := xml.FindRecords([]byte(roads))
	assert.Equal(t, "road", name)
	assert.Equal(t, 2, n)
	s, n, err := xml.Infer([]byte(roads), name)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	var columns []string
	for _, c := range s.Columns {
		columns = append(columns, c.Name+" "+c.Type.String())
	}
	assert.Equal(t, []string{"id int", "open bool", "name text", "toll decimal(18,2)", "closed list<record{on date, text text}>", "surface record{km int, kind text}"}, columns)
	rows, refused := formattest.Read(t, xml.Open(strings.NewReader(roads), xml.Options{Records: "roads/road", Schema: s, Place: "roads.xml"}))
	assert.Empty(t, refused)
	assert.Equal(t, [][]string{
		{"7", "true", "Fell road & pass", "2.50", `[{"on": "2026-01-02", "text": "snow"}, {"on": "2026-02-03", "text": "slide"}]`, "∅"},
		{"8", "false", "Høyt <upper>", "∅", `[{"on": "2026-03-04", "text": "snow"}]`, `{"km": 12, "kind": "gravel"}`}}, rows)
}

func TestABadValueIsRefusedWithItsRecord(t *testing.T) {
	rows, refused := formattest.Read(t, xml.Open(strings.NewReader("<h><hut><beds>12</beds></hut><hut><beds>many</beds></hut><hut><beds>n/a</beds></hut></h>"),
		xml.Options{Records: "hut", Schema: batchtest.Columns(t, "beds:int"), Nulls: []string{"n/a"}}))
	assert.Equal(t, [][]string{{"12"}, {"∅"}}, rows)
	require.Len(t, refused, 1)
	assert.Equal(t, `{"beds": "many"}`, refused[0].Raw)
}

func TestBrokenDocumentsAreSaid(t *testing.T) {
	for text, want := range map[string]string{
		"<h><hut><beds>12</beds></hut><hut>":            "ends too early",
		"<h><hut></h>":                                  "broken at line 1",
		"<h>" + strings.Repeat("<a>", 300):              "nests deeper",
		`<?xml version="1.0" encoding="morse"?><h></h>`: "morse",
	} {
		_, err := xml.Open(strings.NewReader(text), xml.Options{Records: "hut", Schema: batchtest.Columns(t, "beds:int")}).Next(t.Context())
		assert.ErrorContains(t, err, want)
	}
}

func FuzzReader(f *testing.F) {
	f.Add(roads, "road")
	f.Add("<a><b c='1'/></a>", "a/b")
	f.Fuzz(func(t *testing.T, text, records string) {
		_, _ = xml.FindRecords([]byte(text))
		s, _, err := xml.Infer([]byte(text), records)
		if err != nil {
			return
		}
		r := xml.Open(strings.NewReader(text), xml.Options{Records: records, Schema: s})
		for {
			c, err := r.Next(t.Context())
			if err != nil {
				return
			}
			for _, col := range c.Batch.Cols {
				require.Equal(t, c.Batch.N, col.Len())
			}
		}
	})
}
