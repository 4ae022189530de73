package engine

import (
	"fmt"
	"os"

	"github.com/apache/arrow-go/v18/arrow/ipc"

	"welkin/core/batch"
)

// spool keeps batches in order until they are wanted: in memory up to a budget,
// then in a temporary file as an Arrow stream. Origins stay in memory.
type spool struct {
	folder  string
	budget  int64
	bytes   int64
	memory  []*batch.Batch
	file    *os.File
	writer  *ipc.Writer
	spilled []*batch.Batch // schema, N and origin of those in the file
}

func (s *spool) add(b *batch.Batch) error {
	if s.file == nil && s.bytes+b.Bytes() <= s.budget {
		s.bytes += b.Bytes()
		s.memory = append(s.memory, b)
		return nil
	}
	if s.file == nil {
		f, err := os.CreateTemp(s.folder, "welkin-waiting-*.arrow")
		if err != nil {
			return fmt.Errorf("making a temporary file for rows that must wait: %w", err)
		}
		s.file, s.writer = f, ipc.NewWriter(f, ipc.WithSchema(batch.ArrowSchema(b.Schema)))
	}
	s.spilled = append(s.spilled, &batch.Batch{Schema: b.Schema, N: b.N, Origin: b.Origin})
	if err := s.writer.Write(b.Record()); err != nil {
		return fmt.Errorf("writing rows that must wait: %w", err)
	}
	return nil
}

// drain gives the batches in order and forgets them.
func (s *spool) drain(take func(*batch.Batch) error) error {
	defer s.close()
	for i, b := range s.memory {
		s.memory[i] = nil
		if err := take(b); err != nil {
			return err
		}
	}
	if s.file == nil {
		return nil
	}
	if err := s.writer.Close(); err != nil {
		return fmt.Errorf("writing rows that must wait: %w", err)
	}
	if _, err := s.file.Seek(0, 0); err != nil {
		return err
	}
	r, err := ipc.NewReader(s.file)
	if err != nil {
		return fmt.Errorf("reading rows that waited: %w", err)
	}
	for _, b := range s.spilled {
		if !r.Next() {
			return fmt.Errorf("reading rows that waited: %w", r.Err())
		}
		b.Cols = r.RecordBatch().Columns()
		for _, c := range b.Cols {
			c.Retain() // the reader lets go of its record at the next call
		}
		if err := take(b); err != nil {
			return err
		}
	}
	return nil
}

func (s *spool) close() {
	if s == nil || s.file == nil {
		return
	}
	name := s.file.Name()
	_ = s.file.Close()
	_ = os.Remove(name)
	s.file = nil
}
