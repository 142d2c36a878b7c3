package broker

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/topiclog"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// Batches are fetched with requests of our own, over the connections of the client, and stay as they are: the messages in them are found when a piece
// is framed, as those of built-in topics are. A record made for each message by the client costs as much as decoding it.

const (
	// ahead is how many bytes of a partition are fetched before they are read.
	ahead = 8 << 20
	// pieceBytes are handed out at a time.
	pieceBytes = 1 << 20
	// mostFetched are asked for at once, and mostOfOne of one partition. The first batch comes whole however large it is.
	mostFetched, mostOfOne = 32 << 20, 4 << 20
	// briefly is how long brokers wait for messages while partitions may be wanted soon that the request does not name, and longest otherwise.
	briefly, longest = 20 * time.Millisecond, 500 * time.Millisecond
	// again is how long it takes until leaders are asked for once more, at first and at most.
	again, againMost = 50 * time.Millisecond, time.Second
)

// leader is a broker that leads partitions of the source.
type leader struct {
	id   int32
	poke chan struct{} // has something when more may be wanted
}

// begin starts fetching, once somebody reads.
func (s *source) begin() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.begun || s.ctx.Err() != nil {
		return
	}
	s.begun = true
	s.done.Go(s.seek)
}

// signal puts something into a channel that has room for one.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// woken tells the job that there may be more.
func (s *source) woken() {
	s.mu.Lock()
	wake := s.wake
	s.mu.Unlock()
	if wake != nil {
		wake()
	}
}

// known gives the splits that there are.
func (s *source) known() []*split {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.all
}

// ask has the partition fetched from where it is to be read. The caller holds the lock.
func (s *split) ask() {
	s.asked, s.seen = true, s.pos
	s.stir()
}

// stir has more of the partition fetched. The caller holds the lock.
func (s *split) stir() {
	s.stirred = time.Now()
	if s.home < 0 {
		signal(s.s.astray)
		return
	}
	s.s.mu.Lock()
	defer s.s.mu.Unlock()
	if l := s.s.leaders[s.home]; l != nil {
		signal(l.poke)
	}
}

// stray notes that the partition could not be fetched where it was thought to be. The caller holds the lock.
func (s *split) stray(why error) {
	if s.why == nil {
		s.since = time.Now()
	}
	s.why, s.home = why, -1
	signal(s.s.astray)
}

// seek finds the leaders of partitions, whenever one is missing, until the source is closed.
func (s *source) seek() {
	pause := again
	for {
		select {
		case <-s.ctx.Done():
			return
		case <-s.astray:
		}
		var names []string
		for _, sp := range s.known() {
			sp.mu.Lock()
			if sp.asked && sp.home < 0 && !slices.Contains(names, sp.topic) {
				names = append(names, sp.topic)
			}
			sp.mu.Unlock()
		}
		if len(names) == 0 {
			pause = again
			continue
		}
		if s.find(names) {
			pause = again
			continue
		}
		s.woken() // it is to be said
		select {
		case <-s.ctx.Done():
			return
		case <-time.After(pause):
		}
		pause = min(2*pause, againMost)
		signal(s.astray)
	}
}

// find asks for the leaders of partitions, and has them fetched from. It says whether all have one.
func (s *source) find(names []string) (all bool) {
	ctx, cancel := context.WithTimeout(s.ctx, mayAnswer)
	defer cancel()
	meta, err := s.admin.Metadata(ctx, names...)
	all = true
	for _, sp := range s.known() {
		if !slices.Contains(names, sp.topic) {
			continue
		}
		sp.mu.Lock()
		if sp.home < 0 && sp.asked {
			t, p := meta.Topics[sp.topic], meta.Topics[sp.topic].Partitions[sp.partition]
			_, there := meta.Topics[sp.topic].Partitions[sp.partition]
			why := err
			switch {
			case err != nil:
			case t.Err != nil:
				why = t.Err
			case !there:
				why = kerr.UnknownTopicOrPartition
			case sp.id != [16]byte{} && sp.id != [16]byte(t.ID):
				sp.err = &wrapped{fmt.Sprintf("endpoint %s: the topic '%s' was deleted and made anew while it was read. STOP JOB, then START JOB … FROM BEGINNING reads the one that is there now", s.e.Name, sp.topic), errOther}
				sp.asked = false
			case p.Leader < 0:
				why = kerr.LeaderNotAvailable
			default:
				sp.home, sp.epoch, sp.id = p.Leader, p.LeaderEpoch, t.ID
				s.lead(p.Leader)
			}
			if why != nil {
				sp.stray(why)
				all = false
			}
		}
		sp.mu.Unlock()
	}
	return all
}

