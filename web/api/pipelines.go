package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"welkin/core/batch"
	"welkin/core/engine"
	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
	"welkin/store"
)

type stepKindView struct {
	step.Kind
	Schema any `json:"schema" doc:"JSON Schema of the settings."`
}

type catalogueView struct {
	Kinds      []stepKindView       `json:"kinds"`
	Functions  []functionView       `json:"functions"`
	Aggregates []expr.AggregateHelp `json:"aggregates"`
	Types      []string             `json:"types"`
}

type functionView struct {
	expr.Function
	Signature string `json:"signature"`
}

// SheetInput is a sheet as text or as a document; the document wins.
type SheetInput struct {
	YAML string          `json:"yaml,omitempty"`
	Doc  json.RawMessage `json:"doc,omitempty" doc:"The sheet as the checked answer gives it."`
}

func (in SheetInput) read() (*sheet.Sheet, []sheet.Problem, error) {
	if len(in.Doc) > 0 && string(in.Doc) != "null" {
		return sheet.FromJSON(in.Doc, step.Kinds{})
	}
	s, problems := sheet.Parse(in.YAML, step.Kinds{})
	return s, problems, nil
}

// checkedStep is a step with what binding found out.
type checkedStep struct {
	ID       string          `json:"id"`
	Kind     string          `json:"kind"`
	Role     step.Role       `json:"role"`
	Sentence string          `json:"sentence" doc:"What stands in backticks is data."`
	Inputs   []string        `json:"inputs"`
	Columns  []schema.Column `json:"columns"`
	Like     string          `json:"like,omitempty" doc:"The place whose columns, which are many, it has too; they are not given again."`
	Branches []checkedBranch `json:"branches,omitempty" doc:"Outputs with names, taken as step.name."`
	Hint     map[string]any  `json:"hint,omitempty"`
}

type checkedBranch struct {
	Name    string          `json:"name"`
	Columns []schema.Column `json:"columns"`
}

// placeView tells where a sheet runs.
type placeView struct {
	Database  string `json:"database,omitempty" doc:"The connection in whose database it runs; empty for Welkin's own engine."`
	Able      bool   `json:"able" doc:"Whether it could run in a database."`
	Statement string `json:"statement,omitempty" doc:"The SELECT that gives the rows loaded, when it could."`
	Why       string `json:"why,omitempty" doc:"Why it could not."`
}

// explained is a statement and how the database would go about it.
type explained struct {
	placeView
	Plan string `json:"plan" doc:"In the database's own words."`
}

// placeOf tells where a plan runs.
func placeOf(p *engine.Plan) placeView {
	d, err := p.InDatabase()
	if err != nil {
		return placeView{Why: err.Error()}
	}
	out := placeView{Able: true, Database: d.Connection, Statement: d.Statement}
	if p.Sheet.Engine == sheet.OwnEngine {
		out.Database = ""
	}
	return out
}

type checkedSheet struct {
	Place    placeView       `json:"place"`
	YAML     string          `json:"yaml" doc:"The canonical text."`
	Doc      *sheet.Sheet    `json:"doc"`
	Ready    bool            `json:"ready"`
	Problems []sheet.Problem `json:"problems"`
	Steps    []checkedStep   `json:"steps"`
}

// manyColumns is from how many on columns are not told again at each step that
// leaves them as they are: a long sheet of wide rows would be megabytes.
const manyColumns = 30

// checked words what a plan knows.
func checked(p *engine.Plan) (checkedSheet, error) {
	out := checkedSheet{Place: placeOf(p), Doc: p.Sheet, Ready: p.Ready(), Problems: p.Problems, Steps: []checkedStep{}}
	if out.Problems == nil {
		out.Problems = []sheet.Problem{}
	}
	var err error
	if out.YAML, err = sheet.Format(p.Sheet); err != nil {
		return out, err
	}
	for _, st := range p.Steps {
		c := checkedStep{ID: st.ID, Kind: st.Step.Kind, Role: st.Kind.Role, Sentence: st.Sentence, Inputs: st.Step.Inputs(), Columns: []schema.Column{}}
		if c.Inputs == nil {
			c.Inputs = []string{}
		}
		if s := st.Schema(); s != nil {
			if len(s.Columns) > manyColumns && len(st.Inputs) > 0 && slices.Equal(s.Columns, st.Inputs[0].Schema().Columns) {
				c.Like = st.Inputs[0].Place
			} else {
				c.Columns = append(c.Columns, s.Columns...)
			}
		}
		if st.Bound != nil {
			for _, b := range st.Bound.Branches {
				c.Branches = append(c.Branches, checkedBranch{b.Name, b.Schema.Columns})
			}
		}
		if st.Bound != nil && st.Bound.Hint != nil {
			c.Hint = st.Bound.Hint()
		}
		out.Steps = append(out.Steps, c)
	}
	return out, nil
}

