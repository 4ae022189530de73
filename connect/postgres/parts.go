package postgres

import (
	"context"
	"fmt"
	"io"
	"runtime"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/sync/errgroup"

	"welkin/core/step"
)

// fewestPages is from how many pages of 8 KiB on a table is read in parts.
const fewestPages = 4096

// mostParts is how many connections read one table.
const mostParts = 4

// pages tells how many pages a table has that is read as a whole, 0 for others.
func (d *Database) pages(ctx context.Context, tx pgx.Tx, r step.TableRead) int64 {
	if r.Query != "" || r.Limit > 0 || r.Greatest || len(r.Only) > 0 || r.Between != nil {
		return 0
	}
	schema, table := schemaOf(r.Table)
	var pages int64
	err := tx.QueryRow(ctx, `SELECT pg_relation_size(c.oid) / 8192 FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind IN ('r', 'm') AND current_setting('server_version_num')::int >= 140000`, schema, table).Scan(&pages)
	if err != nil {
		return 0
	}
	return pages
}

// partsReader reads a table by ranges of its pages, all in one snapshot.
type partsReader struct {
	readers []*reader
	chunks  chan chunkOrError
	stop    context.CancelFunc
	group   *errgroup.Group
}

type chunkOrError struct {
	chunk step.Chunk
	err   error
}

// readParts takes over conn and tx, whose snapshot the other parts see too.
func (d *Database) readParts(ctx context.Context, r step.TableRead, conn *pgxpool.Conn, tx pgx.Tx, pages int64) (step.Reader, error) {
	out := &partsReader{chunks: make(chan chunkOrError, mostParts)}
	first := d.newReader(r, conn, tx)
	out.readers = append(out.readers, first)
	var name string
	if err := tx.QueryRow(ctx, `SELECT pg_export_snapshot()`).Scan(&name); err != nil {
		_ = out.Close()
		return nil, d.explain(err)
	}
	n := int64(min(max(runtime.GOMAXPROCS(0), 2), mostParts))
	for range n - 1 {
		conn, tx, err := d.snapshot(ctx)
		if err == nil {
			more := d.newReader(r, conn, tx)
			more.seen = first.seen
			out.readers = append(out.readers, more)
			_, err = tx.Exec(ctx, "SET TRANSACTION SNAPSHOT '"+name+"'")
		}
		if err != nil {
			_ = out.Close()
			return nil, d.explain(err)
		}
	}
	var running context.Context
	running, out.stop = context.WithCancel(ctx)
	out.group, running = errgroup.WithContext(running)
	for i, part := range out.readers {
		condition := fmt.Sprintf("ctid >= '(%d,0)'::tid", pages*int64(i)/n)
		if i < len(out.readers)-1 { // the last part has what was added meanwhile, too
			condition += fmt.Sprintf(" AND ctid < '(%d,0)'::tid", pages*int64(i+1)/n)
		}
		out.group.Go(func() error { return out.read(running, part, condition) })
	}
	go func() {
		_ = out.group.Wait()
		close(out.chunks)
	}()
	return out, nil
}

func (p *partsReader) read(ctx context.Context, part *reader, condition string) error {
	send := func(c chunkOrError) error {
		select {
		case p.chunks <- c:
			return c.err
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if err := part.query(ctx, condition); err != nil {
		return send(chunkOrError{err: part.d.explain(err)})
	}
	for {
		c, err := part.Next(ctx)
		if err == io.EOF {
			return nil
		}
		if err := send(chunkOrError{c, err}); err != nil {
			return err
		}
	}
}

// Next implements step.Reader; the parts' rows come as they are read.
func (p *partsReader) Next(ctx context.Context) (step.Chunk, error) {
	select {
	case c, ok := <-p.chunks:
		if !ok {
			return step.Chunk{}, io.EOF
		}
		return c.chunk, c.err
	case <-ctx.Done():
		return step.Chunk{}, ctx.Err()
	}
}

// Close implements step.Reader.
func (p *partsReader) Close() error {
	if p.stop != nil {
		p.stop()
		_ = p.group.Wait()
	}
	for _, r := range p.readers {
		_ = r.Close()
	}
	return nil
}
