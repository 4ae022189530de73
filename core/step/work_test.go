package step_test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/expr"
	"welkin/core/match"
	"welkin/core/schema"
	"welkin/core/step"
)

// worked runs settings over inputs, the first of them last, and checks that the
// account balances.
func worked(t testing.TB, s step.Settings, inputs ...*batch.Batch) *sink {
	t.Helper()
	var schemas []*schema.Schema
	names := []string{"rows", "other", "third"}
	for _, in := range inputs {
		schemas = append(schemas, in.Schema)
	}
	key := "secret"
	c := &step.Context{Context: context.Background(), Inputs: names[:len(inputs)], Params: map[string]expr.Param{"key": {Type: schema.Of(schema.Text), Value: &key}}}
	bound := s.Bind(c, schemas)
	require.False(t, c.Failed(), "%v", c.Problems())
	op, out := bound.Operator(), &sink{lines: []string{}, room: 512 << 20}
	for k := range inputs {
		in := (k + 1) % len(inputs)
		out.in += inputs[in].N
		for from := 0; from < inputs[in].N; from += 2 {
			require.NoError(t, op.Push(in, inputs[in].Slice(from, min(from+2, inputs[in].N)), out))
		}
		require.NoError(t, op.End(in, out))
	}
	require.Equal(t, out.in+out.made, out.out+out.dropped+out.aside+out.abs, "the account balances: %+v", out)
	return out
}

// mistakes binds settings and gives what is wrong with them.
func mistakes(s step.Settings, inputs ...*batch.Batch) string {
	var schemas []*schema.Schema
	for _, in := range inputs {
		schemas = append(schemas, in.Schema)
	}
	c := &step.Context{Context: context.Background(), Inputs: []string{"rows", "other", "third"}[:len(inputs)]}
	s.Bind(c, schemas)
	var out []string
	for _, p := range c.Problems() {
		if !p.Warning {
			out = append(out, p.Path+": "+p.Sentence)
		}
	}
	return strings.Join(out, "\n")
}

func TestMaskHidesAndStillJoins(t *testing.T) {
	in := batchtest.Rows(t, "mail:text n:int", "ann@larkfell.example|1234567", "∅|12", "Bø 7|∅")
	h := hmac.New(sha256.New, []byte("secret"))
	h.Write([]byte("ann@larkfell.example"))
	assert.Equal(t, hex.EncodeToString(h.Sum(nil))+"|1234567", worked(t, &step.Mask{Columns: []string{"mail"}, How: step.MaskHash, Key: ":key"}, in).lines[0])
	assert.Equal(t, []string{"ann@larkfell.example|***4567", "∅|**", "Bø 7|∅"}, worked(t, &step.Mask{Columns: []string{"n"}, How: step.MaskKeepLast}, in).lines)
	assert.Equal(t, []string{"xxx@xxxxxxxx.xxxxxxx|1234567", "∅|12", "Xx 9|∅"}, worked(t, &step.Mask{Columns: []string{"mail"}, How: step.MaskReplace}, in).lines)
	assert.Contains(t, mistakes(&step.Mask{Columns: []string{"mail"}, How: step.MaskHash}, in), "a hash needs a key")
}

