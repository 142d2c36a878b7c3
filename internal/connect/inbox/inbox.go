// Package inbox is the source of connectors whose messages are pushed over a connection and acknowledged: what the message brokers of devices and queues have in common. A connector says
// how its broker is spoken to.
package inbox

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/cespare/xxhash/v2"
)

// Message is one that has come.
type Message struct {
	Key, Value []byte // the key is what the message was addressed to: a topic, a routing key
	Headers    []byte // as format.AppendHeaders writes them
	// Name tells the message from others that were not acknowledged, also when the broker sends it again; "": nothing does.
	Name string
	// Repeated says that the broker may have sent it before.
	Repeated bool
	// Ack acknowledges it. Whether the broker knows of that the client tells with Settled.
	Ack func()
}

// Client speaks to a broker.
type Client interface {
	// Receive connects, tells that it is connected, and gives messages in the order in which they come, until the connection breaks or ctx ends. Nothing is
	// acknowledged by it.
	Receive(ctx context.Context, in *Source) error
}

const (
	ahead      = 16 << 20 // bytes that are taken before somebody wants them
	pieceBytes = 1 << 20
	// mostWaiting messages may wait for a checkpoint that has them.
	mostWaiting = 200_000
)

// Source is what comes, in its order: one split, whose positions count messages. A message is acknowledged when a checkpoint counts that has it. Until then the broker has it,
// and sends it again after a crash. Those that a checkpoint has and that come again all the same, since the crash was before their acknowledgement, are known by their
// names: they are the last ones of those of whose acknowledgement the broker may not have known, and come first.
type Source struct {
	scan    *plan.Op
	reading *format.Reading
	client  Client
	where   string
	ends    bool // at UNTIL: there is no past to read
	keeps   bool // checkpoints are taken
	window  int

	ctx  context.Context
	stop context.CancelFunc
	done sync.WaitGroup

	mu      sync.Mutex
	room    *sync.Cond
	wake    func()
	begun   bool
	queue   []taken
	bytes   int
	next    int64     // position of the next message that is given
	known   []waiting // given, or in the checkpoint that was resumed; the broker sends them again
	waiting []waiting // given, and not acknowledged
	acked   []waiting // acknowledged on this connection, and the broker may not know
	settled int       // how many acknowledgements of this connection it knows of
	err     error
	live    int // counts connections: acknowledgements belong to one
}

type taken struct {
	Message
	at   int64
	live int
}

type waiting struct {
	pos  int64
	name string
	ack  func()
	live int
}

// Open makes the source of a scan. where is its address in words; window is how many messages the broker may send before one is acknowledged.
func Open(env *contract.Env, scan *plan.Op, client Client, where string, window int) (*Source, error) {
	s := &Source{scan: scan, client: client, where: where, ends: scan.Until.Kind != plan.Default, keeps: env.Writer != "", window: min(window, mostWaiting)}
	s.room = sync.NewCond(&s.mu)
	s.ctx, s.stop = context.WithCancel(context.Background())
	var err error
	s.reading, err = env.Reading(scan)
	return s, err
}

// Splits implements flow.Source.
func (s *Source) Splits() []flow.Split { return []flow.Split{s} }

// OnData implements flow.Source.
func (s *Source) OnData(wake func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.wake = wake
}

// Retry implements flow.Retrier: a connection that is lost is made again.
func (s *Source) Retry(error) bool { return true }

// Name implements flow.Split.
func (s *Source) Name() string { return s.scan.Stream.Address }

// Place implements flow.Split.
func (s *Source) Place(pos int64) string { return fmt.Sprintf("message %d of %s", pos+1, s.where) }

// Endless implements flow.Endless.
func (s *Source) Endless() bool { return !s.ends }

// Frame implements flow.Split.
func (s *Source) Frame(*flow.Piece) error { return nil }

// Position implements flow.Split.
func (s *Source) Position() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.next
}

// Resume implements flow.Split; places are marks.
func (s *Source) Resume(pos int64) error { return s.ResumeAt("", pos) }

// ResumeAt implements flow.Marked.
func (s *Source) ResumeAt(mark string, pos int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.next = pos
	for name := range strings.FieldsSeq(mark) {
		s.known = append(s.known, waiting{pos: pos - 1, name: name})
	}
	return nil
}

// Mark implements flow.Marked: the names of the messages before a position that wait to be acknowledged.
func (s *Source) Mark(pos int64) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var names []string
	for _, list := range [][]waiting{s.acked, s.waiting, s.known} { // in their order: what was sent again comes before what was not yet
		for _, w := range list {
			if w.pos < pos && w.name != "" {
				names = append(names, w.name)
			}
		}
	}
	return strings.Join(names, " ")
}

// Commit implements flow.Committing.
func (s *Source) Commit(at map[string]flow.SplitPosition) error {
	p, ok := at[s.Name()]
	if !ok {
		return nil
	}
	s.acknowledge(p.Next)
	return nil
}

// acknowledge acknowledges the messages before a position that this connection brought. Those of one before come again, and are known then.
func (s *Source) acknowledge(pos int64) {
	s.mu.Lock()
	i := 0
	for i < len(s.waiting) && s.waiting[i].pos < pos {
		i++
	}
	acks := slices.DeleteFunc(slices.Clone(s.waiting[:i]), func(w waiting) bool { return w.live != s.live })
	s.waiting = slices.Delete(s.waiting, 0, i)
	s.acked = append(s.acked, acks...)
	s.room.Broadcast()
	s.mu.Unlock()
	for _, w := range acks {
		w.ack()
	}
}

