// Package generator makes rows: streams whose columns are computed from the number of the row, its time, and chance. The same seed makes the same rows.
package generator

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strconv"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// Connector is GENERATOR.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place {
	return plan.Place{
		Kind:  "generator",
		About: "rows that are made: each column says how, from _row, _time and the functions of chance",
		Example: `DECLARE STREAM made (
	n BIGINT AS (_row),
	at TIMESTAMP AS (_time),
	chip VARCHAR AS ('P' || CAST(RANDOM_SKEWED(1000) AS VARCHAR)),
	mat VARCHAR AS (RANDOM_CHOICE('start', 3, 'km5', 2, 'finish', 1)),
	rssi DOUBLE AS (ROUND(RANDOM_NORMAL(-60, 8), 1))
) EVENT TIME at DELAY 5 SECONDS
FROM GENERATOR 'made' (ROWS PER SECOND 50, SEED 7, DISORDER 2 SECONDS, LATE 0.01);`,
		Traits: plan.Traits{Made: true, Again: true},
		Source: []plan.OptionSpec{
			{Name: "rows", Kind: plan.NumberOption, Least: 0, Doc: "how many; without end where left out"},
			{Name: "rows per second", Kind: plan.NumberOption, Least: 1, Doc: "how many a second, which _time follows too; without it, as fast as they are read where ROWS ends them, else 1"},
			{Name: "seed", Kind: plan.NumberOption, Least: 0, Doc: "what chance begins with: the same seed makes the same rows", Default: "1"},
			{Name: "begins", Kind: plan.WordOption, Doc: "the _time of the first row, such as '2026-05-17T06:00:00Z'", Default: "when the job starts"},
			{Name: "disorder", Kind: plan.DurationOption, Doc: "_time is up to so much before its turn, each length as likely as the others", Default: "0 SECONDS"},
			{Name: "late", Kind: plan.ShareOption, Doc: "the share of rows whose _time is before its turn by a minute and the disorder more, and up to as much again", Default: "0"},
			{Name: "bad rows", Kind: plan.WordOption, Words: []string{"keep", "stop"}, Doc: "what a message that is no row does; keep: it is counted and a sample kept"},
			{Name: "bad", Kind: plan.ShareOption, Doc: "the share of messages that are no rows", Default: "0"},
			{Name: "splits", Kind: plan.NumberOption, Least: 1, Doc: "how many splits share the rows, each in its turn", Default: "1"},
		},
	}
}

// pieceRows are made at a time.
const pieceRows = 4096

// lateBy is how far late rows are before their turn, beside the disorder.
const lateBy = types.Minute

// CheckSource implements contract.Reader.
func (connector) CheckSource(_ context.Context, _ *contract.Env, s *plan.Stream) error {
	_, err := settingsOf(s)
	return err
}

// settings are how rows are made.
type settings struct {
	rows           int64 // -1: without end
	rate           int64 // a second; 0: as fast as they are read
	seed           int64
	begins         int64 // microseconds; 0: when the job starts
	disorder       int64
	late, bad      float64
	splits, number int64
}

func settingsOf(s *plan.Stream) (x settings, err error) {
	o := s.Options
	x = settings{rows: int64(o.Number("rows", -1)), rate: int64(o.Number("rows per second", 0)), seed: int64(o.Number("seed", 1)), disorder: o.Duration("disorder", 0),
		late: o.Share("late", 0), bad: o.Share("bad", 0), splits: int64(o.Number("splits", 1))}
	if x.rate == 0 && x.rows < 0 {
		x.rate = 1
	}
	if x.splits > 1000 {
		return x, fmt.Errorf("SPLITS is %d; 1000 are the most", x.splits)
	}
	if text := o.Word("begins", ""); text != "" {
		at, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			return x, fmt.Errorf("BEGINS takes an instant such as '2026-05-17T06:00:00Z', not '%s'", text)
		}
		x.begins = at.UnixMicro()
	}
	return x, nil
}

// OpenSource implements contract.Reader.
func (connector) OpenSource(_ *contract.Env, scan *plan.Op) (flow.Source, error) {
	x, err := settingsOf(scan.Stream)
	if err != nil {
		return nil, err
	}
	src := &source{}
	for i := range x.splits {
		x.number = i
		s := &split{settings: x, name: fmt.Sprintf("%s/%d", scan.Stream.Address, i), scan: scan, begun: time.Now().UnixMicro()}
		if scan.Until.Kind == plan.Now || scan.Until.Kind == plan.AtTime || scan.Until.Kind == plan.Ago {
			if s.rows < 0 { // a try of rows without end has as many as would come in ten seconds
				s.rows = max(100, 10*s.rate)
			}
			s.rate, s.paced = 0, s.rate
		}
		src.splits = append(src.splits, s)
	}
	return src, nil
}

type source struct{ splits []flow.Split }

// Splits implements flow.Source.
func (s *source) Splits() []flow.Split { return s.splits }

// OnData implements flow.Source: whoever reads looks now and then.
func (s *source) OnData(func()) {}

// Close implements flow.Source.
func (s *source) Close() error { return nil }

