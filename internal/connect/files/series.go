package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"fiume/internal/connect/store"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"

	"github.com/cespare/xxhash/v2"
)

// A series is files that are read one behind the other, as one split: those of a folder in order, also those that come while it is read; the
// editions of a file that grows and is rotated; or one object of an object store. A goroutine of its own reads ahead, since it may have to wait. Positions go on
// from file to file: each file, a link of the series, has a base.

const (
	// aheadPieces are read before they are asked for.
	aheadPieces = 4
	// keptLinks are remembered behind what was handed out, so that positions have names, and decoders find their files.
	keptLinks = 1024
	// inFlight pieces may be on their way from when they were handed out until they are decoded; heldFiles make one at most.
	inFlight, heldFiles = 64, 500
	// openLinks are files of rows that stay open for decoders.
	openLinks = 256
	// remembered are the files of a folder that are known as read one by one; of those before them a low mark is.
	remembered = 10_000
)

// feed gives the files of a series.
type feed interface {
	// next gives the file behind the one that was read last, or nil while there is none; io.EOF: none comes any more.
	next(ctx context.Context) (*store.File, error)
	// grows says whether more of a file may come, when it has been read to an end; the file may have become another one instead.
	grows(ctx context.Context, f store.File, read int64) (more, replaced bool, err error)
	// wait waits until there may be more.
	wait(ctx context.Context)
	// began is told of the file where reading goes on, with what is known as read.
	began(m *mark)
}

// reading is what all series of a source share.
type reading struct {
	store  store.Store
	stream *plan.Stream
	used   *plan.Use
	format string
	piece  int
	stop   bool // the first file that cannot be read ends the job (BAD ROWS stop)
}

// link is a file of a series.
type link struct {
	start int64 // the position where its reading begins
	base  int64 // what positions have more than those in the file
	end   int64 // position behind it; -1 while it is read
	file  store.File
	key   string // where it stands in the order
	split *split
	head  int // of a file that grows: how many of its first bytes sum is of
	sum   uint64
	// former are tags of editions that were read before and were last written in the same moment.
	former []string
}

// mark is what a checkpoint keeps of a series.
type mark struct {
	File   string `json:"file,omitempty"` // that is being read; "": none
	Offset int64  `json:"offset,omitempty"`
	Tag    string `json:"tag,omitempty"`
	Key    string `json:"key,omitempty"`
	Head   int    `json:"head,omitempty"` // of a file that grows: how many bytes Sum is of
	Sum    uint64 `json:"sum,omitempty"`
	At     int64  `json:"at,omitempty"` // and when it had been written when it was opened, in nanoseconds
	// Former are the tags of editions of the file that were read, too, and were last written in the same moment.
	Former []string `json:"former,omitempty"`
	Low    string   `json:"low,omitempty"`    // files up to here in the order are known as read
	LowAt  int64    `json:"low_at,omitempty"` // since when, in nanoseconds
	Seen   string   `json:"seen,omitempty"`
}

// seen is a file that is known as read.
type seen struct {
	key     string // "": it was read before the run, and is not found yet
	listing int    // the last one that had begun when it became known
}

// series implements flow.Split.
type series struct {
	*reading
	name   string
	feed   feed
	lines  bool // files grow
	table  bool // a file that has changed is read anew, as a whole
	order  func(f store.File) string
	ctx    context.Context
	cancel context.CancelFunc
	done   sync.WaitGroup

	mu     sync.Mutex
	room   sync.Cond
	begun  bool
	resume *mark
	pos    int64 // behind the last piece that was handed out
	next   int64 // behind the last piece that was read
	links  []*link
	seen   map[uint64]seen // by the hashes of their names: files that are known as read, and not links any more
	linked map[uint64]bool // by the hashes of their names: files that are links
	low    string
	lowAt  time.Time // when it was raised last
	saidOf time.Time // when the last file was written of which it was said that it came behind
	listed int       // how many listings have begun
	ready  []flow.Piece
	held   flow.Piece // of small files, that wait for more of them; only the goroutine that reads uses it
	header []string   // of its files
	many   int        // files in it
	handed []int64    // where the last pieces that were handed out begin
	free   [][]byte
	busy   bool // a file is at hand that has more
	over   bool
	err    error // for good
	waits  error // may pass
	said   string
	wake   func()
	opened []*link // of rows, with open files

	finish *finisher // what is done with files that were read; nil: nothing
}

