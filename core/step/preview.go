package step

import (
	"context"

	"welkin/core/batch"
)

// LoadPreview is what a load would do to its target, row by row, as the target is
// now. Nothing was written.
type LoadPreview struct {
	Target     string      `json:"target"`
	Create     bool        `json:"create,omitempty" doc:"The target is not there yet and would be made."`
	Columns    []string    `json:"columns" doc:"Those that are loaded, in the order of the cells."`
	Rows       []LoadedRow `json:"rows"`
	Inserted   int64       `json:"inserted"`
	Changed    int64       `json:"changed"`
	Unchanged  int64       `json:"unchanged"`
	LeftOut    int64       `json:"left_out"`
	Superseded int64       `json:"superseded"`
	Refused    int64       `json:"refused"`
	Deleted    *int64      `json:"deleted,omitempty" doc:"Rows of the target that would go; nothing when a sample can't tell."`
	Statements []string    `json:"statements" doc:"What the target would be told; welkin_stage holds the rows that come in."`
}

// LoadedRow is what would become of one row.
type LoadedRow struct {
	What     string    `json:"what" enum:"insert,change,same,leave out,superseded,refuse"`
	Cells    []*string `json:"cells" doc:"As the row comes in."`
	Before   []*string `json:"before,omitempty" doc:"As the target has it now."`
	Changed  []string  `json:"changed,omitempty" doc:"The columns that would change."`
	Sentence string    `json:"sentence,omitempty" doc:"Why it would be refused."`
}

// Previewer is implemented by tables, and by targets, that can tell what a load
// would do. whole says that the rows are all that would be loaded.
type Previewer interface {
	PreviewLoad(ctx context.Context, l TableLoad, rows []*batch.Batch, whole bool) (*LoadPreview, error)
}

// PreviewTarget is a Target that can tell what a load would do.
type PreviewTarget interface {
	// Preview is nil when the target can't tell.
	Preview(ctx context.Context, rows []*batch.Batch, whole bool) (*LoadPreview, error)
}

// Preview implements PreviewTarget.
func (t *tableTarget) Preview(ctx context.Context, rows []*batch.Batch, whole bool) (*LoadPreview, error) {
	if p, ok := t.db.(Previewer); ok {
		return p.PreviewLoad(ctx, t.load, rows, whole)
	}
	return nil, nil
}

// Count adds a row to the figures.
func (p *LoadPreview) Count(r LoadedRow) {
	switch r.What {
	case "insert":
		p.Inserted++
	case "change":
		p.Changed++
	case "same":
		p.Unchanged++
	case "leave out":
		p.LeftOut++
	case "superseded":
		p.Superseded++
	case "refuse":
		p.Refused++
	}
}
