package step

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/ipc"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/format/csv"
	"welkin/core/format/jsonl"
	"welkin/core/schema"
	"welkin/core/spill"
)

var programKind = Kind{
	Name: "program", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &ProgramStep{} },
	Help: "Hands rows to an external program that an administrator allows, and takes its rows back.", Example: "geocode, JSON lines",
	Words: "external command executable process shell pipe stdin stdout",
}

// ProgramStep hands all rows to a program on its standard input and takes what
// it writes on its standard output.
type ProgramStep struct {
	Program string       `json:"program" jsonschema:"title=program,description=One of those the administrator allows"`
	Format  string       `json:"format,omitempty" jsonschema:"title=format,enum=json lines,enum=csv,enum=arrow stream"`
	Columns []ReadColumn `json:"columns,omitempty" jsonschema:"title=columns,description=Names and types of what comes back; those that went in when left out"`
	Seconds float64      `json:"seconds,omitempty" jsonschema:"title=time limit,description=Seconds for all rows; 600 when left out"`
	Memory  int          `json:"memory,omitempty" jsonschema:"title=memory limit,description=MiB the program may take; 512 when left out"`
}

// Formats in which rows go to a program and come back.
const (
	JSONLines   = "json lines"
	CSVText     = "csv"
	ArrowStream = "arrow stream"
)

// Sentence implements Settings.
func (s *ProgramStep) Sentence() string {
	return "through program `" + orElse(s.Program, "…") + "` as " + orElse(s.Format, JSONLines)
}

// Bind implements Settings.
func (s *ProgramStep) Bind(c *Context, in []*schema.Schema) *Bound {
	p := &programPlan{in: in[0], schema: in[0], format: orElse(s.Format, JSONLines), limits: ProgramLimits{Time: time.Duration(s.Seconds * float64(time.Second)), Memory: int64(s.Memory) << 20}}
	if p.limits.Time == 0 {
		p.limits.Time = 600 * time.Second
	}
	if s.Memory == 0 {
		p.limits.Memory = 512 << 20
	}
	if s.Seconds < 0 || s.Memory < 0 {
		c.Problem("seconds", "limits can't be negative")
	}
	if !slices.Contains([]string{JSONLines, CSVText, ArrowStream}, p.format) {
		c.Problem("format", "rows go as json lines, csv or an arrow stream, not as %q", s.Format)
	}
	if len(s.Columns) > 0 {
		p.schema = &schema.Schema{}
		for _, col := range s.Columns {
			p.schema.Columns = append(p.schema.Columns, schema.Column{Name: col.Name, Type: col.Type, Nullable: true})
		}
		c.distinctNames(p.schema, func(i int) string { return fmt.Sprintf("columns[%d].name", i) })
	}
	runner, ok := c.World.(Programs)
	var names []string
	if ok {
		names = runner.Programs()
	}
	switch {
	case s.Program == "":
		c.Problem("program", "no program yet; choose one that the administrator allows")
	case len(names) == 0:
		c.Problem("program", "no external program is allowed in this installation; an administrator lists them when Welkin is started")
	case !slices.Contains(names, s.Program):
		c.Problem("program", "the program %q is not allowed; there are %s", s.Program, strings.Join(names, ", "))
	}
	p.run = func(ctx context.Context, in io.Reader, out io.Writer) error {
		return runner.RunProgram(ctx, s.Program, p.limits, in, out)
	}
	return &Bound{Schema: p.schema, Operator: func() Operator { return &programOperator{programPlan: p} }}
}

type programPlan struct {
	in     *schema.Schema
	schema *schema.Schema
	format string
	limits ProgramLimits
	run    func(ctx context.Context, in io.Reader, out io.Writer) error
}

// programOperator runs the program beside the steps. What it writes waits, on
// disk if need be, until all rows went in: a program may answer at any time, and
// must never wait for its reader while its writer waits for it.
type programOperator struct {
	*programPlan
	started bool
	stop    context.CancelFunc
	input   *io.PipeWriter
	write   func(*batch.Batch) error
	close   func() error
	done    chan error
	mu      sync.Mutex
	answers *spill.Spool
	refused []format.Refused
}

func (o *programOperator) start(out Emitter) error {
	o.started = true
	ctx, stop := context.WithCancel(context.Background())
	o.stop = stop
	inRead, inWrite := io.Pipe()
	outRead, outWrite := io.Pipe()
	o.input, o.done = inWrite, make(chan error, 2)
	o.answers = spill.NewSpool(out.TempDir(), out.Room())
	go func() {
		err := o.run(ctx, inRead, outWrite)
		_ = inRead.CloseWithError(errProgramEnded) // rows that still come have no reader
		_ = outWrite.CloseWithError(err)
		o.done <- err
	}()
	go func() {
		err := o.read(ctx, outRead)
		_ = outRead.CloseWithError(err)
		_, _ = io.Copy(io.Discard, outRead)
		o.done <- err
	}()
	return o.open()
}

