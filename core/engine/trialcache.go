package engine

import (
	"container/list"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"sync"
	"time"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// TrialCache keeps the rows that reached and left steps in trials, by what made
// them: the settings of all steps before, the parameters, how many rows were
// read, and the version of what was read. A trial after an edit then begins at
// the step that was edited. It may be used by several goroutines.
type TrialCache struct {
	mu    sync.Mutex
	room  int64 // bytes
	held  int64
	by    map[string]*list.Element
	order *list.List // the latest used first
	clock func() time.Time
}

// NewTrialCache makes a cache that holds up to room bytes.
func NewTrialCache(room int64, clock func() time.Time) *TrialCache {
	return &TrialCache{room: room, by: map[string]*list.Element{}, order: list.New(), clock: clock}
}

// Forget lets go of everything, as when a connection was changed.
func (c *TrialCache) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.by)
	c.order.Init()
	c.held = 0
}

// unversioned is how long rows are used again of a source that does not say
// whether it changed, such as a table.
const unversioned = time.Minute

// kept is what one output gave in a trial, and what came before it.
type kept struct {
	key     string
	batches []*batch.Batch
	bytes   int64
	steps   []Account // of the steps up to this output
	aside   []SetAsideRow
	until   time.Time // zero for as long as there is room
	keyed   bool      // only rows with the keys of the first input's rows
}

func (c *TrialCache) get(key string) *kept {
	if c == nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.by[key]
	if e == nil {
		return nil
	}
	k := e.Value.(*kept)
	if !k.until.IsZero() && c.clock().After(k.until) {
		c.drop(e)
		return nil
	}
	c.order.MoveToFront(e)
	return k
}

func (c *TrialCache) put(k *kept) {
	k.bytes += int64(len(k.aside)) * 500
	for _, b := range k.batches {
		k.bytes += b.Bytes()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if k.bytes > c.room/4 {
		return
	}
	if e := c.by[k.key]; e != nil {
		c.drop(e)
	}
	c.by[k.key] = c.order.PushFront(k)
	for c.held += k.bytes; c.held > c.room; {
		c.drop(c.order.Back())
	}
}

func (c *TrialCache) drop(e *list.Element) {
	k := e.Value.(*kept)
	c.order.Remove(e)
	delete(c.by, k.key)
	c.held -= k.bytes
}

// fingerprint names what an input gives by all that makes it. lasting is false
// when a source does not say whether it changed.
func (t *Trial) fingerprint(p *Plan, in Input, main map[string]bool) (key string, lasting bool, err error) {
	lasting = true
	known := map[*Planned]string{}
	var of func(st *Planned) (string, error)
	of = func(st *Planned) (string, error) {
		if f, ok := known[st]; ok {
			return f, nil
		}
		settings, err := json.Marshal(st.Step.Settings)
		if err != nil {
			return "", err
		}
		parts := []any{st.Kind.Name, json.RawMessage(settings), st.Problems}
		for _, in := range st.Inputs {
			f, err := of(in.Planned)
			if err != nil {
				return "", err
			}
			parts = append(parts, f, in.Output)
		}
		if st.Kind.Role == step.Read {
			limit := t.Others
			if main[st.ID] {
				limit = t.Sample
			}
			v, ok := st.Bound.Source.(step.Versioned)
			if ok {
				parts = append(parts, v.Version())
			}
			lasting = lasting && ok
			parts = append(parts, limit)
		}
		text, err := json.Marshal(parts)
		if err != nil {
			return "", err
		}
		sum := sha256.Sum256(text)
		known[st] = hex.EncodeToString(sum[:])
		return known[st], nil
	}
	f, err := of(in.Planned)
	if err != nil {
		return "", false, err
	}
	params, err := json.Marshal(p.Params)
	if err != nil {
		return "", false, err
	}
	return fmt.Sprintf("%s.%d %s", f, in.Output, params), lasting, nil
}

// fingerprintKeyed names what an input gives of which only rows were read that are
// looked for by those of the first input.
func (t *Trial) fingerprintKeyed(p *Plan, key string, target *Planned, main map[string]bool) (string, error) {
	first, _, err := t.fingerprint(p, target.Inputs[0], main)
	return key + " for " + first, err
}

// fed is a plan of one step whose inputs come from batches instead of the steps
// before, where batches are known.
type fed struct {
	*Plan
	target *Planned
	before []*kept // by input; nil where the steps before run
}

// feed replaces inputs of a step: by rows given, or by rows kept from a trial.
func (t *Trial) feed(p *Plan, target *Planned, main map[string]bool) (*fed, error) {
	out := &fed{before: make([]*kept, len(target.Inputs))}
	clone := *target
	clone.Inputs = append([]Input{}, target.Inputs...)
	var order []*Planned
	seen := map[*Planned]bool{}
	for i, in := range target.Inputs {
		if given := t.Given[i]; given != nil {
			out.before[i] = &kept{batches: []*batch.Batch{given}}
		} else if t.Cache != nil && !t.Fresh {
			key, _, err := t.fingerprint(p, in, main)
			if err != nil {
				return nil, err
			}
			if out.before[i] = t.Cache.get(key); out.before[i] == nil && i > 0 && t.Given[0] == nil {
				if key, err = t.fingerprintKeyed(p, key, target, main); err != nil {
					return nil, err
				}
				out.before[i] = t.Cache.get(key)
			}
		}
		if out.before[i] == nil {
			for _, st := range before(in.Planned) {
				if !seen[st] {
					seen[st] = true
					order = append(order, st)
				}
			}
			continue
		}
		source := &Planned{Step: &sheet.Step{ID: fmt.Sprintf("input %d of %s", i+1, target.ID)}, Kind: step.Kind{Role: step.Read},
			Bound: &step.Bound{Schema: in.Schema(), Source: keptSource{in.Schema(), out.before[i].batches}}}
		order = append(order, source)
		clone.Inputs[i] = Input{Planned: source, Place: source.ID}
	}
	out.target = &clone
	order = append(order, &clone)
	out.Plan = &Plan{Sheet: p.Sheet, Params: p.Params, Steps: order, order: order}
	return out, nil
}

// keptSource gives rows that are there already.
type keptSource struct {
	schema  *schema.Schema
	batches []*batch.Batch
}

// Open implements step.Source.
func (s keptSource) Open(context.Context, int64) (step.Reader, error) {
	return &keptReader{keptSource: s}, nil
}

type keptReader struct {
	keptSource
	at int
}

// Next implements step.Reader.
func (r *keptReader) Next(context.Context) (step.Chunk, error) {
	if r.at == len(r.batches) {
		return step.Chunk{}, io.EOF
	}
	b := *r.batches[r.at]
	b.Schema = r.schema
	r.at++
	return step.Chunk{Batch: &b, Seen: int64(b.N)}, nil
}

// Close implements step.Reader.
func (r *keptReader) Close() error { return nil }
