package broker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
)

const (
	// lookEvery is how often it is looked for partitions and topics that have come.
	lookEvery = time.Second
	// ahead is how many bytes of a partition are fetched before they are read.
	ahead = 8 << 20
	// pieceBytes are handed out at a time.
	pieceBytes = 1 << 20
	// silentAfter is how long connecting may fail before it is said.
	silentAfter = 2 * time.Second
)

// source is the partitions of a topic, or of those that fit a pattern. Each is a split; its positions are offsets. The partitions are read by
// their offsets, which checkpoints keep: no group is needed.
type source struct {
	e           *plan.Endpoint
	scan        *plan.Op
	reading     *format.Reading
	c           *kgo.Client
	admin       *kadm.Client
	keys        bool // of messages are needed
	headers     bool
	group       string
	uncommitted bool
	bounded     bool // it ends where the partitions ended when it was opened

	ctx  context.Context
	stop context.CancelFunc
	done sync.WaitGroup

	mu      sync.Mutex
	splits  []*split
	by      map[string]map[int32]*split
	arrived []flow.Split
	wake    func()
	heard   time.Time // of the last answer to a fetch
	stirred time.Time // when it was last asked for more of a partition
	away    error     // of the last try to connect
	since   time.Time
	begun   bool

	blocks  sync.Pool // of *block
	records recordPool
}

// recordPool gives the client the memory of records again.
type recordPool struct{ pool sync.Pool }

// GetRecords implements kgo.PoolRecords.
func (p *recordPool) GetRecords(n int) []kgo.Record {
	if x, ok := p.pool.Get().(*[]kgo.Record); ok && cap(*x) >= n {
		return (*x)[:0]
	}
	return make([]kgo.Record, 0, n)
}

// PutRecords implements kgo.PoolRecords.
func (p *recordPool) PutRecords(r []kgo.Record) { p.pool.Put(&r) }

// openSource finds the partitions of a scan, and where each begins and ends. A live query begins now where nothing is said, a job where its group
// has committed, or at the beginning.
func openSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	st := scan.Stream
	s := &source{e: st.Via, scan: scan, group: st.Options.Word("group", ""), bounded: scan.Until.Kind != plan.Default, by: map[string]map[int32]*split{}}
	level := kgo.ReadCommitted()
	if s.uncommitted = st.Options.Flag("uncommitted", false); s.uncommitted {
		level = kgo.ReadUncommitted()
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*mayAnswer)
	defer cancel()
	var err error
	if s.reading, err = env.Reading(scan); err != nil {
		return nil, err
	}
	s.keys, s.headers = s.reading.WantsKeys()
	s.c, err = reached(ctx, st.Via, env.Secrets, kgo.FetchIsolationLevel(level), kgo.KeepControlRecords(), kgo.ConsumeResetOffset(kgo.NoResetOffset()),
		kgo.FetchMaxWait(500*time.Millisecond), kgo.FetchMaxBytes(32<<20), kgo.FetchMaxPartitionBytes(4<<20), kgo.WithHooks(s), kgo.WithPools(&s.records))
	if err != nil {
		return nil, err
	}
	s.admin = kadm.NewClient(s.c)
	s.ctx, s.stop = context.WithCancel(context.Background())
	found, err := topicsOf(ctx, s.c, s.e, st.Address)
	if err == nil {
		err = s.place(ctx, found, env.Live)
	}
	if err != nil {
		s.c.Close()
		return nil, err
	}
	return s, nil
}

