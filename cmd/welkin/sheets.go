package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime/pprof"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"golang.org/x/term"

	"welkin/connect"
	"welkin/connect/kinds"
	"welkin/core/engine"
	"welkin/core/format/fixed"
	"welkin/core/sheet"
	"welkin/core/step"
	"welkin/work/statefolder"
)

// sheetFile is what the commands on sheets share.
type sheetFile struct {
	File        string            `arg:"" help:"The sheet, a YAML file." type:"path"`
	Program     []string          `help:"An external program that steps may start, as name=command with arguments; may come again." sep:"none"`
	Connections string            `help:"A YAML file of connections. Without it the sheet's folder is the connection 'here'." type:"path"`
	Param       map[string]string `help:"A parameter of the sheet, as name=value; may be given again." short:"p"`
	JSON        bool              `help:"Print JSON instead of words."`
}

func (f *sheetFile) read() (*sheet.Sheet, []sheet.Problem, error) {
	text, err := os.ReadFile(f.File)
	if err != nil {
		return nil, nil, &exitError{exitBadUse, err}
	}
	s, problems := sheet.Parse(string(text), step.Kinds{})
	return s, problems, nil
}

// lookedAt is how many rows of a source a check or a trial reads of what is not
// its main input.
const lookedAt = 100_000

// plan binds the sheet; the world must be closed. Columns that depend on rows are
// found in the first rows of each source, reach of them or all when it is 0.
func (f *sheetFile) plan(ctx context.Context, reach int64) (*engine.Plan, *connect.World, error) {
	s, problems, err := f.read()
	if err != nil {
		return nil, nil, err
	}
	world, err := f.world()
	if err != nil {
		return nil, nil, &exitError{exitBadUse, err}
	}
	return engine.Bind(ctx, s, problems, engine.Binding{World: world, Params: f.Param, Now: time.Now(), Reach: reach}), world, nil
}

// connectionFile is one connection in the file of connections.
type connectionFile struct {
	Kind     string         `yaml:"kind"`
	Settings map[string]any `yaml:"settings"`
}

var fromEnvironment = regexp.MustCompile(`^\$\{([A-Za-z_][A-Za-z0-9_]*)\}$`)

// world opens connections from the file. A value written as ${NAME} comes from
// the environment, so that secrets need not stand in files.
func (f *sheetFile) world() (*connect.World, error) {
	list := map[string]connectionFile{}
	if f.Connections == "" {
		list["here"] = connectionFile{Kind: "folder", Settings: map[string]any{"path": filepath.Dir(f.File)}}
	} else {
		text, err := os.ReadFile(f.Connections)
		if err != nil {
			return nil, err
		}
		if err := yaml.UnmarshalWithOptions(text, &list, yaml.Strict()); err != nil {
			return nil, fmt.Errorf("%s: %s", f.Connections, yaml.FormatError(err, false, false))
		}
	}
	open := func(ctx context.Context, name string) (connect.Connection, error) {
		c, ok := list[name]
		if !ok {
			return nil, fmt.Errorf("there is no connection %q; give it in the file of --connections", name)
		}
		kind, ok := kinds.Find(c.Kind)
		if !ok {
			return nil, fmt.Errorf("connection %q: there is no kind %q", name, c.Kind)
		}
		for key, v := range c.Settings {
			if s, ok := v.(string); ok {
				if m := fromEnvironment.FindStringSubmatch(s); m != nil {
					value, set := os.LookupEnv(m[1])
					if !set {
						return nil, fmt.Errorf("connection %q: %s comes from the environment variable %s, which is not set", name, key, m[1])
					}
					c.Settings[key] = value
				}
				if kind.Name == "folder" && key == "path" && !filepath.IsAbs(s) {
					c.Settings[key] = filepath.Join(filepath.Dir(f.Connections), s)
				}
			}
		}
		text, err := json.Marshal(c.Settings)
		if err != nil {
			return nil, err
		}
		settings, err := kind.Decode(text, nil)
		if err != nil {
			return nil, fmt.Errorf("connection %q: %w", name, err)
		}
		return kind.Open(ctx, settings)
	}
	programs, err := allowed(f.Program)
	return &connect.World{Open: open, Allowed: programs, FindLayout: f.layout}, err
}