func (s *Server) bind(ctx context.Context, sh *sheet.Sheet, problems []sheet.Problem, params map[string]string) *engine.Plan {
	return engine.Bind(ctx, sh, problems, engine.Binding{World: s.shared.World(), Params: params, Now: s.Clock(), Reach: othersRead})
}

// PipelineView is a pipeline as a list shows it.
type PipelineView struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Version   int        `json:"version"`
	Steps     int        `json:"steps"`
	Does      string     `json:"does" doc:"From where to where, in words."`
	ChangedAt time.Time  `json:"changed_at"`
	ChangedBy string     `json:"changed_by"`
	LastRun   *store.Run `json:"last_run,omitempty"`
}

type pipelineDetail struct {
	PipelineView
	Checked checkedSheet    `json:"checked"`
	Figures *engine.Summary `json:"figures,omitempty" doc:"Of the last run that did something."`
	FigRun  int64           `json:"figures_run,omitempty"`
}

func overview(p store.Pipeline) PipelineView {
	v := PipelineView{ID: p.ID, Name: p.Name, Version: p.Version, ChangedAt: p.ChangedAt, ChangedBy: p.ChangedBy}
	sh, _ := sheet.Parse(p.Sheet, step.Kinds{})
	v.Steps = len(sh.Steps)
	var reads, writes []string
	for _, st := range sh.Steps {
		switch set := st.Settings.(type) {
		case *step.ReadFiles:
			reads = append(reads, set.Files)
		case *step.ReadTable:
			reads = append(reads, strings.TrimSpace(set.Table+" "+set.Connection))
		case *step.WriteTable:
			writes = append(writes, set.Table)
		case *step.WriteFile:
			writes = append(writes, set.File)
		}
	}
	v.Does = strings.Join(reads, ", ")
	if len(writes) > 0 {
		v.Does += " → " + strings.Join(writes, ", ")
	}
	return v
}

func (s *Server) detail(ctx context.Context, p store.Pipeline) (*body[pipelineDetail], error) {
	out := pipelineDetail{PipelineView: overview(p)}
	sh, problems := sheet.Parse(p.Sheet, step.Kinds{})
	plan := s.bind(ctx, sh, problems, nil)
	if !seesPersonal(ctx) {
		plan.Sheet = plan.HideExamples()
	}
	var err error
	if out.Checked, err = checked(plan); err != nil {
		return nil, s.fault(ctx, "the sheet", err)
	}
	runs, err := s.Store.Runs(ctx, store.RunFilter{Pipeline: p.ID, Limit: 10})
	if err != nil {
		return nil, s.fault(ctx, "the pipeline's runs", err)
	}
	if len(runs) > 0 {
		out.LastRun = &runs[0]
	}
	for _, r := range runs {
		if r.State == store.Done {
			if out.Figures, err = s.Store.RunSummary(ctx, r.ID); err != nil {
				return nil, s.fault(ctx, "the last run", err)
			}
			out.FigRun = r.ID
			break
		}
	}
	return answer(out), nil
}

// SaveInput is a sheet to keep.
type SaveInput struct{ Body saveBody }

type saveBody struct {
	SheetInput
	Version int `json:"version,omitempty" doc:"The version that was edited; 0 for a new pipeline."`
}

// textOf gives name and text to keep. A sheet with mistakes may be kept, so that
// no work is lost; it can't run. Text that is no sheet at all is refused.
func textOf(in SheetInput) (name, text string, err error) {
	sh, problems, err := in.read()
	if err != nil {
		return "", "", huma.Error422UnprocessableEntity(err.Error())
	}
	if strings.TrimSpace(sh.Name) == "" {
		sentence := "the sheet has no name"
		if len(problems) > 0 {
			sentence = problems[0].String()
		}
		return "", "", huma.Error422UnprocessableEntity(sentence)
	}
	if len(in.Doc) == 0 && in.YAML != "" {
		return sh.Name, in.YAML, nil // the text as it was written, comments too
	}
	text, err = sheet.Format(sh)
	return sh.Name, text, err
}