// place makes the splits of what was found.
func (s *source) place(ctx context.Context, found map[string][]int32, live bool) error {
	names := slices.Sorted(maps.Keys(found))
	if len(names) == 0 {
		return nil
	}
	since := s.scan.Since
	if since.Kind == plan.Default && live {
		since.Kind = plan.Now
	}
	begins, err := s.offsets(ctx, since, names)
	if err != nil {
		return err
	}
	from := map[string]int64{} // where the group is, by the split's name
	if since.Kind == plan.Default && s.group != "" {
		committed, err := s.admin.FetchOffsets(ctx, s.group)
		if err != nil && !errors.Is(err, kerr.GroupIDNotFound) { // nobody has committed to it yet
			return said(s.e, fmt.Errorf("the group '%s': %w", s.group, err))
		}
		for _, n := range names {
			for _, p := range found[n] {
				if o, ok := committed.Lookup(n, p); ok && o.Err == nil && o.At >= 0 {
					from[splitName(n, p)] = o.At
				}
			}
		}
	}
	now, err := s.offsets(ctx, plan.Bound{Kind: plan.Now}, names)
	if err != nil {
		return err
	}
	var ends kadm.ListedOffsets
	if s.bounded {
		if ends, err = s.offsets(ctx, s.scan.Until, names); err != nil {
			return err
		}
	}
	for _, n := range names {
		for _, p := range found[n] {
			at, ok := begins.Lookup(n, p)
			if !ok || at.Err != nil {
				return said(s.e, fmt.Errorf("the offsets of %s/%d: %w", n, p, cmpErr(at.Err)))
			}
			sp := s.split(n, p, max(at.Offset, from[splitName(n, p)]))
			if o, ok := now.Lookup(n, p); ok && o.Err == nil {
				sp.high = o.Offset
			}
			if s.bounded {
				end, ok := ends.Lookup(n, p)
				if !ok || end.Err != nil {
					return said(s.e, fmt.Errorf("the offsets of %s/%d: %w", n, p, cmpErr(end.Err)))
				}
				sp.until = end.Offset
				sp.pos = min(sp.pos, sp.until)
			}
			s.splits = append(s.splits, sp)
		}
	}
	return nil
}

func cmpErr(err error) error {
	if err == nil {
		return kerr.UnknownTopicOrPartition
	}
	return err
}

// offsets finds a bound in all partitions of topics.
func (s *source) offsets(ctx context.Context, b plan.Bound, names []string) (out kadm.ListedOffsets, err error) {
	switch b.Kind {
	case plan.Now:
		if s.uncommitted {
			out, err = s.admin.ListEndOffsets(ctx, names...)
		} else {
			out, err = s.admin.ListCommittedOffsets(ctx, names...)
		}
	case plan.AtTime:
		out, err = s.admin.ListOffsetsAfterMilli(ctx, (b.At+999)/1000, names...)
	case plan.Ago:
		out, err = s.admin.ListOffsetsAfterMilli(ctx, time.Now().UnixMilli()-b.At/1000, names...)
	default:
		out, err = s.admin.ListStartOffsets(ctx, names...)
	}
	return out, said(s.e, err)
}

func (s *source) split(topic string, partition int32, at int64) *split {
	sp := &split{s: s, topic: topic, partition: partition, pos: at, until: -1, high: -1}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by[topic] == nil {
		s.by[topic] = map[int32]*split{}
	}
	s.by[topic][partition] = sp
	return sp
}

// Splits implements flow.Source.
func (s *source) Splits() (out []flow.Split) {
	for _, sp := range s.splits {
		out = append(out, sp)
	}
	return out
}

// OnData implements flow.Source.
func (s *source) OnData(wake func()) {
	s.mu.Lock()
	s.wake = wake
	s.mu.Unlock()
	if !s.bounded {
		s.done.Go(s.look)
	}
}

// begin starts fetching, once somebody reads.
func (s *source) begin() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.begun || s.ctx.Err() != nil {
		return
	}
	s.begun = true
	s.done.Go(s.fetch)
}

// fetch brings messages until the source is closed.
func (s *source) fetch() {
	for s.ctx.Err() == nil {
		fetched := s.c.PollFetches(s.ctx)
		if fetched.IsClientClosed() || s.ctx.Err() != nil {
			return
		}
		fetched.EachPartition(func(p kgo.FetchTopicPartition) {
			s.mu.Lock()
			sp := s.by[p.Topic][p.Partition]
			s.mu.Unlock()
			if sp != nil {
				sp.take(&p.FetchPartition)
			}
		})
		s.mu.Lock()
		wake := s.wake
		s.mu.Unlock()
		if wake != nil {
			wake()
		}
	}
}