func TestRecordsFlattenAndTextIsParsed(t *testing.T) {
	in := batchtest.Rows(t, "id:int payload:text", `1|{"box": "R7", "reading": {"watts": 120, "ok": true}}`, `2|nonsense`, `3|{"box": null}`, `4|∅`)
	typ, err := schema.ParseType("record{box text, reading record{watts int, ok bool}}")
	require.NoError(t, err)
	parsed := &step.ParseText{Column: "payload", Type: &typ}
	out := worked(t, parsed, in)
	assert.Equal(t, []string{`1|{"box": "R7", "reading": {"watts": 120, "ok": true}}`, `3|{"box": null, "reading": null}`, "4|∅"}, out.lines)
	assert.Equal(t, []string{"not JSON: payload nonsense"}, out.faults)
	assert.Equal(t, []string{"1|" + `{"box": "R7", "reading": {"watts": 120, "ok": true}}`, "2|∅", `3|{"box": null, "reading": null}`, "4|∅"}, worked(t, &step.ParseText{Column: "payload", Type: &typ, Bad: "use null"}, in).lines)
	nested := &batch.Batch{Schema: schema.New(schema.Column{Name: "id", Type: schema.Of(schema.Int)}, schema.Column{Name: "p", Type: typ, Nullable: true}), N: 2}
	for c, cells := range [][]string{{"1", "3"}, {`{"box": "R7", "reading": {"watts": 120, "ok": true}}`, `{"box": "R8", "reading": null}`}} {
		to := batch.NewBuilder(nested.Schema.Columns[c].Type)
		for _, v := range cells {
			require.Nil(t, batch.AppendText(to, nested.Schema.Columns[c].Type, v))
		}
		nested.Cols = append(nested.Cols, to.NewArray())
	}
	assert.Equal(t, []string{"1|R7|120|true", "3|R8|∅|∅"}, worked(t, &step.FlattenRecords{}, nested).lines)
	assert.Equal(t, []string{`1|R7|{"watts": 120, "ok": true}`, "3|R8|∅"}, worked(t, &step.FlattenRecords{Columns: []string{"p"}, Levels: 1}, nested).lines)
	bound := (&step.FlattenRecords{Between: "."}).Bind(&step.Context{}, []*schema.Schema{nested.Schema})
	assert.Equal(t, []string{"id", "p.box", "p.reading.watts", "p.reading.ok"}, bound.Schema.Names())
	line := batchtest.Rows(t, "l:text", `7,"a, b",3.5`, `1,2`, `x,y,1`)
	out = worked(t, &step.ParseText{Column: "l", As: "csv", Into: []step.ReadColumn{{Name: "n", Type: schema.Of(schema.Int)}, {Name: "s", Type: schema.Of(schema.Text)}, {Name: "d", Type: schema.DecimalOf(6, 2)}}}, line)
	assert.Equal(t, []string{`7,"a, b",3.5|7|a, b|3.50`}, out.lines)
	assert.Len(t, out.faults, 2)
}

func TestSamplesKeepTheirSeed(t *testing.T) {
	var cells []string
	for i := range 2000 {
		cells = append(cells, fmt.Sprint(i))
	}
	in := batchtest.Rows(t, "n:int", cells...)
	tenth := worked(t, &step.Sample{Share: 10, Seed: 7}, in)
	assert.InDelta(t, 200, len(tenth.lines), 45)
	assert.Equal(t, tenth.lines, worked(t, &step.Sample{Share: 10, Seed: 7}, in).lines)
	assert.NotEqual(t, tenth.lines, worked(t, &step.Sample{Share: 10, Seed: 8}, in).lines)
	fifty := worked(t, &step.Sample{Rows: 50, Seed: 1}, in)
	assert.Len(t, fifty.lines, 50)
	assert.Equal(t, 1950, fifty.dropped)
	assert.Len(t, worked(t, &step.Sample{Rows: 5000}, in).lines, 2000)
}

