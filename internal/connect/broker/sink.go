package broker

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/spool"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"
)

// Sink writes rows as messages to a topic of external brokers.
//
// In a run that takes checkpoints rows wait in a spool until their checkpoint counts, and are then written in one transaction. Its first message
// has a header with the writer and the number of the delivery. A broker cannot be told to keep a transaction that was prepared for a writer
// which died: it gives it up. So the spool keeps the rows until the transaction is known to be complete. Where that is not known, because the process died or no
// answer came, a new session with the writer's id first has the brokers end what was open, one way or the other; then the header is looked for
// behind where the delivery could begin.
type Sink struct {
	*spool.Sink
	e       *plan.Endpoint
	access  contract.Secrets
	topic   string
	options plan.Options
	writing *format.Writing
	layout  text.Layout
	more    []kgo.Opt
	spools  bool        // the run takes checkpoints, and rows are there once
	direct  bool        // rows are sent at once
	admin   *kgo.Client // asks, and sends what is in no transaction
	c       *kgo.Client // of the session at hand, used where checkpoints are told alone

	mu     sync.Mutex
	ends   map[int32]int64 // where the partitions ended, or before that
	asked  time.Time       // when it was asked
	writer string          // of the session at hand
	ours   int64           // number of the delivery that this session has written last; 0: none
}

// header names the delivery in the first message of its transaction.
const header = "fiume-delivery"

// writerPrefix stands before the writer in the ids of transactions.
const writerPrefix = "fiume-"

// longestTransaction is how long a transaction may be open before the brokers give it up.
const longestTransaction = time.Minute

// asksEvery is how old it may be that the ends of the partitions were asked.
const asksEvery = time.Minute

// openSink connects and looks for the topic.
func openSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	layout, err := text.LayoutOf(out)
	if err != nil {
		return nil, err
	}
	if err := plainName(out.Sink.Address); err != nil {
		return nil, err
	}
	w, err := env.Writing(out, layout.Values())
	if err != nil {
		return nil, err
	}
	s := &Sink{e: out.Sink.Via, writing: w, access: env.Secrets, topic: out.Sink.Address, options: out.Sink.Options, layout: layout, direct: repeats(out)}
	s.Sink = &spool.Sink{FS: env.FS(), Dir: env.Spool(out), Target: s}
	pack := map[string]kgo.CompressionCodec{"gzip": kgo.GzipCompression(), "snappy": kgo.SnappyCompression(), "lz4": kgo.Lz4Compression(), "zstd": kgo.ZstdCompression()}
	codec, ok := pack[s.options.Word("compress", "none")]
	if !ok {
		codec = kgo.NoCompression()
	}
	s.more = []kgo.Opt{kgo.DefaultProduceTopic(s.topic), kgo.ProducerBatchCompression(codec), kgo.RecordPartitioner(kgo.StickyKeyPartitioner(nil)),
		kgo.RecordDeliveryTimeout(3 * mayAnswer), kgo.ProducerLinger(0), kgo.ProducerBatchMaxBytes(1_000_000), kgo.MaxBufferedRecords(200_000)}
	ctx, cancel := context.WithTimeout(context.Background(), 2*mayAnswer)
	defer cancel()
	if s.admin, err = reached(ctx, s.e, s.access, s.more...); err != nil {
		return nil, err
	}
	if _, err = topicsOf(ctx, s.admin, s.e, s.topic); err == nil {
		s.ends, err = s.whereEnds(ctx, s.admin)
	}
	if err != nil {
		s.admin.Close()
		return nil, err
	}
	s.asked = time.Now()
	return s, nil
}

// whereEnds gives the ends of the partitions.
func (s *Sink) whereEnds(ctx context.Context, c *kgo.Client) (map[int32]int64, error) {
	listed, err := kadm.NewClient(c).ListEndOffsets(ctx, s.topic)
	if err == nil {
		err = listed.Error()
	}
	if err != nil {
		return nil, said(s.e, err)
	}
	out := map[int32]int64{}
	for p, o := range listed[s.topic] {
		out[p] = o.Offset
	}
	return out, nil
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	enc, err := s.writing.NewEncoder()
	return text.NewKeyed(enc, s.layout), err
}

// Resume implements flow.Exact.
func (s *Sink) Resume(handle []byte) error {
	if s.direct {
		return nil
	}
	s.spools = true
	return s.Sink.Resume(handle)
}

// Mark implements flow.Exact.
func (s *Sink) Mark(final bool) ([]byte, error) {
	if s.direct {
		return nil, nil
	}
	return s.Sink.Mark(final)
}

// Commit implements flow.Exact.
func (s *Sink) Commit(handle []byte) error {
	if s.direct {
		return nil
	}
	return s.Sink.Commit(handle)
}

