// Package topiclog is the built-in log of durable, partitioned topics.
//
// A topic is a directory with one directory a partition. A partition is a row of segment files, named
// by the offset of their first record and filled with record batches in the brokers' open format
// (version 2, CRC-32C), appended and never changed. An append is answered, and can be read, once it is
// on the disk; appends that wait together share one sync.
package topiclog

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"sync"

	"github.com/twmb/franz-go/pkg/kmsg"
)

// Record is a message to append. At is the time of arrival in microseconds; 0 takes the clock's.
type Record struct {
	Key   []byte // nil: no key
	Value []byte
	At    int64
	// Headers are written as the format of batches writes them: their number, then names and values with their lengths; nil: none.
	Headers []byte
}

var castagnoli = sync.OnceValue(func() *crc32.Table { return crc32.MakeTable(crc32.Castagnoli) })

// The head of a batch: base offset 8, length 4, leader epoch 4, magic 1, crc 4, attributes 2, last
// offset delta 4, first and greatest timestamp 8 and 8, producer id 8 and epoch 2, first sequence 4,
// number of records 4. The length counts what follows it; the CRC covers what follows the CRC.
const (
	headSize    = 61
	lengthAt    = 8
	crcAt       = 17
	coveredFrom = 21
)

// NoProducer is the producer of batches whose writer has no name.
const NoProducer int64 = -1

// encodeBatch appends a batch of records that begins at an offset.
func encodeBatch(dst []byte, base, producer int64, epoch int16, sequence int32, recs []Record) []byte {
	first, latest := recs[0].At/1000, recs[0].At/1000
	for _, r := range recs {
		latest = max(latest, r.At/1000)
	}
	var body []byte
	for i, r := range recs {
		rec := kmsg.Record{TimestampDelta64: r.At/1000 - first, OffsetDelta: int32(i), Key: r.Key, Value: r.Value}
		rec.Length = int32(recordLength(&rec))
		if r.Headers == nil {
			body = rec.AppendTo(body)
			continue
		}
		rec.Length += int32(len(r.Headers) - 1)
		body = rec.AppendTo(body)
		body = append(body[:len(body)-1], r.Headers...) // in the place of their number, 0
	}
	b := kmsg.RecordBatch{FirstOffset: base, Length: int32(headSize - lengthAt - 4 + len(body)), PartitionLeaderEpoch: 0, Magic: 2,
		LastOffsetDelta: int32(len(recs) - 1), FirstTimestamp: first, MaxTimestamp: latest, ProducerID: producer, ProducerEpoch: epoch, FirstSequence: sequence,
		NumRecords: int32(len(recs)), Records: body}
	start := len(dst)
	dst = b.AppendTo(dst)
	sum := crc32.Checksum(dst[start+coveredFrom:], castagnoli())
	binary.BigEndian.PutUint32(dst[start+crcAt:], sum)
	return dst
}

func varintSize(n int64) int {
	u := uint64(n<<1) ^ uint64(n>>63)
	k := 1
	for ; u >= 0x80; u >>= 7 {
		k++
	}
	return k
}

func bytesSize(b []byte) int {
	if b == nil {
		return varintSize(-1)
	}
	return varintSize(int64(len(b))) + len(b)
}

// recordLength is the length of a record without its own length field.
func recordLength(r *kmsg.Record) int {
	return 1 + varintSize(r.TimestampDelta64) + varintSize(int64(r.OffsetDelta)) + bytesSize(r.Key) + bytesSize(r.Value) + varintSize(int64(len(r.Headers)))
}

// head is what the log needs to know of a batch.
type head struct {
	base    int64
	size    int // of the whole batch in bytes
	records int
	last    int64 // offset of the last record
	latest  int64 // greatest timestamp, milliseconds

	producer int64 // who wrote it, or NoProducer
	epoch    int16 // onceEpoch where the producer is the name of the batch
	sequence int32 // the producer's own number of its first record, or -1
	foreign  bool  // another program has put it together
}

var errTorn = errors.New("the batch is cut short or damaged")