func TestRulesSetAsideWhatBreaksThem(t *testing.T) {
	rows := batchtest.Rows(t, "id:int code:text n:int", "1|L4|3", "2|M9|3", "3|zz|3", "4|∅|3", "5|L4|99", "1|L4|3", "6|L4|∅")
	codes := batchtest.Rows(t, "code:text", "L4", "zz")
	for want, r := range map[string]step.Rule{
		"not allowed: code M9":       {Columns: []string{"code"}, Allowed: []string{"L4", "zz"}},
		"wrong pattern: code zz":     {Columns: []string{"code"}, Pattern: "[A-Z][0-9]"},
		"too large: n 99":            {Columns: []string{"n"}, Range: &step.RuleSpan{From: "1", To: "60"}},
		"too small: n 3":             {Columns: []string{"n"}, Range: &step.RuleSpan{From: "4"}},
		"empty: code ":               {Columns: []string{"code"}, NotNull: true},
		"not unique: id 1":           {Columns: []string{"id"}, Unique: true},
		"refers to nothing: code M9": {Columns: []string{"code"}, RefersTo: &step.RefersTo{Columns: []string{"code"}}},
		"rule broken:  n < 50":       {Where: "n < 50"},
		"nights:  n < 50":            {Where: "n < 50", Name: "nights"},
	} {
		out := worked(t, &step.CheckRules{Rules: []step.Rule{r}}, rows, codes)
		assert.Contains(t, out.faults, want, "%+v: %v", r, out.lines)
		assert.NotContains(t, out.lines, "6|L4|")
	}
	assert.Contains(t, mistakes(&step.CheckRules{Rules: []step.Rule{{Columns: []string{"n"}, Allowed: []string{"many"}}}}, rows), "is not a whole number")
	assert.Contains(t, mistakes(&step.CheckRules{Rules: []step.Rule{{Columns: []string{"n"}}}}, rows), "a rule has one check")
	assert.Contains(t, mistakes(&step.CheckRules{Rules: []step.Rule{{Columns: []string{"code"}, RefersTo: &step.RefersTo{Columns: []string{"code"}}}}}, rows), "needs another input")
}

func TestScriptsSeeRowsAndNothingElse(t *testing.T) {
	in := batchtest.Rows(t, "hut:text n:int", "Ravenseat|2", "Larkfell|∅", "Saltmere|0")
	cols := []step.ReadColumn{{Name: "code", Type: schema.Of(schema.Text)}, {Name: "n", Type: schema.Of(schema.Int)}}
	out := worked(t, &step.Script{Columns: cols, Code: "def row(r):\n  if r['n'] == None: return None\n  return [{'code': r['hut'][:2], 'n': i} for i in range(r['n'])]"}, in)
	assert.Equal(t, []string{"Ra|0", "Ra|1"}, out.lines)
	assert.Equal(t, 2, out.dropped)
	out = worked(t, &step.Script{Columns: cols, Code: "def row(r):\n  return {'code': r['hut'], 'n': 6 // r['n']}"}, in)
	assert.Equal(t, []string{"Ravenseat|3"}, out.lines)
	assert.Len(t, out.faults, 2)
	out = worked(t, &step.Script{Code: "def batch(rows):\n  return [r for r in rows if r['n']]"}, in)
	assert.Equal(t, []string{"Ravenseat|2"}, out.lines)
	for code, want := range map[string]string{
		"":                                      "no code yet",
		"def row(r):":                           "got",
		"x = 1":                                 "neither row(r) nor batch(rows)",
		"load('x', 'y')\ndef row(r): return r":  "load",
		"open('x')\ndef row(r): return r":       "undefined: open",
		"while True: pass\ndef row(r): return":  "never end",
		"x = 'a' * (1 << 40)\ndef row(r): pass": "the repetition would make more than",
	} {
		assert.Contains(t, mistakes(&step.Script{Code: code}, in), want, code)
	}
}

