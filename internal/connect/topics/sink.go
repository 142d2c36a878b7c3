package topics

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/spool"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/disk"
	"fiume/internal/format"
	"fiume/internal/topiclog"
	"fmt"
	"math"
	"sync/atomic"

	"github.com/cespare/xxhash/v2"
	"github.com/zeebo/xxh3"
)

// Sink writes rows as messages. In a run that takes checkpoints each row is there once, in one of two ways.
//
// Where a stretch of input that is read again gives the same rows, they are shown at once. After a crash the
// sink reads what it wrote behind the last checkpoint and leaves these rows out when they come again, in
// whatever order. A row is known by all its bytes: of rows that are equal it makes no difference which is which.
//
// Where a replay may give others, rows are held back until a checkpoint counts.
type Sink struct {
	topic   *topiclog.Topic
	writing *format.Writing
	layout  text.Layout

	spool *spool.Sink // holds rows back; nil where they are shown at once

	writer   string // "" in a run without checkpoints
	producer int64
	again    map[identity]int32  // rows that are there and will come again
	missing  atomic.Int64        // their number
	later    map[[16]byte]int32  // of a topic that is compacted: how many of them are of a key
	held     func() *spool.Sink  // makes what holds rows back
	rest     [][]topiclog.Record // of the payload at hand, by partition: what is not written yet
}

// identity of a row: a hash of its key and value.
type identity [16]byte

func identityOf(key, value []byte) (id identity) {
	h := sha256.New()
	var n [8]byte
	size := int64(-1)
	if key != nil {
		size = int64(len(key))
	}
	binary.LittleEndian.PutUint64(n[:], uint64(size))
	h.Write(n[:])
	h.Write(key)
	h.Write(value)
	h.Sum(n[:0])
	copy(id[:], h.Sum(nil))
	return id
}