// readHead reads the head of the batch that b begins with.
func readHead(b []byte) (h head, err error) {
	if len(b) < headSize {
		return h, errTorn
	}
	be := binary.BigEndian
	h.base = int64(be.Uint64(b))
	h.size = int(int32(be.Uint32(b[lengthAt:]))) + lengthAt + 4
	h.last = h.base + int64(int32(be.Uint32(b[23:])))
	h.latest = int64(be.Uint64(b[35:]))
	h.producer, h.epoch = int64(be.Uint64(b[43:])), int16(be.Uint16(b[51:]))
	h.sequence, h.foreign = int32(be.Uint32(b[53:])), be.Uint32(b[leaderAt:]) == foreignEpoch
	h.records = int(int32(be.Uint32(b[57:])))
	if h.size < headSize || b[16] != 2 || h.records < 1 || h.last < h.base {
		return h, errTorn
	}
	return h, nil
}

// intact checks a whole batch against its CRC.
func intact(b []byte) bool {
	return binary.BigEndian.Uint32(b[crcAt:]) == crc32.Checksum(b[coveredFrom:], castagnoli())
}

// arrivalTime says of a batch of brokers that its records have one time: when it came to them.
const arrivalTime = 1 << 3

// View is a record inside a buffer of batches: offsets of the value and key in it.
type View struct {
	Offset         int64
	At             int64 // microseconds
	From, To       int   // the value
	KeyFrom, KeyTo int   // the key; both 0 where there is none
	HasKey         bool
	HeadFrom       int // the headers, up to HeadTo
	HeadTo         int
	Producer       int64 // who wrote the batch, or NoProducer
	Sequence       int32 // the producer's own number of it, or -1
}

// Views lists the records of the whole batches in b, from an offset on, without copying.
func Views(b []byte, from int64, each func(v View)) error {
	for at := 0; at < len(b); {
		h, err := readHead(b[at:])
		if err != nil || at+h.size > len(b) {
			return errTorn
		}
		end := at + h.size
		attributes := binary.BigEndian.Uint16(b[at+attributesAt:])
		if attributes&7 != 0 {
			return fmt.Errorf("the batch at offset %d is compressed, which this version cannot read", h.base)
		}
		first, producer := int64(binary.BigEndian.Uint64(b[at+27:])), int64(binary.BigEndian.Uint64(b[at+43:]))
		sequence := int32(binary.BigEndian.Uint32(b[at+53:]))
		if h.foreign { // producers of others have other names
			producer, sequence = NoProducer, -1
		}
		i := at + headSize
		for range h.records {
			n, k := varint(b[i:end])
			i += k
			if k <= 0 || n < 1 || n > int64(end-i) {
				return errTorn
			}
			recEnd := i + int(n)
			i++ // attributes
			dt, k := varint(b[i:recEnd])
			i += k
			do, k2 := varint(b[i:recEnd])
			i += k2
			kl, k3 := varint(b[i:recEnd])
			i += k3
			if k <= 0 || k2 <= 0 || k3 <= 0 || kl > int64(recEnd-i) {
				return errTorn
			}
			v := View{Offset: h.base + do, At: (first + dt) * 1000, Producer: producer, Sequence: sequence}
			if attributes&arrivalTime != 0 {
				v.At = h.latest * 1000
			}
			if kl >= 0 {
				v.KeyFrom, v.KeyTo, v.HasKey = i, i+int(kl), true
				i += int(kl)
			}
			vl, k := varint(b[i:recEnd])
			i += k
			if k <= 0 || vl > int64(recEnd-i) {
				return errTorn
			}
			v.From, v.To = i, i+int(max(vl, 0))
			v.HeadFrom, v.HeadTo = v.To, recEnd
			if v.Offset >= from {
				each(v)
			}
			i = recEnd
		}
		at = end
	}
	return nil
}

// Begins gives the first offset of the whole batches in b.
func Begins(b []byte) int64 { return int64(binary.BigEndian.Uint64(b)) }

// varint reads a zigzag varint and its length, 0 or less where it is cut short or no number.
func varint(b []byte) (int64, int) {
	if len(b) > 0 && b[0] < 0x80 { // most are short
		return int64(b[0]>>1) ^ -int64(b[0]&1), 1
	}
	return binary.Varint(b)
}