func TestBoundedOperatorsOfAScriptMeanWhatTheyMean(t *testing.T) {
	in := batchtest.Rows(t, "n:text", "1")
	for code, want := range map[string]string{
		"1 + 2":                        "3",
		"7 % 4":                        "3",
		"'%s-%d' % ('a', 2)":           "a-2",
		"'a' + 'b'":                    "ab",
		"','.join(['a', 'b'])":         "a,b",
		"'abc'.replace('b', 'x', 1)":   "axc",
		"'{}-{k}'.format(1, k = 2)":    "1-2",
		"str([1] + [2])":               "[1, 2]",
		"getattr('AbC', 'lower')()":    "abc",
		"repr((1,) + (2,))":            "(1, 2)",
		"str(added([1]))":              "[1, 2, 3]",
		"str(2.5 * 2 + 1)":             "6.0",
		"str({'a': 1}.get('a') + 1)":   "2",
		"str([x + 1 for x in [1, 2]])": "[2, 3]",
	} {
		code = "def added(l):\n  m = l\n  m += [2]\n  l.extend([3])\n  return m\ndef row(r): return {'n': str(" + code + ")}"
		assert.Equal(t, []string{want}, worked(t, &step.Script{Code: code}, in).lines, code)
	}
}

func TestAScriptIsBoundedInTimeAndMemory(t *testing.T) {
	in := batchtest.Rows(t, "n:int", "1")
	for code, want := range map[string]string{
		"def row(r):\n  while True:\n    pass":                                                                   "longer than it may",
		"def row(r):\n  return {'n': len('x' * 10000000000)}":                                                    "repetition",
		"def row(r):\n  x = [0]\n  x *= 1 << 50\n  return r":                                                     "repetition",
		"def row(r):\n  return {'n': len(list(range(1 << 50)))}":                                                 "the range would make more",
		"def row(r):\n  x = 'ab'\n  for i in range(60): x = x + x":                                               "joining would make more",
		"def row(r):\n  x = [1]\n  for i in range(60): x += x":                                                   "extend would make more",
		"def row(r):\n  x = (1,)\n  for i in range(60): x += x":                                                  "joining would make more",
		"def row(r):\n  x = [1]\n  for i in range(60): x.extend(list(x))":                                        "extend would make more",
		"def row(r):\n  x = 'ab'\n  for i in range(60): x = '%s%s' % (x, x)":                                     "the text would make more",
		"def row(r):\n  x = 'ab'\n  for i in range(60): x %= ()\n  return {'n': x}":                              "not a whole number",
		"def row(r):\n  x = 'ab'\n  for i in range(60): x = '{0}{0}'.format(x)":                                  "format would make more",
		"def row(r):\n  x = 'ab'\n  for i in range(60): x = x.join(['', '', x])":                                 "join would make more",
		"def row(r):\n  x = 'ab'\n  for i in range(60): x = x.replace('a', x)":                                   "replace would make more",
		"def row(r):\n  x = 'ab'\n  f = getattr(x, 'replace')\n  for i in range(60): f = f('a', 20 * x).replace": "replace would make more",
		"def row(r):\n  x = [1]\n  for i in range(60): x = [x, x]\n  return {'n': len(str(x))}":                  "the text would make more",
		"def row(r):\n  x = 3\n  for i in range(40): x = x * x\n  return r":                                      "bits",
		"def row(r): return row(r)":                                                                              "",
		"def row(r): return {'m': 1}":                                                                            "not among the columns",
		"def row(r): return 7":                                                                                   "a dict, a list of dicts or None",
		"def row(r): return {'n': 'many'}":                                                                       "not a whole number",
	} {
		c := &step.Context{Context: context.Background()}
		bound := (&step.Script{Code: code, Seconds: 2}).Bind(c, []*schema.Schema{in.Schema})
		require.False(t, c.Failed(), "%s %v", code, c.Problems())
		out := &said{sink: sink{room: 1 << 20}}
		began := time.Now()
		require.NoError(t, bound.Operator().Push(0, in, out), code)
		require.Len(t, out.words, 1, code)
		assert.Contains(t, out.words[0], want, code)
		assert.Less(t, time.Since(began), 30*time.Second)
	}
}

// said is a sink that keeps the sentences of rows set aside.
type said struct {
	sink
	words []string
}

func (s *said) SetAside(_ *batch.Batch, _ int, _, _ string, f *batch.Fault) error {
	s.words = append(s.words, f.Sentence)
	return nil
}

