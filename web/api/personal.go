package api

import (
	"context"

	"welkin/core/batch"
	"welkin/core/engine"
	"welkin/core/personal"
	"welkin/store"
)

// seesPersonal tells whether who asks is shown personal values. Whoever builds
// pipelines can read the sources anyway; the others are shown what Welkin keeps
// without such values.
func seesPersonal(ctx context.Context) bool {
	p := personOf(ctx)
	return p != nil && atLeast(p.Role, "builder")
}

// setAsideRows gives a page of rows set aside as who asks may see them.
func (s *Server) setAsideRows(ctx context.Context, run int64, f store.SetAsideFilter) ([]store.SetAside, error) {
	rows, err := s.Store.SetAsideRows(ctx, run, f)
	if !seesPersonal(ctx) {
		for i := range rows {
			rows[i] = rows[i].Hidden()
		}
	}
	return rows, err
}

// hideLikely hides the columns of a sample that are likely to be personal by their
// heading or a value: no sheet says it of a table by itself.
func hideLikely(w *batch.Wire) {
	for c := range w.Columns {
		_, likely := personal.ByHeading(w.Columns[c].Name)
		for _, row := range w.Rows {
			likely = likely || row[c] != nil && len(personal.Find(*row[c], nil)) > 0
		}
		if !likely {
			continue
		}
		w.Columns[c].Personal = true
		for _, row := range w.Rows {
			if row[c] != nil {
				hidden := engine.Hidden
				row[c] = &hidden
			}
		}
	}
}
