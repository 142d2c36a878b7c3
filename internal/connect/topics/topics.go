// Package topics reads streams from built-in topics and writes sinks to them.
package topics

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"fiume/internal/connect/batches"
	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/format"
	"fiume/internal/topiclog"
)

// Connector is TOPIC.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:  "topic",
	About: "a built-in topic of the service",
	Example: `DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP, rssi DOUBLE)
	EVENT TIME read_at DELAY 20 SECONDS
	FROM TOPIC 'mat-reads';
DECLARE TABLE runners (chip VARCHAR PRIMARY KEY, bib INT, name VARCHAR) FROM TOPIC 'runners';
DECLARE SINK strong TO TOPIC 'strong-reads' (KEY (chip));`,
	Traits: plan.Traits{OwnTopics: true, Messages: true, Times: true, Again: true, Latest: true, WholeKey: true},
	Insert: true,
	Source: format.SourceOptions(),
	Table:  format.SourceOptions(),
	Sink: append(format.SinkOptions(),
		plan.OptionSpec{Name: "key", Kind: plan.NamesOption, Doc: "the columns that make the message's key, joined with |"},
		plan.OptionSpec{Name: "headers", Kind: plan.NamesOption, Doc: "columns that become headers of the messages, as text, and are left out of their values"},
		plan.OptionSpec{Name: "repeats", Kind: plan.WordOption, Words: []string{"none", "possible"}, Doc: "possible: rows are shown at once even where a crash can make some come twice; none: each row is there once"}),
	Fits: contract.Fits,
	Promise: func(out *plan.Op) string {
		switch why := Held(out); {
		case why != "":
			return "each row once, shown when a checkpoint is complete: " + why
		case out.Differs != "":
			return "rows are shown at once; after a crash some may come twice: " + out.Differs
		}
		return "each row once, shown at once: those that come again after a crash are left out"
	},
}

const pieceBytes = 1 << 20

// Source is the partitions of a topic, also those that come while it is read.
type Source struct {
	topic   *topiclog.Topic
	scan    *plan.Op
	splits  []flow.Split
	given   int // partitions that the run knows
	reading *format.Reading

	mu     sync.Mutex
	wake   func()
	cancel []func()
	closed bool
}

// Reread implements contract.Rereader.
func (connector) Reread(k *plan.Sink) string { return k.Address }

// ErrNone says that topics need the service.
var ErrNone = errors.New("topics live in the service; use fiume apply or fiume query, or read FROM FILES")

// named finds a topic.
func named(env *contract.Env, name string) (*topiclog.Topic, error) {
	if env.Topics == nil {
		return nil, ErrNone
	}
	t := env.Topics.Topic(name)
	if t == nil {
		return nil, missing(name)
	}
	return t, nil
}

func missing(name string) error {
	return fmt.Errorf("there is no topic '%s'; create it with CREATE TOPIC %s", name, sql.Quoted(name))
}

// there says what is wrong where a topic is neither there nor about to be made. Without the service nobody knows.
func there(env *contract.Env, name string) error {
	if env.Topics != nil && env.Topics.Topic(name) == nil && !env.Coming[name] {
		return missing(name)
	}
	return nil
}

// CheckSource implements contract.Reader.
func (connector) CheckSource(_ context.Context, env *contract.Env, s *plan.Stream) error {
	if err := there(env, s.Address); err != nil {
		return err
	}
	return env.CheckReading(s)
}

// OpenSource implements contract.Reader: it finds where a scan begins and ends. A live query begins now where nothing is
// said, a job at the beginning.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	t, err := named(env, scan.Stream.Address)
	if err != nil {
		return nil, err
	}
	parts := t.Partitions()
	src := &Source{topic: t, scan: scan, given: len(parts)}
	if src.reading, err = env.Reading(scan); err != nil {
		return nil, err
	}
	for i, p := range parts {
		sp := src.split(i, p)
		err := p.Err() // its ends would be those of an empty one
		if err != nil {
			return nil, err
		}
		since := scan.Since
		if since.Kind == plan.Default && env.Live {
			since.Kind = plan.Now
		}
		if sp.pos, err = offsetOf(p, since); err != nil {
			return nil, err
		}
		if scan.Until.Kind != plan.Default {
			if sp.until, err = offsetOf(p, scan.Until); err != nil {
				return nil, err
			}
			sp.pos = min(sp.pos, sp.until)
		}
		src.splits = append(src.splits, sp)
	}
	return src, nil
}