func TestNamesAreMatchedIntoFourBranches(t *testing.T) {
	rows := batchtest.Rows(t, "town:text", "Saltmere", "saltmere ", "Saltmeer", "Ormskel", "Xyzzy", "∅", "Decided", "Nowhere", "Twin")
	towns := batchtest.Rows(t, "name:text district:text", "Saltmere|East", "Ormskell|West", "Ormskall|West", "Larkfell|North", "Twin|A", "Twin|B", "∅|C")
	decided := batchtest.Rows(t, "value:text name:text", "decided|Larkfell", "nowhere|∅")
	out := worked(t, &step.MatchNames{Column: "town", Name: "name", Take: []string{"district"}, Algorithm: match.Levenshtein, Near: 0.7, Unclear: 0.5, Margin: 0.15}, rows, towns, decided)
	first := func(branch int) (names []string) {
		for _, l := range out.branches[branch] {
			names = append(names, strings.Join(strings.Split(l, "|")[:2], "|"))
		}
		return names
	}
	assert.Equal(t, []string{"Saltmere|East", "saltmere |East"}, first(0), "exact")
	assert.Equal(t, []string{"Saltmeer|East", "Decided|North"}, first(1), "near")
	assert.Equal(t, []string{"Ormskel|West", "Twin|A"}, first(2), "unclear: two are as near")
	assert.Equal(t, []string{"Xyzzy|∅", "∅|∅", "Nowhere|∅"}, first(3), "too far")
	assert.Contains(t, mistakes(&step.MatchNames{Column: "town", Name: "name", Near: 0.5, Unclear: 0.9}, rows, towns), "scores go from 0 to 1")
}

func TestAHundredThousandNamesFindTheirsAmongTenThousand(t *testing.T) {
	syllables := []string{"salt", "mere", "orm", "skell", "lark", "fell", "raven", "seat", "west", "dale", "high", "by", "old", "ham", "crag", "beck"}
	name := func(i int) string {
		return syllables[i%16] + syllables[i/16%16] + " " + syllables[i/256%16] + syllables[(i*7)/31%16]
	}
	var towns, guests []string
	for i := range 10_000 {
		towns = append(towns, fmt.Sprintf("%s %d", name(i), i%7))
	}
	for i := range 100_000 {
		text := []byte(towns[(i*37)%10_000])
		text[i%len(text)] = 'x'
		guests = append(guests, string(text))
	}
	bound := (&step.MatchNames{Column: "town", Name: "name"}).Bind(&step.Context{Context: context.Background()}, []*schema.Schema{batchtest.Rows(t, "town:text").Schema, batchtest.Rows(t, "name:text").Schema})
	op, out := bound.Operator(), &sink{room: 512 << 20}
	require.NoError(t, op.Push(1, batchtest.Rows(t, "name:text", towns...), out))
	require.NoError(t, op.End(1, out))
	out.lines = nil
	rows := batchtest.Rows(t, "town:text", guests[:4_000]...) // a part here; all of them in the benchmark
	require.NoError(t, op.Push(0, rows, out))
	far := len(out.branches[3])
	assert.Less(t, far, 200, "nearly every name with one letter changed finds one that is alike")
}

