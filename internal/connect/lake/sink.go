package lake

import (
	"bytes"
	"context"
	"fmt"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/spool"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
)

// Sink writes rows to an open table. In a run that takes checkpoints they are spooled, as batches of Arrow, and written when a checkpoint counts: the rows
// between two checkpoints make one snapshot, and their number goes into the table's properties with it, so that it is known whether they are there, also after
// snapshots are gone. Without checkpoints a snapshot is made of so many bytes, and at the end.
type Sink struct {
	*spool.Sink
	lake   *lake
	shape  *shape
	schema *arrow.Schema // of what is spooled
	to     writer
	spools bool
	run    string // names a run without checkpoints
	number int64
	held   [][]byte
	bytes  int
	known  int64 // a delivery that the table was seen to have, of the writer that Resume names
}

// writer writes deliveries to a table of one of the formats. The table keeps the number of the last of each writer.
type writer interface {
	// last gives the number of the last delivery of a writer that the table has, as it is now; 0: none.
	last(ctx context.Context, writer string) (int64, error)
	// write makes a delivery a snapshot, unless the table has it.
	write(ctx context.Context, writer string, number int64, recs []arrow.RecordBatch) error
}

const (
	// mostWaiting are the bytes that may wait for the table; what is delivered is in memory.
	mostWaiting = 256 << 20
	// mostHeld are the bytes that make a snapshot in a run without checkpoints.
	mostHeld = 64 << 20
	// whatColumn says in what is spooled what a row does.
	whatColumn = "_what"
	rowPut     = 1
	rowRemove  = 2
)

// OpenSink implements contract.Writer: it opens the table, which is made where it is not there.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	ctx := context.Background()
	l, err := open(ctx, env, out.Sink.Via)
	if err != nil {
		return nil, err
	}
	shape, err := l.shape(out)
	if err != nil {
		l.close()
		return nil, err
	}
	s := &Sink{lake: l, shape: shape, run: spool.NewWriter()}
	s.Sink = &spool.Sink{FS: env.FS(), Dir: env.Spool(out), Target: s, Limit: mostWaiting}
	var cols *arrow.Schema
	if l.delta {
		s.to, cols, err = l.ledgerWriter(ctx, shape)
	} else {
		s.to, cols, err = l.icebergWriter(ctx, shape, upkeepOf(out.Sink.Options, env.Did))
	}
	if err != nil {
		l.close()
		return nil, err
	}
	var fields []arrow.Field
	for _, f := range shape.fields {
		fields = append(fields, cols.Field(format.FieldOf(cols, f.Name)))
	}
	if shape.key != nil {
		fields = append(fields, arrow.Field{Name: whatColumn, Type: arrow.PrimitiveTypes.Int8})
	}
	s.schema = arrow.NewSchema(fields, nil)
	return s, nil
}

// encoder makes batches of Arrow of rows.
type encoder struct {
	*format.ArrowBlocks
	s     *Sink
	batch column.Batch
	sel   []uint32
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder([]types.Field) (flow.Encoder, error) {
	return &encoder{ArrowBlocks: format.NewArrowBlocks(s.schema), s: s}, nil
}

// Add implements flow.Encoder.
func (e *encoder) Add(b *column.Batch) {
	if e.s.shape.key != nil && b.Change != nil && e.s.shape.exact {
		e.sel = e.sel[:0]
		for i, c := range b.Change {
			if c != column.Replaced { // its replacement takes its place
				e.sel = append(e.sel, uint32(i))
			}
		}
		if len(e.sel) < b.N {
			b.Gather(e.sel, &e.batch)
			b = &e.batch
		}
	}
	if b.N == 0 {
		return
	}
	e.ArrowBlocks.Add(b)
	if e.s.shape.key != nil {
		what := e.Build.Field(len(e.s.shape.fields)).(*array.Int8Builder)
		for i := range b.N {
			if b.Change != nil && b.Change[i].Takes() {
				what.Append(rowRemove)
			} else {
				what.Append(rowPut)
			}
		}
	}
}

// Resume implements flow.Exact.
func (s *Sink) Resume(handle []byte) error {
	s.spools, s.known = true, 0
	return s.Sink.Resume(handle)
}

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	if len(p.Bytes) == 0 {
		return nil
	}
	if s.spools {
		return s.Sink.Write(p.Bytes)
	}
	s.held, s.bytes = append(s.held, p.Bytes), s.bytes+len(p.Bytes)
	if s.bytes < mostHeld {
		return nil
	}
	return s.send()
}

// send writes what a run without checkpoints holds.
func (s *Sink) send() error {
	if len(s.held) == 0 {
		return nil
	}
	if err := s.Deliver(s.run, s.number+1, nil, s.held); err != nil {
		return err
	}
	s.number++
	s.held, s.bytes = nil, 0
	return nil
}

// Retry implements flow.Retrier.
func (s *Sink) Retry(err error) bool { return s.Sink.Retry(err) }

// Close implements flow.Sink.
func (s *Sink) Close(bool) error {
	var err error
	for range 3 {
		if err = s.send(); err == nil || !s.lake.passing(err) {
			break
		}
	}
	s.lake.close()
	return err
}

// Passing implements spool.Target.
func (s *Sink) Passing(err error) bool { return s.lake.passing(err) }

// Place implements spool.Target: the deliveries that are there are told by the table's properties.
func (s *Sink) Place() ([]byte, error) { return nil, nil }

// Has implements spool.Target.
func (s *Sink) Has(writer string, number int64, _ []byte) (bool, error) {
	return s.has(context.Background(), writer, number)
}

func (s *Sink) has(ctx context.Context, writer string, number int64) (_ bool, err error) {
	if number > s.known {
		s.known, err = s.to.last(ctx, writer)
	}
	return err == nil && number <= s.known, err
}

// Deliver implements spool.Target.
func (s *Sink) Deliver(writer string, number int64, _ []byte, payloads [][]byte) error {
	ctx := context.Background()
	if has, err := s.has(ctx, writer, number); err != nil || has {
		return err // it is there: what failed was to hear of it
	}
	recs, err := read(payloads)
	if err != nil {
		return err
	}
	return s.to.write(ctx, writer, number, recs)
}

// read gives the batches of payloads.
func read(payloads [][]byte) (out []arrow.RecordBatch, err error) {
	for _, p := range payloads {
		if err := format.ReadArrow(bytes.NewReader(p), func(rec arrow.RecordBatch) error {
			rec.Retain()
			out = append(out, rec)
			return nil
		}); err != nil {
			return nil, fmt.Errorf("spooled rows cannot be read: %w", err)
		}
	}
	return out, nil
}