// look looks for partitions and topics that have come, until the source is closed.
func (s *source) look() {
	t := time.NewTicker(lookEvery)
	defer t.Stop()
	for {
		select {
		case <-s.ctx.Done():
			return
		case <-t.C:
		}
		ctx, cancel := context.WithTimeout(s.ctx, mayAnswer)
		found, err := topicsOf(ctx, s.c, s.e, s.scan.Stream.Address)
		cancel()
		if err != nil {
			continue // the splits say what is wrong
		}
		for _, n := range slices.Sorted(maps.Keys(found)) {
			for _, p := range found[n] {
				s.mu.Lock()
				known := s.by[n][p] != nil
				s.mu.Unlock()
				if !known {
					sp := s.split(n, p, 0) // from its beginning: what is in it came since
					s.mu.Lock()
					s.arrived = append(s.arrived, sp)
					s.mu.Unlock()
				}
			}
		}
	}
}

// Arrived implements flow.Growing.
func (s *source) Arrived() []flow.Split {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.arrived
	s.arrived = nil
	return out
}

// Grows implements flow.Growing.
func (s *source) Grows() bool { return !s.bounded }

// Retry implements flow.Retrier.
func (s *source) Retry(err error) bool { return passing(err) }

// Commit implements flow.Committing: the group, if there is one, learns how far the job is.
func (s *source) Commit(at map[string]flow.SplitPosition) error {
	if s.group == "" {
		return nil
	}
	var list kadm.Offsets
	s.mu.Lock()
	for n, parts := range s.by {
		for p, sp := range parts {
			if x, ok := at[sp.Name()]; ok {
				list.Add(kadm.Offset{Topic: n, Partition: p, At: x.Next, LeaderEpoch: -1, Metadata: "fiume"})
			}
		}
	}
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(s.ctx, mayAnswer)
	defer cancel()
	got, err := s.admin.CommitOffsets(ctx, s.group, list)
	if err == nil {
		err = got.Error()
	}
	if err != nil {
		return said(s.e, fmt.Errorf("the group '%s': %w", s.group, err))
	}
	return nil
}

// Close implements flow.Source.
func (s *source) Close() error {
	s.mu.Lock()
	s.stop()
	s.mu.Unlock()
	s.c.CloseAllowingRebalance()
	s.done.Wait()
	return nil
}

// OnBrokerConnect implements kgo.HookBrokerConnect: it is noted why brokers cannot be reached.
func (s *source) OnBrokerConnect(_ kgo.BrokerMetadata, _ time.Duration, _ net.Conn, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case err == nil:
		s.away = nil
	case s.away == nil:
		s.away, s.since = err, time.Now()
	default:
		s.away = err
	}
}

// OnBrokerE2E implements kgo.HookBrokerE2E: brokers answer a fetch also where there is nothing.
func (s *source) OnBrokerE2E(_ kgo.BrokerMetadata, key int16, e2e kgo.BrokerE2E) {
	if key != fetchKey || e2e.Err() != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.heard = time.Now().Add(-e2e.DurationE2E()) // when it was asked
}

// fetchKey is the number of a fetch in the protocol.
const fetchKey = 1

// stir notes that answers are due from now on.
func (s *source) stir() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stirred = time.Now()
}

// silent says why nothing comes, where the brokers cannot be reached, or do not answer, for a while.
func (s *source) silent() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away != nil && time.Since(s.since) > silentAfter {
		return said(s.e, s.away)
	}
	last := s.heard
	if s.stirred.After(last) {
		last = s.stirred
	}
	if time.Since(last) > mayAnswer { // an answer is due twice a second, also where there is nothing
		return said(s.e, context.DeadlineExceeded)
	}
	return nil
}

// split reads one partition.
type split struct {
	s         *source
	topic     string
	partition int32

	mu      sync.Mutex
	pos     int64 // of the next message to hand out
	until   int64 // -1: goes on
	asked   bool  // it is being fetched
	paused  bool
	queue   []*block
	bytes   int   // of the queue
	seen    int64 // behind all that was fetched, control messages too
	high    int64 // the end of the partition as far as known; -1: not yet
	err     error
	looks   bool  // where the partition begins and ends is being asked
	lost    int64 // messages that are gone before pos
	lostWhy string
}

func splitName(topic string, partition int32) string { return fmt.Sprintf("%s/%d", topic, partition) }

func (s *split) Name() string { return splitName(s.topic, s.partition) }
func (s *split) Place(pos int64) string {
	return fmt.Sprintf("%s offset %d", s.Name(), pos)
}
func (s *split) Close() error { return nil }