func (s *Server) pipelineRoutes() {
	route(s, "reader", http.MethodGet, "/api/steps", "steps", "Kinds of step, functions and types", func(context.Context, *struct{}) (*body[catalogueView], error) {
		out := catalogueView{Aggregates: expr.Aggregates(), Types: schema.TypeNames()}
		for _, k := range step.All() {
			if k.Ports == nil {
				k.Ports = []string{}
			}
			out.Kinds = append(out.Kinds, stepKindView{k, k.JSONSchema()})
		}
		for _, f := range expr.Catalogue() {
			out.Functions = append(out.Functions, functionView{f, f.Signature()})
		}
		return answer(out), nil
	})
	route(s, "reader", http.MethodPost, "/api/sheets/check", "check-sheet", "Check a sheet and say what comes out of each step", func(ctx context.Context, in *struct{ Body SheetInput }) (*body[checkedSheet], error) {
		sh, problems, err := in.Body.read()
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		out, err := checked(s.bind(ctx, sh, problems, nil))
		if err != nil {
			return nil, s.fault(ctx, "the sheet", err)
		}
		return answer(out), nil
	})
	route(s, "reader", http.MethodPost, "/api/sheets/explain", "explain-sheet", "The statement by which a sheet runs in its database, and the database's plan for it", func(ctx context.Context, in *struct{ Body SheetInput }) (*body[explained], error) {
		sh, problems, err := in.Body.read()
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		plan := s.bind(ctx, sh, problems, nil)
		d, err := plan.InDatabase()
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("this sheet runs in Welkin's own engine: " + err.Error())
		}
		out := explained{placeView: placeOf(plan)}
		if out.Plan, err = d.Explain(ctx, s.shared.World()); err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return answer(out), nil
	})
	route(s, "builder", http.MethodPost, "/api/sheets/follow", "follow-row", "Tell what becomes of one row of a trial at each step; nothing is written", s.follow)
	route(s, "builder", http.MethodPost, "/api/sheets/count", "count-rows", "Count all rows that come out of a step; nothing is written", s.count)
	route(s, "builder", http.MethodPost, "/api/sheets/examples", "check-examples", "Run a sheet's examples and compare what comes out with what they expect; nothing is written", s.examples)
	route(s, "builder", http.MethodPost, "/api/sheets/keys", "suggest-keys", "Suggest by which columns the rows of a step's two inputs belong together", s.keys)
	route(s, "builder", http.MethodPost, "/api/sheets/pairs", "name-pairs", "The nearest names for the values that a step matches, the most doubtful first", s.pairs)
	route(s, "builder", http.MethodPost, "/api/sheets/try", "try-sheet", "Run a sheet up to a step on a sample; nothing is written", s.try)
	route(s, "reader", http.MethodGet, "/api/pipelines", "pipelines", "All pipelines", func(ctx context.Context, _ *struct{}) (*body[[]PipelineView], error) {
		list, err := s.Store.Pipelines(ctx)
		if err != nil {
			return nil, s.fault(ctx, "the list of pipelines", err)
		}
		out := make([]PipelineView, len(list))
		for i, p := range list {
			out[i] = overview(p)
			if runs, err := s.Store.Runs(ctx, store.RunFilter{Pipeline: p.ID, Limit: 1}); err == nil && len(runs) > 0 {
				out[i].LastRun = &runs[0]
			}
		}
		return answer(out), nil
	})
	route(s, "reader", http.MethodGet, "/api/pipelines/{id}", "pipeline", "One pipeline, checked", func(ctx context.Context, in *ByID) (*body[pipelineDetail], error) {
		p, err := s.Store.Pipeline(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the pipeline", err)
		}
		return s.detail(ctx, p)
	})
	route(s, "builder", http.MethodPost, "/api/pipelines", "add-pipeline", "Add a pipeline", func(ctx context.Context, in *SaveInput) (*body[pipelineDetail], error) {
		name, text, err := textOf(in.Body.SheetInput)
		if err != nil {
			return nil, err
		}
		p, err := s.Store.AddPipeline(ctx, name, text, personOf(ctx).Name)
		if errors.Is(err, store.ErrConflict) {
			return nil, huma.Error409Conflict(fmt.Sprintf("there is a pipeline %q already; choose another name", name))
		}
		if err != nil {
			return nil, s.fault(ctx, "the pipeline", err)
		}
		return s.detail(ctx, p)
	})
	type change struct {
		ByID
		SaveInput
	}
	route(s, "builder", http.MethodPut, "/api/pipelines/{id}", "save-pipeline", "Keep a new version of a pipeline", func(ctx context.Context, in *change) (*body[pipelineDetail], error) {
		name, text, err := textOf(in.Body.SheetInput)
		if err != nil {
			return nil, err
		}
		p, err := s.Store.SavePipeline(ctx, in.ID, in.Body.Version, name, text, personOf(ctx).Name)
		if errors.Is(err, store.ErrConflict) {
			now, err := s.Store.Pipeline(ctx, in.ID)
			if err != nil {
				return nil, s.fault(ctx, "the pipeline", err)
			}
			if now.Version != in.Body.Version {
				return nil, huma.Error409Conflict(fmt.Sprintf("%s saved version %d meanwhile; yours was made from version %d. Both are kept: look at what differs, then take theirs or save yours behind it", now.ChangedBy, now.Version, in.Body.Version))
			}
			return nil, huma.Error409Conflict(fmt.Sprintf("there is a pipeline %q already; choose another name", name))
		}
		if err != nil {
			return nil, s.fault(ctx, "the pipeline", err)
		}
		return s.detail(ctx, p)
	})
	route(s, "builder", http.MethodDelete, "/api/pipelines/{id}", "delete-pipeline", "Remove a pipeline with its runs and schedules", func(ctx context.Context, in *ByID) (*struct{}, error) {
		if err := s.Store.DeletePipeline(ctx, in.ID); err != nil {
			return nil, s.fault(ctx, "the pipeline", err)
		}
		return nil, nil
	})
}

