package topiclog

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"fiume/internal/disk"

	"github.com/twmb/franz-go/pkg/kmsg"
)

// kept is a message as a test knows it.
type kept struct {
	key, value string
	at         int64
	ours       bool
}

// TestCompact: of generated messages, with keys and without, of jobs, of clients and of other programs, with deletions, those stay that are to, at their offsets, whatever
// was removed before, after the log was opened anew, and while others write and read. Who reads on from any offset gets all that is left behind it.
func TestCompact(t *testing.T) {
	for seed := range uint64(25) {
		r := rand.New(rand.NewPCG(seed, 1))
		dir := filepath.Join(t.TempDir(), "p")
		open := func() *Partition {
			p, err := openPartition(disk.OS{}, dir, 20_000, func(text string, args ...any) { t.Errorf("%s %v", text, args) })
			if err != nil {
				t.Fatal(err)
			}
			return p
		}
		p := open()
		all := map[int64]kept{}
		now := time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)
		add := func() {
			from := p.Next()
			n := 1 + r.IntN(40)
			ours, foreign := r.IntN(3) == 0, r.IntN(3) == 0
			var recs []Record
			for i := range n {
				k := kept{key: fmt.Sprint("k", r.IntN(60)), value: fmt.Sprint("v", from+int64(i)), at: now.UnixMicro(), ours: ours && !foreign}
				switch r.IntN(12) {
				case 0:
					k.key = ""
				case 1, 2:
					k.value = ""
				}
				all[from+int64(i)] = k
				rec := Record{Value: []byte(k.value), At: k.at}
				if k.key != "" {
					rec.Key = []byte(k.key)
				}
				recs = append(recs, rec)
			}
			var err error
			switch {
			case foreign:
				var wait func() error
				if _, wait, err = p.AppendBatch(foreignBatch(recs)); err == nil {
					err = wait()
				}
			case ours:
				_, err = p.AppendAs(77, 0, recs)
			default:
				_, err = p.Append(recs)
			}
			if err != nil {
				t.Fatal(err)
			}
			now = now.Add(time.Duration(r.IntN(60)) * time.Minute)
		}
		read := func(from int64) map[int64]kept {
			t.Helper()
			out := map[int64]kept{}
			last := from - 1
			for at := from; at < p.Next(); {
				b, next, err := p.Read(at, nil, 1+r.IntN(5000))
				if err != nil {
					t.Fatal(err)
				}
				if err := Views(b, at, func(v View) {
					if v.Offset <= last {
						t.Fatalf("offset %d behind %d", v.Offset, last)
					}
					last = v.Offset
					out[v.Offset] = kept{key: string(b[v.KeyFrom:v.KeyTo]), value: string(b[v.From:v.To]), at: v.At}
				}); err != nil {
					t.Fatal(err)
				}
				if next <= at {
					t.Fatalf("reading stands still at %d", at)
				}
				at = next
			}
			return out
		}
		for range 6 {
			for range 5 + r.IntN(30) {
				add()
			}
			before := read(0)
			end := p.Next()
			var others sync.WaitGroup
			others.Go(func() { // reads meanwhile
				for at := int64(0); at < end; {
					b, next, err := p.Read(at, nil, 3000)
					if err != nil {
						t.Errorf("%v", err)
						return
					}
					if err := Views(b, at, func(View) {}); err != nil {
						t.Errorf("%v", err)
					}
					at = next
				}
			})
			if _, err := p.Compact(now, true); err != nil {
				t.Fatal(err)
			}
			others.Wait()
			if r.IntN(2) == 0 {
				if err := p.close(); err != nil {
					t.Fatal(err)
				}
				p = open()
			}
			newest := map[string]int64{}
			for o := range end {
				if k := all[o]; k.key != "" {
					newest[k.key] = o
				}
			}
			got := read(0)
			for o := range end {
				k := all[o]
				is, there := got[o]
				if there && (is.key != k.key || is.value != k.value || is.at != k.at/1000*1000) {
					t.Fatalf("seed %d: the message %d is %+v, and was %+v", seed, o, is, k)
				}
				_, had := before[o]

				must := k.key == "" || newest[k.key] == o && k.value != "" || k.ours && now.UnixMicro()-k.at < keepReplaced.Microseconds() || newest[k.key] == o && now.UnixMicro()-k.at < keepReplaced.Microseconds()
				if had && must && !there {
					t.Fatalf("seed %d: the message %d, %+v, is gone", seed, o, k)
				}
			}
			// A deletion is gone only where nothing is left of its key before it.
			latest := map[string]string{}
			for o := range end {
				if k, ok := got[o]; ok && k.key != "" {
					latest[k.key] = k.value
				}
			}
			for k, o := range newest {
				if v, ok := latest[k]; ok && v != all[o].value || !ok && all[o].value != "" {
					t.Fatalf("seed %d: of %s %q is left, and the newest was %q", seed, k, v, all[o].value)
				}
			}
			for range 5 { // from anywhere
				from := r.Int64N(end)
				rest := read(from)
				for o := from; o < end; o++ {
					if _, a := got[o]; a {
						if _, b := rest[o]; !b {
							t.Fatalf("seed %d: from %d the message %d is not read", seed, from, o)
						}
					}
				}
			}
		}
		if kept, was := len(read(0)), len(all); kept > was*3/4 {
			t.Errorf("seed %d: %d of %d messages are kept", seed, kept, was)
		}
		if err := p.close(); err != nil {
			t.Fatal(err)
		}
	}
}

// foreignBatch is a batch as another program puts it together.
func foreignBatch(recs []Record) []byte {
	first := recs[0].At / 1000
	var body []byte
	for i, r := range recs {
		rec := kmsg.Record{TimestampDelta64: r.At/1000 - first, OffsetDelta: int32(i), Key: r.Key, Value: r.Value, Headers: []kmsg.Header{{Key: "h", Value: []byte("x")}}}
		rec.Length = int32(len(rec.AppendTo(nil)) - 1)
		for { // the length of the length
			b := rec.AppendTo(nil)
			if n := len(b) - varintSize(int64(rec.Length)); int(rec.Length) == n {
				body = append(body, b...)
				break
			} else {
				rec.Length = int32(n)
			}
		}
	}
	b := kmsg.RecordBatch{Length: int32(headSize - lengthAt - 4 + len(body)), Magic: 2, LastOffsetDelta: int32(len(recs) - 1), FirstTimestamp: first, MaxTimestamp: first, ProducerID: -1, ProducerEpoch: -1,
		FirstSequence: -1, NumRecords: int32(len(recs)), Records: body}
	out := b.AppendTo(nil)
	binary.BigEndian.PutUint32(out[crcAt:], crc32.Checksum(out[coveredFrom:], castagnoli()))
	return out
}