var errProgramEnded = errors.New("the program ended before it had read all rows")

// open prepares the writing of rows.
func (o *programOperator) open() error {
	switch o.format {
	case CSVText:
		w, err := csv.NewWriter(o.input, o.in, csv.Default(), "")
		if err != nil {
			return err
		}
		o.write, o.close = w.Write, w.Flush
	case ArrowStream:
		w := ipc.NewWriter(o.input, ipc.WithSchema(batch.ArrowSchema(o.in)))
		o.write = func(b *batch.Batch) error { return w.Write(b.Record()) }
		o.close = w.Close
	default:
		o.write, o.close = jsonl.NewWriter(o.input, o.in).Write, func() error { return nil }
	}
	return nil
}

// read takes what the program writes.
func (o *programOperator) read(ctx context.Context, r io.Reader) error {
	switch o.format {
	case CSVText:
		reader, err := csv.Open(ctx, r, csv.Options{Dialect: csv.Default(), Schema: o.schema})
		if errors.Is(err, format.ErrEmpty) {
			return nil
		}
		if err != nil {
			return err
		}
		return o.readText(ctx, reader)
	case ArrowStream:
		reader, err := ipc.NewReader(r)
		if err != nil {
			return fmt.Errorf("the program's answer is no Arrow stream: %w", err)
		}
		for reader.Next() {
			b, err := o.fromArrow(reader.RecordBatch())
			if err == nil {
				err = o.keep(b)
			}
			if err != nil {
				return err
			}
		}
		return reader.Err()
	}
	return o.readText(ctx, jsonl.Open(ctx, r, jsonl.Options{Schema: o.schema}))
}

// readText takes rows that are written as text.
func (o *programOperator) readText(ctx context.Context, reader format.Reader) error {
	defer func() { _ = reader.Close() }()
	for {
		chunk, err := reader.Next(ctx)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		for _, bad := range chunk.Refused {
			o.refuse(bad)
		}
		if err := o.keep(chunk.Batch); err != nil {
			return err
		}
	}
}

// fromArrow takes the columns wanted out of a record, by name.
func (o *programOperator) fromArrow(r arrow.RecordBatch) (*batch.Batch, error) {
	b := &batch.Batch{Schema: o.schema, N: int(r.NumRows())}
	for _, c := range o.schema.Columns {
		at := r.Schema().FieldIndices(c.Name)
		if len(at) == 0 {
			return nil, fmt.Errorf("the program's answer has no column %q", c.Name)
		}
		col := r.Column(at[0])
		if !arrow.TypeEqual(col.DataType(), c.Type.Arrow()) {
			return nil, fmt.Errorf("the program gives column %q as %s; %s is expected", c.Name, col.DataType(), c.Type.Arrow())
		}
		col.Retain() // the reader lets go of its record at the next call
		b.Cols = append(b.Cols, col)
	}
	return b, nil
}

func (o *programOperator) keep(b *batch.Batch) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.answers.Add(b)
}

func (o *programOperator) refuse(r format.Refused) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.refused = append(o.refused, r)
}

// Push implements Operator.
func (o *programOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	if !o.started {
		if err := o.start(out); err != nil {
			return err
		}
	}
	out.Absorbed(b.N)
	if err := o.write(b); err != nil {
		return o.failure(err)
	}
	return nil
}

// failure waits for the program's own words.
func (o *programOperator) failure(err error) error {
	_ = o.input.CloseWithError(err)
	for range 2 {
		if own := <-o.done; own != nil {
			return own
		}
	}
	return err
}

// End implements Operator.
func (o *programOperator) End(_ int, out Emitter) error {
	if !o.started {
		if err := o.start(out); err != nil {
			return err
		}
	}
	if err := o.close(); err != nil {
		return o.failure(err)
	}
	_ = o.input.Close()
	var failed error
	for range 2 {
		if err := <-o.done; err != nil && failed == nil {
			failed = err
		}
	}
	if failed != nil {
		return failed
	}
	for _, bad := range o.refused {
		out.Made(1)
		row := &batch.Batch{Schema: schema.New(schema.Column{Name: "line", Type: schema.Of(schema.Text)}), N: 1, Origin: batch.Origin{All: "the program's answer", Row: []int64{bad.Line}}}
		text := batch.NewBuilder(schema.Of(schema.Text))
		if fault := batch.AppendText(text, schema.Of(schema.Text), bad.Raw); fault != nil {
			text.AppendNull()
		}
		row.Cols = []arrow.Array{text.NewArray()}
		if err := out.SetAside(row, 0, bad.Column, bad.Raw, bad.Fault); err != nil {
			return err
		}
	}
	return o.answers.Drain(func(b *batch.Batch) error {
		out.Made(b.N)
		return out.Emit(b)
	})
}

// Close implements Closer: a program that still runs is ended.
func (o *programOperator) Close() {
	if o.started {
		o.stop()
		_ = o.input.CloseWithError(errProgramEnded)
		o.answers.Close()
	}
}
