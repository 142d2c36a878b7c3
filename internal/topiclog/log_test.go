package topiclog

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fiume/internal/disk"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kmsg"
)

func open(t *testing.T, dir string) *Log {
	t.Helper()
	l, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.lock.Close() })
	return l
}

// all reads a partition from an offset to its end, in reads of about so many bytes.
func all(t *testing.T, p *Partition, from int64, limit int) (values []string) {
	t.Helper()
	var buf []byte
	for {
		b, next, err := p.Read(from, buf, limit)
		if err != nil {
			t.Fatal(err)
		}
		want := from
		if err := Views(b, from, func(v View) {
			if v.Offset != want {
				t.Fatalf("offset %d, wanted %d", v.Offset, want)
			}
			want++
			values = append(values, string(b[v.KeyFrom:v.KeyTo])+"="+string(b[v.From:v.To]))
		}); err != nil {
			t.Fatal(err)
		}
		if next == from {
			return values
		}
		from, buf = next, b
	}
}

func TestAppendReadReopen(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	topic, err := l.Create("reads", Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	p := topic.Partitions()[0]
	r := rand.New(rand.NewPCG(1, 2))
	var want []string
	for range 300 {
		var recs []Record
		for range 1 + r.IntN(9) {
			v := strings.Repeat(fmt.Sprint(len(want)), 1+r.IntN(200))
			rec := Record{Value: []byte(v)}
			key := ""
			if r.IntN(2) == 0 {
				key = fmt.Sprint("k", r.IntN(9))
				rec.Key = []byte(key)
			}
			recs = append(recs, rec)
			want = append(want, key+"="+v)
		}
		base, err := p.Append(recs)
		if err != nil || base != int64(len(want)-len(recs)) {
			t.Fatalf("base %d, %v", base, err)
		}
	}
	for round := range 2 {
		for _, limit := range []int{1, 1000, 1 << 20} {
			for _, from := range []int{0, 1, 77, len(want) - 1, len(want)} {
				got := all(t, p, int64(from), limit)
				if strings.Join(got, "\n") != strings.Join(want[from:], "\n") {
					t.Fatalf("round %d: from %d by %d: %d records, wanted %d", round, from, limit, len(got), len(want)-from)
				}
			}
		}
		if err := l.Close(); err != nil {
			t.Fatal(err)
		}
		l = open(t, dir)
		p = l.Topic("reads").Partitions()[0]
	}
	if _, _, err := p.Read(int64(len(want)+1), nil, 10); err == nil {
		t.Error("reading behind the end gives no error")
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
}

// TestTornTail cuts and damages a partition's last bytes in every way a crash could: what was whole
// stays, the rest is cut off, and appending goes on.
func TestTornTail(t *testing.T) {
	build := func() (dir, file string, ends []int64) {
		dir = t.TempDir()
		l := open(t, dir)
		topic, err := l.Create("reads", Settings{Partitions: 1})
		if err != nil {
			t.Fatal(err)
		}
		for i := range 5 {
			if _, err := topic.Partitions()[0].Append([]Record{{Value: fmt.Appendf(nil, "message %d", i)}}); err != nil {
				t.Fatal(err)
			}
			ends = append(ends, topic.Partitions()[0].Bytes())
		}
		if err := l.Close(); err != nil {
			t.Fatal(err)
		}
		return dir, filepath.Join(dir, "reads", "0", fmt.Sprintf("%020d.log", 0)), ends
	}
	check := func(dir string, whole int, what string) {
		t.Helper()
		l := open(t, dir)
		p := l.Topic("reads").Partitions()[0]
		if got, _ := whatIsLeft(t, p); len(got) != whole {
			t.Fatalf("%s: %d messages, wanted %d", what, len(got), whole)
		}
		base, err := p.Append([]Record{{Value: []byte("after")}})
		if err != nil || base < int64(whole) || base > int64(whole)+10 {
			t.Fatalf("%s: append at %d: %v", what, base, err)
		}
		// What the tail may have held is never given again; zeros have held nothing.
		if torn := len(p.Damaged()) > 0; torn != (base > int64(whole)) || torn && what == "zeros" {
			t.Fatalf("%s: append at %d with %v", what, base, p.Damaged())
		}
		if got := all(t, p, base, 1<<20); len(got) != 1 || got[0] != "=after" {
			t.Fatalf("%s: %v", what, got)
		}
		if err := l.Close(); err != nil {
			t.Fatal(err)
		}
	}
	_, _, ends := build()
	for cut := ends[3] - 3; cut <= ends[4]; cut += 5 {
		dir, file, ends := build()
		if err := os.Truncate(file, cut); err != nil {
			t.Fatal(err)
		}
		whole := 0
		for _, e := range ends {
			if e <= cut {
				whole++
			}
		}
		check(dir, whole, fmt.Sprintf("cut at %d", cut))
	}
	for _, at := range []int64{ends[3] + 2, ends[3] + 20, ends[4] - 1} { // one damaged byte in the last batch
		dir, file, _ := build()
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		b[at] ^= 0x55
		if err := os.WriteFile(file, b, 0o644); err != nil {
			t.Fatal(err)
		}
		check(dir, 4, fmt.Sprintf("damage at %d", at))
	}
	dir, file, _ := build() // zeros that a file system may leave
	f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.Write(make([]byte, 500)); err != nil {
		t.Fatal(err)
	}
	f.Close()
	check(dir, 5, "zeros")
}

// TestOpenFormat reads a batch with the brokers' own structures: the form on the disk is theirs.
func TestOpenFormat(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	topic, err := l.Create("reads", Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)
	recs := []Record{{Key: []byte("P1"), Value: []byte("a"), At: at.UnixMicro()}, {Value: bytes.Repeat([]byte("b"), 300), At: at.Add(time.Second).UnixMicro()}, {Key: []byte{}, Value: nil, At: at.UnixMicro()}}
	if _, err := topic.Partitions()[0].Append(recs); err != nil {
		t.Fatal(err)
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(filepath.Join(dir, "reads", "0", fmt.Sprintf("%020d.log", 0)))
	if err != nil {
		t.Fatal(err)
	}
	var batch kmsg.RecordBatch
	if err := batch.ReadFrom(b); err != nil {
		t.Fatal(err)
	}
	if batch.Magic != 2 || batch.NumRecords != 3 || batch.LastOffsetDelta != 2 || batch.FirstTimestamp != at.UnixMilli() || batch.MaxTimestamp != at.UnixMilli()+1000 || int(batch.Length)+12 != len(b) {
		t.Errorf("%+v of %d bytes", batch, len(b))
	}
	if sum := crc32.Checksum(b[21:], crc32.MakeTable(crc32.Castagnoli)); int32(sum) != batch.CRC {
		t.Errorf("CRC %x, computed %x", batch.CRC, sum)
	}
	rest := batch.Records
	for i, want := range recs {
		var rec kmsg.Record
		n, k := binary.Varint(rest)
		if err := rec.ReadFrom(rest[:k+int(n)]); err != nil {
			t.Fatal(err)
		}
		rest = rest[k+int(n):]
		if !bytes.Equal(rec.Key, want.Key) || !bytes.Equal(rec.Value, want.Value) || rec.OffsetDelta != int32(i) || (rec.Key == nil) != (want.Key == nil) {
			t.Errorf("record %d: %+v", i, rec)
		}
	}
	if len(rest) != 0 {
		t.Errorf("%d bytes left", len(rest))
	}
}

// TestConcurrentAppends writes from many goroutines while a reader follows: every record comes once,
// each writer's in its order.
func TestConcurrentAppends(t *testing.T) {
	l := open(t, t.TempDir())
	topic, err := l.Create("reads", Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	p := topic.Partitions()[0]
	const writers, each = 8, 60
	var wg sync.WaitGroup
	for w := range writers {
		wg.Go(func() {
			for i := range each {
				if _, err := p.Append([]Record{{Key: fmt.Append(nil, w), Value: fmt.Append(nil, i)}}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wake := make(chan struct{}, 1)
	cancel := p.OnData(func() {
		select {
		case wake <- struct{}{}:
		default:
		}
	})
	defer cancel()
	last := map[string]int{}
	for from := int64(0); from < writers*each; {
		b, next, err := p.Read(from, nil, 1<<16)
		if err != nil {
			t.Fatal(err)
		}
		if err := Views(b, from, func(v View) {
			k, n := string(b[v.KeyFrom:v.KeyTo]), 0
			fmt.Sscan(string(b[v.From:v.To]), &n)
			if n != last[k] {
				t.Errorf("writer %s: record %d after %d", k, n, last[k])
			}
			last[k] = n + 1
		}); err != nil {
			t.Fatal(err)
		}
		if next == from {
			select {
			case <-wake:
			case <-time.After(20 * time.Second):
				t.Fatalf("no more after %d", from)
			}
		}
		from = next
	}
	wg.Wait()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
}

func TestSegmentsAndRetention(t *testing.T) {
	dir := t.TempDir()
	p, err := openPartition(disk.OS{}, filepath.Join(dir, "p"), 2000, func(string, ...any) {})
	if err != nil {
		t.Fatal(err)
	}
	base := time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)
	for i := range 100 {
		if _, err := p.Append([]Record{{Value: bytes.Repeat([]byte("x"), 100), At: base.Add(time.Duration(i) * time.Second).UnixMicro()}}); err != nil {
			t.Fatal(err)
		}
	}
	if n := len(p.segments); n < 5 {
		t.Fatalf("only %d segments", n)
	}
	for _, c := range []struct {
		at   time.Time
		want int64
	}{{base.Add(-time.Hour), 0}, {base, 0}, {base.Add(30 * time.Second), 30}, {base.Add(30*time.Second + time.Millisecond), 31}, {base.Add(99 * time.Second), 99}, {base.Add(time.Hour), 100}} {
		if got, err := p.OffsetAt(c.at.UnixMicro()); err != nil || got != c.want {
			t.Errorf("offset at %s is %d, wanted %d (%v)", c.at.Format("15:04:05.000"), got, c.want, err)
		}
	}
	if err := p.retain(base.Add(50*time.Second).UnixMicro(), 0); err != nil {
		t.Fatal(err)
	}
	first := p.First()
	if first < 30 || first > 50 {
		t.Errorf("the oldest record kept is %d", first)
	}
	if got := all(t, p, first, 1<<20); int64(len(got)) != 100-first {
		t.Errorf("%d records left, wanted %d", len(got), 100-first)
	}
	if _, _, err := p.Read(0, nil, 10); !errors.Is(err, ErrGone) {
		t.Errorf("reading what is gone: %v", err)
	}
	if err := p.retain(0, 3000); err != nil {
		t.Fatal(err)
	}
	if n := p.Bytes(); n < 3000 || n > 6000 {
		t.Errorf("%d bytes are kept", n)
	}
	if err := p.close(); err != nil {
		t.Fatal(err)
	}
	if p, err = openPartition(disk.OS{}, filepath.Join(dir, "p"), 2000, func(string, ...any) {}); err != nil || p.Next() != 100 {
		t.Fatalf("opened again: next %d, %v", p.Next(), err)
	}
}

func TestTopics(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	if _, err := l.Create("../out", Settings{Partitions: 1}); !errors.Is(err, ErrName) {
		t.Errorf("a name that leads out of the directory: %v", err)
	}
	if _, err := l.Create("a", Settings{}); err == nil {
		t.Error("a topic without partitions is made")
	}
	topic, err := l.Create("a", Settings{Partitions: 3})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := l.Create("a", Settings{Partitions: 1}); !errors.Is(err, ErrExists) {
		t.Errorf("made twice: %v", err)
	}
	for i := range 60 { // a key stays in its partition
		if err := topic.Append([]Record{{Key: fmt.Append(nil, i%6), Value: fmt.Append(nil, i)}}); err != nil {
			t.Fatal(err)
		}
	}
	home := map[string]int{}
	for i, p := range topic.Partitions() {
		for _, kv := range all(t, p, 0, 1<<20) {
			k, _, _ := strings.Cut(kv, "=")
			if was, ok := home[k]; ok && was != i {
				t.Errorf("key %s is in partitions %d and %d", k, was, i)
			}
			home[k] = i
		}
	}
	if len(home) != 6 {
		t.Errorf("%d keys", len(home))
	}
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Errorf("a second process: %v", err)
	}
	if err := l.Drop("a"); err != nil || l.Topic("a") != nil {
		t.Errorf("dropped: %v", err)
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	if l = open(t, dir); len(l.Topics()) != 0 {
		t.Error("a dropped topic is back")
	}
}

// TestMark: what is noted of a topic is there after a restart, and stays when it grows.
func TestMark(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	topic, err := l.Create("reads", Settings{Partitions: 1})
	if err != nil || topic.Mark() != nil {
		t.Fatal(topic, err)
	}
	for _, mark := range []string{`["a"]`, `["a","b"]`} {
		if err := l.SetMark("reads", []byte(mark)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := l.Grow("reads", 3); err != nil {
		t.Fatal(err)
	}
	if err := l.SetMark("none", []byte("1")); err == nil {
		t.Error("a topic that is not there has a mark")
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	l = open(t, dir)
	if topic = l.Topic("reads"); string(topic.Mark()) != `["a","b"]` || len(topic.Partitions()) != 3 {
		t.Errorf("%s, %d partitions", topic.Mark(), len(topic.Partitions()))
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
}
