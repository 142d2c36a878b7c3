// Package history reads a stream in two parts: what has been kept of it, to the end, and then the place where it goes on.
package history

import (
	"errors"
	"io"
	"strings"
	"sync"

	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// prefix stands before the names of the splits of a history, which may be those of the place that goes on.
const prefix = "history "

// Open opens both parts of a scan with open. The splits of the place that goes on come when those of the history have ended, so that they begin with the watermark
// that it has come to.
func Open(scan *plan.Op, open func(scan *plan.Op) (flow.Source, error)) (flow.Source, error) {
	past := *scan
	past.Stream, past.Since, past.Until = scan.Stream.History, plan.Bound{}, plan.Bound{Kind: plan.Now}
	live := *scan
	then := *scan.Stream
	then.History = nil
	live.Stream = &then
	s := &source{seam: scan.Stream.Seam}
	var err error
	if s.live, err = open(&live); err != nil {
		return nil, err
	}
	if s.past, err = open(&past); err != nil {
		return nil, errors.Join(err, s.live.Close())
	}
	for _, sp := range s.past.Splits() {
		old := &split{Split: sp, s: s}
		s.left++
		if m, ok := sp.(flow.Marked); ok {
			s.old = append(s.old, &marked{old, m})
		} else {
			s.old = append(s.old, old)
		}
	}
	return s, nil
}

type source struct {
	past, live flow.Source
	seam       int64
	old        []flow.Split

	mu     sync.Mutex
	left   int // splits of the history that have not ended
	joined bool
	known  func(name string) (there, ended bool)
	wake   func()
}

// Known implements flow.Knowing: where a checkpoint knows a split of the place that goes on, the history had ended.
func (s *source) Known(split func(name string) (there, ended bool)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known = split
	for _, sp := range s.live.Splits() {
		there, _ := split(sp.Name())
		s.joined = s.joined || there
	}
	for _, old := range s.old {
		if _, ended := split(old.Name()); ended {
			old.(interface{ end() bool }).end()
		}
	}
	if k, ok := s.live.(flow.Knowing); ok && s.joined {
		k.Known(split)
	}
}

// Splits implements flow.Source. Of a history that had ended only what is known counts: files that were put into it since are not read any more.
func (s *source) Splits() (out []flow.Split) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, sp := range s.old {
		if s.joined {
			if there, _ := s.known(sp.Name()); !there {
				continue
			}
		}
		out = append(out, sp)
	}
	if s.joined {
		out = append(out, s.live.Splits()...)
	}
	return out
}

// OnData implements flow.Source.
func (s *source) OnData(wake func()) {
	s.mu.Lock()
	s.wake = wake
	s.mu.Unlock()
	s.past.OnData(wake)
	s.live.OnData(wake)
}

// Arrived implements flow.Growing.
func (s *source) Arrived() []flow.Split {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.joined {
		if s.left > 0 {
			return nil
		}
		s.joined = true
		return s.live.Splits()
	}
	if g, ok := s.live.(flow.Growing); ok {
		return g.Arrived()
	}
	return nil
}

// Grows implements flow.Growing.
func (s *source) Grows() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.joined {
		return true
	}
	g, ok := s.live.(flow.Growing)
	return ok && g.Grows()
}

// Borders implements flow.Bordered.
func (s *source) Borders(sp flow.Split) (from, until int64) {
	switch {
	case s.seam == plan.NoSeam:
		return types.MinTime, types.MaxTime
	case strings.HasPrefix(sp.Name(), prefix):
		return types.MinTime, s.seam
	}
	return s.seam, types.MaxTime
}

// Retry implements flow.Retrier.
func (s *source) Retry(err error) bool {
	for _, x := range []flow.Source{s.past, s.live} {
		if r, ok := x.(flow.Retrier); ok && r.Retry(err) {
			return true
		}
	}
	return false
}

// Commit implements flow.Committing.
func (s *source) Commit(at map[string]flow.SplitPosition) error {
	past, live := map[string]flow.SplitPosition{}, map[string]flow.SplitPosition{}
	for n, p := range at {
		if old, ok := strings.CutPrefix(n, prefix); ok {
			past[old] = p
		} else {
			live[n] = p
		}
	}
	var errs []error
	if c, ok := s.past.(flow.Committing); ok {
		errs = append(errs, c.Commit(past))
	}
	if c, ok := s.live.(flow.Committing); ok && len(live) > 0 {
		errs = append(errs, c.Commit(live))
	}
	return errors.Join(errs...)
}

// Close implements flow.Source.
func (s *source) Close() error { return errors.Join(s.past.Close(), s.live.Close()) }

// split is one of the history.
type split struct {
	flow.Split
	s     *source
	ended bool
}

// Name implements flow.Split.
func (p *split) Name() string { return prefix + p.Split.Name() }

// Next implements flow.Split.
func (p *split) Next(to *flow.Piece) error {
	err := p.Split.Next(to)
	if err == io.EOF {
		p.s.mu.Lock()
		p.end()
		wake := p.s.wake
		p.s.mu.Unlock()
		if wake != nil {
			wake()
		}
	}
	return err
}

// end counts the split as ended, and says whether it is the first time. The caller holds the lock.
func (p *split) end() bool {
	if p.ended {
		return false
	}
	p.ended = true
	p.s.left--
	return true
}

// Left implements flow.Counting.
func (p *split) Left(pos int64) int64 {
	if c, ok := p.Split.(flow.Counting); ok {
		return c.Left(pos)
	}
	return 0
}

// Notice implements flow.Noticing.
func (p *split) Notice() string {
	if n, ok := p.Split.(flow.Noticing); ok {
		return n.Notice()
	}
	return ""
}

// marked is one whose places are texts.
type marked struct {
	*split
	m flow.Marked
}

// Mark implements flow.Marked.
func (p *marked) Mark(pos int64) string { return p.m.Mark(pos) }

// ResumeAt implements flow.Marked.
func (p *marked) ResumeAt(mark string, pos int64) error { return p.m.ResumeAt(mark, pos) }