// Position implements flow.Split.
func (s *split) Position() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pos
}

// Resume implements flow.Split.
func (s *split) Resume(pos int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pos = pos
	return nil
}

// NewDecoder implements flow.Split.
func (s *split) NewDecoder() (flow.Decoder, error) {
	return s.s.reading.DecoderFrom(format.Origin{Topic: s.topic, Partition: int(s.partition)}, nil)
}

// Endless implements flow.Endless.
func (s *split) Endless() bool { return s.until < 0 }

// Heard implements flow.Hearing.
func (s *split) Heard() time.Time {
	s.s.mu.Lock()
	defer s.s.mu.Unlock()
	return s.s.heard
}

// Left implements flow.Counting.
func (s *split) Left(pos int64) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	end := s.high
	if s.until >= 0 {
		end = min(max(end, s.until), s.until)
	}
	return max(0, end-pos)
}

// take queues what was fetched.
func (s *split) take(p *kgo.FetchPartition) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p.Err != nil {
		if errors.Is(p.Err, kerr.OffsetOutOfRange) {
			s.asked = false // where it begins and ends is asked before it is fetched again
			s.s.c.RemoveConsumePartitions(map[string][]int32{s.topic: {s.partition}})
		}
		s.err = p.Err
		return
	}
	switch {
	case p.LastStableOffset >= 0 && !s.s.uncommitted: // behind it nothing can be read yet
		s.high = p.LastStableOffset
	case p.HighWatermark >= 0:
		s.high = p.HighWatermark
	}
	for _, r := range p.Records {
		if r.Offset >= s.seen {
			s.seen = r.Offset + 1
			if !r.Attrs.IsControl() && (s.until < 0 || r.Offset < s.until) {
				s.keep(r)
			}
		}
		r.Recycle()
	}
	if s.bytes > ahead && !s.paused {
		s.paused = true
		s.s.c.PauseFetchPartitions(map[string][]int32{s.topic: {s.partition}})
	}
}

// block is messages one behind the other, as they are handed out.
type block struct {
	data []byte // never grown beyond its capacity, so that keys can lie in it
	msgs []flow.Message
}

// keep copies a message, so that what it came in can be used again. The caller holds the lock.
func (s *split) keep(r *kgo.Record) {
	keyed := s.s.keys && r.Key != nil
	var headers []byte
	if s.s.headers && len(r.Headers) > 0 {
		headers = format.AppendHeaders(nil, len(r.Headers), func(i int) (string, []byte) { return r.Headers[i].Key, r.Headers[i].Value })
	}
	size := len(r.Value) + len(headers)
	if keyed {
		size += len(r.Key)
	}
	var b *block
	if n := len(s.queue); n > 0 && len(s.queue[n-1].data)+size+flow.Pad <= cap(s.queue[n-1].data) {
		b = s.queue[n-1]
	} else {
		b = s.s.empty(size)
		s.queue = append(s.queue, b)
	}
	m := flow.Message{Off: uint32(len(b.data)), Len: uint32(len(r.Value)), Pos: r.Offset, At: r.Timestamp.UnixMicro()}
	b.data = append(b.data, r.Value...)
	if keyed {
		from := len(b.data)
		b.data = append(b.data, r.Key...)
		m.Key = b.data[from:len(b.data):len(b.data)]
	}
	if headers != nil {
		from := len(b.data)
		b.data = append(b.data, headers...)
		m.Headers = b.data[from:len(b.data):len(b.data)]
	}
	b.msgs = append(b.msgs, m)
	s.bytes += size + messageBytes
}

// messageBytes is what a message takes beside its key and value.
const messageBytes = 80

// empty gives a block with room for a message of a size.
func (s *source) empty(size int) *block {
	if size+flow.Pad <= pieceBytes {
		if b, ok := s.blocks.Get().(*block); ok {
			return b
		}
	}
	return &block{data: make([]byte, 0, max(pieceBytes, size+flow.Pad))}
}

// ask has the partition fetched from where it is to be read.
func (s *split) ask() {
	s.asked, s.seen = true, s.pos
	s.s.stir()
	s.s.c.AddConsumePartitions(map[string]map[int32]kgo.Offset{s.topic: {s.partition: kgo.NewOffset().At(s.pos)}})
}