func newSeries(r *reading, name string, in feed, order func(f store.File) string) *series {
	s := &series{reading: r, name: name, feed: in, order: order, seen: map[uint64]seen{}, linked: map[uint64]bool{}}
	s.room.L = &s.mu
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

// id is what a file is known by. Where files are put away, one of the same name may come later.
func (s *series) id(f store.File) uint64 {
	if s.finish == nil {
		return xxhash.Sum64String(f.Name)
	}
	return xxhash.Sum64String(fmt.Sprintf("%s\x00%s\x00%d", f.Name, f.Tag, f.Changed.UnixMicro()))
}

// Name implements flow.Split.
func (s *series) Name() string { return s.name }

// Position implements flow.Split.
func (s *series) Position() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pos
}

// Resume implements flow.Split.
func (s *series) Resume(pos int64) error { return s.ResumeAt("", pos) }

// Close implements flow.Split.
func (s *series) Close() error {
	s.cancel()
	s.mu.Lock()
	s.room.Broadcast()
	s.mu.Unlock()
	s.done.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, l := range s.opened {
		errs = append(errs, l.split.Close())
	}
	s.opened = nil
	return errors.Join(errs...)
}

// Next implements flow.Split. It does not wait.
func (s *series) Next(p *flow.Piece) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.begun {
		s.begun, s.busy = true, true
		s.done.Go(s.run)
	}
	switch {
	case len(s.ready) > 0:
		r := s.ready[0]
		s.ready = s.ready[1:]
		if len(s.free) < aheadPieces && cap(p.Data) >= s.piece {
			s.free = append(s.free, p.Data)
		}
		messages := p.Messages
		*p = r
		p.Messages = messages
		s.pos = r.Next
		if s.handed = append(s.handed, r.Base); len(s.handed) > inFlight {
			s.handed = s.handed[1:]
			s.prune(s.handed[0])
		}
		s.room.Signal()
		return nil
	case s.err != nil:
		return s.err
	case s.waits != nil:
		return &flow.Passing{Err: s.waits}
	case s.over:
		return io.EOF
	}
	return flow.ErrNothing
}

// prune forgets links that were handed out long ago, before a position. The caller holds the lock.
func (s *series) prune(before int64) {
	n, _ := slices.BinarySearchFunc(s.links, before, func(l *link, pos int64) int {
		if l.end >= 0 && l.end <= pos {
			return -1
		}
		return 1
	})
	if n < 2*keptLinks {
		return
	}
	n -= keptLinks
	for _, l := range s.links[:n] {
		h := s.id(l.file)
		s.seen[h] = seen{l.key, s.listed}
		delete(s.linked, h)
	}
	s.links = slices.Clone(s.links[n:])
	s.bound()
}

// Left implements flow.Counting: what is at hand is on its way.
func (s *series) Left(int64) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.busy || len(s.ready) > 0 {
		return 1
	}
	return 0
}

// Notice implements flow.Noticing.
func (s *series) Notice() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.said != "" {
		return s.said
	}
	for i := len(s.links) - 1; i >= 0; i-- {
		if l := s.links[i]; l.split != nil && l.split.notice != "" {
			return l.file.Name + ": " + l.split.notice
		}
	}
	return ""
}

// Endless implements flow.Endless.
func (s *series) Endless() bool { return s.table }

// Place implements flow.Split.
func (s *series) Place(pos int64) string {
	l := s.at(pos)
	if l == nil {
		return fmt.Sprintf("%s at %d", s.name, pos)
	}
	return l.split.Place(pos - l.base)
}

// at gives the link of a position.
func (s *series) at(pos int64) *link {
	s.mu.Lock()
	defer s.mu.Unlock()
	i, found := slices.BinarySearchFunc(s.links, pos, func(l *link, pos int64) int {
		switch {
		case l.start > pos:
			return 1
		case l.start == pos:
			return 0
		}
		return -1
	})
	if !found {
		i--
	}
	for ; found && i+1 < len(s.links) && s.links[i+1].start == pos; i++ { // before it are files without rows
	}
	if i < 0 || i >= len(s.links) || s.links[i].split == nil {
		return nil
	}
	return s.links[i]
}
