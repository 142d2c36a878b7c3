package topiclog

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"fiume/internal/disk"
)

// whatIsLeft reads a partition from its beginning to its end and gives the values by offset, and the offsets that are
// lost between.
func whatIsLeft(t *testing.T, p *Partition) (values map[int64]string, lost map[int64]bool) {
	t.Helper()
	values, lost = map[int64]string{}, map[int64]bool{}
	for from := p.First(); from < p.Next(); {
		b, next, err := p.Read(from, nil, 1500)
		if err != nil {
			t.Fatal(err)
		}
		if next <= from {
			t.Fatalf("reading stands at %d of %d", from, p.Next())
		}
		at := from
		if err := Views(b, from, func(v View) {
			for ; at < v.Offset; at++ {
				lost[at] = true
			}
			at++
			values[v.Offset] = string(b[v.From:v.To])
		}); err != nil {
			t.Fatal(err)
		}
		for ; at < next; at++ {
			lost[at] = true
		}
		from = next
	}
	return values, lost
}

// TestDamage damages files of a partition in every way: a bit, a block, bytes cut out of the middle or off the end, a
// whole file. Each message that is left is the one that was written; only those of batches that were touched are lost,
// they are all listed, and no offset is ever given again, over two restarts.
func TestDamage(t *testing.T) {
	seeds := 300
	for seed := range seeds {
		r := rand.New(rand.NewPCG(uint64(seed), 7))
		dir := t.TempDir()
		quiet := func(string, ...any) {}
		open := func() *Partition {
			p, err := openPartition(disk.OS{}, dir, 3000, quiet)
			if err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			return p
		}
		p := open()
		written := map[int64]string{}
		type batch struct {
			from, to int64
			file     string
			at, end  int64
		}
		var batches []batch
		write := func(n int) {
			for range n {
				var recs []Record
				for range 1 + r.IntN(5) {
					recs = append(recs, Record{Value: []byte(fmt.Sprintf("%d-%s", len(written)+len(recs), strings.Repeat("x", r.IntN(200))))})
				}
				base, err := p.Append(recs)
				if err != nil {
					t.Fatal(err)
				}
				for i, rec := range recs {
					if _, there := written[base+int64(i)]; there {
						t.Fatalf("seed %d: offset %d was given twice", seed, base+int64(i))
					}
					written[base+int64(i)] = string(rec.Value)
				}
				s := p.active()
				size := int64(len(encodeBatch(nil, base, NoProducer, -1, -1, recs)))
				batches = append(batches, batch{base, base + int64(len(recs)), s.path, s.size - size, s.size})
			}
		}
		write(20 + r.IntN(30))
		if err := p.close(); err != nil {
			t.Fatal(err)
		}
		// What is damaged, and the batches that may suffer.
		victim := batches[r.IntN(len(batches))]
		b, err := os.ReadFile(victim.file)
		if err != nil {
			t.Fatal(err)
		}
		hurt := map[int64]bool{}
		hurtIn := func(from, to int64) {
			for _, x := range batches {
				if x.file == victim.file && x.at < to && from < x.end {
					for o := x.from; o < x.to; o++ {
						hurt[o] = true
					}
				}
			}
		}
		what := r.IntN(5)
		at := victim.at + r.Int64N(victim.end-victim.at)
		switch what {
		case 0:
			b[at] ^= 1 << r.IntN(8)
			hurtIn(at, at+1)
		case 1:
			n := min(int64(len(b))-at, 1+r.Int64N(700))
			for i := range n {
				b[at+i] = byte(r.IntN(256)) * byte(seed%2)
			}
			hurtIn(at, at+n)
		case 2:
			n := min(int64(len(b))-at, 1+r.Int64N(300))
			b = append(b[:at:at], b[at+n:]...)
			hurtIn(at, at+n)
		case 3:
			b = b[:at]
			hurtIn(at, 1<<40)
		}
		if what == 4 && filepath.Base(victim.file) != fmt.Sprintf("%020d.log", 0) && victim.file != batches[len(batches)-1].file {
			err = os.Remove(victim.file)
			hurtIn(0, 1<<40)
		} else {
			err = os.WriteFile(victim.file, b, 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
		for restart := range 2 {
			p = open()
			values, lost := whatIsLeft(t, p)
			for o, v := range values {
				if written[o] != v {
					t.Fatalf("seed %d: offset %d has %q, written was %q", seed, o, v, written[o])
				}
			}
			listed := map[int64]bool{}
			for _, d := range p.Damaged() {
				for o := d.From; o < d.To; o++ {
					listed[o] = true
				}
			}
			for o := range written {
				_, there := values[o]
				if !there && !hurt[o] {
					t.Fatalf("seed %d (%d): offset %d is gone, though its batch was not damaged", seed, what, o)
				}
				if !there && !listed[o] || !there && o < p.Next() && !lost[o] {
					t.Fatalf("seed %d (%d), restart %d: offset %d is gone, and nobody says so: %v", seed, what, restart, o, p.Damaged())
				}
			}
			for o := range lost {
				if !listed[o] {
					t.Fatalf("seed %d (%d): offset %d is passed over, and not listed: %v", seed, what, o, p.Damaged())
				}
			}
			write(1 + r.IntN(5))
			if err := p.close(); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// failing is a file system on which some calls fail.
type failing struct {
	disk.OS
	fails func(op, name string) bool
}

func (f failing) Create(name string) (disk.File, error) {
	if f.fails("create", name) {
		return nil, syscall.ENOSPC
	}
	return f.OS.Create(name)
}

func (f failing) Rename(from, to string) error {
	if f.fails("rename", to) {
		return syscall.ENOSPC
	}
	return f.OS.Rename(from, to)
}

func (f failing) SyncDir(dir string) error {
	if f.fails("sync", dir) {
		return syscall.EIO
	}
	return f.OS.SyncDir(dir)
}

// TestCreateFails: a topic that could not be made is not there, and can be made once there is room.
func TestCreateFails(t *testing.T) {
	for _, broken := range []string{"create 0", "create 1", "create topic.json.new", "rename topic.json", "sync late", "sync 1"} {
		on := true
		dir := t.TempDir()
		l, err := OpenOn(failing{fails: func(op, name string) bool {
			return on && strings.HasPrefix(broken, op+" ") && strings.Contains(name, broken[len(op)+1:])
		}}, dir, nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := l.Create("late", Settings{Partitions: 2}); err == nil {
			t.Fatalf("%s: it was made", broken)
		}
		if l.Topic("late") != nil {
			t.Fatalf("%s: the topic is there, though it could not be made", broken)
		}
		on = false
		topic, err := l.Create("late", Settings{Partitions: 2})
		if err == nil {
			err = topic.Append([]Record{{Value: []byte("kept")}})
		}
		if err != nil {
			t.Fatalf("%s: %v", broken, err)
		}
		if err := l.Close(); err != nil {
			t.Fatal(err)
		}
		if l, err = Open(dir); err != nil || l.Topic("late") == nil {
			t.Fatalf("%s: after a restart: %v", broken, err)
		}
		_ = l.Close()
	}
}

// TestOpensAgain: a disk that fails for a moment while a log is opened leaves no partition out.
func TestOpensAgain(t *testing.T) {
	dir := t.TempDir()
	l, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	topic, err := l.Create("late", Settings{Partitions: 2})
	if err == nil {
		err = topic.Append([]Record{{Value: []byte("kept")}})
	}
	if err = errors.Join(err, l.Close()); err != nil {
		t.Fatal(err)
	}
	for i := range 2 { // what was torn off may have had offsets, so that a new file begins behind them
		file := filepath.Join(dir, "late", fmt.Sprint(i), fmt.Sprintf("%020d.log", 0))
		b, err := os.ReadFile(file)
		if err == nil && len(b) > 3 {
			err = os.WriteFile(file, append(b, b[:len(b)-3]...), 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	left := 3
	if l, err = OpenOn(failing{fails: func(op, _ string) bool { left--; return left >= 0 }}, dir, nil); err != nil {
		t.Fatal(err)
	}
	for i, p := range l.Topic("late").Partitions() {
		if _, err := p.Append([]Record{{Value: []byte("more")}}); err != nil {
			t.Errorf("partition %d: %v", i, err)
		}
	}
	if left >= 0 {
		t.Error("nothing has failed")
	}
	if err := l.Close(); err != nil {
		t.Error(err)
	}
}

// TestOneTopicDamaged: whatever is wrong with the files of a topic, the others open.
func TestOneTopicDamaged(t *testing.T) {
	for what, damage := range map[string]func(dir string) error{
		"empty settings": func(dir string) error { return os.WriteFile(filepath.Join(dir, "topic.json"), nil, 0o644) },
		"settings": func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "topic.json"), []byte(`{"partitions":-4}`), 0o644)
		},
		"first bytes": func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "0", fmt.Sprintf("%020d.log", 0)), make([]byte, 90), 0o644)
		},
		"a directory": func(dir string) error { return os.Mkdir(filepath.Join(dir, "0", fmt.Sprintf("%020d.log", 99)), 0o755) },
		"no partition": func(dir string) error {
			return errors.Join(os.RemoveAll(filepath.Join(dir, "0")), os.WriteFile(filepath.Join(dir, "0"), nil, 0o644))
		},
		"settings, empty": func(dir string) error {
			return errors.Join(os.RemoveAll(filepath.Join(dir, "0")), os.WriteFile(filepath.Join(dir, "topic.json"), nil, 0o644))
		},
	} {
		dir := t.TempDir()
		l := open(t, dir)
		for _, n := range []string{"good", "hurt"} {
			topic, err := l.Create(n, Settings{Partitions: 1})
			if err == nil {
				err = topic.Append([]Record{{Value: []byte("a")}, {Value: []byte("b")}})
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if err := l.Close(); err != nil {
			t.Fatal(err)
		}
		if err := damage(filepath.Join(dir, "hurt")); err != nil {
			t.Fatal(err)
		}
		var said []string
		l, err := OpenOn(disk.OS{}, dir, func(text string, args ...any) { said = append(said, text+fmt.Sprint(args...)) })
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		if got := all(t, l.Topic("good").Partitions()[0], 0, 1000); len(got) != 2 {
			t.Errorf("%s: %v", what, got)
		}
		if len(said) == 0 && what != "first bytes" || len(said) > 0 && !strings.Contains(said[0], "hurt") {
			t.Errorf("%s: said was %q", what, said)
		}
		if x := l.Topic("hurt"); x != nil && x.Partitions()[0].broken != nil {
			if _, err := x.Partitions()[0].Append([]Record{{Value: []byte("c")}}); err == nil {
				t.Errorf("%s: a partition that cannot be opened takes messages", what)
			}
		}
		if err := l.Close(); err != nil && !strings.Contains(err.Error(), "cannot be opened") {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// TestRetentionOfLittle: what is old goes, also where it is less than a file's usual size, and whoever reads it
// meanwhile reads on.
func TestRetentionOfLittle(t *testing.T) {
	p, err := openPartition(disk.OS{}, t.TempDir(), segmentBytes, func(string, ...any) {})
	if err != nil {
		t.Fatal(err)
	}
	old := time.Now().Add(-time.Hour)
	if _, err := p.Append([]Record{{Value: []byte("old"), At: old.UnixMicro()}}); err != nil {
		t.Fatal(err)
	}
	if err := p.retain(time.Now().Add(-time.Minute).UnixMicro(), 0); err != nil {
		t.Fatal(err)
	}
	if p.First() != 1 || p.Next() != 1 {
		t.Fatalf("kept are %d to %d", p.First(), p.Next())
	}
	if base, err := p.Append([]Record{{Value: []byte("new")}}); err != nil || base != 1 {
		t.Fatalf("%d %v", base, err)
	}
	if _, _, err := p.Read(0, nil, 10); !errors.Is(err, ErrGone) {
		t.Errorf("%v", err)
	}
	// A read of a file that is removed meanwhile comes to its end.
	s := p.segments[0]
	s.using++
	if err := p.roll(p.next); err != nil {
		t.Fatal(err)
	}
	if err := p.retain(time.Now().Add(time.Minute).UnixMicro(), 0); err != nil {
		t.Fatal(err)
	}
	if b, _, err := p.readSegment(s, 0, s.size, 1, 2, nil, 100); err != nil || len(b) == 0 {
		t.Errorf("%d bytes, %v", len(b), err)
	}
	if err := p.close(); err != nil {
		t.Fatal(err)
	}
}

// TestAppendOnce: a batch with a name is there once, however often it is sent, also after a restart and where only a part
// of it has been written before.
func TestAppendOnce(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	topic, err := l.Create("reads", Settings{Partitions: 3})
	if err != nil {
		t.Fatal(err)
	}
	batch := func(n int) (recs []Record) {
		for i := range 20 {
			rec := Record{Value: fmt.Appendf(nil, "%d-%d", n, i)}
			if i%2 == 0 {
				rec.Key = fmt.Append(nil, "k", i)
			}
			recs = append(recs, rec)
		}
		return recs
	}
	send := func(n int, want bool) {
		t.Helper()
		again, err := topic.AppendOnce(fmt.Sprint("writer/", n), batch(n))
		if err != nil || again != want {
			t.Errorf("batch %d: again %v, %v", n, again, err)
		}
	}
	send(1, false)
	send(1, true)
	send(2, false)
	// A part of batch 3 has come before the writer was cut off.
	if _, err := topic.Partitions()[KeyPartition([]byte("k0"), 3)].appendOnce(0, nil); err == nil {
		t.Log("an empty batch is no batch")
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	l = open(t, dir)
	topic = l.Topic("reads")
	send(2, true)
	send(1, true)
	send(3, false)
	got := map[string]int{}
	for _, p := range topic.Partitions() {
		for _, v := range all(t, p, 0, 1<<20) {
			_, v, _ = strings.Cut(v, "=")
			got[v]++
		}
	}
	if len(got) != 60 {
		t.Errorf("%d messages", len(got))
	}
	for v, n := range got {
		if n != 1 {
			t.Errorf("%s is there %d times", v, n)
		}
	}
}
