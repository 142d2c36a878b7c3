package nats

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

const (
	ahead      = 16 << 20 // bytes that are taken before somebody wants them
	pieceBytes = 1 << 20
)

// source is what a stream of the server keeps of a subject: one split, whose positions are the stream's sequence. The server need not know how far it is read.
type source struct {
	scan    *plan.Op
	reading *format.Reading
	conn    *nats.Conn
	keeper  jetstream.Stream
	where   string
	last    uint64    // the sequence behind which it ends; 0: it does not
	until   time.Time // it ends before a message of then; zero: it does not

	ctx  context.Context
	stop context.CancelFunc
	done sync.WaitGroup

	mu    sync.Mutex
	room  *sync.Cond
	wake  func()
	begun bool
	ended bool
	queue []taken
	bytes int
	next  uint64 // the sequence that is read next
	lost  uint64 // sequences that the server has removed before they were read
	err   error
}

type taken struct {
	seq     uint64
	at      int64
	key     string
	headers []byte
	data    []byte
}

// OpenSource implements contract.Reader.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	st := scan.Stream
	s := &source{scan: scan, where: "subject " + st.Address}
	s.room = sync.NewCond(&s.mu)
	var err error
	if s.reading, err = env.Reading(scan); err != nil {
		return nil, err
	}
	conn, js, err := connect(st.Via, env.Secrets, s.stir)
	if err != nil {
		return nil, err
	}
	s.conn = conn
	s.ctx, s.stop = context.WithCancel(context.Background())
	if err := s.place(js, env.Live); err != nil {
		s.stop()
		conn.Close()
		return nil, err
	}
	return s, nil
}

// place finds where reading begins, and where it ends.
func (s *source) place(js jetstream.JetStream, live bool) (err error) {
	st := s.scan.Stream
	if s.keeper, err = keeperOf(s.ctx, js, st.Via, st.Address, st.Options.Word("kept by", "")); err != nil {
		return err
	}
	since := s.scan.Since
	if since.Kind == plan.Default && live {
		since.Kind = plan.Now
	}
	state := s.keeper.CachedInfo().State
	s.next = max(state.FirstSeq, 1)
	switch since.Kind {
	case plan.Now:
		s.next = state.LastSeq + 1
	case plan.AtTime, plan.Ago:
		if s.next, err = s.first(instant(since), state.LastSeq); err != nil {
			return err
		}
	}
	if s.scan.Until.Kind != plan.Default {
		s.last = state.LastSeq
		s.ended = s.last < s.next
		if s.scan.Until.Kind != plan.Now {
			s.until = instant(s.scan.Until)
		}
	}
	return nil
}

func instant(b plan.Bound) time.Time {
	if b.Kind == plan.Ago {
		return time.Now().Add(-time.Duration(b.At) * time.Microsecond)
	}
	return time.UnixMicro(b.At)
}

// first finds the sequence of the first message from an instant on.
func (s *source) first(at time.Time, last uint64) (uint64, error) {
	ctx, cancel := context.WithTimeout(s.ctx, mayAnswer)
	defer cancel()
	c, err := s.keeper.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{FilterSubjects: []string{s.scan.Stream.Address}, DeliverPolicy: jetstream.DeliverByStartTimePolicy, OptStartTime: &at})
	if err != nil {
		return 0, err
	}
	b, err := c.FetchNoWait(1)
	if err != nil {
		return 0, err
	}
	m, ok := <-b.Messages()
	if !ok {
		return last + 1, b.Error()
	}
	meta, err := m.Metadata()
	if err != nil {
		return 0, err
	}
	return meta.Sequence.Stream, nil
}

// Splits implements flow.Source.
func (s *source) Splits() []flow.Split { return []flow.Split{s} }

// OnData implements flow.Source.
func (s *source) OnData(wake func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.wake = wake
}

// Retry implements flow.Retrier: a connection that is lost is made again.
func (s *source) Retry(error) bool { return true }

func (s *source) Name() string            { return s.scan.Stream.Address }
func (s *source) Place(pos int64) string  { return fmt.Sprintf("%s, sequence %d", s.where, pos) }
func (s *source) Endless() bool           { return s.last == 0 }
func (s *source) Frame(*flow.Piece) error { return nil }

// Position implements flow.Split.
func (s *source) Position() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return int64(s.next)
}

// Resume implements flow.Split.
func (s *source) Resume(pos int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.next = uint64(max(pos, 1))
	if first := s.keeper.CachedInfo().State.FirstSeq; first > s.next {
		s.lost, s.next = first-s.next, first
	}
	s.ended = s.last > 0 && s.last < s.next
	return nil
}

// NewDecoder implements flow.Split.
func (s *source) NewDecoder() (flow.Decoder, error) {
	return s.reading.DecoderFrom(format.Origin{Topic: s.scan.Stream.Address, Partition: -1}, nil)
}

func (s *source) stir() {
	s.mu.Lock()
	wake := s.wake
	s.mu.Unlock()
	if wake != nil {
		wake()
	}
}