// Held says whether an output's rows are held back until a checkpoint counts, and why.
func Held(out *plan.Op) (why string) {
	if out.Sink.Options.Word("repeats", "none") == "possible" {
		return ""
	}
	return out.Differs
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(_ context.Context, env *contract.Env, out *plan.Op) error {
	if err := there(env, out.Sink.Address); err != nil {
		return err
	}
	layout, err := text.LayoutOf(out)
	if err != nil {
		return err
	}
	w, err := env.Writing(out, layout.Values())
	if err == nil {
		err = w.Check()
	}
	return err
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	t, err := named(env, out.Sink.Address)
	if err != nil {
		return nil, err
	}
	return NewSink(env, t, out, env.Spool(out))
}

// NewSink makes the sink of an output that writes to a topic. Spools of rows that are held back stand in dir.
func NewSink(env *contract.Env, t *topiclog.Topic, out *plan.Op, dir string) (*Sink, error) {
	layout, err := text.LayoutOf(out)
	if err != nil {
		return nil, err
	}
	w, err := env.Writing(out, layout.Values())
	if err != nil {
		return nil, err
	}
	s := &Sink{topic: t, writing: w, layout: layout}
	s.held = func() *spool.Sink { return &spool.Sink{FS: env.FS(), Dir: dir, Target: &target{topic: t}} }
	if Held(out) != "" {
		s.spool = s.held()
	}
	return s, nil
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	enc, err := s.writing.NewEncoder()
	return text.NewKeyed(enc, s.layout), err
}

// records lists the messages of a payload.
func records(p flow.Payload) []topiclog.Record {
	sides := text.SidesOf(p)
	recs := make([]topiclog.Record, len(p.Ends))
	from := 0
	for i, end := range p.Ends {
		recs[i].Value = p.Bytes[from:end]
		if sides.Keys != nil {
			recs[i].Key = sides.Keys[i]
		}
		if sides.Headers != nil {
			recs[i].Headers = sides.Headers[i]
		}
		from = end
	}
	return recs
}

// Write implements flow.Sink. It returns when the messages are on the disk, or in the spool.
func (s *Sink) Write(p flow.Payload) error {
	if s.spool != nil && s.writer != "" {
		recs := records(p)
		if len(s.again) > 0 {
			recs = s.unknown(recs)
		}
		err := s.spool.Write(appendRecords(nil, recs))
		if err == nil {
			text.Recycle(p.Bytes)
		}
		return err
	}
	if s.rest == nil {
		recs := records(p)
		if len(s.again) > 0 {
			recs = s.unknown(recs)
		}
		s.rest = s.topic.Partitioned(recs)
	}
	if err := s.topic.AppendParts(s.producer, 0, s.rest); err != nil {
		return err
	}
	s.rest = nil
	text.Recycle(p.Bytes)
	return nil
}

// keyOf stands for a key.
func keyOf(key []byte) [16]byte { return xxh3.Hash128(key).Bytes() }

// unknown leaves out the rows that are there from before a crash.
func (s *Sink) unknown(recs []topiclog.Record) []topiclog.Record {
	kept := recs[:0]
	for _, r := range recs {
		id := identityOf(r.Key, r.Value)
		n := s.again[id]
		key := keyOf(r.Key)
		switch {
		case n == 0 && s.later[key] > 0: // it was there, since a later one of the key is, and has been compacted away
			continue
		case n == 0:
			kept = append(kept, r)
			continue
		case n == 1:
			delete(s.again, id)
		default:
			s.again[id] = n - 1
		}
		s.missing.Add(-1)
		if s.later[key] > 0 {
			s.later[key]--
		}
	}
	return kept
}

// offsets say where the partitions end.
type offsets []int64

// handle is what a checkpoint keeps of a sink that shows rows at once. Where rows are held back it is that of the spool
// alone, unless rows are there from before, when they were shown at once, and will come again.
type handle struct {
	Writer string          `json:"writer"`
	Next   offsets         `json:"next"`
	Again  []byte          `json:"again,omitempty"` // identities and how often, little-endian uint32
	Spool  json.RawMessage `json:"spool,omitempty"`
}

// read tells a handle from that of a spool, whose next is a number.
func read(b []byte) (h handle, spooled []byte, err error) {
	var form struct{ Next json.RawMessage }
	if b == nil {
		return h, nil, nil
	}
	if err := json.Unmarshal(b, &form); err != nil {
		return h, nil, err
	}
	if len(form.Next) > 0 && form.Next[0] != '[' && string(form.Next) != "null" {
		return h, b, nil
	}
	err = json.Unmarshal(b, &h)
	return h, h.Spool, err
}

// Resume implements flow.Exact. A new version of a job may hold back what the one before showed at once, or the other way
// round: what was held back then is delivered, and what was shown is known.
func (s *Sink) Resume(b []byte) error {
	s.again, s.later = map[identity]int32{}, map[[16]byte]int32{}
	h, spooled, err := read(b)
	if err != nil {
		return err
	}
	if s.spool != nil {
		if err := s.spool.Resume(spooled); err != nil {
			return err
		}
	} else if spooled != nil {
		x := s.held()
		if err := x.Resume(spooled); err != nil {
			return err
		}
		if err := x.Commit(spooled); err != nil {
			return err
		}
	}
	if h.Writer == "" {
		h.Writer = spool.NewWriter()
	}
	s.writer, s.producer = h.Writer, producerOf(h.Writer)
	for x := h.Again; len(x) >= 20; x = x[20:] {
		s.again[identity(x[:16])] = int32(binary.LittleEndian.Uint32(x[16:]))
	}
	if h.Next != nil {
		for i, p := range s.topic.Partitions() {
			if i < len(h.Next) {
				if err := p.Secure(h.Next[i]); err != nil {
					return err
				}
			}
		}
		if err := behind(s.topic, h.Next, s.producer, func(v topiclog.View, key, value []byte) {
			s.again[identityOf(key, value)]++
			if s.topic.Settings.Compact {
				s.later[keyOf(key)]++
			}
		}); err != nil {
			return err
		}
	}
	n := int64(0)
	for _, k := range s.again {
		n += int64(k)
	}
	s.missing.Store(n)
	return nil
}

// behind calls each for the messages of a producer behind a place.
func behind(t *topiclog.Topic, from offsets, producer int64, each func(v topiclog.View, key, value []byte)) error {
	var buf []byte
	for i, p := range t.Partitions() {
		at := p.First()
		if i < len(from) && from[i] <= p.Next() {
			at = max(at, from[i])
		}
		for {
			b, next, err := p.Read(at, buf, pieceBytes)
			if err != nil {
				return err
			}
			if next == at {
				break
			}
			err = topiclog.Views(b, at, func(v topiclog.View) {
				if v.Producer != producer {
					return
				}
				var key []byte
				if v.HasKey {
					key = b[v.KeyFrom:v.KeyTo]
				}
				each(v, key, b[v.From:v.To])
			})
			if err != nil {
				return err
			}
			at, buf = next, b
		}
	}
	return nil
}

func ends(t *topiclog.Topic) (out offsets) {
	for _, p := range t.Partitions() {
		out = append(out, p.Next())
	}
	return out
}

// producerOf gives the number that stands for a writer in the batches of a topic.
func producerOf(writer string) int64 { return int64(xxhash.Sum64String(writer) >> 1) }

// Mark implements flow.Exact. Write has made all rows durable that are shown at once.
func (s *Sink) Mark(final bool) ([]byte, error) {
	h := handle{Writer: s.writer}
	if s.spool != nil {
		b, err := s.spool.Mark(final)
		if err != nil || len(s.again) == 0 {
			return b, err
		}
		h.Spool = b
	} else {
		h.Next = ends(s.topic)
	}
	for id, n := range s.again {
		h.Again = binary.LittleEndian.AppendUint32(append(h.Again, id[:]...), uint32(n))
	}
	return json.Marshal(h)
}

// Commit implements flow.Exact.
func (s *Sink) Commit(b []byte) error {
	if s.spool != nil {
		_, spooled, err := read(b)
		if err != nil || spooled == nil {
			return err
		}
		return s.spool.Commit(spooled)
	}
	return nil
}

// Missing implements flow.Repeater.
func (s *Sink) Missing() int { return int(s.missing.Load()) }

// Waiting implements flow.Spooling.
func (s *Sink) Waiting() int64 {
	if s.spool != nil {
		return s.spool.Waiting()
	}
	return 0
}

// Retry implements flow.Retrier: what was written of a payload is known.
func (s *Sink) Retry(err error) bool {
	if s.spool != nil {
		return s.spool.Retry(err)
	}
	return disk.Passing(err)
}

// Close implements flow.Sink.
func (s *Sink) Close(bool) error { return nil }

// appendRecords writes messages: for each the length of its key plus one, or 0 for none, the key, the length of
// its value, the value; lengths as varints.
func appendRecords(b []byte, recs []topiclog.Record) []byte {
	for _, r := range recs {
		if r.Headers != nil {
			b = spool.AppendSide(b, r.Headers)
		}
		if r.Key == nil {
			b = binary.AppendUvarint(b, 0)
		} else {
			b = append(binary.AppendUvarint(b, uint64(len(r.Key))+1), r.Key...)
		}
		b = append(binary.AppendUvarint(b, uint64(len(r.Value))), r.Value...)
	}
	return b
}

var errShort = errors.New("spooled messages are cut short")

func readRecords(b []byte) (recs []topiclog.Record, err error) {
	text := func() []byte {
		n, k := binary.Uvarint(b)
		if k <= 0 || uint64(len(b)-k) < n {
			err, b = errShort, nil
			return nil
		}
		x := b[k : k+int(n)]
		b = b[k+int(n):]
		return x
	}
	for len(b) > 0 && err == nil {
		var r topiclog.Record
		if r.Headers, b, err = spool.TakeSide(b); err != nil {
			return nil, err
		}
		if len(b) == 0 {
			return nil, errShort
		}
		if b[0] == 0 {
			b = b[1:]
		} else if n, k := binary.Uvarint(b); k <= 0 || uint64(len(b)-k) < n-1 {
			return nil, errShort
		} else {
			r.Key, b = b[k:k+int(n-1)], b[k+int(n-1):]
		}
		r.Value = text()
		recs = append(recs, r)
	}
	return recs, err
}

// target writes deliveries to a topic. The number of a delivery stands in its batches, so that what a crash left
// of one is known.
type target struct {
	topic *topiclog.Topic
	open  string // the delivery at hand
	rest  [][]topiclog.Record
}

// Place implements spool.Target.
func (t *target) Place() ([]byte, error) { return json.Marshal(ends(t.topic)) }

// Has implements spool.Target.
func (t *target) Has(writer string, number int64, at []byte) (has bool, err error) {
	var from offsets
	if err := json.Unmarshal(at, &from); err != nil {
		return false, err
	}
	sequence := int32(number % math.MaxInt32)
	err = behind(t.topic, from, producerOf(writer), func(v topiclog.View, _, _ []byte) {
		has = has || v.Sequence == sequence
	})
	return has, err
}

// Passing implements spool.Target.
func (t *target) Passing(error) bool { return false }

// Deliver implements spool.Target.
func (t *target) Deliver(writer string, number int64, at []byte, payloads [][]byte) error {
	name := fmt.Sprint(writer, number)
	producer, sequence := producerOf(writer), int32(number%math.MaxInt32)
	if t.open != name {
		var from offsets
		if err := json.Unmarshal(at, &from); err != nil {
			return err
		}
		for i, p := range t.topic.Partitions() {
			if i < len(from) {
				if err := p.Secure(from[i]); err != nil {
					return err
				}
			}
		}
		have := Sink{again: map[identity]int32{}}
		err := behind(t.topic, from, producer, func(v topiclog.View, key, value []byte) {
			if v.Sequence == sequence {
				have.again[identityOf(key, value)]++
			}
		})
		if err != nil {
			return err
		}
		var all []topiclog.Record
		for _, p := range payloads {
			recs, err := readRecords(p)
			if err != nil {
				return err
			}
			all = append(all, have.unknown(recs)...)
		}
		t.open, t.rest = name, t.topic.Partitioned(all)
	}
	if err := t.topic.AppendParts(producer, sequence, t.rest); err != nil {
		return err
	}
	t.open, t.rest = "", nil
	return nil
}
