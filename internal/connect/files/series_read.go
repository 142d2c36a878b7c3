package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"time"

	"fiume/internal/connect/store"
	"fiume/internal/core/flow"
)

// run reads the files until there are no more, or the series is closed.
func (s *series) run() {
	s.mu.Lock()
	m := s.resume
	s.mu.Unlock()
	s.feed.began(m)
	if m != nil && m.File != "" {
		s.goOn(m)
	}
	for s.ctx.Err() == nil {
		f, err := s.feed.next(s.ctx)
		switch {
		case errors.Is(err, io.EOF):
			s.flush()
			s.end(nil)
			return
		case err != nil:
			s.flush()
			if !s.passes(err) {
				return
			}
		case f == nil:
			s.flush()
			s.idle()
			s.feed.wait(s.ctx)
		default:
			s.passed()
			s.read(*f, 0, nil)
		}
	}
}

// goOn reads the rest of the file that was being read.
func (s *series) goOn(m *mark) {
	for s.ctx.Err() == nil {
		f, err := s.store.Stat(s.ctx, m.File)
		if t, ok := s.feed.(*tail); ok && (errors.Is(err, fs.ErrNotExist) || err == nil && f.Tag != m.Tag) { // it has been rotated
			f, err = t.byTag(s.ctx, m.Tag)
		}
		switch {
		case errors.Is(err, fs.ErrNotExist):
			s.lose(fmt.Sprintf("%s is gone, of which %d bytes had been read", m.File, m.Offset), m.File, m.Key)
			return
		case err != nil:
			if !s.passes(err) {
				return
			}
			continue
		case f.Tag != m.Tag && s.store.Far():
			s.lose(fmt.Sprintf("%s was replaced, of which %d bytes had been read", m.File, m.Offset), m.File, m.Key)
			return
		}
		s.passed()
		s.read(f, m.Offset, m)
		return
	}
}

// passes says that something failed which may pass, and waits a while; false: it does not pass.
func (s *series) passes(err error) bool {
	if s.ctx.Err() != nil {
		return false
	}
	if !s.store.Retry(err) {
		s.end(err)
		return false
	}
	s.mu.Lock()
	s.waits = err
	wake := s.wake
	s.mu.Unlock()
	if wake != nil {
		wake()
	}
	select {
	case <-s.ctx.Done():
	case <-time.After(time.Second):
	}
	return s.ctx.Err() == nil
}

func (s *series) passed() {
	s.mu.Lock()
	s.waits, s.busy = nil, true
	s.mu.Unlock()
}

// idle says that all there is was read.
func (s *series) idle() {
	s.mu.Lock()
	was := s.busy
	s.busy, s.waits = false, nil
	wake := s.wake
	s.mu.Unlock()
	if was && wake != nil {
		wake()
	}
}

func (s *series) end(err error) {
	s.mu.Lock()
	s.over, s.busy, s.err = err == nil, false, err
	wake := s.wake
	s.mu.Unlock()
	if wake != nil {
		wake()
	}
}

// say notes what people should know.
func (s *series) say(text string) {
	s.mu.Lock()
	s.said = text
	s.mu.Unlock()
}

// lose counts a file that cannot be read, or not to its end, and goes on behind it.
func (s *series) lose(why, name, key string) {
	if s.stop {
		s.end(fmt.Errorf("%s (BAD ROWS stop)", why))
		s.cancel()
		return
	}
	s.flush()
	s.say(why)
	s.mu.Lock()
	n := len(s.links)
	if n == 0 || s.links[n-1].end >= 0 {
		s.add(&link{start: s.next, base: s.next, end: s.next, file: store.File{Name: name}, key: key})
	} else {
		s.links[n-1].end = s.next
	}
	p := flow.Piece{Base: s.next, Next: s.next, Lost: 1, Why: why}
	s.mu.Unlock()
	s.give(p)
}

// finished has a file put away that was read before the run.
func (s *series) finished(f store.File) {
	s.mu.Lock()
	_, before := s.seen[s.id(f)]
	at := s.pos
	s.mu.Unlock()
	if before {
		s.finish.read(f, at)
	}
}

// add makes a file the last one of the series. The caller holds the lock.
func (s *series) add(l *link) {
	s.links = append(s.links, l)
	s.linked[s.id(l.file)] = true
}