// run reads messages, and begins anew behind the last one where reading fails.
func (s *source) run() {
	s.mu.Lock()
	from := s.next
	s.mu.Unlock()
	if s.last > 0 && s.none() {
		s.mu.Lock()
		s.ended = true
		s.mu.Unlock()
		s.stir()
		return
	}
	for wait := 100 * time.Millisecond; s.ctx.Err() == nil; wait = min(2*wait, 5*time.Second) {
		before := from
		err := s.read(&from)
		if err == nil || s.ctx.Err() != nil {
			return
		}
		if from != before {
			wait = 100 * time.Millisecond
		}
		s.mu.Lock()
		s.err = err
		s.mu.Unlock()
		s.stir()
		select {
		case <-s.ctx.Done():
		case <-time.After(wait):
		}
	}
}

// read reads messages from a sequence on, which it moves on, until its end or an error.
func (s *source) read(from *uint64) error {
	ctx, cancel := context.WithTimeout(s.ctx, mayAnswer)
	defer cancel()
	c, err := s.keeper.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{FilterSubjects: []string{s.scan.Stream.Address}, DeliverPolicy: jetstream.DeliverByStartSequencePolicy, OptStartSeq: *from, InactiveThreshold: time.Minute, MaxResetAttempts: 3})
	if err != nil {
		return err
	}
	in, err := c.Messages(jetstream.PullMaxMessages(2000), jetstream.PullHeartbeat(5*time.Second))
	if err != nil {
		return err
	}
	defer in.Stop()
	reading := make(chan struct{})
	defer close(reading)
	go func() {
		select {
		case <-s.ctx.Done():
			in.Stop()
		case <-reading:
		}
	}()
	for {
		m, err := in.Next()
		if err != nil {
			return err
		}
		meta, err := m.Metadata()
		if err != nil {
			return err
		}
		if meta.Sequence.Stream < *from {
			continue
		}
		if !s.give(taken{meta.Sequence.Stream, meta.Timestamp.UnixMicro(), m.Subject(), headersOf(m.Headers()), m.Data()}, meta.NumPending) {
			return nil
		}
		*from = meta.Sequence.Stream + 1
	}
}

// give queues a message, and says whether more are wanted.
func (s *source) give(t taken, pending uint64) bool {
	s.mu.Lock()
	for s.bytes > ahead && s.ctx.Err() == nil {
		s.room.Wait()
	}
	over := s.last > 0 && t.seq > s.last || !s.until.IsZero() && t.at >= s.until.UnixMicro()
	if !over {
		s.queue = append(s.queue, t)
		s.bytes += len(t.data) + 100
	}
	more := !over && s.ctx.Err() == nil && (s.last == 0 || t.seq < s.last && pending > 0)
	s.ended = s.ended || !more
	s.err = nil
	first := len(s.queue) == 1 || !more
	s.mu.Unlock()
	if first {
		s.stir()
	}
	return more
}

// Next implements flow.Split.
func (s *source) Next(p *flow.Piece) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.begun && !s.ended {
		s.begun = true
		s.done.Go(s.run)
	}
	p.Data, p.Messages, p.Base = p.Data[:0], p.Messages[:0], int64(s.next)
	if s.lost > 0 {
		p.Lost, p.Why, p.Next = int64(s.lost), fmt.Sprintf("the server has removed the %d messages before sequence %d, or some of them, before they were read", s.lost, s.next), int64(s.next)
		s.lost = 0
		return nil
	}
	if len(s.queue) == 0 {
		switch {
		case s.ended:
			return io.EOF
		case s.err != nil:
			return fmt.Errorf("%s: %w", s.where, s.err)
		case !s.conn.IsConnected():
			return fmt.Errorf("%s: %w", s.where, errors.New("the server is away"))
		}
		return flow.ErrNothing
	}
	n := 0
	for _, t := range s.queue {
		if len(p.Data) > pieceBytes {
			break
		}
		p.Messages = append(p.Messages, flow.Message{Off: uint32(len(p.Data)), Len: uint32(len(t.data)), Pos: int64(t.seq), At: t.at, Key: []byte(t.key), Headers: t.headers})
		p.Data = append(p.Data, t.data...)
		s.bytes -= len(t.data) + 100
		s.next = t.seq + 1
		n++
	}
	clear(s.queue[:n])
	s.queue = s.queue[n:]
	p.Data = append(p.Data, make([]byte, flow.Pad)...)[:len(p.Data)]
	p.Next = int64(s.next)
	s.room.Broadcast()
	return nil
}

// none says whether the stream has nothing of the subject from here to the end.
func (s *source) none() bool {
	ctx, cancel := context.WithTimeout(s.ctx, mayAnswer)
	defer cancel()
	c, err := s.keeper.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{FilterSubjects: []string{s.scan.Stream.Address}, DeliverPolicy: jetstream.DeliverByStartSequencePolicy, OptStartSeq: s.next})
	if err != nil {
		return false
	}
	i, err := c.Info(ctx)
	return err == nil && i.NumPending == 0
}

// Close implements flow.Source and flow.Split.
func (s *source) Close() error {
	s.stop()
	s.mu.Lock()
	s.room.Broadcast()
	s.mu.Unlock()
	s.done.Wait()
	s.conn.Close()
	return nil
}