// layout reads the layout of a name from layouts/name.yaml beside the sheet.
func (f *sheetFile) layout(_ context.Context, name string) (*fixed.Layout, error) {
	if strings.ContainsAny(name, `/\`) {
		return nil, fmt.Errorf("a layout can't be called %q", name)
	}
	path := filepath.Join(filepath.Dir(f.File), "layouts", name+".yaml")
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("there is no layout %q: %s can't be read", name, path)
	}
	l, err := fixed.ParseLayout(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return l, nil
}

func printJSON(v any) error {
	enc := json.NewEncoder(os.Stdout)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// tellProblems prints problems and gives the exit for a sheet that can't run.
func (f *sheetFile) tellProblems(p *engine.Plan) error {
	if f.JSON && !p.Ready() {
		_ = printJSON(map[string]any{"problems": p.Problems})
	}
	for _, problem := range p.Problems {
		if f.JSON {
			break
		}
		word := "problem"
		if problem.Warning {
			word = "note"
		}
		fmt.Fprintf(os.Stderr, "%s: %s: %s\n", f.File, word, problem)
	}
	if p.Ready() {
		return nil
	}
	return &exitError{exitFailed, fmt.Errorf("the sheet can't run")}
}

type checkCommand struct {
	sheetFile
	Examples bool `help:"Run the sheet's examples and compare what comes out with what they expect; exits with an error when one differs."`
	SQL      bool `help:"Print the statement by which the sheet runs in its database, and the database's plan for it."`
}

func (c *checkCommand) Run(ctx context.Context) error {
	p, world, err := c.plan(ctx, lookedAt)
	if err != nil {
		return err
	}
	defer world.Close()
	if c.Examples {
		return c.checkExamples(ctx, p, world)
	}
	if err := c.tellProblems(p); err != nil {
		return err
	}
	if c.JSON {
		return printJSON(map[string]any{"problems": p.Problems})
	}
	if c.SQL {
		return tellStatement(ctx, p, world)
	}
	for _, st := range p.Steps {
		fmt.Printf("%-16s %s\n", st.ID, strings.ReplaceAll(st.Sentence, "`", ""))
	}
	if d, err := p.InDatabase(); err == nil && p.Sheet.Engine != sheet.OwnEngine {
		fmt.Printf("runs in the database of %s; --sql shows how\n", d.Connection)
	}
	return nil
}

// checkExamples runs the examples of a sheet. Its sources need not be there where
// the examples give all rows.
func (c *checkCommand) checkExamples(ctx context.Context, p *engine.Plan, world *connect.World) error {
	outcomes := []engine.Outcome{}
	for _, e := range p.Sheet.Examples {
		outcomes = append(outcomes, engine.CheckExample(ctx, p.Sheet, e, engine.Binding{World: world, Params: c.Param, Now: time.Now(), Reach: lookedAt})...)
	}
	failed := 0
	for _, o := range outcomes {
		word := "as expected"
		if !o.OK {
			failed++
			word = "differs"
		}
		if c.JSON {
			continue
		}
		fmt.Printf("%-11s  %s: %s\n", word, o.Example, o.Sentence)
		for what, rows := range map[string][][]string{"missing": o.Missing, "not expected": o.Extra} {
			for _, row := range rows[:min(len(rows), 10)] {
				fmt.Printf("    %-12s  %s\n", what, strings.Join(row, " · "))
			}
		}
	}
	if c.JSON {
		if err := printJSON(outcomes); err != nil {
			return err
		}
	}
	if len(p.Sheet.Examples) == 0 && !c.JSON {
		fmt.Println("the sheet has no examples")
	}
	if failed > 0 {
		return &exitError{exitFailed, fmt.Errorf("%d of %d examples differ from what they expect", failed, len(outcomes))}
	}
	return nil
}

func tellStatement(ctx context.Context, p *engine.Plan, world *connect.World) error {
	d, err := p.InDatabase()
	if err != nil {
		return &exitError{exitBadUse, fmt.Errorf("the sheet runs in Welkin's own engine: %w", err)}
	}
	plan, err := d.Explain(ctx, world)
	if err != nil {
		return err
	}
	fmt.Printf("%s;\n\n%s\n", d.Statement, plan)
	return nil
}

type formatCommand struct {
	File  string `arg:"" help:"The sheet, a YAML file." type:"path"`
	Write bool   `help:"Write the file instead of printing." short:"w"`
}

func (c *formatCommand) Run() error {
	f := sheetFile{File: c.File}
	s, problems, err := f.read()
	if err != nil {
		return err
	}
	if len(problems) > 0 {
		return f.tellProblems(&engine.Plan{Problems: problems})
	}
	text, err := sheet.Format(s)
	if err != nil {
		return err
	}
	if c.Write {
		return os.WriteFile(c.File, []byte(text), 0o644)
	}
	_, err = fmt.Print(text)
	return err
}

type tryCommand struct {
	sheetFile
	Step   string `help:"The step whose rows are wanted; the last one when left out."`
	Sample int64  `help:"Rows to read of the main input." default:"2000"`
	Show   int    `help:"Rows to show." default:"20"`
}

