package engine_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/engine"
	"welkin/core/step"
)

// many are the rows of guests.csv: far more than a trial here reads unasked.
const many = 3000

// guestbook is the place with guests, of whom five stayed.
func guestbook(t *testing.T) (string, *connect.World) {
	dir, world := place(t)
	guests := []string{"guest,town,parent"}
	for i := range many {
		guests = append(guests, fmt.Sprintf("%d,town %d,%d", i, i%7, (i+1)%many))
	}
	for name, lines := range map[string][]string{
		"guests.csv":  guests,
		"nights.csv":  {"id,guest", "1,2900", "2,5", "3,2901", "4,", "5,9999"},
		"members.csv": {"guest,since", "5,2019", "6,2020"},
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(strings.Join(lines, "\n")+"\n"), 0o644))
	}
	return dir, world
}

const nightsAndGuests = `
  - {step: nights, does: read files, connection: here, files: nights.csv}
  - {step: guests, does: read files, connection: here, files: guests.csv}`

// sampled tries a step of rows of which a hundred of the other inputs are read unasked.
func sampled(t *testing.T, p *engine.Plan, trial engine.Trial) engine.Tried {
	t.Helper()
	require.True(t, p.Ready(), "%v", p.Problems)
	trial.Others, trial.Show, trial.Temp = 100, 50, t.TempDir()
	if trial.Sample == 0 {
		trial.Sample = 50
	}
	tried, err := engine.Try(context.Background(), p, trial)
	require.NoError(t, err)
	return tried
}

func accountOf(t *testing.T, tried engine.Tried, id string) engine.Account {
	t.Helper()
	at := slices.IndexFunc(tried.Steps, func(a engine.Account) bool { return a.Step == id })
	require.GreaterOrEqual(t, at, 0, "no account of %s", id)
	return tried.Steps[at]
}

func TestATrialFindsThePartnersOfItsRowsWhereverTheyStand(t *testing.T) {
	const every = "\n  - {step: every, does: group, from: guests, by: [town], values: [{name: guests, value: count(*)}]}"
	for name, c := range map[string]struct {
		steps string
		want  []string
		keyed bool
	}{
		"a join": {
			`- {step: out, does: join, from: nights, with: guests, on: [{left: guest, right: guest}], take: [town]}`,
			[]string{"1|2900|town 2", "2|5|town 5", "3|2901|town 3"}, true,
		},
		"rows without a match": {
			`- {step: out, does: join, from: nights, with: guests, on: [{left: guest, right: guest}], rows: left without a match}`,
			[]string{"4|∅", "5|9999"}, true,
		},
		"a join after another, by what the first one found": {
			`- {step: own, does: join, from: nights, with: guests, on: [{left: guest, right: guest}], take: [parent]}
  - {step: again, does: read files, connection: here, files: guests.csv}
  - {step: out, does: join, from: own, with: again, on: [{left: parent, right: guest}], take: [town]}`,
			[]string{"1|2900|2901|town 3", "2|5|6|town 6", "3|2901|2902|town 4"}, true,
		},
		"rows that are worked on in between, as a whole": {
			`- {step: counted, does: window, from: guests, order: [{by: guest}], values: [{name: place, value: row_number()}]}
  - {step: out, does: look up, from: nights, with: counted, on: [{left: guest, right: guest}], take: [place], first_by: [{by: place}], no_key: {do: drop}, no_match: {do: drop}}`,
			[]string{"1|2900|2901", "2|5|6", "3|2901|2902"}, true,
		},
		"few rows, which are taken whole": {
			`- {step: members, does: read files, connection: here, files: members.csv}
  - {step: out, does: join, from: nights, with: members, on: [{left: guest, right: guest}], rows: all}`,
			[]string{"1|2900|∅", "2|5|2019", "3|2901|∅", "4|∅|∅", "5|9999|∅", "∅|6|2020"}, false,
		},
	} {
		_, world := guestbook(t)
		tried := sampled(t, plan(t, world, nightsAndGuests+"\n  "+c.steps), engine.Trial{Step: "out"})
		lines := cellsOf(tried.After)
		slices.Sort(lines)
		assert.Equal(t, c.want, lines, name)
		a := accountOf(t, tried, "out")
		assert.Equal(t, c.keyed, a.Keyed, name)
		assert.False(t, a.Sample, name)
		if c.keyed {
			assert.LessOrEqual(t, a.In[1], int64(3), "only the rows that are looked for came: %s", name)
		}
	}
	_, world := guestbook(t)
	tried := sampled(t, plan(t, world, nightsAndGuests+every+`
  - {step: out, does: join, from: nights, with: guests, on: [{left: guest, right: guest}], take: [town]}
  - {step: far, does: join, from: out, with: every, on: [{left: town, right: town}]}`), engine.Trial{Step: "far"})
	assert.Len(t, cellsOf(tried.After), 3, "a source that two steps look into by other keys")
	for _, line := range cellsOf(tried.After) {
		parts := strings.Split(line, "|")
		assert.Contains(t, []string{"428", "429"}, parts[len(parts)-1], "towns were counted over all guests, not only those who stayed")
	}
}