// Settled is told by a client that the broker knows of the first acknowledgements of this connection, so many.
func (s *Source) Settled(acks int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := min(max(acks-s.settled, 0), len(s.acked))
	s.acked = slices.Delete(s.acked, 0, n)
	s.settled += n
}

// NewDecoder implements flow.Split.
func (s *Source) NewDecoder() (flow.Decoder, error) {
	return s.reading.DecoderFrom(format.Origin{Topic: s.scan.Stream.Address, Partition: -1}, nil)
}

func (s *Source) run() {
	for wait := 100 * time.Millisecond; s.ctx.Err() == nil; wait = min(2*wait, 5*time.Second) {
		s.mu.Lock()
		before := s.live
		s.mu.Unlock()
		err := s.client.Receive(s.ctx, s)
		if err == nil {
			err = errors.New("the connection was closed")
		}
		s.mu.Lock()
		if s.live != before {
			wait = 100 * time.Millisecond
		}
		s.err = err
		s.known = slices.DeleteFunc(slices.Concat(s.acked, s.waiting, s.known), func(w waiting) bool { return w.name == "" }) // they come again
		s.acked, s.waiting, s.settled = nil, nil, 0
		for _, q := range s.queue { // nobody has seen them
			s.bytes -= len(q.Value) + 100
		}
		s.queue = nil
		s.room.Broadcast()
		s.mu.Unlock()
		s.stir()
		select {
		case <-s.ctx.Done():
		case <-time.After(wait):
		}
	}
}

func (s *Source) stir() {
	s.mu.Lock()
	wake := s.wake
	s.mu.Unlock()
	if wake != nil {
		wake()
	}
}

// Connected is told by a client that messages begin to come. fresh: the broker does not know what it sent before, and sends nothing again.
func (s *Source) Connected(fresh bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.live++
	s.err = nil
	if fresh {
		s.known = nil
	}
}

// Give takes a message. It waits while too many are there, and says no when nobody wants any more.
func (s *Source) Give(m Message) bool {
	if m.Name != "" {
		h := xxhash.New()
		_, _ = h.Write(m.Key)
		_, _ = h.Write([]byte{0})
		_, _ = h.Write(m.Value)
		m.Name += ":" + hex.EncodeToString(h.Sum(nil))
	}
	s.mu.Lock()
	for (s.bytes > ahead || len(s.queue)+len(s.waiting) >= s.window) && s.ctx.Err() == nil {
		s.room.Wait()
	}
	if s.ctx.Err() != nil {
		s.mu.Unlock()
		return false
	}
	if len(s.known) > 0 && m.Name != "" {
		i := slices.IndexFunc(s.known, func(w waiting) bool { return w.name == m.Name })
		if i >= 0 && m.Repeated { // those before were acknowledged
			s.waiting = append(s.waiting, waiting{s.known[i].pos, m.Name, m.Ack, s.live})
			s.known = s.known[i+1:]
			s.mu.Unlock()
			return true
		}
		s.known = nil // what comes from here on is new
	}
	s.queue = append(s.queue, taken{m, time.Now().UnixMicro(), s.live})
	s.bytes += len(m.Value) + 100
	first := len(s.queue) == 1
	s.mu.Unlock()
	if first {
		s.stir()
	}
	return true
}

// Next implements flow.Split.
func (s *Source) Next(p *flow.Piece) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ends {
		return io.EOF
	}
	if !s.begun {
		s.begun = true
		s.done.Go(s.run)
	}
	if len(s.queue) == 0 {
		if s.err != nil {
			return fmt.Errorf("%s: %w", s.where, s.err)
		}
		return flow.ErrNothing
	}
	p.Data, p.Messages, p.Base = p.Data[:0], p.Messages[:0], s.next
	n := 0
	for _, q := range s.queue {
		if len(p.Data) > pieceBytes {
			break
		}
		p.Messages = append(p.Messages, flow.Message{Off: uint32(len(p.Data)), Len: uint32(len(q.Value)), Pos: s.next, At: q.at, Key: q.Key, Headers: q.Headers})
		p.Data = append(p.Data, q.Value...)
		s.bytes -= len(q.Value) + 100
		if s.keeps {
			s.waiting = append(s.waiting, waiting{s.next, q.Name, q.Ack, q.live})
		}
		s.next++
		n++
	}
	if !s.keeps {
		acks := slices.Clone(s.queue[:n])
		go func() { // there are no checkpoints to wait for
			for _, q := range acks {
				q.Ack()
			}
		}()
	}
	clear(s.queue[:n])
	s.queue = s.queue[n:]
	p.Data = append(p.Data, make([]byte, flow.Pad)...)[:len(p.Data)]
	p.Next = s.next
	s.room.Broadcast()
	return nil
}

// Close implements flow.Source and flow.Split.
func (s *Source) Close() error {
	s.stop()
	s.mu.Lock()
	s.room.Broadcast()
	s.mu.Unlock()
	s.done.Wait()
	return nil
}