func offsetOf(p *topiclog.Partition, b plan.Bound) (int64, error) {
	switch b.Kind {
	case plan.Now:
		return p.Next(), nil
	case plan.AtTime:
		return p.OffsetAt(b.At)
	case plan.Ago:
		return p.OffsetAt(time.Now().UnixMicro() - b.At)
	}
	return p.First(), nil
}

// Splits implements flow.Source.
func (s *Source) Splits() []flow.Split { return s.splits }

func (s *Source) split(i int, p *topiclog.Partition) *split {
	return &split{name: fmt.Sprintf("%s/%d", s.topic.Name, i), part: p, reading: s.reading, origin: format.Origin{Topic: s.topic.Name, Partition: i}, until: -1}
}

// Arrived implements flow.Growing: partitions that have come are read from their beginning.
func (s *Source) Arrived() (out []flow.Split) {
	parts := s.topic.Partitions()
	for i := s.given; i < len(parts) && s.Grows(); i++ {
		sp := s.split(i, parts[i])
		sp.pos = parts[i].First()
		out = append(out, sp)
		s.listen(parts[i])
	}
	s.given = len(parts)
	return out
}

// Grows implements flow.Growing.
func (s *Source) Grows() bool { return s.scan.Until.Kind == plan.Default }

// OnData implements flow.Source.
func (s *Source) OnData(wake func()) {
	s.mu.Lock()
	s.wake = wake
	s.mu.Unlock()
	for _, sp := range s.splits {
		s.listen(sp.(*split).part)
	}
}

// listen has a partition wake whoever reads.
func (s *Source) listen(p *topiclog.Partition) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.wake != nil && !s.closed {
		s.cancel = append(s.cancel, p.OnData(s.wake))
	}
}

// Close implements flow.Source.
func (s *Source) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.cancel {
		c()
	}
	s.cancel, s.closed = nil, true
	return nil
}

// split reads one partition. Positions and places are offsets.
type split struct {
	name    string
	part    *topiclog.Partition
	reading *format.Reading
	origin  format.Origin
	pos     int64
	until   int64 // -1: goes on
}

func (s *split) Name() string           { return s.name }
func (s *split) Place(pos int64) string { return fmt.Sprintf("%s offset %d", s.name, pos) }
func (s *split) Position() int64        { return s.pos }
func (s *split) Close() error           { return nil }

func (s *split) NewDecoder() (flow.Decoder, error) {
	return s.reading.DecoderFrom(s.origin, nil)
}

// Resume implements flow.Split.
func (s *split) Resume(pos int64) error {
	if next := s.part.Next(); pos > next {
		return fmt.Errorf("offset %d lies behind the end, %d: the topic is not the one that was read", pos, next)
	}
	s.pos = pos
	return nil
}

// Next implements flow.Split.
func (s *split) Next(p *flow.Piece) error {
	if s.until >= 0 && s.pos >= s.until {
		return io.EOF
	}
	from := s.pos
	b, next, err := s.part.Read(from, p.Data[:0], pieceBytes)
	why := "damaged"
	if errors.Is(err, topiclog.ErrGone) { // what is gone does not come back
		from, why = s.part.First(), "removed by retention before they were read"
		if s.until >= 0 {
			from = min(from, s.until)
		}
		b, next, err = p.Data[:0], from, nil
	}
	if err != nil {
		return err
	}
	if next == s.pos {
		return flow.ErrNothing
	}
	p.Data, p.Base = b, s.pos
	if s.until >= 0 {
		next = min(next, s.until)
	}
	from = next // behind what is lost
	if len(b) > 0 {
		from = min(topiclog.Begins(b), next)
	}
	if from > s.pos {
		p.Lost, p.Why = from-s.pos, fmt.Sprintf("%d messages are lost, %s: the offsets %d to %d of %s", from-s.pos, why, s.pos, from-1, s.name)
	}
	p.Next, s.pos = next, next
	return nil
}

// Left implements flow.Counting.
func (s *split) Left(pos int64) int64 {
	end := s.part.Next()
	if s.until >= 0 {
		end = min(end, s.until)
	}
	return max(0, end-pos)
}

// Endless implements flow.Endless.
func (s *split) Endless() bool { return s.until < 0 }

// Frame implements flow.Split: it finds the records of a piece.
func (s *split) Frame(p *flow.Piece) error {
	keys, headers := s.reading.WantsKeys()
	return batches.Frame(p, keys, headers)
}