type tryInput struct{ Body tryBody }

type tryBody struct {
	SheetInput
	Step   string            `json:"step"`
	Sample int64             `json:"sample,omitempty" minimum:"1" maximum:"200000" default:"2000"`
	Show   int               `json:"show,omitempty" minimum:"1" maximum:"100000" default:"500" doc:"Rows given of each input and output."`
	Params map[string]string `json:"params,omitempty"`
	Fresh  bool              `json:"fresh,omitempty" doc:"Read everything anew, also what did not change since the last trial."`
	Given  []givenRows       `json:"given,omitempty" doc:"Rows that take the place of what reaches an input of the step."`
}

type givenRows struct {
	Input int         `json:"input" minimum:"0"`
	Rows  [][]*string `json:"rows" maxItems:"2000" doc:"One list of cells a row, in the order of the columns that come in; null is an absent value."`
}

// given reads rows that were edited by hand.
func given(p *engine.Planned, list []givenRows) (map[int]*batch.Batch, error) {
	out := map[int]*batch.Batch{}
	for _, g := range list {
		if g.Input >= len(p.Inputs) {
			return nil, fmt.Errorf("step %s has no input %d", p.ID, g.Input+1)
		}
		b, err := batch.FromCells(p.Inputs[g.Input].Schema(), g.Rows)
		if err != nil {
			return nil, err
		}
		b.Origin.All = "edited"
		for i := range b.N {
			b.Origin.Row = append(b.Origin.Row, int64(i+1))
		}
		out[g.Input] = b
	}
	return out, nil
}

type tried struct {
	engine.Tried
	SetAside []store.SetAside `json:"set_aside"`
	Aside    int64            `json:"set_aside_total"`
}

// othersRead is how many rows are read of what is joined to a trial's main input,
// and of each source to find columns that depend on rows.
const othersRead = 100_000

// tryable binds a sheet, or the part of it up to a step, to be tried.
func (s *Server) tryable(ctx context.Context, in SheetInput, params map[string]string, upTo string) (*engine.Plan, error) {
	part, problems, err := in.read()
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if upTo != "" {
		part = part.UpTo(upTo)
	}
	mine := problems[:0:0]
	for _, p := range problems {
		if p.Step == "" || part.Step(p.Step) != nil {
			mine = append(mine, p)
		}
	}
	plan := s.bind(ctx, part, mine, params)
	for _, p := range plan.Problems {
		if !p.Warning {
			return nil, huma.Error422UnprocessableEntity(p.String())
		}
	}
	return plan, nil
}

type followInput struct{ Body followBody }

type followBody struct {
	SheetInput
	Step   string            `json:"step" doc:"Where the row was seen."`
	Origin string            `json:"origin" minLength:"1" doc:"Where the row comes from, as a trial's rows tell."`
	Sample int64             `json:"sample,omitempty" minimum:"1" maximum:"200000" default:"2000"`
	Params map[string]string `json:"params,omitempty"`
}

func (s *Server) follow(ctx context.Context, in *followInput) (*body[[]engine.Passed], error) {
	plan, err := s.tryable(ctx, in.Body.SheetInput, in.Body.Params, "")
	if err != nil {
		return nil, err
	}
	passed, err := engine.Follow(ctx, plan, engine.Trial{Step: in.Body.Step, Sample: in.Body.Sample, Others: othersRead, Clock: time.Now}, in.Body.Origin)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return answer(passed), nil
}

func (s *Server) try(ctx context.Context, in *tryInput) (*body[tried], error) {
	plan, err := s.tryable(ctx, in.Body.SheetInput, in.Body.Params, in.Body.Step)
	if err != nil {
		return nil, err
	}
	rows, err := given(plan.Step(in.Body.Step), in.Body.Given)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	t, err := engine.Try(ctx, plan, engine.Trial{Step: in.Body.Step, Sample: in.Body.Sample, Others: othersRead, Show: in.Body.Show, Clock: time.Now,
		Profile: true, Given: rows, Cache: s.trials, Fresh: in.Body.Fresh})
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	out := tried{Tried: t, SetAside: []store.SetAside{}}
	for _, a := range t.Steps {
		out.Aside += a.SetAside
	}
	for i, r := range t.SetAside {
		out.SetAside = append(out.SetAside, store.SetAsideOf(int64(i), r))
	}
	return answer(out), nil
}
