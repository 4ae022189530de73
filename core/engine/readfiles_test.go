package engine_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/engine"
	"welkin/core/format/avro"
	"welkin/core/format/excel"
	"welkin/core/format/jsondoc"
	"welkin/core/format/jsonl"
	"welkin/core/format/parquet"
	"welkin/core/sheet"
	"welkin/core/step"
)

// put writes files into a folder, making the folders they lie in.
func put(t testing.TB, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		at := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
}

// readWith binds a sheet of one read with settings.
func readWith(world step.World, settings string) *engine.Plan {
	s, problems := sheet.Parse("welkin: 1\nname: files\nsteps:\n  - {step: r, does: read files, connection: here, "+settings+"}\n", step.Kinds{})
	return engine.Bind(context.Background(), s, problems, engine.Binding{World: world, Now: time.Now()})
}

// rowsOf reads all rows of a source, by output, sorted.
func rowsOf(t testing.TB, source step.Source) (rows map[int][]string, refused []step.Refused) {
	t.Helper()
	r, err := source.Open(t.Context(), 0)
	require.NoError(t, err)
	defer r.Close()
	rows = map[int][]string{}
	for {
		c, err := r.Next(t.Context())
		if err == io.EOF {
			for k := range rows {
				slices.Sort(rows[k])
			}
			return rows, refused
		}
		require.NoError(t, err)
		require.EqualValues(t, c.Batch.N+len(c.Refused), c.Seen)
		refused = append(refused, c.Refused...)
		for i := range c.Batch.N {
			var cells []string
			for _, v := range c.Batch.Row(i) {
				if v == nil {
					cells = append(cells, "∅")
				} else {
					cells = append(cells, *v)
				}
			}
			rows[c.Output] = append(rows[c.Output], strings.Join(cells, "|"))
		}
	}
}

func readAll(t testing.TB, world step.World, settings string) []string {
	t.Helper()
	p := readWith(world, settings)
	require.True(t, p.Ready(), "%s: %v", settings, p.Problems)
	rows, refused := rowsOf(t, p.Step("r").Bound.Source)
	require.Empty(t, refused, settings)
	return rows[0]
}