// lead has a broker fetched from.
func (s *source) lead(id int32) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.leaders[id]
	if l == nil && s.ctx.Err() == nil {
		l = &leader{id, make(chan struct{}, 1)}
		s.leaders[id] = l
		s.done.Go(func() { s.fetchFrom(l) })
	}
	if l != nil {
		signal(l.poke)
	}
}

// fetchFrom brings batches of the partitions that a broker leads until the source is closed.
func (s *source) fetchFrom(l *leader) {
	wait := briefly
	turn := 0
	var u topiclog.Unpacking
	defer u.Close()
	for s.ctx.Err() == nil {
		poked := false
		select {
		case <-l.poke:
			poked = true
		default:
		}
		req, list, full := s.request(l, turn)
		turn++
		if len(list) == 0 {
			if poked {
				continue
			}
			select {
			case <-s.ctx.Done():
			case <-l.poke:
				wait = briefly
			}
			continue
		}
		if poked || full {
			wait = briefly
		}
		req.MaxWaitMillis = int32(wait.Milliseconds())
		asked := time.Now()
		resp, err := s.c.Broker(int(l.id)).Request(s.ctx, req)
		if s.ctx.Err() != nil {
			return
		}
		if r, ok := resp.(*kmsg.FetchResponse); ok && err == nil {
			err = kerr.ErrorForCode(r.ErrorCode)
		}
		if err != nil {
			for sp := range list {
				sp.mu.Lock()
				sp.stray(err)
				sp.mu.Unlock()
			}
			s.woken()
			continue
		}
		if s.share(resp.(*kmsg.FetchResponse), list, asked, &u) {
			wait = briefly
		} else {
			wait = min(2*wait, longest)
		}
		s.woken()
	}
}

// request makes a request for what is wanted of a broker, and gives the offsets that it asks for. turn is which partition stands first, since the first alone is sure to get a batch
// that is larger than was asked for. full says that there are partitions of which there is enough for now.
func (s *source) request(l *leader, turn int) (req *kmsg.FetchRequest, list map[*split]int64, full bool) {
	req, list = kmsg.NewPtrFetchRequest(), map[*split]int64{}
	req.MinBytes, req.MaxBytes, req.SessionEpoch = 1, mostFetched, -1
	if !s.uncommitted {
		req.IsolationLevel = 1
	}
	all := s.known()
	for i := range all {
		sp := all[(i+turn)%len(all)]
		sp.mu.Lock()
		switch {
		case !sp.asked || sp.home != l.id || sp.err != nil || sp.looks || sp.until >= 0 && sp.seen >= sp.until:
		case sp.bytes > ahead:
			full = true
		default:
			p := kmsg.NewFetchRequestTopicPartition()
			p.Partition, p.FetchOffset, p.CurrentLeaderEpoch, p.PartitionMaxBytes = sp.partition, sp.seen, sp.epoch, mostOfOne
			list[sp] = sp.seen
			if n := len(req.Topics); n > 0 && req.Topics[n-1].Topic == sp.topic {
				req.Topics[n-1].Partitions = append(req.Topics[n-1].Partitions, p)
			} else {
				t := kmsg.NewFetchRequestTopic()
				t.Topic, t.TopicID, t.Partitions = sp.topic, sp.id, []kmsg.FetchRequestTopicPartition{p}
				req.Topics = append(req.Topics, t)
			}
		}
		sp.mu.Unlock()
	}
	return req, list, full
}

