package checkpoint

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"fiume/internal/connect/rows"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
	"fiume/internal/disk"
)

// numbers is a source of whole numbers: 0 to of in order, so that each has been there, then at random up to n.
type numbers struct {
	n, of, pos int64
	mu         sync.Mutex
	longest    time.Duration // between two pieces
	last       time.Time
}

const pieceRows = 8192

func (s *numbers) Splits() []flow.Split              { return []flow.Split{s} }
func (s *numbers) OnData(func())                     {}
func (s *numbers) Close() error                      { return nil }
func (s *numbers) Name() string                      { return "n" }
func (s *numbers) Place(pos int64) string            { return fmt.Sprint(pos) }
func (s *numbers) Position() int64                   { return 0 }
func (s *numbers) Resume(pos int64) error            { s.pos = pos; return nil }
func (s *numbers) NewDecoder() (flow.Decoder, error) { return &numberDecoder{of: s.of}, nil }
func (s *numbers) Frame(p *flow.Piece) error {
	p.Messages = p.Messages[:0]
	for n := p.Base; n < p.Next; n++ {
		p.Messages = append(p.Messages, flow.Message{Pos: n})
	}
	return nil
}
func (s *numbers) Next(p *flow.Piece) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.pos >= s.n {
		return io.EOF
	}
	if now := time.Now(); s.pos > s.of {
		s.longest = max(s.longest, now.Sub(s.last))
		s.last = now
	} else {
		s.last = now
	}
	p.Base = s.pos
	s.pos += pieceRows
	p.Next = s.pos
	return nil
}

// passed says whether a place has been read.
func (s *numbers) passed(pos int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pos > pos
}

type numberDecoder struct {
	of int64
	v  column.Vector
}

func (d *numberDecoder) Decode(_ []byte, ms []flow.Message, out *column.Batch) []flow.Reject {
	d.v.Type = types.Of(types.BigInt)
	d.v.Resize(len(ms))
	out.N, out.Cols, out.Stamp, out.Time, out.Pos = len(ms), []*column.Vector{&d.v}, nil, out.Time[:0], out.Pos[:0]
	for i, m := range ms {
		n := m.Pos
		if n >= d.of {
			n = int64(uint64(n)*0x9e3779b97f4a7c15>>13) % d.of
		}
		d.v.I[i] = n
		out.Time, out.Pos = append(out.Time, types.Second), append(out.Pos, m.Pos)
	}
	return nil
}

type world struct{ source *numbers }

func (w *world) OpenSource(*plan.Op) (flow.Source, error) { return w.source, nil }
func (w *world) OpenSink(*plan.Op) (flow.Sink, error)     { return &rows.Capture{}, nil }
func (w *world) OpenLookup(*plan.Op) (step.Rows, error)   { return nil, errors.New("no lookups") }

// memoryCatalog keeps entries.
type memoryCatalog struct{ all []Entry }

func (c *memoryCatalog) Add(e Entry, keep int) (removed []string, err error) {
	c.all = append([]Entry{e}, c.all...)
	for len(c.all) > keep {
		removed = append(removed, c.all[len(c.all)-1].File)
		c.all = c.all[:len(c.all)-1]
	}
	return removed, nil
}
func (c *memoryCatalog) All() ([]Entry, error) { return c.all, nil }

// BenchmarkState measures what checkpoints cost a job whose windows keep ten million keys: the rate of rows
// without checkpoints and with one a second, the longest time in which nothing was read, how long a checkpoint
// takes, and how long the job takes to be where it was after a restart. The last case has room for a fifth of the
// state in memory.
func BenchmarkState(b *testing.B) {
	cat := plan.NewCatalog([]plan.Place{{Kind: "memory", Source: []plan.OptionSpec{}}})
	plans, _, err := cat.Bind("q", `DECLARE STREAM s (n BIGINT) FROM MEMORY 'x';
		SELECT n, COUNT(*) AS c, SUM(n) AS t FROM s GROUP BY n, w WINDOW w AS (TUMBLING 1 DAYS);`, nil, func(sql.Statement, *sql.Errors) {})
	if err != nil {
		b.Fatal(err)
	}
	const keys, total = 10_000_000, 40_000_000
	for _, c := range []struct {
		every  time.Duration
		memory int64
	}{{time.Hour, 0}, {time.Second, 0}, {time.Second, 185 << 20}} {
		name := fmt.Sprint("every ", c.every)
		if c.memory > 0 {
			name += fmt.Sprintf(", %d MiB", c.memory>>20)
		}
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				src := &numbers{n: total, of: keys}
				dir := filepath.Join(b.TempDir(), "state")
				k := &Keeper{FS: disk.OS{}, Dir: dir, Catalog: &memoryCatalog{}, Now: time.Now, Log: func(string, ...any) {}, Journal: &Journal{FS: disk.OS{}, Dir: dir}}
				stop, end := context.WithCancel(b.Context())
				var began time.Time
				var took time.Duration
				taken, held, written, disk := 0, 0, int64(0), int64(0)
				var job *flow.Job
				r := &Run{Keeper: k, Plan: plans[0], Opener: &world{src}, Every: c.every, Options: flow.Options{Memory: c.memory, Describe: func([]types.Field, *column.Batch, int) string { return "" }},
					Started: func(j *flow.Job) { job = j },
					Saved: func(e Entry) {
						if src.passed(keys) { // what is written while the state is filled is another matter
							taken, took, written = taken+1, took+e.Took, written+e.Bytes
						}
					}}
				go func() {
					for began.IsZero() || src.pos < total {
						time.Sleep(time.Millisecond)
						src.mu.Lock()
						if began.IsZero() && src.pos >= keys {
							began = time.Now()
						}
						src.mu.Unlock()
					}
					for _, s := range job.Status().Steps {
						held = max(held, s.Bytes)
						disk = max(disk, s.Disk)
					}
					b.ReportMetric(float64(total-keys)/time.Since(began).Seconds(), "rows/s")
					b.ReportMetric(float64(src.longest.Milliseconds()), "longest-ms")
					end()
				}()
				if err := r.Do(b.Context(), stop); err != nil {
					b.Fatal(err)
				}
				b.ReportMetric(float64(held)/1e6, "MB")
				b.ReportMetric(float64(disk)/1e6, "MB-on-disk")
				b.ReportMetric(float64(written)/1e6/float64(max(taken, 1)), "MB/checkpoint")
				b.ReportMetric(float64(took.Milliseconds())/float64(max(taken, 1)), "ms/checkpoint")
				back := time.Now()
				snap, _, err := k.Load(0)
				if err == nil {
					err = k.OpenJournal()
				}
				if err == nil {
					_, err = flow.New(plans[0], &world{&numbers{n: total, of: keys}}, flow.Options{Restore: snap, Checkpoints: true, Memory: c.memory, Describe: r.Options.Describe, Journal: k.Journal})
				}
				if err != nil {
					b.Fatal(err)
				}
				b.ReportMetric(time.Since(back).Seconds(), "restart-s")
			}
		})
	}
}