// fingerprint notes how a file that grows begins.
func (s *series) fingerprint(l *link) {
	n := int(min(l.split.pos, fingerprinted))
	if n == l.head {
		return
	}
	sum, err := l.split.begins(n)
	if err != nil {
		return // it is known by its tag alone
	}
	s.mu.Lock()
	l.head, l.sum = n, sum
	s.mu.Unlock()
}

// fingerprinted are the first bytes by which a file that grows is known again.
const fingerprinted = 256

// buffer gives memory for a piece, and recycle takes it back.
func (s *series) buffer() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	if n := len(s.free); n > 0 {
		b := s.free[n-1]
		s.free = s.free[:n-1]
		return b
	}
	return nil
}

func (s *series) recycle(b []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.free) < aheadPieces && cap(b) > 0 {
		s.free = append(s.free, b)
	}
}

// hold keeps a piece back that is small, so that many small files make one piece.
func (s *series) hold(l *link, p *flow.Piece) bool {
	if l.split.rows != nil || s.table || s.lines || len(p.Data) > s.piece/4 {
		return false
	}
	if len(s.held.Data) > 0 && (len(s.held.Data)+len(p.Data) >= s.piece || s.many >= heldFiles || !slices.Equal(s.header, l.split.header)) {
		s.flush()
	}
	if s.held.Data == nil {
		if s.held.Data = s.buffer(); cap(s.held.Data) < s.piece+flow.Pad {
			s.held.Data = make([]byte, 0, s.piece+flow.Pad)
		}
		s.held.Data = s.held.Data[:0]
	}
	if len(s.held.Data) == 0 {
		s.held.Base, s.header, s.many = p.Base, l.split.header, 0
	}
	s.many++
	s.held.Data, s.held.Next = append(s.held.Data, p.Data...), p.Next
	if p.Data[len(p.Data)-1] != '\n' { // the end of the file
		s.held.Data = append(s.held.Data, '\n')
		s.held.Next++
	}
	s.mu.Lock()
	s.next = s.held.Next
	s.mu.Unlock()
	return true
}

// flush hands out what is held back; false: the series is closed.
func (s *series) flush() bool {
	if len(s.held.Data) == 0 {
		return s.ctx.Err() == nil
	}
	p := s.held
	s.held = flow.Piece{}
	return s.give(p)
}

// give hands a piece out, when there is room.
func (s *series) give(p flow.Piece) bool {
	s.mu.Lock()
	for len(s.ready) >= aheadPieces && s.ctx.Err() == nil {
		s.room.Wait()
	}
	if s.ctx.Err() != nil {
		s.mu.Unlock()
		return false
	}
	s.ready = append(s.ready, p)
	s.next = p.Next
	wake := s.wake
	s.mu.Unlock()
	if wake != nil {
		wake()
	}
	return true
}

// read reads a file from an offset on, to its end.
func (s *series) read(f store.File, from int64, m *mark) {
	key := s.order(f)
	if m != nil {
		key = m.Key
	}
	l := &link{end: -1, file: f, key: key}
	if t, ok := s.feed.(*tail); ok {
		l.former = t.former
	}
	for s.ctx.Err() == nil {
		ok, err := s.open(l, from, m)
		if ok {
			break
		}
		if errors.Is(err, errNotYet) {
			s.idle()
			s.feed.wait(s.ctx)
			continue
		}
		if err != nil && !s.store.Retry(err) {
			why := fmt.Sprintf("%s cannot be read: %s", f.Name, err)
			if errors.Is(err, fs.ErrNotExist) {
				why = f.Name + " was gone before it was read"
			}
			s.lose(why, f.Name, key)
			return
		}
		if !s.passes(err) {
			return
		}
		s.passed()
	}
	if s.ctx.Err() != nil {
		if l.split != nil {
			_ = l.split.Close() // nobody reads it
		}
		return
	}
	s.mu.Lock()
	l.start, l.base = s.next, s.next-l.split.pos
	l.file = l.split.file.File()
	s.add(l)
	s.mu.Unlock()
	fresh := s.table
	var p flow.Piece
	defer func() { s.recycle(p.Data) }()
	for s.ctx.Err() == nil {
		if p.Data == nil {
			p.Data = s.buffer()
		}
		at := l.split.pos
		err := l.split.read(&p)
		switch {
		case err == nil:
			p.Base, p.Next, p.Fresh = p.Base+l.base, p.Next+l.base, fresh
			fresh = false
			s.passed()
			if s.lines {
				s.fingerprint(l)
			}
			if s.hold(l, &p) {
				continue
			}
			if !s.flush() || !s.give(p) {
				s.shut(l, false)
				return
			}
			p = flow.Piece{}
		case errors.Is(err, io.EOF):
			more, replaced, err := s.feed.grows(s.ctx, l.file, at)
			if err != nil {
				if !s.store.Retry(err) {
					s.shut(l, true)
					s.lose(fmt.Sprintf("%s cannot be read: %s", l.file.Name, err), l.file.Name, key)
					return
				}
				s.passes(err)
				continue
			}
			if more {
				s.flush()
				s.idle()
				s.feed.wait(s.ctx)
				continue
			}
			if l.split.growing { // the rest, which has no end of line
				l.split.growing = false
				if !replaced {
					continue
				}
			}
			if s.table {
				s.flush()
				s.give(flow.Piece{Base: l.base + at, Next: l.base + at, Fresh: fresh, Complete: true})
			}
			s.shut(l, true)
			return
		case s.store.Retry(err):
			l.split.pos = at
			s.passes(err)
		default:
			s.shut(l, true)
			s.lose(fmt.Sprintf("%s cannot be read behind byte %d: %s", l.file.Name, at, err), l.file.Name, key)
			return
		}
	}
	s.shut(l, false)
}