func packed(t testing.TB, w io.WriteCloser, out *bytes.Buffer, text string) string {
	t.Helper()
	_, err := io.WriteString(w, text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.String()
}

// everyFormat writes the same three rows in every format, plain, compressed and in
// archives.
func everyFormat(t testing.TB) map[string]string {
	b := batchtest.Rows(t, "hut:text beds:int day:date", "H1|12|2026-11-23", "H2|∅|2026-11-24", "H3|4|∅")
	out := map[string]string{"csv.csv": "hut,beds,day\nH1,12,2026-11-23\nH2,,2026-11-24\nH3,4,\n",
		"xml.xml": "<huts><h><hut>H1</hut><beds>12</beds><day>2026-11-23</day></h><h><hut>H2</hut><day>2026-11-24</day></h><h><hut>H3</hut><beds>4</beds></h></huts>"}
	write := func(name string, make func(w io.Writer) (interface {
		Write(b *batch.Batch) error
		Flush() error
	}, error)) {
		var to bytes.Buffer
		w, err := make(&to)
		require.NoError(t, err)
		require.NoError(t, w.Write(b))
		require.NoError(t, w.Flush())
		out[name] = to.String()
	}
	type writer = interface {
		Write(b *batch.Batch) error
		Flush() error
	}
	write("json.json", func(w io.Writer) (writer, error) { return jsondoc.NewWriter(w, b.Schema), nil })
	write("lines.jsonl", func(w io.Writer) (writer, error) { return jsonl.NewWriter(w, b.Schema), nil })
	write("parquet.parquet", func(w io.Writer) (writer, error) { return parquet.NewWriter(w, b.Schema) })
	write("avro.avro", func(w io.Writer) (writer, error) { return avro.NewWriter(w, b.Schema, "snappy") })
	write("excel.xlsx", func(w io.Writer) (writer, error) { return excel.NewWriter(w, b.Schema, "") })
	for _, name := range slices.Sorted(maps.Keys(out)) {
		var to bytes.Buffer
		out[name+".gz"] = packed(t, gzip.NewWriter(&to), &to, out[name])
		var z bytes.Buffer
		w, err := zstd.NewWriter(&z)
		require.NoError(t, err)
		out["z_"+name] = packed(t, w, &z, out[name]) // seen from content, whatever the name says
	}
	var zipped, tarred bytes.Buffer
	z, tr := zip.NewWriter(&zipped), tar.NewWriter(&tarred)
	for _, name := range []string{"csv.csv", "parquet.parquet", "excel.xlsx"} {
		w, err := z.Create("inner/" + name)
		require.NoError(t, err)
		_, err = io.WriteString(w, out[name])
		require.NoError(t, err)
		require.NoError(t, tr.WriteHeader(&tar.Header{Name: "inner/" + name, Size: int64(len(out[name])), Mode: 0o644, Typeflag: tar.TypeReg}))
		_, err = io.WriteString(tr, out[name])
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.NoError(t, tr.Close())
	out["a.zip"] = zipped.String()
	var to bytes.Buffer
	out["b.tar.gz"] = packed(t, gzip.NewWriter(&to), &to, tarred.String())
	return out
}

func TestEveryFormatIsSeenFromContentAndReadAlike(t *testing.T) {
	dir, world := place(t)
	defer world.Close()
	files := everyFormat(t)
	put(t, dir, files)
	names := slices.Sorted(maps.Keys(files))
	for _, archive := range []string{"a.zip", "b.tar.gz"} {
		names = slices.DeleteFunc(names, func(n string) bool { return n == archive })
		for _, inner := range []string{"csv.csv", "parquet.parquet", "excel.xlsx"} {
			names = append(names, archive+"/inner/"+inner)
		}
	}
	for _, name := range names {
		assert.Equal(t, []string{"H1|12|2026-11-23", "H2|∅|2026-11-24", "H3|4|∅"}, readAll(t, world, "files: "+name), name)
	}
	assert.Len(t, readAll(t, world, "files: a.zip/**/*.csv, also: [csv.csv, b.tar.gz/inner/*.csv]"), 9)
}

func TestPartsOfNamesAndFoldersAreColumns(t *testing.T) {
	dir, world := place(t)
	defer world.Close()
	put(t, dir, map[string]string{"warden_log_H01_2026-11-23.csv": "level\n2.5\n", "warden_log_H02_2026-11-24.csv": "level\n3.5\n",
		"stays/year=2025/month=12/a.csv": "nights\n1\n", "stays/year=2026/month=01/b.csv": "nights\n2\n3\n", "stays/year=2026/month=__HIVE_DEFAULT_PARTITION__/c.csv": "nights\n4\n"})
	assert.Equal(t, []string{"2.5|H01|2026-11-23|warden_log_H01_2026-11-23.csv|2", "3.5|H02|2026-11-24|warden_log_H02_2026-11-24.csv|2"},
		readAll(t, world, "files: 'warden_log_{hut}_{day}.csv', file_as: file, row_as: line"))
	assert.Equal(t, []string{"1|2025|12", "2|2026|1", "3|2026|1", "4|2026|∅"}, readAll(t, world, "files: stays/**/*.csv"))
	assert.Equal(t, []string{"1|2025|12"}, readAll(t, world, "files: stays/**/*.csv, only: year < 2026"))
}

func TestFilesThatDifferFollowThePolicy(t *testing.T) {
	dir, world := place(t)
	defer world.Close()
	put(t, dir, map[string]string{"clubs/a.csv": "name,town\nAda,Larkfell\n", "clubs/b.csv": "town,name,fee\nSaltmere,Bo,2.5\n", "clubs/c.csv": "name,since\nCy,2020\n", "clubs/d.csv": "name,since\nDi,long ago\n"})
	assert.Equal(t, []string{"Ada|Larkfell|∅|∅", "Bo|Saltmere|2.5|∅", "Cy|∅|∅|2020", "Di|∅|∅|long ago"}, readAll(t, world, "files: clubs/*.csv, differ: union"))
	assert.Equal(t, []string{"Ada", "Bo", "Cy", "Di"}, readAll(t, world, "files: clubs/*.csv, differ: common"))
	p := readWith(world, "files: clubs/*.csv, differ: by shape")
	require.True(t, p.Ready(), "%v", p.Problems)
	rows, _ := rowsOf(t, p.Step("r").Bound.Source)
	assert.Equal(t, map[int][]string{0: {"Ada|Larkfell"}, 1: {"Saltmere|Bo|2.5"}, 2: {"Cy|2020", "Di|long ago"}}, rows)
	require.Len(t, p.Step("r").Bound.Branches, 3)

	for settings, want := range map[string]string{"files: clubs/*.csv, differ: refuse": "clubs/b.csv: the file has a column \"fee\"", "files: clubs/*.csv": `clubs/c.csv: the file has no column "town"`} {
		p := readWith(world, settings)
		require.True(t, p.Ready(), "%v", p.Problems)
		r, err := p.Step("r").Bound.Source.Open(t.Context(), 0)
		require.NoError(t, err)
		for err == nil {
			_, err = r.Next(t.Context())
		}
		assert.ErrorContains(t, err, want)
		require.NoError(t, r.Close())
	}
}

// TestShapesGoToStepsOfTheirOwn runs a sheet whose read has several outputs.
func TestShapesGoToStepsOfTheirOwn(t *testing.T) {
	dir, world := place(t)
	defer world.Close()
	put(t, dir, map[string]string{"clubs/a.csv": "name,town\nAda,Larkfell\n", "clubs/b.csv": "name,fee\nBo,2.5\nCy,x\n"})
	s, problems := sheet.Parse("welkin: 1\nname: shapes\nsteps:\n  - {step: r, does: read files, connection: here, files: clubs/*.csv, differ: by shape}\n"+
		"  - {step: paid, does: choose columns, from: r.shape_2, columns: [{take: name}]}\n  - {step: out, does: write file, from: paid, connection: here, file: out.csv}\n", step.Kinds{})
	p := engine.Bind(t.Context(), s, problems, engine.Binding{World: world, Now: time.Now()})
	require.True(t, p.Ready(), "%v", p.Problems)
	sum, err := engine.Run(t.Context(), p, engine.Options{Journal: &journal{}, Epoch: step.Epoch{Pipeline: "p", Number: 1, Run: "r"}, TempDir: t.TempDir()})
	require.NoError(t, err)
	assert.EqualValues(t, 3, sum.Read)
	text, err := os.ReadFile(filepath.Join(dir, "out.csv"))
	require.NoError(t, err)
	assert.Equal(t, "name\nBo\nCy\n", string(text))
}

func TestOnlyNewFilesAreRead(t *testing.T) {
	dir, world := place(t)
	defer world.Close()
	put(t, dir, map[string]string{"in/a.csv": "n\n1\n", "in/b.csv": "n\n2\n"})
	var position json.RawMessage
	read := func(upTo json.RawMessage, more string) ([]string, json.RawMessage) {
		t.Helper()
		p := readWith(world, "files: in/*.csv, take: new"+more)
		require.True(t, p.Ready(), "%v", p.Problems)
		source, reached, err := p.Step("r").Bound.Source.(step.Positioned).From(t.Context(), step.Slice{After: position, UpTo: upTo})
		require.NoError(t, err)
		rows, _ := rowsOf(t, source)
		next, err := reached()
		require.NoError(t, err)
		return rows[0], next
	}
	rows, next := read(nil, ", most: 1")
	assert.Equal(t, []string{"1"}, rows)
	put(t, dir, map[string]string{"in/c.csv": "n\n3\n"})
	again, _ := read(next, "")
	assert.Equal(t, []string{"1"}, again, "an attempt done again reads the same files")
	position = next
	rows, next = read(nil, ", order: time")
	assert.Equal(t, []string{"2", "3"}, rows)
	position = next
	later := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "in/a.csv"), later, later))
	rows, next = read(nil, "")
	assert.Empty(t, rows, "a file that was only touched is the same")
	position = next
	put(t, dir, map[string]string{"in/a.csv": "n\n10\n"})
	rows, _ = read(nil, "")
	assert.Equal(t, []string{"10"}, rows, "a file with other content is new")
	position = json.RawMessage(`{"files": 7}`)
	_, _, err := readWith(world, "files: in/*.csv, take: new").Step("r").Bound.Source.(step.Positioned).From(t.Context(), step.Slice{After: position})
	assert.ErrorContains(t, err, "set it back")
}

