package files

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"sync"
	"time"

	"fiume/internal/connect/store"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

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

// ResumeAt implements flow.Marked.
func (s *series) ResumeAt(text string, pos int64) error {
	var m mark
	if text != "" {
		if err := json.Unmarshal([]byte(text), &m); err != nil {
			return fmt.Errorf("the mark cannot be read: %w", err)
		}
	}
	b, err := base64.StdEncoding.DecodeString(m.Seen)
	if err != nil {
		return fmt.Errorf("the mark cannot be read: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for ; len(b) >= 8; b = b[8:] {
		s.seen[binary.LittleEndian.Uint64(b)] = seen{}
	}
	s.low, s.pos, s.next, s.resume = m.Low, pos, pos, &m
	s.lowAt = time.Unix(0, m.LowAt)
	return nil
}

// Mark implements flow.Marked.
func (s *series) Mark(pos int64) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	m := mark{Low: s.low}
	if s.low != "" {
		m.LowAt = s.lowAt.UnixNano()
		if s.saidOf.After(s.lowAt) {
			m.LowAt = s.saidOf.UnixNano()
		}
	}
	var read []byte
	for h := range s.seen {
		read = binary.LittleEndian.AppendUint64(read, h)
	}
	at := false
	for _, l := range s.links {
		if l.end >= 0 && l.end <= pos {
			read = binary.LittleEndian.AppendUint64(read, s.id(l.file))
			continue
		}
		if l.start <= pos {
			at = true
			m.File, m.Offset, m.Tag, m.Key, m.Head, m.Sum, m.Former, m.At = l.file.Name, pos-l.base, l.file.Tag, l.key, l.head, l.sum, l.former, l.file.Changed.UnixNano()
		}
		break
	}
	_, many := s.feed.(*arrivals)
	if n := len(s.links); !at && !many && n > 0 { // what comes behind a file, or that nothing does, is known by that
		l := s.links[n-1]
		m.File, m.Offset, m.Tag, m.Key, m.Head, m.Sum, m.Former, m.At = l.file.Name, pos-l.base, l.file.Tag, l.key, l.head, l.sum, l.former, l.file.Changed.UnixNano()
	}
	if !at && len(s.links) == 0 && s.resume != nil { // it has not begun to read
		m.File, m.Offset, m.Tag, m.Key = s.resume.File, s.resume.Offset, s.resume.Tag, s.resume.Key
		m.Head, m.Sum, m.Former, m.At = s.resume.Head, s.resume.Sum, s.resume.Former, s.resume.At
	}
	if many { // others know by themselves what was read
		m.Seen = base64.StdEncoding.EncodeToString(read)
	}
	b, _ := json.Marshal(m) // texts and numbers
	return string(b)
}

// takes notes that a file is about to be read.
func (s *series) takes(f store.File) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.linked[s.id(f)] = true
}

// known says whether a file of a folder was read, or is being read; and whether it comes behind what is remembered.
func (s *series) known(f store.File, key string) (known, behind bool) {
	h := s.id(f)
	s.mu.Lock()
	defer s.mu.Unlock()
	if was, ok := s.seen[h]; ok {
		was.key = key
		s.seen[h] = was
		return true, false
	}
	if s.linked[h] {
		return true, false
	}
	behind = s.low != "" && key <= s.low
	return behind, behind
}

// lists notes that a listing begins.
func (s *series) lists() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.listed++
	return s.listed
}

// forget drops the files that are gone from what is known one by one: those that a listing of all there is did not give.
func (s *series) forget(listing int, there map[uint64]bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for h, was := range s.seen {
		if !there[h] && was.listing < listing {
			delete(s.seen, h)
		}
	}
	s.bound()
}