// share gives the partitions what was fetched, and says whether that was something.
func (s *source) share(resp *kmsg.FetchResponse, list map[*split]int64, asked time.Time, u *topiclog.Unpacking) (some bool) {
	names := map[[16]byte]string{}
	for sp := range list {
		names[sp.id] = sp.topic
	}
	for i := range resp.Topics {
		t := &resp.Topics[i]
		name := t.Topic
		if name == "" {
			name = names[t.TopicID]
		}
		for j := range t.Partitions {
			s.mu.Lock()
			sp := s.by[name][t.Partitions[j].Partition]
			s.mu.Unlock()
			if at, ok := list[sp]; ok && sp.take(&t.Partitions[j], at, asked, u) {
				some = true
			}
		}
	}
	return some
}

// take queues what was fetched at an offset, and says whether that was something.
func (s *split) take(p *kmsg.FetchResponseTopicPartition, at int64, asked time.Time, u *topiclog.Unpacking) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.asked || s.seen != at { // it has been turned away since
		return false
	}
	if err := kerr.ErrorForCode(p.ErrorCode); err != nil {
		switch {
		case errors.Is(err, kerr.OffsetOutOfRange):
			s.asked = false // where it begins and ends is asked before it is fetched again
			s.err = err
		case kerr.IsRetriable(err), errors.Is(err, kerr.UnknownTopicOrPartition), errors.Is(err, kerr.UnknownTopicID), errors.Is(err, kerr.InconsistentTopicID):
			s.stray(err)
		default:
			s.err = err
		}
		return true
	}
	s.why, s.heard = nil, asked
	switch {
	case p.LastStableOffset >= 0 && !s.s.uncommitted: // behind it nothing can be read yet
		s.high = p.LastStableOffset
	case p.HighWatermark >= 0:
		s.high = p.HighWatermark
	}
	if err := s.batches(p, u); err != nil {
		s.err = err
	}
	return s.seen > at || s.err != nil
}

// The head of a batch, of which the built-in log's package tells: where its parts are.
const (
	headBytes    = 61
	lengthAt     = 8
	magicAt      = 16
	sumAt        = 17
	attributesAt = 21
	deltaAt      = 23
	producerAt   = 43
	countAt      = 57
)