// Write implements flow.Sink. It returns when the messages are in the spool, or when the brokers have them.
func (s *Sink) Write(p flow.Payload) error {
	b := spooled(p)
	if s.spools {
		err := s.Sink.Write(b)
		if err == nil {
			text.Recycle(p.Bytes)
		}
		return err
	}
	recs, err := s.records(b)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 6*mayAnswer)
	defer cancel()
	return s.sent(s.admin.ProduceSync(ctx, recs...).FirstErr())
}

// sent puts the error of a message into words.
func (s *Sink) sent(err error) error {
	if err == nil {
		return nil
	}
	return said(s.e, fmt.Errorf("the topic '%s': %w", s.topic, err))
}

// spooled writes the messages of a payload: for each the length of its key plus one, or 0 for none, the key, the length of its value plus one, or 0 for
// none, the value; lengths as varints. An empty value of a message with a key says that the row of the key is gone.
func spooled(p flow.Payload) []byte {
	sides := text.SidesOf(p)
	b := make([]byte, 0, len(p.Bytes)+8*len(p.Ends))
	from := 0
	for i, end := range p.Ends {
		if sides.Headers != nil {
			b = spool.AppendSide(b, sides.Headers[i])
		}
		if sides.Keys == nil {
			b = binary.AppendUvarint(b, 0)
		} else {
			b = append(binary.AppendUvarint(b, uint64(len(sides.Keys[i]))+1), sides.Keys[i]...)
		}
		if from == end {
			b = binary.AppendUvarint(b, 0)
		} else {
			b = append(binary.AppendUvarint(b, uint64(end-from)+1), p.Bytes[from:end]...)
		}
		from = end
	}
	return b
}

var errShort = errors.New("spooled messages are cut short")

// records reads what spooled has written.
func (s *Sink) records(b []byte) (recs []*kgo.Record, err error) {
	part := func() []byte {
		n, k := binary.Uvarint(b)
		if k <= 0 || n > 0 && uint64(len(b)-k) < n-1 {
			err, b = errShort, nil
			return nil
		}
		b = b[k:]
		if n == 0 {
			return nil
		}
		x := b[: n-1 : n-1]
		b = b[n-1:]
		return x
	}
	for len(b) > 0 && err == nil {
		r := &kgo.Record{}
		var headers []byte
		if headers, b, err = spool.TakeSide(b); err != nil {
			return nil, err
		}
		format.EachHeader(headers, func(name, value []byte) {
			r.Headers = append(r.Headers, kgo.RecordHeader{Key: string(name), Value: value})
		})
		r.Key = part()
		r.Value = part()
		recs = append(recs, r)
	}
	return recs, err
}

