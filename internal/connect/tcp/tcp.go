// Package tcp reads lines from connections and writes lines to one.
package tcp

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Connector is TCP.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place {
	return plan.Place{
		Kind:  "tcp",
		About: "lines over a connection to host:port, or over those that others make to it (LISTEN)",
		Example: `DECLARE STREAM radio (line VARCHAR) FROM TCP '127.0.0.1:7000' (FORMAT text, LISTEN true);
DECLARE SINK screen TO TCP '10.0.0.9:7100' (FORMAT csv);`,
		Source: append(format.LineSourceOptions(),
			plan.OptionSpec{Name: "listen", Kind: plan.FlagOption, Doc: "true: others connect to the address, and send; false: it is connected to"}),
		Sink: append(format.LineSinkOptions(),
			plan.OptionSpec{Name: "listen", Kind: plan.FlagOption, Doc: "true: others connect to the address, and each gets the lines from then on; where nobody is there lines are dropped; false: it is connected to, and lines wait"}),
		Promise: func(out *plan.Op) string {
			if out.Sink.Options.Flag("listen", false) {
				return "lines go to whoever is connected; nobody is waited for, and after a crash some come twice"
			}
			return "lines are sent at once: after a crash some come twice, and what the other side has not read when the connection breaks is lost"
		},
	}
}

const (
	mayConnect  = 5 * time.Second
	mayTake     = 10 * time.Second // how long the other side may take no byte
	longestLine = 1 << 20
	ahead       = 8 << 20 // bytes that are read before somebody wants them
	pieceBytes  = 1 << 20
	mostPeers   = 10_000
)

func parse(address string) error {
	host, port, err := net.SplitHostPort(address)
	if err == nil && port == "" {
		err = errors.New("there is no port")
	}
	_ = host
	if err != nil {
		return fmt.Errorf("the address '%s' is not of the form host:port", address)
	}
	return nil
}

// CheckSource implements contract.Reader.
func (connector) CheckSource(_ context.Context, _ *contract.Env, s *plan.Stream) error {
	return parse(s.Address)
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(_ context.Context, env *contract.Env, out *plan.Op) error {
	if err := parse(out.Sink.Address); err != nil {
		return err
	}
	w, err := env.Writing(out, out.Fields)
	if err == nil {
		err = w.Check()
	}
	return err
}

// Test implements contract.Tester.
func (connector) Test(ctx context.Context, _ *contract.Env, of contract.Tested, r *contract.Report) {
	address, listens := "", false
	if of.Stream != nil {
		address, listens = of.Stream.Address, of.Stream.Options.Flag("listen", false)
	} else if of.Sink != nil {
		address, listens = of.Sink.Address, of.Sink.Options.Flag("listen", false)
	}
	if listens {
		r.Saw("allowed", parse(address), "the job listens there while it runs")
		return
	}
	d := net.Dialer{Timeout: mayConnect}
	c, err := d.DialContext(ctx, "tcp", address)
	if err == nil {
		err = c.Close()
	}
	r.Saw("reachable", err, "somebody listens there")
}

// OpenSource implements contract.Reader.
func (connector) OpenSource(_ *contract.Env, scan *plan.Op) (flow.Source, error) {
	s := &source{scan: scan, address: scan.Stream.Address, listens: scan.Stream.Options.Flag("listen", false), ends: scan.Until.Kind != plan.Default, peers: map[net.Conn]bool{}}
	s.room = sync.NewCond(&s.mu)
	if err := parse(s.address); err != nil {
		return nil, err
	}
	if s.listens {
		l, err := net.Listen("tcp", s.address)
		if err != nil {
			return nil, fmt.Errorf("nothing can listen at %s: %w", s.address, err)
		}
		s.listener = l
	}
	return s, nil
}

// source is all lines that come, in the order in which they come: one split, whose positions count them. They cannot be read again.
type source struct {
	scan     *plan.Op
	address  string
	listens  bool
	ends     bool // at UNTIL: a connection gives no past
	listener net.Listener
	done     sync.WaitGroup

	mu     sync.Mutex
	room   *sync.Cond
	peers  map[net.Conn]bool
	wake   func()
	begun  bool
	closed bool
	lines  [][]byte
	bytes  int
	next   int64
	long   int64 // lines that were too long, and are not told yet
	err    error // why there is no connection
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

func (s *source) Name() string            { return s.address }
func (s *source) Place(pos int64) string  { return fmt.Sprintf("%s line %d", s.address, pos+1) }
func (s *source) Endless() bool           { return !s.ends }
func (s *source) Frame(*flow.Piece) error { return nil }

// Position implements flow.Split.
func (s *source) Position() int64 { return s.next }

// Resume implements flow.Split. The lines go on with their numbers; those that came behind the checkpoint are gone.
func (s *source) Resume(pos int64) error {
	s.next = pos
	return nil
}

// NewDecoder implements flow.Split.
func (s *source) NewDecoder() (flow.Decoder, error) {
	return (&format.Reading{Stream: s.scan.Stream, Used: s.scan.Used}).NewDecoder(nil)
}

// begin lets lines come.
func (s *source) begin() {
	s.begun = true
	if s.listens {
		s.done.Go(s.accept)
	} else {
		s.done.Go(s.dial)
	}
}

func (s *source) accept() {
	for {
		c, err := s.listener.Accept()
		if err != nil {
			return
		}
		if !s.welcome(c) {
			c.Close()
			continue
		}
		s.done.Go(func() {
			_ = s.read(c)
			s.forget(c)
		})
	}
}

// welcome notes a connection, unless there are too many or it is over.
func (s *source) welcome(c net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed || len(s.peers) >= mostPeers {
		return false
	}
	s.peers[c] = true
	return true
}

func (s *source) forget(c net.Conn) {
	c.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.peers, c)
}

// dial keeps a connection, until the source is closed.
func (s *source) dial() {
	for wait := 100 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		c, err := net.DialTimeout("tcp", s.address, mayConnect)
		if err == nil {
			if !s.welcome(c) {
				c.Close()
				return
			}
			s.trouble(nil)
			wait = 100 * time.Millisecond
			if err = s.read(c); err == nil {
				err = io.EOF
			}
			s.forget(c)
		}
		if errors.Is(err, io.EOF) {
			err = errors.New("the other side has closed the connection")
		}
		if !s.trouble(err) {
			return
		}
		time.Sleep(wait)
	}
}