func TestPersonalDataIsActedOn(t *testing.T) {
	rows := batchtest.Rows(t, "id:int guest_name:text remarks:text", "1|Ann|call +47 22 33 44 55 or ann@larkfell.example", "2|Bo|∅", "3|Cy|card 4111 1111 1111 1111 ok")
	out := worked(t, &step.FindPersonal{Do: step.PersonalMask}, rows)
	assert.Equal(t, []string{"1|Ann|call +99 99 99 99 99 or xxx@xxxxxxxx.xxxxxxx", "2|Bo|∅", "3|Cy|card 9999 9999 9999 9999 ok"}, out.branches[0])
	assert.Equal(t, []string{"remarks|e-mail address|its form|1|3|xxx@xxxxxxxx.xxxxxxx", "remarks|payment card|its form|1|3|9999 9999 9999 9999", "remarks|phone number|its form|1|3|+99 99 99 99 99"}, out.branches[1])
	assert.Equal(t, []string{"1|Ann|call  or |+47 22 33 44 55, ann@larkfell.example", "2|Bo|∅|∅", "3|Cy|card  ok|4111 1111 1111 1111"}, worked(t, &step.FindPersonal{Do: step.PersonalExtract}, rows).branches[0])
	assert.Equal(t, []string{"1|∅|∅", "2|∅|∅", "3|∅|∅"}, worked(t, &step.FindPersonal{Do: step.PersonalDrop, Look: "whole columns"}, rows).branches[0])
	assert.Equal(t, rows.N, len(worked(t, &step.FindPersonal{}, rows).branches[0]))
	hashed := worked(t, &step.FindPersonal{Do: step.PersonalHash, Key: ":key", Columns: []string{"guest_name"}, Look: "whole columns"}, rows).branches[0]
	assert.NotContains(t, strings.Join(hashed, ""), "Ann")
	assert.Contains(t, hashed[0], "ann@larkfell.example")
}

func TestCompareSetsAKeyThatComesTwiceAside(t *testing.T) {
	now := batchtest.Rows(t, "id:int s:text", "1|a", "1|b", "2|x", "4|n", "4|n")
	before := batchtest.Rows(t, "id:int s:text", "1|a", "2|y", "2|z", "3|g")
	out := worked(t, &step.Compare{On: []step.JoinKey{{Left: "id"}}}, now, before)
	assert.Equal(t, []string{"1|a|same|[]", `2|x|changed|["s"]`, "3|g|gone|∅", "4|n|new|∅"}, sorted(out.lines))
	assert.Len(t, out.faults, 3)
}

func sorted(lines []string) []string {
	out := append([]string{}, lines...)
	for i := range out {
		for j := i + 1; j < len(out); j++ {
			if out[j] < out[i] {
				out[i], out[j] = out[j], out[i]
			}
		}
	}
	return out
}

func TestLookUpAnswersInItsOwnWays(t *testing.T) {
	rows := batchtest.Rows(t, "hut:text", "H1", "H2", "H9", "∅")
	huts := batchtest.Rows(t, "code:text beds:int", "H1|4", "H2|6", "H2|8")
	on := []step.JoinKey{{Left: "hut", Right: "code"}}
	out := worked(t, &step.LookUp{On: on, Many: "set aside", NoKey: step.Answer{Do: "use values", Values: []step.Derived{{Name: "beds", Value: "-1"}}}, NoMatch: step.Answer{Do: "set aside"}}, rows, huts)
	assert.Equal(t, []string{"H1|4", "∅|-1"}, out.lines)
	assert.Equal(t, []string{"many matches: hut H2", "no match: hut H9"}, out.faults)
	assert.Equal(t, []string{"H1|4", "H2|8"}, worked(t, &step.LookUp{On: on, First: []step.SortKey{{By: "beds", Order: step.Falling}}, NoKey: step.Answer{Do: "drop"}, NoMatch: step.Answer{Do: "drop"}}, rows, huts).lines)
	assert.Contains(t, mistakes(&step.LookUp{On: on, NoKey: step.Answer{Do: "use values", Values: []step.Derived{{Name: "bed", Value: "1"}}}}, rows, huts), "not among the columns taken")
}