// split makes the rows number, number+splits, … Positions count them.
type split struct {
	settings
	name  string
	scan  *plan.Op
	next  int64
	begun int64 // when row 0 is due, microseconds; checkpoints keep it
	paced int64 // the rate by which _time goes where rows come as fast as they are read
}

func (s *split) Name() string            { return s.name }
func (s *split) Place(pos int64) string  { return fmt.Sprintf("%s row %d", s.name, s.row(pos)) }
func (s *split) Position() int64         { return 0 }
func (s *split) Close() error            { return nil }
func (s *split) Frame(*flow.Piece) error { return nil }
func (s *split) Endless() bool           { return s.rows < 0 }
func (s *split) row(pos int64) int64     { return pos*s.splits + s.number }

// Resume implements flow.Split.
func (s *split) Resume(pos int64) error {
	s.next = pos
	return nil
}

// Mark implements flow.Marked: when row 0 was due.
func (s *split) Mark(int64) string { return strconv.FormatInt(s.begun, 10) }

// ResumeAt implements flow.Marked.
func (s *split) ResumeAt(mark string, pos int64) (err error) {
	s.next = pos
	s.begun, err = strconv.ParseInt(mark, 10, 64)
	return err
}

// mine is how many rows the split has in all.
func (s *split) mine() int64 { return (s.rows - s.number + s.splits - 1) / s.splits }

// Left implements flow.Counting.
func (s *split) Left(pos int64) int64 {
	if s.rows >= 0 {
		return max(0, s.mine()-pos)
	}
	return max(0, s.due()-pos)
}

// due is how many rows are due by now, where they have their times.
func (s *split) due() int64 {
	passed := float64(time.Now().UnixMicro()-s.begun) / float64(types.Second)
	return int64(passed*float64(s.rate)-float64(s.number))/s.splits + 1
}

// Next implements flow.Split.
func (s *split) Next(p *flow.Piece) error {
	if s.rows >= 0 && s.next >= s.mine() {
		return io.EOF
	}
	to := s.next + pieceRows
	if s.rows >= 0 {
		to = min(to, s.mine())
	}
	if s.rate > 0 {
		if to = min(to, s.due()); to <= s.next {
			return flow.ErrNothing
		}
	}
	p.Data, p.Messages, p.Base, p.Next = p.Data[:0], p.Messages[:0], s.next, to
	now := time.Now().UnixMicro()
	for n := s.next; n < to; n++ {
		p.Messages = append(p.Messages, flow.Message{Pos: n, At: now})
	}
	s.next = to
	return nil
}

// at is the time of a row.
func (s *split) at(row int64) int64 {
	begins, rate := s.begins, s.rate
	if begins == 0 {
		begins = s.begun
	}
	if rate == 0 {
		rate = cmp.Or(s.paced, 1000)
	}
	at := begins + row/rate*types.Second + row%rate*types.Second/rate
	if s.disorder > 0 {
		at -= int64(s.chance(row, 1) * float64(s.disorder))
	}
	if s.late > 0 && s.chance(row, 2) < s.late {
		at -= s.disorder + lateBy + int64(s.chance(row, 3)*float64(s.disorder+lateBy))
	}
	return at
}

// chance is a number in [0, 1) of a row, of its own for each purpose.
func (s *split) chance(row, purpose int64) float64 {
	return float64(uint64(eval.Draw(s.seed+purpose<<40, row))>>11) / (1 << 53)
}

// NewDecoder implements flow.Split.
func (s *split) NewDecoder() (flow.Decoder, error) {
	d := &decoder{s: s}
	for i, f := range plan.MadeColumns {
		if _, ok := s.scan.Used.Needs(i); ok {
			d.cols[i] = column.New(f.Type)
		}
	}
	return d, nil
}

type decoder struct {
	s    *split
	cols [4]*column.Vector
}

// Decode implements flow.Decoder.
func (d *decoder) Decode(_ []byte, ms []flow.Message, out *column.Batch) (bad []flow.Reject) {
	s := d.s
	kept, arrival := out.Pos[:0], s.scan.Stream.Arrival()
	out.Time = out.Time[:0]
	for i, m := range ms {
		if s.bad > 0 && s.chance(s.row(m.Pos), 4) < s.bad {
			bad = append(bad, flow.Reject{Message: i, Reason: "it was made to be no row (BAD)"})
			continue
		}
		kept = append(kept, m.Pos)
		out.Time = append(out.Time, m.At)
	}
	n := len(kept)
	out.N, out.Pos, out.Stamp, out.Change, out.From = n, kept, nil, nil, nil
	out.Cols = out.Cols[:0]
	for i := range plan.MadeColumns {
		if v := d.cols[i]; v != nil {
			v.Resize(n)
		}
		out.Cols = append(out.Cols, d.cols[i])
	}
	for i, pos := range kept {
		row := s.row(pos)
		at := s.at(row)
		if !arrival {
			out.Time[i] = at
		}
		for c, v := range d.cols {
			if v == nil {
				continue
			}
			switch c {
			case 0:
				v.I[i] = row
			case 1:
				v.I[i] = at
			case 2:
				v.I[i] = eval.Draw(s.seed, row)
			default:
				v.I[i] = s.seed
			}
		}
	}
	return bad
}
