package engine

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"welkin/core/step"
)

// Account is the row account of one step in one epoch. Each term is counted
// where it happens: In and Out by the engine at the step's edges, the others by
// the step.
type Account struct {
	Step       string        `json:"step"`
	Kind       string        `json:"kind"`
	In         []int64       `json:"in" doc:"Rows in by input; for a read the records seen at the source."`
	Made       int64         `json:"made"`
	Out        int64         `json:"out"`
	Outs       []int64       `json:"outs,omitempty" doc:"By output, for steps with several."`
	Readers    []int64       `json:"readers,omitempty" doc:"Steps that read each output."`
	Dropped    int64         `json:"dropped"`
	SetAside   int64         `json:"set_aside"`
	Reasons    []AsideReason `json:"reasons,omitempty" doc:"What rows were set aside for, most frequent first."`
	Absorbed   int64         `json:"absorbed"`
	Held       int64         `json:"held"`
	Matched    []int64       `json:"matched,omitempty" doc:"By input, for steps that combine."`
	Alone      []int64       `json:"unmatched,omitempty"`
	Bytes      int64         `json:"bytes,omitempty" doc:"Read from the source or written to the target."`
	Seconds    float64       `json:"seconds" doc:"Time this step worked."`
	Begin      float64       `json:"begin" doc:"Seconds after the run's start when the first rows came."`
	End        float64       `json:"end" doc:"Seconds after the run's start when the last rows left."`
	Memory     int64         `json:"memory,omitempty" doc:"Most bytes held at once."`
	InDatabase bool          `json:"in_database,omitempty" doc:"The database did this step; it tells the rows in and out alone."`
	Sample     bool          `json:"sample,omitempty" doc:"A trial that did not read everything."`
	Keyed      bool          `json:"keyed,omitempty" doc:"In a trial: of the rows that are looked up, those with the keys of the main rows alone came."`
	Reached    bool          `json:"-"`
}

// AsideReason is what rows were set aside for.
type AsideReason struct {
	Code   string `json:"code"`
	Column string `json:"column,omitempty"`
	Part   int    `json:"part,omitempty" doc:"Which part of the settings refused them, such as a rule, from 1."`
	Rows   int64  `json:"rows"`
}

// reasons counts set-aside rows by what they were set aside for.
type reasons map[AsideReason]int64

func (r reasons) count(code, column string, part int) { r[AsideReason{code, column, part, 0}]++ }

// list gives the reasons, most frequent first.
func (r reasons) list() []AsideReason {
	out := make([]AsideReason, 0, len(r))
	for reason, rows := range r {
		reason.Rows = rows
		out = append(out, reason)
	}
	slices.SortFunc(out, func(a, b AsideReason) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Part, b.Part), cmp.Compare(a.Code, b.Code), cmp.Compare(a.Column, b.Column))
	})
	return out
}

// Input gives the rows in over all inputs.
func (a *Account) Input() int64 {
	var n int64
	for _, in := range a.In {
		n += in
	}
	return n
}

// outputs gives the rows out by output.
func (a *Account) outputs() []int64 {
	if a.Outs == nil {
		return []int64{a.Out}
	}
	return a.Outs
}

// Imbalance says by how many rows the account does not balance, as a sentence,
// or "".
func (a *Account) Imbalance() string {
	have, want := a.Input()+a.Made, a.Out+a.Dropped+a.SetAside+a.Absorbed+a.Held
	if have == want {
		return ""
	}
	return fmt.Sprintf("step %s does not balance: in %d + made %d = %d, but out %d + dropped %d + set aside %d + absorbed %d + held %d = %d (%+d)",
		a.Step, a.Input(), a.Made, have, a.Out, a.Dropped, a.SetAside, a.Absorbed, a.Held, want, want-have)
}

// Summary is what one epoch did: the receipt is made of it.
type Summary struct {
	Epoch    int64                  `json:"epoch"`
	Started  time.Time              `json:"started"`
	Ended    time.Time              `json:"ended"`
	Read     int64                  `json:"read" doc:"Records seen at all sources."`
	SetAside int64                  `json:"set_aside"`
	Loaded   int64                  `json:"loaded" doc:"Rows that reached a target."`
	Steps    []Account              `json:"steps"`
	Targets  map[string]step.Result `json:"targets" doc:"By write step."`
	Warnings []string               `json:"warnings,omitempty"`
	// Positions are those that reads with one have reached, by step.
	Positions map[string]json.RawMessage `json:"positions,omitempty"`
	Again     bool                       `json:"again,omitempty" doc:"The targets held this epoch already; nothing was loaded twice."`
}

// Receipt is the summary in the order in which a person adds it up: what came
// in on the left must equal what it became.
type Receipt struct {
	Read     int64 `json:"read"`
	Made     int64 `json:"made"`
	Dropped  int64 `json:"dropped"`
	SetAside int64 `json:"set_aside"`
	Absorbed int64 `json:"absorbed" doc:"Went into groups, or served only as the other side of a join."`
	Unused   int64 `json:"unused" doc:"Came out of steps that nothing reads."`
	Copied   int64 `json:"copied" doc:"Rows that more than one step read, counted once more each."`
	Written  int64 `json:"written" doc:"Rows the targets took in."`
	Balances bool  `json:"balances"`
}

// Receipt adds the accounts up: read + made + copied = dropped + set aside +
// absorbed + unused + written.
func (s *Summary) Receipt() Receipt {
	var r Receipt
	for i := range s.Steps {
		a := &s.Steps[i]
		kind, _ := step.Find(a.Kind)
		if kind.Role == step.Read {
			r.Read += a.Input()
		}
		r.Made, r.Dropped, r.SetAside, r.Absorbed = r.Made+a.Made, r.Dropped+a.Dropped, r.SetAside+a.SetAside, r.Absorbed+a.Absorbed
		if kind.Role == step.Write {
			r.Written += a.Out
			continue
		}
		for number, rows := range a.outputs() {
			if n := a.Readers[number]; n == 0 {
				r.Unused += rows
			} else {
				r.Copied += rows * (n - 1)
			}
		}
	}
	r.Balances = r.Read+r.Made+r.Copied == r.Dropped+r.SetAside+r.Absorbed+r.Unused+r.Written
	return r
}