// trouble notes why there is no connection, and says whether to go on.
func (s *source) trouble(err error) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.err = err
	if s.wake != nil {
		go s.wake()
	}
	return !s.closed
}

// read takes the lines of a connection to its end. It waits while nobody wants what is there.
func (s *source) read(c net.Conn) error {
	in := bufio.NewReaderSize(c, 64<<10)
	for {
		line, whole, err := oneLine(in)
		if len(line) > 0 || !whole {
			s.mu.Lock()
			for s.bytes > ahead && !s.closed {
				s.room.Wait()
			}
			if s.closed {
				s.mu.Unlock()
				return nil
			}
			if whole {
				s.lines = append(s.lines, line)
				s.bytes += len(line) + 50
			} else {
				s.long++
			}
			wake := s.wake
			first := len(s.lines) == 1
			s.mu.Unlock()
			if first && wake != nil {
				wake()
			}
		}
		if err != nil {
			return err
		}
	}
}

// oneLine reads a line without its end. One that is too long is passed over, and not whole.
func oneLine(in *bufio.Reader) (line []byte, whole bool, err error) {
	whole = true
	for {
		part, err := in.ReadSlice('\n')
		if len(line)+len(part) > longestLine {
			line, whole = nil, false
		}
		if whole {
			line = append(line, part...)
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		for len(line) > 0 && (line[len(line)-1] == '\n' || line[len(line)-1] == '\r') {
			line = line[:len(line)-1]
		}
		return line, whole, err
	}
}

// Next implements flow.Split.
func (s *source) Next(p *flow.Piece) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ends {
		return io.EOF
	}
	if !s.begun {
		s.begin()
	}
	p.Data, p.Messages, p.Base = p.Data[:0], p.Messages[:0], s.next
	if s.long > 0 {
		p.Lost, p.Why = s.long, fmt.Sprintf("%d lines are lost, longer than %d bytes", s.long, longestLine)
		s.next += s.long
		p.Next, s.long = s.next, 0
		return nil
	}
	if len(s.lines) == 0 {
		if s.err != nil {
			return fmt.Errorf("%s: %w", s.address, s.err)
		}
		return flow.ErrNothing
	}
	now := time.Now().UnixMicro()
	n := 0
	for _, l := range s.lines {
		if len(p.Data) > pieceBytes {
			break
		}
		p.Messages = append(p.Messages, flow.Message{Off: uint32(len(p.Data)), Len: uint32(len(l)), Pos: s.next, At: now})
		p.Data = append(p.Data, l...)
		s.bytes -= len(l) + 50
		s.next++
		n++
	}
	clear(s.lines[:n])
	if s.lines = s.lines[n:]; len(s.lines) == 0 {
		s.lines = nil
	}
	p.Data = append(p.Data, make([]byte, flow.Pad)...)[:len(p.Data)]
	p.Next = s.next
	s.room.Broadcast()
	return nil
}