// Place implements spool.Target: where the partitions ended before the delivery can have begun.
func (s *Sink) Place() ([]byte, error) {
	s.mu.Lock()
	old := time.Since(s.asked) > asksEvery
	s.mu.Unlock()
	if old { // others may have written much since, which would have to be looked through; where they are away the older ends do
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		if ends, err := s.whereEnds(ctx, s.admin); err == nil {
			s.mu.Lock()
			s.ends, s.asked = ends, time.Now()
			s.mu.Unlock()
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return json.Marshal(s.ends)
}

// Passing implements spool.Target.
func (s *Sink) Passing(err error) bool { return passing(err) }

// Retry implements flow.Retrier. Where rows are sent at once, what was sent and not confirmed may be there twice.
func (s *Sink) Retry(err error) bool { return s.Sink.Retry(err) }

// session begins to write as a writer: other sessions of it are locked out, and what they left open is ended.
func (s *Sink) session(ctx context.Context, writer string) error {
	if s.writer == writer {
		return nil
	}
	c, err := client(s.e, s.access, append(slices.Clone(s.more), kgo.TransactionalID(writerPrefix+writer), kgo.TransactionTimeout(longestTransaction))...)
	if err != nil {
		return err
	}
	if _, _, err := c.ProducerID(ctx); err != nil {
		c.Close()
		return said(s.e, err)
	}
	s.c, s.writer, s.ours = c, writer, 0
	return nil
}

// leave ends a session that is not known to be well.
func (s *Sink) leave() {
	if s.c != nil {
		s.c.Close()
	}
	s.c, s.writer = nil, ""
}

// name names a delivery.
func name(writer string, number int64) []byte { return fmt.Appendf(nil, "%s %d", writer, number) }

// Has implements spool.Target.
func (s *Sink) Has(writer string, number int64, place []byte) (bool, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 6*mayAnswer)
	defer cancel()
	if err := s.session(ctx, writer); err != nil {
		return false, err
	}
	return s.has(ctx, writer, number, place)
}

// has looks for the header of a delivery behind where it can have begun, among what is complete.
func (s *Sink) has(ctx context.Context, writer string, number int64, place []byte) (bool, error) {
	var from map[int32]int64
	if err := json.Unmarshal(place, &from); err != nil {
		return false, err
	}
	starts, err := kadm.NewClient(s.admin).ListStartOffsets(ctx, s.topic)
	if err == nil {
		err = starts.Error()
	}
	if err != nil {
		return false, said(s.e, err)
	}
	// Behind what is open of others nothing can be read: it is waited for that too, since a transaction of ours may lie there.
	ends, err := s.whereEnds(ctx, s.admin)
	if err != nil {
		return false, err
	}
	at, until := map[int32]kgo.Offset{}, map[int32]int64{}
	for p, end := range ends {
		begin := max(from[p], starts[s.topic][p].Offset)
		if begin < end {
			at[p], until[p] = kgo.NewOffset().At(begin), end
		}
	}
	return s.find(ctx, name(writer, number), at, until)
}

// find looks for the header of a delivery among what is complete, in partitions from an offset on and up to one.
func (s *Sink) find(ctx context.Context, name []byte, at map[int32]kgo.Offset, until map[int32]int64) (found bool, err error) {
	if len(at) == 0 {
		return false, nil
	}
	c, err := client(s.e, s.access, kgo.ConsumePartitions(map[string]map[int32]kgo.Offset{s.topic: at}), kgo.FetchIsolationLevel(kgo.ReadCommitted()), kgo.KeepControlRecords(), kgo.FetchMaxWait(200*time.Millisecond))
	if err != nil {
		return false, err
	}
	defer c.Close()
	for len(until) > 0 && !found {
		fetched := c.PollFetches(ctx)
		if err := ctx.Err(); err != nil {
			return false, said(s.e, fmt.Errorf("it cannot be found out whether a transaction is complete: %w", err))
		}
		for _, x := range fetched.Errors() {
			return false, said(s.e, x.Err)
		}
		fetched.EachRecord(func(r *kgo.Record) {
			for _, h := range r.Headers {
				found = found || h.Key == header && bytes.Equal(h.Value, name)
			}
			if end, ok := until[r.Partition]; ok && r.Offset >= end-1 {
				delete(until, r.Partition)
			}
		})
	}
	return found, nil
}

// Deliver implements spool.Target.
func (s *Sink) Deliver(writer string, number int64, place []byte, payloads [][]byte) (err error) {
	ctx, cancel := context.WithTimeout(context.Background(), longestTransaction)
	defer cancel()
	if err := s.session(ctx, writer); err != nil {
		return err
	}
	if s.ours != number-1 || s.ours == 0 { // somebody may have written it before us
		has, err := s.has(ctx, writer, number, place)
		if err != nil || has {
			return err
		}
	}
	var recs []*kgo.Record
	for _, p := range payloads {
		more, err := s.records(p)
		if err != nil {
			return err
		}
		recs = append(recs, more...)
	}
	if len(recs) == 0 {
		return nil
	}
	recs[0].Headers = append(recs[0].Headers, kgo.RecordHeader{Key: header, Value: name(writer, number)})
	defer func() {
		if err != nil {
			s.leave()
		}
	}()
	if err := s.c.BeginTransaction(); err != nil {
		return said(s.e, err)
	}
	if err := s.c.ProduceSync(ctx, recs...).FirstErr(); err != nil {
		abort, cancel := context.WithTimeout(context.Background(), mayAnswer)
		defer cancel()
		_ = s.c.EndTransaction(abort, kgo.TryAbort) // the next session has it ended, too
		return s.sent(err)
	}
	if err := s.c.EndTransaction(ctx, kgo.TryCommit); err != nil {
		return s.sent(err)
	}
	if err := s.seen(ctx, recs[0], name(writer, number)); err != nil {
		return err
	}
	s.mu.Lock()
	ends := maps.Clone(s.ends)
	for _, r := range recs {
		ends[r.Partition] = max(ends[r.Partition], r.Offset+1)
	}
	s.ends, s.ours = ends, number
	s.mu.Unlock()
	return nil
}

// seen looks whether the first message of a delivery that was completed can be read. The client gives a transaction up, and says that all went well, where it takes it for empty; then its rows must not go from the spool.
// Where somebody else's transaction is open before it, it is waited for: nobody who reads what is complete sees more.
func (s *Sink) seen(ctx context.Context, first *kgo.Record, name []byte) error {
	there, err := s.find(ctx, name, map[int32]kgo.Offset{first.Partition: kgo.NewOffset().At(first.Offset)}, map[int32]int64{first.Partition: first.Offset + 1})
	if err != nil || there {
		return err
	}
	starts, err := kadm.NewClient(s.admin).ListStartOffsets(ctx, s.topic)
	if err == nil {
		err = starts.Error()
	}
	if err != nil {
		return said(s.e, err)
	}
	if starts[s.topic][first.Partition].Offset > first.Offset {
		return nil // it was removed
	}
	return s.sent(errNotThere)
}

var errNotThere = errors.New("a transaction that was completed is not to be seen; it is written again")

// Close implements flow.Sink.
func (s *Sink) Close(bool) error {
	s.leave()
	s.admin.Close()
	return nil
}
