package broker

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect/batches"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// written is a batch as a broker keeps it, and what of it a reader sees.
type written struct {
	b          []byte
	base, next int64
	producer   int64
	dropped    bool     // it belongs to a transaction that is given up
	rows       []string // offset, key, value and time
}

func packed(t *testing.T, codec int, b []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	var w io.WriteCloser
	switch codec {
	case 0:
		return b
	case 1:
		w = gzip.NewWriter(&out)
	case 2:
		return s2.EncodeSnappy(nil, b)
	case 3:
		w = lz4.NewWriter(&out)
	case 4:
		var err error
		if w, err = zstd.NewWriter(&out); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.Write(b); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// batchOf makes a batch at an offset with the records at some of its offsets.
func batchOf(t *testing.T, base int64, span int, at []int, codec int, attributes int16, producer int64, key func(i int) []byte) *written {
	t.Helper()
	w := &written{base: base, next: base + int64(span), producer: producer}
	const first, latest = 1_700_000_000_000, 1_700_000_009_999
	var records []byte
	for _, i := range at {
		rec := kmsg.Record{TimestampDelta64: int64(i), OffsetDelta: int32(i), Key: key(i), Value: fmt.Append(nil, "value of ", base+int64(i), strings.Repeat(".", i*7))}
		rec.Length = int32(len(rec.AppendTo(nil)) - 1)
		records = rec.AppendTo(records)
		when := int64(first + i)
		if attributes&(1<<3) != 0 {
			when = latest
		}
		w.rows = append(w.rows, fmt.Sprintf("%d %q %s %d", base+int64(i), rec.Key, rec.Value, when))
	}
	body := packed(t, codec, records)
	h := kmsg.RecordBatch{FirstOffset: base, Length: int32(headBytes - lengthAt - 4 + len(body)), Magic: 2, Attributes: attributes | int16(codec), LastOffsetDelta: int32(span - 1),
		FirstTimestamp: first, MaxTimestamp: latest, ProducerID: producer, NumRecords: int32(len(at)), Records: body}
	w.b = h.AppendTo(nil)
	binary.BigEndian.PutUint32(w.b[sumAt:], crc32.Checksum(w.b[attributesAt:], castagnoli))
	return w
}

// history makes batches as they lie in a partition that knows transactions, compaction, all ways of packing and both kinds of times. Transactions of
// several producers lie between each other; a control batch ends each.
func history(t *testing.T, r *rand.Rand) (list []*written, aborted []kmsg.FetchResponseTopicPartitionAbortedTransaction) {
	open := map[int64]int64{} // where each producer's transaction begins
	at := r.Int64N(1000)
	for range 40 + r.IntN(40) {
		producer := r.Int64N(3)
		begun, ok := open[producer]
		if ok && r.IntN(3) == 0 {
			kind := uint16(r.IntN(2))
			w := batchOf(t, at, 1, []int{0}, 0, transactional|control, producer, func(int) []byte { return binary.BigEndian.AppendUint16([]byte{0, 0}, kind) })
			w.rows = nil
			if kind == abort {
				aborted = append(aborted, kmsg.FetchResponseTopicPartitionAbortedTransaction{ProducerID: producer, FirstOffset: begun})
				for _, x := range list {
					x.dropped = x.dropped || x.producer == producer && x.base >= begun && len(x.rows) > 0
				}
			}
			delete(open, producer)
			list, at = append(list, w), at+1
			continue
		}
		span := 1 + r.IntN(6)
		var records []int
		for i := range span {
			if r.IntN(5) > 0 { // the rest is gone by compaction
				records = append(records, i)
			}
		}
		attributes := int16(0)
		if r.IntN(4) == 0 {
			attributes |= 1 << 3
		}
		who := int64(-1)
		if r.IntN(2) == 0 {
			who = producer
			attributes |= transactional
			if !ok {
				open[producer] = at
			}
		}
		list = append(list, batchOf(t, at, span, records, r.IntN(5), attributes, who, func(i int) []byte {
			return [][]byte{nil, {}, []byte("k"), bytes.Repeat([]byte("key"), 50)}[(int(at)+i)%4]
		}))
		at += int64(span)
	}
	for p := range open { // nothing behind an open transaction can be read
		list = slices.DeleteFunc(list, func(w *written) bool { return w.base >= open[p] })
	}
	r.Shuffle(len(aborted), func(i, j int) { aborted[i], aborted[j] = aborted[j], aborted[i] }) // in any order
	return list, aborted
}

// TestFetched reads histories as brokers hand them out, with the end of an answer cut short anywhere and its beginning before what was asked for: each
// message that was committed is there once, and none that was not.
func TestFetched(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 7))
		list, aborted := history(t, r)
		if len(list) == 0 {
			continue
		}
		end := list[len(list)-1].next
		src := &source{e: &plan.Endpoint{Name: "e"}, uncommitted: r.IntN(4) == 0}
		sp := &split{s: src, topic: "t", until: -1, high: -1, home: 1, asked: true}
		sp.pos = list[0].base + r.Int64N(end-list[0].base)
		if r.IntN(2) == 0 {
			sp.until = sp.pos + r.Int64N(end-sp.pos)
		}
		sp.seen = sp.pos
		from := sp.pos
		var want []string
		for _, w := range list {
			for _, row := range w.rows {
				var offset int64
				if _, err := fmt.Sscan(row, &offset); err != nil {
					t.Fatal(err)
				}
				if offset >= from && (sp.until < 0 || offset < sp.until) && (src.uncommitted || !w.dropped) {
					want = append(want, row)
				}
			}
		}
		src.begun = true
		var got []string
		var p flow.Piece
		var u = unpackingOf(t)
		read := func() {
			for len(sp.queue) > 0 {
				if err := sp.Next(&p); err != nil {
					t.Fatal(err)
				}
				if err := batches.Frame(&p, true, false); err != nil {
					t.Fatal(err)
				}
				for _, m := range p.Messages {
					got = append(got, fmt.Sprintf("%d %q %s %d", m.Pos, m.Key, p.Data[m.Off:m.Off+m.Len], m.At/1000))
				}
			}
		}
		for round := 0; sp.seen < end && (sp.until < 0 || sp.seen < sp.until); round++ {
			if round > 1000 {
				t.Fatalf("seed %d: it stays at %d of %d", seed, sp.seen, end)
			}
			at := slices.IndexFunc(list, func(w *written) bool { return w.next > sp.seen })
			most := min(len(list), at+1+r.IntN(8))
			var data []byte
			for _, w := range list[at:most] {
				data = append(data, w.b...)
			}
			if most < len(list) {
				data = append(data, list[most].b[:r.IntN(len(list[most].b))]...)
			}
			var told []kmsg.FetchResponseTopicPartitionAbortedTransaction
			for _, a := range aborted { // those that end behind the offset
				marker := slices.IndexFunc(list, func(w *written) bool {
					return w.producer == a.ProducerID && w.base > a.FirstOffset && w.rows == nil && w.next == w.base+1 && w.b[attributesAt+1]&control != 0
				})
				if marker < 0 || marker >= at { // it may lie behind what can be read
					told = append(told, a)
				}
			}
			sp.take(&kmsg.FetchResponseTopicPartition{LastStableOffset: end, RecordBatches: data, AbortedTransactions: told}, sp.seen, time.Now(), u)
			if sp.err != nil {
				t.Fatalf("seed %d: %s", seed, sp.err)
			}
			if r.IntN(2) == 0 {
				read()
			}
		}
		read()
		if !slices.Equal(got, want) {
			i := 0
			for i < min(len(got), len(want)) && got[i] == want[i] {
				i++
			}
			t.Fatalf("seed %d: from %d until %d, as of %d\ngot  %q\nwant %q", seed, from, sp.until, i, got[i:], want[i:])
		}
	}
}