// Next implements flow.Split.
func (s *split) Next(p *flow.Piece) error {
	s.s.begin()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.until >= 0 && s.pos >= s.until {
		if s.asked {
			s.asked = false
			s.s.c.RemoveConsumePartitions(map[string][]int32{s.topic: {s.partition}})
		}
		return io.EOF
	}
	if s.looks {
		return flow.ErrNothing
	}
	if err := s.err; err != nil {
		s.err = nil
		if errors.Is(err, kerr.OffsetOutOfRange) {
			s.looks = true
			s.s.done.Go(s.bounds)
			return flow.ErrNothing
		}
		return said(s.s.e, fmt.Errorf("%s: %w", s.Name(), err))
	}
	if s.lost > 0 {
		p.Data, p.Messages = p.Data[:0], p.Messages[:0]
		p.Base, p.Lost, p.Why = s.pos, s.lost, s.lostWhy
		s.pos += s.lost
		p.Next, s.lost = s.pos, 0
		return nil
	}
	if !s.asked {
		s.ask()
	}
	if len(s.queue) == 0 {
		if s.seen > s.pos { // control messages, and what was given up
			p.Data, p.Messages, p.Base = p.Data[:0], p.Messages[:0], s.pos
			s.pos = s.seen
			if s.until >= 0 {
				s.pos = min(s.pos, s.until)
			}
			p.Next = s.pos
			return nil
		}
		if err := s.s.silent(); err != nil {
			return err
		}
		return flow.ErrNothing
	}
	b := s.queue[0]
	s.queue[0] = nil
	s.queue = s.queue[1:]
	used := &block{p.Data[:0], p.Messages[:0]}
	clear(p.Messages[:cap(p.Messages)]) // keys
	p.Data, p.Messages, p.Base = b.data, b.msgs, s.pos
	for i := range b.msgs {
		s.bytes -= int(b.msgs[i].Len) + len(b.msgs[i].Key) + messageBytes
	}
	s.pos = b.msgs[len(b.msgs)-1].Pos + 1
	if len(s.queue) == 0 { // control messages, and what was given up, may be the last
		s.queue, s.bytes = nil, 0
		s.pos = max(s.pos, s.seen)
		if s.until >= 0 {
			s.pos = min(s.pos, s.until)
		}
	}
	p.Next = s.pos
	if cap(used.data) >= pieceBytes && cap(used.data) < 2*pieceBytes {
		s.s.blocks.Put(used)
	}
	if s.paused && s.bytes < ahead/2 {
		s.paused = false
		s.s.stir()
		s.s.c.ResumeFetchPartitions(map[string][]int32{s.topic: {s.partition}})
	}
	return nil
}

// bounds finds out why the position is not there: what was before it is gone, or the topic is another one.
func (s *split) bounds() {
	ctx, cancel := context.WithTimeout(s.s.ctx, mayAnswer)
	defer cancel()
	starts, err := s.s.admin.ListStartOffsets(ctx, s.topic)
	var ends kadm.ListedOffsets
	if err == nil {
		ends, err = s.s.admin.ListEndOffsets(ctx, s.topic)
	}
	first, ok1 := starts.Lookup(s.topic, s.partition)
	end, ok2 := ends.Lookup(s.topic, s.partition)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.looks = false
	pos := s.pos
	switch {
	case err != nil:
		s.err = err
	case !ok1 || !ok2 || first.Err != nil || end.Err != nil:
		s.err = kerr.UnknownTopicOrPartition
	case pos < first.Offset:
		s.lost = first.Offset - pos
		s.lostWhy = fmt.Sprintf("%d messages are lost, removed by retention before they were read: the offsets %d to %d of %s", s.lost, pos, first.Offset-1, s.Name())
	case pos > end.Offset:
		s.err = &wrapped{fmt.Sprintf("offset %d lies behind the end, %d: the topic is not the one that was read. STOP JOB, then START JOB … FROM BEGINNING reads the one that is there now", pos, end.Offset), errOther}
	}
	s.s.mu.Lock()
	wake := s.s.wake
	s.s.mu.Unlock()
	if wake != nil {
		wake()
	}
}

var errOther = errors.New("another topic")

// Frame implements flow.Split: Next has found the messages.
func (s *split) Frame(*flow.Piece) error { return nil }