// Close implements flow.Source and flow.Split.
func (s *source) Close() error {
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return nil
	}
	s.closed = true
	if s.listener != nil {
		s.listener.Close()
	}
	for c := range s.peers {
		c.Close()
	}
	s.room.Broadcast()
	s.mu.Unlock()
	if s.listens {
		s.done.Wait()
	}
	return nil
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(_ *contract.Env, out *plan.Op) (flow.Sink, error) {
	s := &sink{address: out.Sink.Address, options: out.Sink.Options, peers: map[net.Conn]bool{}}
	if err := parse(s.address); err != nil {
		return nil, err
	}
	if s.options.Flag("listen", false) {
		l, err := net.Listen("tcp", s.address)
		if err != nil {
			return nil, fmt.Errorf("nothing can listen at %s: %w", s.address, err)
		}
		s.listener = l
		go s.accept()
	}
	return s, nil
}

// sink sends lines to a peer, or to all that have come.
type sink struct {
	address  string
	options  plan.Options
	listener net.Listener
	conn     net.Conn
	sent     int // bytes of the payload at hand that the peer has

	mu     sync.Mutex
	peers  map[net.Conn]bool
	closed bool
}

func (s *sink) accept() {
	for {
		c, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		if s.closed || len(s.peers) >= mostPeers {
			c.Close()
		} else {
			s.peers[c] = true
		}
		s.mu.Unlock()
	}
}

// NewEncoder implements flow.Sink.
func (s *sink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	enc, err := (&format.Writing{Options: s.options, Fields: fields}).NewEncoder()
	return text.NewLines(enc, "\n"), err
}

// Write implements flow.Sink.
func (s *sink) Write(p flow.Payload) error {
	if s.listener != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		for c := range s.peers { // one that takes nothing is left, so that nobody waits for it
			_ = c.SetWriteDeadline(time.Now().Add(time.Second))
			if _, err := c.Write(p.Bytes); err != nil {
				c.Close()
				delete(s.peers, c)
			}
		}
		text.Recycle(p.Bytes)
		return nil
	}
	if s.conn == nil {
		c, err := net.DialTimeout("tcp", s.address, mayConnect)
		if err != nil {
			return err
		}
		s.conn = c
	}
	_ = s.conn.SetWriteDeadline(time.Now().Add(mayTake))
	n, err := s.conn.Write(p.Bytes[s.sent:])
	if err != nil {
		s.conn.Close()
		s.conn = nil
		s.sent += n // the rest goes over the next connection, from the beginning of a line
		for s.sent > 0 && p.Bytes[s.sent-1] != '\n' {
			s.sent--
		}
		return fmt.Errorf("%s: %w", s.address, err)
	}
	s.sent = 0
	text.Recycle(p.Bytes)
	return nil
}

// Resume, Mark and Commit implement flow.Exact: nothing is kept.
func (s *sink) Resume([]byte) error       { return nil }
func (s *sink) Mark(bool) ([]byte, error) { return nil, nil }
func (s *sink) Commit([]byte) error       { return nil }

// Retry implements flow.Retrier.
func (s *sink) Retry(error) bool { return true }

// Close implements flow.Sink.
func (s *sink) Close(bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	if s.listener != nil {
		s.listener.Close()
	}
	for c := range s.peers {
		c.Close()
	}
	if s.conn != nil {
		return s.conn.Close()
	}
	return nil
}
