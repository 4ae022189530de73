package engine_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/engine"
	"welkin/core/step"
)

// parquetStays makes a Parquet file of four columns in the folder.
func parquetStays(t *testing.T) (string, step.World) {
	dir, world := place(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "wide.csv"), []byte("id,hut,nights,guests,remark\n1,H1,3,2,late\n2,H2,0,1,\n3,H1,2,0,with a dog\n4,H3,1,4,\n"), 0o644))
	_, _, err := run(t, plan(t, world, "\n  - {step: wide, does: read files, connection: here, files: wide.csv}\n  - {step: w, does: write file, from: wide, connection: here, file: wide.parquet, format: parquet}"), 1)
	require.NoError(t, err)
	return dir, world
}

func lines(t *testing.T, dir, name string) []string {
	text, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return strings.Split(strings.TrimSpace(string(text)), "\n")
}

func TestARunWithoutTheColumnsNobodyUsesGivesTheSame(t *testing.T) {
	dir, world := parquetStays(t)
	for name, steps := range map[string]string{
		"group":  "\n  - {step: last, does: group, from: wide, by: [hut], values: [{name: n, value: sum(nights)}]}",
		"count":  "\n  - {step: last, does: group, from: wide, values: [{name: n, value: count(*)}]}",
		"sort":   "\n  - {step: s, does: sort, from: wide, by: [{by: guests}]}\n  - {step: last, does: choose columns, from: s, columns: [{take: hut}]}",
		"window": "\n  - {step: w, does: window, from: wide, by: [hut], order: [{by: guests}], values: [{name: r, value: sum(nights)}]}\n  - {step: last, does: choose columns, from: w, columns: [{take: hut}, {take: r}]}",
		"best":   "\n  - {step: d, does: drop duplicates, from: wide, by: [hut], keep: [{by: nights, order: falling}]}\n  - {step: last, does: choose columns, from: d, columns: [{take: id}]}",
		"join":   "\n  - {step: huts, does: read files, connection: here, files: huts.csv}\n  - {step: j, does: join, from: wide, with: huts, on: [{left: hut, right: code}]}\n  - {step: last, does: choose columns, from: j, columns: [{take: id}]}",
		"chain":  "\n  - {step: k, does: keep rows, from: wide, where: nights > 0}\n  - {step: d, does: derive columns, from: k, columns: [{name: x, value: nights + 1}, {name: remark, value: \"'none'\"}, {name: y, value: x * 2}]}\n  - {step: last, does: choose columns, from: d, columns: [{take: y}, {take: remark}]}",
	} {
		t.Run(name, func(t *testing.T) {
			p := plan(t, world, "\n  - {step: wide, does: read files, connection: here, files: wide.parquet}"+steps+"\n  - {step: t_"+name+", does: write file, from: last, connection: here, file: "+name+".csv}")
			require.True(t, p.Ready(), "%v", p.Problems)
			_, _, err := run(t, p, 2)
			require.NoError(t, err)
			tried, err := engine.Try(context.Background(), p, engine.Trial{Step: "last", Show: 100})
			require.NoError(t, err)
			want := cellsOf(tried.After)
			for i := range want {
				want[i] = strings.ReplaceAll(want[i], "|", ",")
			}
			assert.ElementsMatch(t, want, lines(t, dir, name+".csv")[1:])
		})
	}
}

// TestARowSetAsideIsWholeAlthoughColumnsWereLeftOut fails a row in a step that
// needs two columns of five.
func TestARowSetAsideIsWholeAlthoughColumnsWereLeftOut(t *testing.T) {
	dir, world := parquetStays(t)
	p := plan(t, world, "\n  - {step: wide, does: read files, connection: here, files: wide.parquet}\n  - {step: d, does: derive columns, from: wide, columns: [{name: each, value: nights / guests}]}\n"+
		"  - {step: last, does: choose columns, from: d, columns: [{take: each}]}\n  - {step: t, does: write file, from: last, connection: here, file: out.csv}")
	sum, j, err := run(t, p, 2)
	require.NoError(t, err)
	require.Len(t, j.rows, 1, "the first attempt's row is not kept twice")
	assert.Equal(t, []string{"id", "hut", "nights", "guests", "remark"}, j.rows[0].Names)
	var cells []string
	for _, c := range j.rows[0].Cells {
		cells = append(cells, *c)
	}
	assert.Equal(t, []string{"3", "H1", "2", "0", "with a dog"}, cells)
	assert.EqualValues(t, 1, sum.SetAside)
	assert.EqualValues(t, 4, sum.Read)
	assert.Equal(t, []string{"each", "1", "0", "0"}, lines(t, dir, "out.csv"))
}