// TestFetchedBad: batches that were damaged on their way, or that somebody made to do harm, are said with their place; what stands before them is read, and
// nothing comes to grief.
func TestFetchedBad(t *testing.T) {
	good := batchOf(t, 7, 2, []int{0, 1}, 0, 0, -1, func(int) []byte { return nil })
	bomb := batchOf(t, 9, 1, []int{0}, 0, 0, -1, func(int) []byte { return nil })
	bomb.b = append(bomb.b[:headBytes], packed(t, 4, make([]byte, mostUnpacked+1))...)
	bomb.b[attributesAt+1] = 4
	binary.BigEndian.PutUint32(bomb.b[lengthAt:], uint32(len(bomb.b)-lengthAt-4))
	sealed := func(b []byte) []byte {
		binary.BigEndian.PutUint32(b[sumAt:], crc32.Checksum(b[attributesAt:], castagnoli))
		return b
	}
	changed := func(do func(b []byte)) []byte {
		b := bytes.Clone(good.b)
		do(b)
		return b
	}
	for name, x := range map[string]struct {
		b    []byte
		want string
	}{
		"flipped": {changed(func(b []byte) { b[len(b)-3] ^= 1 }), "(CRC)"},
		"version": {changed(func(b []byte) { b[magicAt] = 3 }), "version 3"},
		"length":  {changed(func(b []byte) { binary.BigEndian.PutUint32(b[lengthAt:], 1<<31+5) }), "it says that it has"},
		"short":   {changed(func(b []byte) { binary.BigEndian.PutUint32(b[lengthAt:], 20) }), "it says that it has 32 bytes"},
		"codec":   {sealed(changed(func(b []byte) { b[attributesAt+1] = 6 })), "number 6"},
		"unpack":  {sealed(changed(func(b []byte) { b[attributesAt+1] = 4 })), "cannot be read"},
		"bomb":    {sealed(bomb.b), "more than 256 MB"},
	} {
		sp := &split{s: &source{e: &plan.Endpoint{Name: "e"}}, topic: "t", until: -1, home: 1, asked: true}
		sp.take(&kmsg.FetchResponseTopicPartition{RecordBatches: append(bytes.Clone(good.b), changed(func(b []byte) {})...)}, 0, time.Now(), unpackingOf(t))
		if sp.err != nil || sp.seen != 9 || len(sp.queue) != 1 {
			t.Fatalf("%s: the good one: %v, %d", name, sp.err, sp.seen)
		}
		copy(x.b[:8], []byte{0, 0, 0, 0, 0, 0, 0, 9})
		sp.take(&kmsg.FetchResponseTopicPartition{RecordBatches: x.b}, 9, time.Now(), unpackingOf(t))
		if sp.err == nil || !errors.Is(sp.err, errBatch) || !strings.Contains(sp.err.Error(), x.want) || !strings.Contains(sp.err.Error(), "offset 9 of t/0") {
			t.Errorf("%s: %v", name, sp.err)
		}
		if sp.seen != 9 {
			t.Errorf("%s: it goes on behind it, at %d", name, sp.seen)
		}
	}
	r := rand.New(rand.NewPCG(1, 1))
	for range 5_000 { // any bytes, with a sum that fits
		b := bytes.Clone(good.b)
		for range 1 + r.IntN(4) {
			b[8+r.IntN(len(b)-8)] = byte(r.Uint32())
		}
		b[magicAt] = 2
		sp := &split{s: &source{e: &plan.Endpoint{Name: "e"}}, topic: "t", until: -1, home: 1, asked: true}
		sp.take(&kmsg.FetchResponseTopicPartition{RecordBatches: sealed(b)}, 0, time.Now(), unpackingOf(t))
		for _, block := range sp.queue {
			_ = batches.Frame(&flow.Piece{Data: block.data, Next: 1 << 62}, true, true)
		}
	}
}