func (c *tryCommand) Run(ctx context.Context) error {
	s, problems, err := c.read()
	if err != nil {
		return err
	}
	if c.Step == "" && len(s.Steps) > 0 {
		c.Step = s.Steps[len(s.Steps)-1].ID
	}
	if len(problems) == 0 {
		if s.Step(c.Step) == nil {
			return &exitError{exitBadUse, fmt.Errorf("the sheet has no step %q", c.Step)}
		}
		s = s.UpTo(c.Step)
	}
	world, err := c.world()
	if err != nil {
		return &exitError{exitBadUse, err}
	}
	defer world.Close()
	given := map[string]string{}
	for k, v := range c.Param {
		given[k] = v
	}
	p := engine.Bind(ctx, s, problems, engine.Binding{World: world, Params: given, Now: time.Now(), Reach: lookedAt})
	if !p.Ready() {
		return c.tellProblems(p)
	}
	t, err := engine.Try(ctx, p, engine.Trial{Step: c.Step, Sample: c.Sample, Others: lookedAt, Show: c.Show})
	if err != nil {
		return err
	}
	if c.JSON {
		return printJSON(t)
	}
	switch {
	case p.Step(c.Step).Schema() != nil:
		tellRows(t.After)
	case len(t.Branches) == 0 && len(t.Before) > 0: // a step that writes
		tellRows(t.Before[0])
	}
	for _, branch := range t.Branches {
		fmt.Printf("\n%s.%s\n", c.Step, branch.Name)
		tellRows(branch.Rows)
	}
	for _, r := range t.SetAside[:min(len(t.SetAside), 10)] {
		fmt.Fprintf(os.Stderr, "set aside at %s: %s (%s)\n", r.Step, r.Sentence, r.Where())
	}
	if len(t.SetAside) > 0 {
		return &exitError{code: exitSetAside}
	}
	return nil
}

func tellRows(rows engine.Rows) {
	names := make([]string, len(rows.Columns))
	for i, col := range rows.Columns {
		names[i] = col.Name
	}
	fmt.Println(strings.Join(names, "\t"))
	for _, row := range rows.Rows {
		cells := make([]string, len(row))
		for i, v := range row {
			if cells[i] = "∅"; v != nil {
				cells[i] = *v
			}
		}
		fmt.Println(strings.Join(cells, "\t"))
	}
}

type runCommand struct {
	sheetFile
	State      string `help:"Folder for the position, the set-aside rows and the receipt; beside the sheet when left out." type:"path"`
	Memory     int64  `help:"Memory the run may hold, in MiB." default:"512"`
	CPUProfile string `help:"Write a profile of the time the run takes to this file." type:"path" name:"cpu-profile"`
}

func (c *runCommand) Run(ctx context.Context) error {
	p, world, err := c.plan(ctx, 0)
	if err != nil {
		return err
	}
	defer world.Close()
	holdMemory(c.Memory, 1)
	if c.CPUProfile != "" {
		f, err := os.Create(c.CPUProfile)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := pprof.StartCPUProfile(f); err != nil {
			return err
		}
		defer pprof.StopCPUProfile()
	}
	if err := c.tellProblems(p); err != nil {
		return err
	}
	if c.State == "" {
		c.State = strings.TrimSuffix(c.File, filepath.Ext(c.File)) + ".state"
	}
	state, err := statefolder.Open(c.State)
	if err != nil {
		return err
	}
	defer state.Close()
	now := time.Now()
	epoch, before, err := state.Begin(step.Epoch{Pipeline: p.Sheet.Name, Run: now.UTC().Format("20060102T150405.000000"), Started: now})
	if err != nil {
		return err
	}
	progress := tellProgress()
	sum, err := engine.Run(ctx, p, engine.Options{Epoch: epoch, Before: before, Journal: state, Positions: state.Positions(), Slices: true, Budget: c.Memory << 20, Progress: progress})
	if progress != nil {
		fmt.Fprint(os.Stderr, "\r\033[K")
	}
	if err != nil {
		// A run that never came to its commit has left nothing behind.
		var committing *engine.CommitError
		if !errors.As(err, &committing) {
			err = errors.Join(err, state.Abandon())
		}
		if c.JSON {
			_ = printJSON(map[string]any{"state": "failed", "error": err.Error(), "summary": sum})
		}
		return err
	}
	receipt := sum.Receipt()
	if c.JSON {
		if err := printJSON(map[string]any{"state": "done", "summary": sum, "receipt": receipt}); err != nil {
			return err
		}
	} else {
		tellReceipt(sum, receipt)
	}
	if sum.SetAside > 0 {
		return &exitError{code: exitSetAside}
	}
	return nil
}

// tellProgress gives a function that keeps one line of a terminal up to date;
// nil when there is no terminal.
func tellProgress() func(string, engine.Summary) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return nil
	}
	return func(phase string, s engine.Summary) {
		fmt.Fprintf(os.Stderr, "\r\033[K%s: %d rows read, %d set aside, %.1f s", phase, s.Read, s.SetAside, s.Ended.Sub(s.Started).Seconds())
	}
}

func tellReceipt(s engine.Summary, r engine.Receipt) {
	line := func(what string, n int64) { fmt.Printf("%-28s %14d\n", what, n) }
	line("read", r.Read)
	line("made", r.Made)
	line("dropped by rule", r.Dropped)
	line("set aside", r.SetAside)
	line("into groups and joins", r.Absorbed)
	line("written", r.Written)
	for id, t := range s.Targets {
		fmt.Printf("\n%s (%s)\n", t.Target, id)
		line("  before", t.Before)
		line("  new", t.Inserted)
		line("  changed", t.Updated)
		line("  the same", t.Unchanged)
		line("  deleted", t.Deleted)
		line("  after, counted there", t.After)
	}
	for _, w := range s.Warnings {
		fmt.Println("note:", w)
	}
}
