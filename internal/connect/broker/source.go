package broker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"sync"
	"time"

	"fiume/internal/connect/batches"
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
	// silentAfter is how long fetching may fail before it is said.
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
	group       string
	uncommitted bool
	bounded     bool // it ends where the partitions ended when it was opened

	ctx  context.Context
	stop context.CancelFunc
	done sync.WaitGroup

	mu      sync.Mutex
	splits  []*split // those that were there when it was opened
	by      map[string]map[int32]*split
	all     []*split // those that came since, too; never changed but by appending
	arrived []flow.Split
	wake    func()
	begun   bool
	leaders map[int32]*leader
	astray  chan struct{} // has something when a partition that is wanted has no leader that is known

	blocks sync.Pool // of *block
}

// openSource finds the partitions of a scan, and where each begins and ends. A live query begins now where nothing is said, a job where its group
// has committed, or at the beginning.
func openSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	st := scan.Stream
	s := &source{e: st.Via, scan: scan, group: st.Options.Word("group", ""), bounded: scan.Until.Kind != plan.Default, by: map[string]map[int32]*split{},
		uncommitted: st.Options.Flag("uncommitted", false), leaders: map[int32]*leader{}, astray: make(chan struct{}, 1)}
	ctx, cancel := context.WithTimeout(context.Background(), 2*mayAnswer)
	defer cancel()
	var err error
	if s.reading, err = env.Reading(scan); err != nil {
		return nil, err
	}
	s.c, err = reached(ctx, st.Via, env.Secrets)
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
	sp := &split{s: s, topic: topic, partition: partition, pos: at, until: -1, high: -1, home: -1}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by[topic] == nil {
		s.by[topic] = map[int32]*split{}
	}
	s.by[topic][partition] = sp
	s.all = append(s.all, sp)
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
	s.done.Wait()
	s.c.Close()
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
	asked   bool  // it is to be fetched
	queue   []*block
	bytes   int   // of the queue
	seen    int64 // behind all that was fetched, control messages too
	high    int64 // the end of the partition as far as known; -1: not yet
	err     error
	looks   bool  // where the partition begins and ends is being asked
	lost    int64 // messages that are gone before pos
	lostWhy string

	home    int32     // the broker that leads the partition; -1: not known
	epoch   int32     // of its leadership
	id      [16]byte  // of the topic; all 0: not known, or brokers that give none
	heard   time.Time // when the last fetch that was answered was asked
	stirred time.Time // when more of it was wanted again
	why     error     // of the last try to fetch; nil: it went well
	since   time.Time // when it began not to
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
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.heard
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

// Next implements flow.Split.
func (s *split) Next(p *flow.Piece) error {
	s.s.begin()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.until >= 0 && s.pos >= s.until {
		s.asked = false
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
		if err := s.silent(); err != nil {
			return said(s.s.e, err)
		}
		return flow.ErrNothing
	}
	b := s.queue[0]
	s.queue[0] = nil
	s.queue = s.queue[1:]
	full := s.bytes > ahead
	s.bytes -= len(b.data)
	used := &block{data: p.Data[:0]}
	clear(p.Messages[:cap(p.Messages)]) // keys
	p.Data, p.Messages, p.Base = b.data, p.Messages[:0], s.pos
	s.pos = max(s.pos, b.next)
	if len(s.queue) == 0 { // control messages, and what was given up, may be the last
		s.queue, s.bytes = nil, 0
		s.pos = max(s.pos, s.seen)
	}
	if s.until >= 0 {
		s.pos = min(s.pos, s.until)
	}
	p.Next = s.pos
	if cap(used.data) >= pieceBytes && cap(used.data) < 2*pieceBytes {
		s.s.blocks.Put(used)
	}
	if full && s.bytes <= ahead {
		s.stir()
	}
	return nil
}

// silent says why nothing comes, where fetching fails, or is not answered, for a while.
func (s *split) silent() error {
	if s.why != nil && time.Since(s.since) > silentAfter {
		return s.why
	}
	last := s.heard
	if s.stirred.After(last) {
		last = s.stirred
	}
	if time.Since(last) > mayAnswer { // an answer is due twice a second, also where there is nothing
		return context.DeadlineExceeded
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
	s.s.woken()
}

var errOther = errors.New("another topic")

// Frame implements flow.Split: it finds the messages of a piece.
func (s *split) Frame(p *flow.Piece) error {
	keys, headers := s.s.reading.WantsKeys()
	if err := batches.Frame(p, keys, headers); err != nil {
		return fmt.Errorf("endpoint %s: batches from offset %d of %s on: %w", s.s.e.Name, p.Base, s.Name(), err)
	}
	return nil
}