func TestALongLookEndsAndIsSaid(t *testing.T) {
	_, world := guestbook(t)
	now := time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)
	slow := func() time.Time { now = now.Add(time.Minute); return now }
	p := plan(t, world, nightsAndGuests+`
  - {step: more, does: generate rows, column: guest, from_value: "1", to_value: "200000"}
  - {step: out, does: join, from: nights, with: more, on: [{left: guest, right: guest}]}`)
	tried := sampled(t, p, engine.Trial{Step: "out", Clock: slow})
	assert.True(t, accountOf(t, tried, "out").Sample)
	require.Len(t, tried.Warnings, 1)
	assert.Contains(t, tried.Warnings[0], "step more: only what was read of it in 10 seconds was looked through")
}

func TestWhatAlsoComesOutByItselfIsReadAsASample(t *testing.T) {
	_, world := guestbook(t)
	whole := sampled(t, plan(t, world, nightsAndGuests+`
  - {step: out, does: join, from: nights, with: guests, on: [{left: guest, right: guest}], rows: all}`), engine.Trial{Step: "out"})
	a := accountOf(t, whole, "out")
	assert.False(t, a.Keyed, "all guests come out, also those who did not stay")
	assert.True(t, a.Sample)
	assert.EqualValues(t, 100, a.In[1])
	part := sampled(t, plan(t, world, nightsAndGuests+`
  - {step: out, does: join, from: nights, with: guests, on: [{left: guest, right: guest}], rows: all}`), engine.Trial{Step: "out", Sample: 3})
	a = accountOf(t, part, "out")
	assert.True(t, a.Keyed, "of a sample it is not known who did not stay")
	assert.True(t, a.Sample)
	assert.Len(t, cellsOf(part.After), 3)

	both := sampled(t, plan(t, world, nightsAndGuests+`
  - {step: found, does: join, from: nights, with: guests, on: [{left: guest, right: guest}], take: [town]}
  - {step: out, does: stack, from: found, with: guests}`), engine.Trial{Step: "out"})
	assert.True(t, accountOf(t, both, "out").Sample, "guests get somewhere else too")
	assert.EqualValues(t, 100, accountOf(t, both, "guests").Out)
}

func TestPartnersAreFoundAnewWhenOtherRowsLookForThem(t *testing.T) {
	_, world := guestbook(t)
	cache := engine.NewTrialCache(1<<20, time.Now)
	of := func(where string) engine.Tried {
		return sampled(t, plan(t, world, nightsAndGuests+`
  - {step: some, does: keep rows, from: nights, where: `+where+`}
  - {step: out, does: join, from: some, with: guests, on: [{left: guest, right: guest}], take: [town]}`), engine.Trial{Step: "out", Cache: cache})
	}
	assert.Equal(t, []string{"1|2900|town 2"}, cellsOf(of("id = 1").After))
	other := of("id = 3")
	assert.Equal(t, []string{"3|2901|town 3"}, cellsOf(other.After))
	again := of("id = 1")
	assert.Equal(t, []string{"1|2900|town 2"}, cellsOf(again.After))
	assert.True(t, again.Again, "both inputs are known from the first time")
	assert.True(t, accountOf(t, again, "out").Keyed)
	assert.Equal(t, other.Before[1].Total, again.Before[1].Total)
}