// bound keeps what is known one by one small: of the first files in the order a low mark stays. The caller holds the lock.
func (s *series) bound() {
	if len(s.seen) <= remembered+remembered/4 {
		return
	}
	keys := make([]string, 0, len(s.seen))
	for _, was := range s.seen {
		keys = append(keys, was.key)
	}
	slices.Sort(keys)
	low := keys[len(keys)-remembered-1]
	for h, was := range s.seen {
		if was.key != "" && was.key <= low {
			delete(s.seen, h)
		}
	}
	if low > s.low {
		s.low, s.lowAt = low, time.Now()
	}
}

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

// Frame implements flow.Split. A piece may have several small files.
func (s *series) Frame(p *flow.Piece) error {
	p.Messages = p.Messages[:0]
	if len(p.Data) == 0 {
		return nil
	}
	var q flow.Piece
	for at := p.Base; at < p.Next; {
		l := s.at(at)
		if l == nil {
			return fmt.Errorf("the file of position %d is not known any more", at)
		}
		end := p.Next
		if e := s.endOf(l); e >= 0 {
			end = min(end, e)
		}
		if at == p.Base && end == p.Next && l.base == 0 {
			return l.split.Frame(p)
		}
		q.Data, q.Base, q.Next = p.Data, at-l.base, end-l.base
		off := int64(0)
		if l.split.rows == nil { // else the data says which file it is
			off = at - p.Base
			q.Data = p.Data[off : end-p.Base]
		}
		if err := l.split.Frame(&q); err != nil {
			return err
		}
		for _, m := range q.Messages {
			m.Off += uint32(off)
			m.Pos += l.base
			p.Messages = append(p.Messages, m)
		}
		at = end
	}
	return nil
}

// endOf gives the position behind a file, or -1 while it is read.
func (s *series) endOf(l *link) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return l.end
}

// NewDecoder implements flow.Split.
func (s *series) NewDecoder() (flow.Decoder, error) {
	if _, ok := slices.BinarySearch(sortedRowFormats, s.format); ok {
		return &seriesDecoder{s: s}, nil
	}
	d, err := (&format.Reading{Stream: s.stream, Used: s.used}).NewDecoder(nil)
	return &seriesDecoder{s: s, plain: d}, err
}

var sortedRowFormats = slices.Sorted(slices.Values(format.RowFormats))

// seriesDecoder decodes the pieces of all files of a series.
type seriesDecoder struct {
	s     *series
	plain flow.Decoder // of lines without a header
	of    *link        // whose decoder is dec
	dec   flow.Decoder
	moved []flow.Message
}

// Decode implements flow.Decoder.
func (d *seriesDecoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	if len(msgs) == 0 {
		return d.refuse(msgs, "", out)
	}
	l := d.s.at(msgs[0].Pos)
	if l == nil {
		return d.refuse(msgs, "the file is not known any more", out)
	}
	if l.split.rows == nil && len(l.split.header) == 0 {
		return d.plain.Decode(data, msgs, out)
	}
	if d.of != l {
		dec, err := l.split.NewDecoder()
		if err != nil {
			return d.refuse(msgs, err.Error(), out)
		}
		d.of, d.dec = l, dec
	}
	if l.split.rows == nil || l.base == 0 {
		return d.dec.Decode(data, msgs, out)
	}
	d.moved = append(d.moved[:0], msgs...) // rows are found by their numbers in the file
	for i := range d.moved {
		d.moved[i].Pos -= l.base
	}
	bad := d.dec.Decode(data, d.moved, out)
	for i := range out.Pos {
		out.Pos[i] += l.base
	}
	return bad
}

// refuse gives no row.
func (d *seriesDecoder) refuse(msgs []flow.Message, reason string, out *column.Batch) []flow.Reject {
	out.N, out.Cols, out.Time, out.Pos, out.Stamp = 0, make([]*column.Vector, len(d.s.stream.Columns)), out.Time[:0], out.Pos[:0], nil
	var all []flow.Reject
	for i := range msgs {
		all = append(all, flow.Reject{Message: i, Reason: reason})
	}
	return all
}

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
