// Package formattest is for the tests of formats: formattest.go reads what readers
// give, roundtrip.go is the suite of what is written and read back.
package formattest

import (
	"context"
	"io"

	"github.com/stretchr/testify/require"

	"welkin/core/format"
)

// Reader is a reader of one file.
type Reader = format.Reader

// Read gives all rows, a null as ∅, and what was refused.
func Read(t require.TestingT, r Reader) (rows [][]string, refused []format.Refused) {
	defer func() { require.NoError(t, r.Close()) }()
	for {
		c, err := r.Next(context.Background())
		if err == io.EOF {
			return rows, refused
		}
		require.NoError(t, err)
		require.EqualValues(t, c.Batch.N+len(c.Refused), c.Seen, "every record seen is a row or refused")
		refused = append(refused, c.Refused...)
		for i := range c.Batch.N {
			var row []string
			for _, cell := range c.Batch.Row(i) {
				if cell == nil {
					row = append(row, "∅")
				} else {
					row = append(row, *cell)
				}
			}
			rows = append(rows, row)
		}
	}
}