func TestALayoutInTheStepIsRead(t *testing.T) {
	dir, world := place(t)
	defer world.Close()
	put(t, dir, map[string]string{"radio.dat": "WH010125-\nCH02Ada\nWH020031+\n"})
	layout := "fields: {code: {start: 1, length: 1}, records: [{name: weather, code: W, fields: [{name: hut, start: 2, length: 3, type: text}, {name: degrees, start: 5, length: 5, type: 'decimal(4,1)', scale: 1, sign: trailing}]}, {name: call, code: C, fields: [{name: hut, start: 2, length: 3, type: text}, {name: who, start: 5, length: 5, type: text}]}]}"
	assert.Equal(t, []string{"call|H02|∅|Ada", "weather|H01|-12.5|∅", "weather|H02|3.1|∅"}, readAll(t, world, "files: radio.dat, "+layout))
	assert.Equal(t, []string{"H02|Ada"}, readAll(t, world, "files: radio.dat, record: call, "+layout))
}

func TestMistakesInAReadAreSaidAtTheirSetting(t *testing.T) {
	dir, world := place(t)
	defer world.Close()
	put(t, dir, map[string]string{"x.json": `{"huts":[{"n":1}]}`, "x.xml": "<a><b>1</b><b>2</b></a>", "p.parquet": "PAR1 but no more", "cut.csv.gz": "\x1f\x8b\x08\x00broken", "blank.xlsx": "PK\x03\x04 no"})
	for settings, want := range map[string]string{
		"files: huts.csv, format: tablets":                         `format: there is no format "tablets"; there are csv, json`,
		"files: nowhere.csv":                                       "files: no file fits",
		"files: huts.csv, differ: guess":                           "differ: files that differ",
		"files: huts.csv, order: size":                             "order: files are taken by name or by time",
		"files: huts.csv, take: some":                              "take: a run takes all files or new ones",
		"files: huts.csv, most: -1":                                "most: a run takes at least one file",
		"files: huts.csv, only: code = 1":                          "only: no part of the files' names is a column",
		"files: '{what}.csv', only: whom = 'huts'":                 `only: there is no column "whom"`,
		"files: '{what}.csv', only: what = 'none'":                 "only: none of the 5 files",
		"files: x.json, records: stays":                            `records: x.json: no records stand at "stays"`,
		"files: x.xml, records: c":                                 "records: x.xml: no element <c> was found",
		"files: x.json, dialect: {delimiter: ;}":                   "dialect: a dialect is for delimited text",
		"files: huts.csv, dialect: {decimal: ',', thousands: ','}": "dialect: \",\" can't be both",
		"files: p.parquet":                                         "files: p.parquet: this is no Parquet file",
		"files: cut.csv.gz":                                        "files: cut.csv.gz: the gzip data",
		"files: blank.xlsx":                                        "files: blank.xlsx: this is no workbook",
		"files: huts.csv, workbook: {range: B3-F4}":                "workbook: \"B3-F4\" is no range",
		"files: huts.csv, layout: radio":                           "layout: there are no saved layouts here",
		"files: huts.csv, layout: radio, fields: {records: []}":    "fields: give the name of a layout or fields",
		"files: huts.csv, fields: {records: []}":                   "fields: the layout has no record type yet",
	} {
		p := readWith(world, settings)
		require.False(t, p.Ready(), settings)
		assert.Contains(t, fmt.Sprintf("%s: %s", p.Problems[0].Path, p.Problems[0].Sentence), want, settings)
	}
}