// Attributes of batches.
const (
	packing       = 7
	transactional = 1 << 4
	control       = 1 << 5
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// mostUnpacked is how many bytes a batch may have, unpacked.
const mostUnpacked = 256 << 20

// errBatch says that a batch came that cannot be read. It may be that it was damaged on its way.
var errBatch = errors.New("a batch cannot be read")

// batches queues the batches of a partition: those that count, unpacked. The last one may be cut short, and comes again. The caller holds the lock.
func (s *split) batches(p *kmsg.FetchResponseTopicPartition, u *topiclog.Unpacking) error {
	aborted := map[int64][]int64{} // where transactions that were given up begin, by producer
	if !s.s.uncommitted {
		for _, t := range p.AbortedTransactions {
			aborted[t.ProducerID] = append(aborted[t.ProducerID], t.FirstOffset)
		}
		for _, begins := range aborted {
			slices.Sort(begins)
		}
	}
	be := binary.BigEndian
	for rest := p.RecordBatches; len(rest) > magicAt; {
		base, size := int64(be.Uint64(rest)), int64(int32(be.Uint32(rest[lengthAt:])))+lengthAt+4
		bad := func(format string, args ...any) error {
			return &wrapped{fmt.Sprintf("endpoint %s: the batch at offset %d of %s cannot be read: %s", s.s.e.Name, base, s.Name(), fmt.Sprintf(format, args...)), errBatch}
		}
		if size > int64(len(rest)) {
			return nil
		}
		if size < headBytes && rest[magicAt] >= 2 || size <= magicAt {
			return bad("it says that it has %d bytes", size)
		}
		b := rest[:size]
		if b[magicAt] < 2 { // brokers and topics of before 2017
			return s.old(p)
		}
		rest = rest[size:]
		if b[magicAt] != 2 {
			return bad("it is of version %d of the format", b[magicAt])
		}
		if be.Uint32(b[sumAt:]) != crc32.Checksum(b[attributesAt:], castagnoli) {
			return bad("its bytes are not those that were written (CRC)")
		}
		next := base + int64(int32(be.Uint32(b[deltaAt:]))) + 1
		if next <= s.seen { // it was read
			continue
		}
		attributes, producer := be.Uint16(b[attributesAt:]), int64(be.Uint64(b[producerAt:]))
		begins := aborted[producer]
		switch {
		case attributes&control != 0:
			if len(begins) > 0 && controls(b) == abort {
				aborted[producer] = begins[1:]
			}
		case int32(be.Uint32(b[countAt:])) <= 0: // compaction has left nothing of it
		case attributes&transactional != 0 && len(begins) > 0 && base >= begins[0]:
		case s.until >= 0 && base >= s.until:
		default:
			records := b[headBytes:]
			if codec := attributes & packing; codec != 0 {
				var err error
				if records, err = u.Unpack(int(codec), records, mostUnpacked); err != nil {
					return bad("%s", err)
				}
			}
			s.keep(b[:headBytes], records, next)
		}
		s.seen = next
	}
	return nil
}

// abort is the kind of a control record that ends a transaction which is given up.
const abort = 0

// controls gives the kind of a control batch; -1 where it has none.
func controls(b []byte) int {
	kind := -1
	_ = topiclog.Views(b, 0, func(v topiclog.View) {
		if v.KeyTo-v.KeyFrom >= 4 { // version and kind
			kind = int(binary.BigEndian.Uint16(b[v.KeyFrom+2:]))
		}
	})
	return kind
}

// old queues messages of the formats before batches. The caller holds the lock.
func (s *split) old(p *kmsg.FetchResponseTopicPartition) error {
	got, _ := kgo.ProcessFetchPartition(kgo.ProcessFetchPartitionOpts{Offset: s.seen, Topic: s.topic, Partition: s.partition}, p, kgo.DefaultDecompressor(), nil)
	for _, r := range got.Records {
		rec := kmsg.Record{Key: r.Key, Value: r.Value}
		rec.Length = int32(len(rec.AppendTo(nil)) - 1) // of the length 0 that it was written with
		head := kmsg.RecordBatch{FirstOffset: r.Offset, Magic: 2, FirstTimestamp: r.Timestamp.UnixMilli(), MaxTimestamp: r.Timestamp.UnixMilli(), ProducerID: -1, NumRecords: 1}
		s.keep(head.AppendTo(nil)[:headBytes], rec.AppendTo(nil), r.Offset+1)
		s.seen = r.Offset + 1
	}
	if got.Err != nil {
		return &wrapped{fmt.Sprintf("endpoint %s: the messages at offset %d of %s cannot be read: %s", s.s.e.Name, s.seen, s.Name(), got.Err), errBatch}
	}
	return nil
}

// block is batches one behind the other, as they are handed out.
type block struct {
	data []byte // never grown beyond its capacity
	next int64  // the offset behind the last
}

// keep copies a batch, its head and its records unpacked, so that what it came in can be given up. The caller holds the lock.
func (s *split) keep(head, records []byte, next int64) {
	size := len(head) + len(records)
	var b *block
	if n := len(s.queue); n > 0 && len(s.queue[n-1].data)+size+flow.Pad <= cap(s.queue[n-1].data) {
		b = s.queue[n-1]
	} else {
		b = s.s.empty(size)
		s.queue = append(s.queue, b)
	}
	at := len(b.data)
	b.data = append(append(b.data, head...), records...)
	binary.BigEndian.PutUint32(b.data[at+lengthAt:], uint32(size-lengthAt-4))
	b.data[at+attributesAt+1] &^= packing
	b.next = next
	s.bytes += size
}

// empty gives a block with room for a batch of a size.
func (s *source) empty(size int) *block {
	if size+flow.Pad <= pieceBytes {
		if b, ok := s.blocks.Get().(*block); ok {
			return b
		}
	}
	return &block{data: make([]byte, 0, max(pieceBytes, size+flow.Pad))}
}
