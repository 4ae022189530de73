package excel_test

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"welkin/core/batch/batchtest"
	"welkin/core/format/excel"
	"welkin/core/format/formattest"
	"welkin/core/schema"
)

func TestWhatIsWrittenComesBack(t *testing.T) {
	for seed := range uint64(40) {
		formattest.RoundTrip(t, formattest.Format{Blank: true, Plain: true, Lacks: []schema.Kind{schema.Float}, // of which a cell keeps 15 digits
			Write: func(w io.Writer, s *schema.Schema) (formattest.Writer, error) { return excel.NewWriter(w, s, "") },
			Read: func(data []byte, s *schema.Schema) (formattest.Reader, error) {
				one := 1
				return excel.Open(bytes.NewReader(data), excel.Options{Schema: s, Place: excel.Place{Lines: &one}})
			},
		}, seed)
	}
}

// workbook makes one as people do: a title, merged headings, days, a formula.
func workbook(t *testing.T) []byte {
	f := excelize.NewFile()
	require.NoError(t, f.SetSheetName("Sheet1", "notes"))
	_, err := f.NewSheet("inventory")
	require.NoError(t, err)
	date, form := 0, "dd.mm.yyyy"
	date, err = f.NewStyle(&excelize.Style{CustomNumFmt: &form})
	require.NoError(t, err)
	require.NoError(t, f.SetSheetRow("inventory", "B2", &[]any{"Inventory of all huts"}))
	require.NoError(t, f.SetSheetRow("inventory", "B4", &[]any{"hut", "counted", "", "blankets", ""}))
	require.NoError(t, f.SetSheetRow("inventory", "B5", &[]any{"", "on", "by", "old", "new"}))
	for i, row := range [][]any{{"H01", time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), "Ada", 12, 4.5}, {"H02", time.Date(2026, 2, 1, 0, 0, 0, 0, time.UTC), "Bo", 8, nil}, {}, {"H03", nil, "", "many", 1}} {
		cell, _ := excelize.CoordinatesToCellName(2, 6+i)
		require.NoError(t, f.SetSheetRow("inventory", cell, &row))
		at, _ := excelize.CoordinatesToCellName(3, 6+i)
		require.NoError(t, f.SetCellStyle("inventory", at, at, date))
	}
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))
	return out.Bytes()
}

func TestASheetMadeByHandIsFoundAndRead(t *testing.T) {
	data := workbook(t)
	place := excel.Place{Sheet: "inventory", Range: "B4:F8"}
	s, found, err := excel.Infer(bytes.NewReader(data), place)
	require.NoError(t, err)
	assert.Equal(t, 2, *found.Place.Lines)
	assert.Equal(t, []string{"notes", "inventory"}, found.Sheets)
	var columns []string
	for _, c := range s.Columns {
		columns = append(columns, c.Name+" "+c.Type.String())
	}
	assert.Equal(t, []string{"hut text", "counted on date", "counted by text", "blankets old int", "blankets new decimal(18,1)"}, columns)

	place.Range = "B4:F"
	r, err := excel.Open(bytes.NewReader(data), excel.Options{Place: place, Schema: s, Origin: "inventory.xlsx"})
	require.NoError(t, err)
	rows, refused := formattest.Read(t, r)
	assert.Equal(t, [][]string{{"H01", "2026-11-23", "Ada", "12", "4.5"}, {"H02", "2026-02-01", "Bo", "8", "∅"}}, rows)
	require.Len(t, refused, 1)
	assert.EqualValues(t, 9, refused[0].Line)
	assert.Equal(t, "many", refused[0].Value)

	s, found, err = excel.Infer(bytes.NewReader(data), excel.Place{Sheet: "inventory"})
	require.NoError(t, err, "the title above is no header")
	assert.Equal(t, 6, s.Len(), "%v", found.Why)
}

func TestWhatCannotBeReadIsSaid(t *testing.T) {
	data := workbook(t)
	for want, place := range map[string]excel.Place{`no sheet "huts"; there are notes, inventory`: {Sheet: "huts"}, "is no range": {Range: "B3-F9"}, "ends before": {Range: "C3:B9"}} {
		_, _, err := excel.Infer(bytes.NewReader(data), place)
		assert.ErrorContains(t, err, want)
	}
	_, _, err := excel.Infer(strings.NewReader("hut,beds"), excel.Place{})
	assert.ErrorContains(t, err, "no workbook")
	_, err = excel.Open(bytes.NewReader(data), excel.Options{Place: excel.Place{Sheet: "inventory", Range: "B4:F"}, Schema: batchtest.Columns(t, "floor:int")})
	assert.ErrorContains(t, err, `has no column "floor"`)
}
