package flow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"testing"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// numbered gives n rows (k VARCHAR, v BIGINT, t VARCHAR): the numbers up to n, or random ones below of.
type numbered struct {
	n, of  int64
	random bool
	pos    int64
	began  time.Time // when the first row was asked for
}

const numberedPiece = 4096

func (s *numbered) Splits() []Split              { return []Split{s} }
func (s *numbered) OnData(func())                {}
func (s *numbered) Close() error                 { return nil }
func (s *numbered) Name() string                 { return "numbers" }
func (s *numbered) Place(int64) string           { return "" }
func (s *numbered) Position() int64              { return s.pos }
func (s *numbered) Resume(int64) error           { return nil }
func (s *numbered) NewDecoder() (Decoder, error) { return &numberDecoder{s: s}, nil }
func (s *numbered) Next(p *Piece) error {
	if s.pos == 0 {
		s.began = time.Now()
	}
	if s.pos >= s.n {
		return io.EOF
	}
	p.Base = s.pos
	s.pos = min(s.pos+numberedPiece, s.n)
	p.Next = s.pos
	return nil
}

func (s *numbered) Frame(p *Piece) error {
	p.Messages = p.Messages[:0]
	for n := p.Base; n < p.Next; n++ {
		p.Messages = append(p.Messages, Message{Pos: n})
	}
	return nil
}

type numberDecoder struct{ s *numbered }

func (d *numberDecoder) Decode(_ []byte, ms []Message, out *column.Batch) []Reject {
	k, v, t := column.New(types.Of(types.Varchar)), column.New(types.Of(types.BigInt)), column.New(types.Of(types.Varchar))
	k.Resize(len(ms))
	v.Resize(len(ms))
	t.Resize(len(ms))
	out.N, out.Cols, out.Time, out.Pos, out.Stamp, out.Change = len(ms), []*column.Vector{k, v, t}, make([]int64, len(ms)), out.Pos[:0], nil, nil
	var buf []byte
	for i, m := range ms {
		n := m.Pos
		if d.s.random {
			n = int64(uint64(n)*0x9e3779b97f4a7c15>>13) % d.s.of
		}
		buf = strconv.AppendInt(append(buf[:0], 'C'), n, 10)
		k.SetText(i, buf)
		v.I[i] = n
		t.SetText(i, append(buf, " Remiera"...))
		out.Pos = append(out.Pos, m.Pos)
	}
	return nil
}

type numberWorld struct{ stream, table *numbered }

func (w *numberWorld) OpenSource(scan *plan.Op) (Source, error) {
	if scan.OfTable != nil {
		return w.table, nil
	}
	return w.stream, nil
}
func (w *numberWorld) OpenSink(*plan.Op) (Sink, error)        { return countSink{}, nil }
func (w *numberWorld) OpenLookup(*plan.Op) (step.Rows, error) { return nil, errors.New("no lookups") }

// countSink takes rows and forgets them.
type countSink struct{}

type countEncoder struct{ n int }

func (countSink) NewEncoder([]types.Field) (Encoder, error) { return &countEncoder{}, nil }
func (countSink) Write(Payload) error                       { return nil }
func (countSink) Close(bool) error                          { return nil }
func (e *countEncoder) Add(b *column.Batch)                 { e.n += b.N }
func (e *countEncoder) Take() Payload                       { p := Payload{Rows: e.n}; e.n = 0; return p }

// BenchmarkTableSize measures how the rate of a join with a table depends on the table's size. An iteration
// joins two million rows by random keys; the loading of the table is not counted. It says what the table
// holds by row, and what EXPLAIN says of it.
func BenchmarkTableSize(b *testing.B) {
	for _, size := range []int64{20_000, 5_000_000} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			cat := plan.NewCatalog([]plan.Place{{Kind: "memory", Source: []plan.OptionSpec{}, Table: []plan.OptionSpec{}}})
			plans, _, err := cat.Bind("q", `DECLARE STREAM s (k VARCHAR, v BIGINT, t VARCHAR) FROM MEMORY 'x'; DECLARE TABLE e (k VARCHAR PRIMARY KEY, v BIGINT, t VARCHAR) FROM MEMORY 'x';
				SELECT s.k, e.v, e.t FROM s JOIN e ON e.k = s.k;`, nil, func(sql.Statement, *sql.Errors) {})
			if err != nil {
				b.Fatal(err)
			}
			const rows = 2_000_000
			var took time.Duration
			held := 0
			for b.Loop() {
				w := &numberWorld{stream: &numbered{n: rows, of: size, random: true}, table: &numbered{n: size}}
				j, err := New(plans[0], w, Options{Describe: func([]types.Field, *column.Batch, int) string { return "" }})
				if err != nil {
					b.Fatal(err)
				}
				if err := j.Run(context.Background()); err != nil {
					b.Fatal(err)
				}
				took += time.Since(w.stream.began)
				for _, s := range j.Status().Steps {
					if s.Kind == "side" {
						held = s.Bytes
					}
					if s.Kind == "lookup" && s.Counts.Passed != rows {
						b.Fatalf("%+v", s.Counts)
					}
				}
			}
			b.ReportMetric(float64(rows)*float64(b.N)/took.Seconds(), "rows/s")
			b.ReportMetric(float64(held)/float64(size), "bytes/row")
			for _, s := range plans[0].Explain(0).Steps {
				if s.Kind == "side" {
					b.ReportMetric(float64(s.State.EntryBytes), "explained/row")
				}
			}
		})
	}
}
