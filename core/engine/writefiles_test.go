package engine_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/engine"
	"welkin/core/format/fixed"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// TestWhatASheetWritesItReadsAgain writes rows in every format, compressed or not, and
// reads the files as if nothing was known of them.
func TestWhatASheetWritesItReadsAgain(t *testing.T) {
	dir, world := place(t)
	defer world.Close()
	world.FindLayout = func(_ context.Context, name string) (*fixed.Layout, error) {
		if name != "stays" {
			return nil, fmt.Errorf("there is no layout %q", name)
		}
		return &fixed.Layout{Records: []fixed.RecordType{{Fields: []fixed.Field{{Name: "id", Start: 1, Length: 4, Type: schema.Of(schema.Int)}, {Name: "hut", Start: 5, Length: 3, Type: schema.Of(schema.Text)}, {Name: "nights", Start: 8, Length: 4, Type: schema.DecimalOf(4, 1), Scale: 1, Sign: fixed.SignTrailing}}}}}, nil
	}
	put(t, dir, map[string]string{"in.csv": "id,hut,nights\n1,H1,2.5\n2,H2,-3.0\n3,H3,\n"})
	n := int64(0)
	write := func(settings string) *engine.Plan {
		s, problems := sheet.Parse("welkin: 1\nname: w\nsteps:\n  - {step: r, does: read files, connection: here, files: in.csv}\n  - {step: w, does: write file, from: r, connection: here, "+settings+"}\n", step.Kinds{})
		return engine.Bind(t.Context(), s, problems, engine.Binding{World: world, Now: time.Now()})
	}
	for file, settings := range map[string]string{
		"a.csv": "", "b.csv.gz": "compress: gzip", "c.jsonl": "format: json lines", "d.jsonl.zst": "format: json lines, compress: zstd", "e.json": "format: json", "f.parquet": "format: parquet",
		"g.avro": "format: avro", "h.xlsx": "format: excel", "i.dat": "format: fixed width, layout: stays",
	} {
		if settings != "" {
			settings += ", "
		}
		p := write(settings + "file: " + file)
		require.True(t, p.Ready(), "%s: %v", file, p.Problems)
		n++
		_, err := engine.Run(t.Context(), p, engine.Options{Journal: &journal{}, Epoch: step.Epoch{Pipeline: "p", Number: n, Run: "r"}, TempDir: t.TempDir()})
		require.NoError(t, err, file)
		read := "files: " + file
		if file == "i.dat" {
			read += ", layout: stays"
		}
		assert.Equal(t, []string{"1|H1|2.5", "2|H2|-3.0", "3|H3|∅"}, readAll(t, world, read), file)
	}
	for settings, want := range map[string]string{
		"file: x, format: xml":                       "not as \"xml\"",
		"file: x, compress: lead":                    "gzip or zstd",
		"file: x, format: avro, compress: gzip":      "compressed in itself",
		"file: x, format: fixed width":               "by a saved layout",
		"file: x, format: fixed width, layout: moon": `no layout "moon"`,
		"file: x, layout: stays":                     "a layout is for text",
	} {
		p := write(settings)
		require.False(t, p.Ready(), settings)
		assert.Contains(t, p.Problems[0].Sentence, want)
	}
}
