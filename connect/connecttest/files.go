package connecttest

import (
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/core/schema"
	"welkin/core/step"
	"welkin/standin/faults"
)

// LevelsCSV is the file of the three rows.
const LevelsCSV = "id,name,level\n1,Ravenseat,2.50\n2,Larkfell,\n3,,-1.00\n"

// FilesHarness is Harness for kinds that hold files, of which the file levels.csv has
// the three rows.
func FilesHarness(t *testing.T, h Harness) Harness {
	h.Path = "levels.csv"
	h.Read = func(ctx context.Context, c connect.Connection) (step.Reader, error) {
		return ReadFile(ctx, c, "levels.csv")
	}
	h.Load = func(ctx context.Context, c connect.Connection, e step.Epoch) (step.Load, error) {
		rows := Rows(t)
		b := (&step.WriteFile{Connection: "x", File: "out/levels_copy.csv"}).Bind(&step.Context{Context: ctx, World: worldOf(c), Step: "s"}, []*schema.Schema{rows.Schema})
		return b.Target.Begin(ctx, e)
	}
	h.Count = func(ctx context.Context, c connect.Connection) int64 {
		r, err := c.(step.Files).Open(ctx, "out/levels_copy.csv")
		if err != nil {
			return 0
		}
		defer r.Close()
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		return int64(strings.Count(string(text), "\n") - 1)
	}
	return h
}

func worldOf(c connect.Connection) *connect.World {
	return &connect.World{Open: func(context.Context, string) (connect.Connection, error) { return c, nil }}
}

// ReadFile begins to read a file by the step that does so.
func ReadFile(ctx context.Context, c connect.Connection, name string) (step.Reader, error) {
	stepContext := &step.Context{Context: ctx, World: worldOf(c)}
	b := (&step.ReadFiles{Connection: "x", Files: name}).Bind(stepContext, nil)
	if b == nil {
		return nil, fmt.Errorf("%v", stepContext.Problems())
	}
	return b.Source.Open(ctx, 0)
}

// ReadTable begins to read a table by the step that does so.
func ReadTable(ctx context.Context, c connect.Connection, s step.ReadTable) (step.Reader, error) {
	s.Connection = "x"
	stepContext := &step.Context{Context: ctx, World: worldOf(c)}
	b := s.Bind(stepContext, nil)
	if b == nil || b.Source == nil {
		return nil, fmt.Errorf("%v", stepContext.Problems())
	}
	return b.Source.Open(ctx, 0)
}

// Count reads all rows.
func Count(ctx context.Context, r step.Reader) (int64, error) {
	defer r.Close()
	n := int64(0)
	for {
		c, err := r.Next(ctx)
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
		n += c.Seen
	}
}

// Faults are what a kind hands in for the suite of what goes wrong on the way.
type Faults struct {
	Address string                                                               // of the server
	Open    func(ctx context.Context, port int) (connect.Connection, error)      // reaches it by another port on loopback
	Read    func(ctx context.Context, c connect.Connection) (step.Reader, error) // reads many rows, of some megabytes
	Rows    int64                                                                // how many
	Secret  string
}

// RunFaults runs the suite: a read whose way is cut ends with a sentence and not with
// fewer rows, and is done right afterwards by the same connection.
func RunFaults(t *testing.T, f Faults) {
	proxy, err := faults.New(f.Address)
	require.NoError(t, err)
	defer proxy.Close()
	ctx := t.Context()
	c, err := f.Open(ctx, proxy.Port())
	require.NoError(t, err)
	defer c.Close()
	all := func() (int64, error) {
		r, err := f.Read(ctx, c)
		if err != nil {
			return 0, err
		}
		return Count(ctx, r)
	}
	n, err := all()
	require.NoError(t, err)
	require.Equal(t, f.Rows, n)
	sentence := func(err error) {
		t.Helper()
		require.Error(t, err)
		if f.Secret != "" {
			assert.NotContains(t, err.Error(), f.Secret)
		}
		assert.NotContains(t, err.Error(), "panic")
	}
	for _, bytes := range []int64{100, 50_000, 700_000} {
		proxy.CutAfter(bytes)
		n, err := all()
		sentence(err)
		assert.Less(t, n, f.Rows)
		proxy.CutAfter(-1)
		n, err = all()
		require.NoError(t, err, "after the way was cut")
		assert.Equal(t, f.Rows, n)
	}
	proxy.CutAfter(0)
	fresh, err := f.Open(ctx, proxy.Port())
	if err == nil {
		lines := fresh.Check(ctx)
		bad := 0
		for _, l := range lines {
			if l.State == connect.Bad {
				bad++
				assert.NotEmpty(t, l.Remedy)
			}
		}
		assert.Equal(t, 1, bad, "%v", lines)
		assert.NoError(t, fresh.Close())
	}
	proxy.CutAfter(-1)
	proxy.Slow(20 * time.Millisecond)
	given, cancel := context.WithCancel(ctx)
	r, err := f.Read(given, c)
	if err == nil {
		_, _ = r.Next(given)
		cancel()
		began := time.Now()
		for err == nil {
			_, err = r.Next(given)
		}
		assert.NoError(t, r.Close())
		assert.Less(t, time.Since(began), 10*time.Second, "a slow read that is given up ends")
	}
	cancel()
}