// errNotYet says that a file has not come far enough to be read.
var errNotYet = errors.New("the file has no line yet")

// open opens a file for reading; false with nil never comes.
func (s *series) open(l *link, from int64, m *mark) (bool, error) {
	file, err := s.store.Open(s.ctx, l.file.Name)
	for s.lines && s.ctx.Err() == nil && (errors.Is(err, fs.ErrNotExist) || err == nil && file.File().Tag != l.file.Tag) { // it was rotated meanwhile
		if err == nil {
			_ = file.Close() // nothing was read of it
		}
		if l.file, err = s.feed.(*tail).byTag(s.ctx, l.file.Tag); err != nil {
			return false, err
		}
		file, err = s.store.Open(s.ctx, l.file.Name)
	}
	if err != nil {
		return false, err
	}
	f := file.File()
	sp := &split{name: f.Name, within: s.store, file: file, stream: s.stream, used: s.used, format: s.format, piece: s.piece, at: f.Changed.UnixMicro(), growing: s.lines}
	fail := func(err error) (bool, error) { return false, errors.Join(err, sp.Close()) }
	if s.lines {
		sp.at = 0 // its lines come one by one
		whole, err := sp.hasLine()
		if err != nil {
			return fail(err)
		}
		if !whole {
			more, _, err := s.feed.grows(s.ctx, f, 0)
			if err != nil {
				return fail(err)
			}
			if more {
				return false, errors.Join(errNotYet, sp.Close())
			}
			sp.growing = false
		}
		if m != nil && m.Head > 0 {
			if sum, err := sp.begins(m.Head); err != nil || sum != m.Sum {
				return fail(errors.Join(err, fmt.Errorf("it is another file than the one of which %d bytes had been read", m.Offset)))
			}
		}
	}
	if err := sp.begin(); err != nil {
		return fail(err)
	}
	if s.lines {
		if _, ok := sp.in.(*packed); ok {
			return fail(errors.New("a packed file does not grow: write FOLLOW true"))
		}
	}
	if from > 0 {
		if err := sp.Resume(from); err != nil {
			return fail(err)
		}
	}
	l.split = sp
	if s.lines {
		s.fingerprint(l)
	}
	return true, nil
}

// shut ends the reading of a file. Those of rows stay open for the decoders of pieces that are on their way.
func (s *series) shut(l *link, whole bool) {
	s.mu.Lock()
	if whole {
		l.end = s.next
		if s.finish != nil {
			s.finish.read(l.file, l.end)
		}
	}
	drop := l
	if l.split.rows != nil {
		s.opened = append(s.opened, l)
		drop = nil
		if len(s.opened) > openLinks {
			drop, s.opened = s.opened[0], slices.Clone(s.opened[1:])
		}
	}
	s.mu.Unlock()
	if drop != nil {
		_ = drop.split.Close() // it was read
	}
}