// TestFetchedOld reads messages of the format before batches.
func TestFetchedOld(t *testing.T) {
	var data []byte
	for i := range 5 {
		m := kmsg.MessageV1{Offset: int64(100 + i), Magic: 1, Timestamp: 1_500_000_000_000 + int64(i), Key: fmt.Append(nil, "k", i), Value: fmt.Append(nil, "v", i)}
		b := m.AppendTo(nil)
		binary.BigEndian.PutUint32(b[8:], uint32(len(b)-12))
		binary.BigEndian.PutUint32(b[12:], crc32.ChecksumIEEE(b[16:]))
		data = append(data, b...)
	}
	sp := &split{s: &source{e: &plan.Endpoint{Name: "e"}, begun: true}, topic: "t", until: -1, home: 1, asked: true, pos: 102, seen: 102}
	sp.take(&kmsg.FetchResponseTopicPartition{RecordBatches: data}, 102, time.Now(), unpackingOf(t))
	if sp.err != nil {
		t.Fatal(sp.err)
	}
	var p flow.Piece
	if err := sp.Next(&p); err != nil {
		t.Fatal(err)
	}
	if err := batches.Frame(&p, true, false); err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, m := range p.Messages {
		got = append(got, fmt.Sprintf("%d %s %s %d", m.Pos, m.Key, p.Data[m.Off:m.Off+m.Len], m.At))
	}
	want := []string{"102 k2 v2 1500000000002000", "103 k3 v3 1500000000003000", "104 k4 v4 1500000000004000"}
	if !slices.Equal(got, want) || p.Next != 105 {
		t.Errorf("%q, next %d", got, p.Next)
	}
}

func unpackingOf(t *testing.T) *topiclog.Unpacking {
	u := new(topiclog.Unpacking)
	t.Cleanup(u.Close)
	return u
}