func TestColumnsArePickedByWords(t *testing.T) {
	in := batchtest.Rows(t, "id:int m1:int m2:decimal(4,1) s:text 2026:int", "1|2|3.0|x|5")
	pick := func(entries ...string) []string {
		c := &step.Context{Context: context.Background()}
		var columns []step.Chosen
		for _, e := range entries {
			columns = append(columns, step.Chosen{Take: e})
		}
		bound := (&step.ChooseColumns{Columns: columns}).Bind(c, []*schema.Schema{in.Schema})
		if c.Failed() {
			return []string{c.Problems()[0].Sentence}
		}
		return bound.Schema.Names()
	}
	assert.Equal(t, []string{"m1", "m2"}, pick("like m*"))
	assert.Equal(t, []string{"id", "m1", "s", "2026"}, pick("all but m2"))
	assert.Equal(t, []string{"s"}, pick("of type text"))
	assert.Equal(t, []string{"id", "m1", "m2", "2026"}, pick("of type number"))
	assert.Equal(t, []string{"2026"}, pick("reading as number"))
	assert.Equal(t, []string{"m1", "m2"}, pick("matching ^m[0-9]$"))
	assert.Equal(t, []string{"s", "id", "m1", "m2", "2026"}, pick("s", "all"))
	assert.Equal(t, []string{`no column is "like z*"; there are id, m1, m2, s, 2026`}, pick("like z*"))
	assert.Contains(t, pick("matching (")[0], "is no regular expression")
	assert.Contains(t, pick("of type wibble")[0], "there is no type")
}

func TestBadInputIsRefusedOrSetAsideAndNeverACrash(t *testing.T) {
	in := batchtest.Rows(t, "n:int s:text", "0|x")
	var many []string
	for i := range 100_000 {
		many = append(many, fmt.Sprint(i))
	}
	for want, s := range map[string]step.Settings{
		"makes at most 1000 columns":     &step.Pivot{By: []string{"s"}, Column: "n", Value: "count(*)", Values: many},
		"is no regular expression":       &step.SplitColumn{Column: "s", Pattern: "(", Into: []string{"a"}},
		"would never end":                &step.GenerateRows{Column: "n", From: "1", To: "5", Every: "0"},
		"more than 1000000000 rows":      &step.GenerateRows{Column: "n", From: "1", To: "9223372036854775807"},
		"nothing to sort by":             &step.Sort{},
		"there is no column \"nn\"":      &step.Sort{By: []step.SortKey{{By: "nn"}}},
		"order is rising or falling":     &step.Sort{By: []step.SortKey{{By: "n", Order: "up"}}},
		"a frame reaches so many":        &step.WindowStep{Values: []step.Derived{{Name: "a", Value: "count(*)"}}, Frame: &step.FrameSet{Before: "-1"}},
		"use it in a group step":         &step.WindowStep{Values: []step.Derived{{Name: "a", Value: "array_agg(n)"}}},
		"one SELECT is expected":         &step.SQLStep{Query: "DROP TABLE huts"},
		"there is no input \"huts\"":     &step.SQLStep{Query: "SELECT * FROM huts"},
		"must stand in GROUP BY":         &step.SQLStep{Query: "SELECT n, count(*) FROM rows"},
		"ends too early":                 &step.SQLStep{Query: "SELECT n FROM"},
		"no external program is allowed": &step.ProgramStep{Program: "rm"},
	} {
		got := mistakes(s, in)
		if _, isRead := s.(*step.GenerateRows); isRead {
			got = mistakes(s)
		}
		if p, ok := s.(*step.ProgramStep); ok {
			got = mistakes(p, in)
		}
		assert.Contains(t, got, want)
	}
	long := strings.Repeat("(a|b)", 200_000)
	p, err := expr.Bind("s ~ '"+long+"'", expr.Scope{Schema: in.Schema})
	require.NoError(t, err)
	_, problems := p.Eval(&expr.Env{}, in)
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].Sentence, "32768 are allowed")
	out := worked(t, &step.DeriveColumns{Columns: []step.DerivedEach{{Name: "q", Value: "1 / n"}, {Name: "r", Value: "9223372036854775807 + n + 1"}, {Name: "c", Value: "s::int"}}}, in)
	assert.Equal(t, []string{"division by zero: q 0"}, out.faults)
}