func TestARowIsFollowedToItsPartner(t *testing.T) {
	_, world := guestbook(t)
	p := plan(t, world, nightsAndGuests+`
  - {step: out, does: join, from: nights, with: guests, on: [{left: guest, right: guest}], take: [town]}`)
	passed, err := engine.Follow(context.Background(), p, engine.Trial{Step: "out", Sample: 50, Others: 100, Temp: t.TempDir()}, "nights.csv·4")
	require.NoError(t, err)
	last := passed[len(passed)-1]
	require.Equal(t, "out", last.Step)
	assert.Equal(t, []string{"3|2901|town 3"}, cellsOf(last.After[0].Rows))
}

// askedWorld is a world of a table of stays and a large one of guests, which
// writes down what is asked of it.
type askedWorld struct {
	t     *testing.T
	asked []step.TableRead
}

func (w *askedWorld) Files(context.Context, string) (step.Files, error) { return nil, nil }
func (w *askedWorld) Tables(context.Context, string) (step.Tables, error) {
	return askedTables{w: w}, nil
}

type askedTables struct {
	step.Tables
	w *askedWorld
}

func (d askedTables) rows(name string) *batch.Batch {
	if name == "stays" {
		return batchtest.Rows(d.w.t, "id:int guest:int", "1|2900", "2|5", "3|2900")
	}
	lines := make([]string, many)
	for i := range lines {
		lines[i] = fmt.Sprintf("%d|town %d", i, i%7)
	}
	return batchtest.Rows(d.w.t, "guest:int town:text", lines...)
}

func (d askedTables) Table(_ context.Context, name string) (*step.Table, error) {
	return &step.Table{Name: name, Schema: d.rows(name).Schema}, nil
}

func (d askedTables) Read(_ context.Context, r step.TableRead) (step.Reader, error) {
	d.w.asked = append(d.w.asked, r)
	b := d.rows(r.Table)
	if len(r.Only) > 0 {
		at := r.Schema.Index(r.Only[0].Column)
		var rows []int32
		for i := range b.N {
			if slices.Contains(r.Only[0].Values, batch.Text(b.Cols[at], r.Only[0].Type, i)) {
				rows = append(rows, int32(i))
			}
		}
		b = b.Take(rows)
	}
	return &oneBatch{b}, nil
}

func TestADatabaseIsAskedForTheKeys(t *testing.T) {
	for name, c := range map[string]struct {
		steps string
		asked []string
	}{
		"at once": {`
  - {step: out, does: join, from: stays, with: guests, on: [{left: guest, right: guest}]}`, []string{"2900", "5"}},
		"through steps that pass the key on": {`
  - {step: named, does: choose columns, from: guests, columns: [{take: town}, {take: guest, as: who}]}
  - {step: some, does: keep rows, from: named, where: town <> ''}
  - {step: more, does: derive columns, from: some, columns: [{name: loud, value: upper(town)}]}
  - {step: each, does: group, from: more, by: [who], values: [{name: towns, value: count(*)}]}
  - {step: out, does: join, from: stays, with: each, on: [{left: guest, right: who}]}`, []string{"2900", "5"}},
		"not through one that makes the key": {`
  - {step: more, does: derive columns, from: guests, columns: [{name: guest, value: guest - 1}]}
  - {step: out, does: join, from: stays, with: more, on: [{left: guest, right: guest}]}`, nil},
	} {
		world := &askedWorld{t: t}
		tried := sampled(t, plan(t, world, `
  - {step: stays, does: read table, connection: db, table: stays}
  - {step: guests, does: read table, connection: db, table: guests}`+c.steps), engine.Trial{Step: "out"})
		assert.EqualValues(t, 3, tried.After.Total, name)
		assert.True(t, accountOf(t, tried, "out").Keyed, name)
		var asked []string
		for _, r := range world.asked {
			for _, only := range r.Only {
				assert.Equal(t, "guest", only.Column, name)
				asked = append(asked, only.Values...)
			}
		}
		assert.Equal(t, c.asked, asked, name)
	}
}
