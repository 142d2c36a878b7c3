package topiclog

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"fiume/internal/disk"
)

// TestForget: of messages that match nothing is left, in no file; all others stay what and where they are, also those that are written meanwhile, through compaction at
// once, and in a new process.
func TestForget(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 2))
		dir := filepath.Join(t.TempDir(), "p")
		open := func() *Partition {
			p, err := openPartition(disk.OS{}, dir, 4000, func(text string, args ...any) { t.Errorf("%s %v", text, args) })
			if err != nil {
				t.Fatal(err)
			}
			return p
		}
		p := open()
		all := map[int64]string{}
		add := func() {
			from := p.Next()
			var recs []Record
			who := r.IntN(5)
			for i := range 1 + r.IntN(20) {
				if r.IntN(3) == 0 {
					who = r.IntN(5)
				}
				v := fmt.Sprintf("message %d of runner-%d.", from+int64(i), who)
				all[from+int64(i)] = v
				recs = append(recs, Record{Value: []byte(v), At: 1e15 + from})
			}
			var err error
			if r.IntN(3) == 0 {
				var wait func() error
				if _, wait, err = p.AppendBatch(foreignBatch(recs)); err == nil {
					err = wait()
				}
			} else {
				_, err = p.Append(recs)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		for range 20 + r.IntN(60) {
			add()
		}
		end := p.Next()
		var wrote sync.WaitGroup
		wrote.Go(func() {
			for range 20 {
				add()
			}
		})
		match := func(v View, b []byte) bool { return bytes.Contains(b[v.From:v.To], []byte("runner-3.")) }
		var compacted sync.WaitGroup
		compacted.Go(func() {
			if _, err := p.Compact(time.Now(), true); err != nil {
				t.Error(err)
			}
		})
		removed, err := p.Forget(func() error { return nil }, match)
		if err != nil {
			t.Fatal(err)
		}
		wrote.Wait()
		compacted.Wait()
		for again := range 2 {
			if again == 1 {
				if err := p.close(); err != nil {
					t.Fatal(err)
				}
				p = open()
			}
			found, empty := map[int64]string{}, 0
			for at := p.First(); at < p.Next(); {
				b, next, err := p.Read(at, nil, 1+r.IntN(3000))
				if err != nil {
					t.Fatal(err)
				}
				if err := Views(b, at, func(v View) {
					if v.From == v.To {
						empty++
						return
					}
					found[v.Offset] = string(b[v.From:v.To])
				}); err != nil {
					t.Fatal(err)
				}
				if next <= at {
					t.Fatalf("seed %d: reading stands still at %d", seed, at)
				}
				at = next
			}
			gone := int64(0)
			for offset, v := range all {
				forgotten := offset < end && bytes.Contains([]byte(v), []byte("runner-3."))
				if forgotten {
					gone++
				}
				switch got, there := found[offset]; {
				case forgotten && there:
					t.Errorf("seed %d: %d is still there", seed, offset)
				case !forgotten && got != v && (offset < end || there): // those that came meanwhile may be forgotten too
					t.Errorf("seed %d: %d is %q and not %q", seed, offset, got, v)
				}
			}
			if removed < gone || empty > len(p.segments)+int(removed) {
				t.Errorf("seed %d: %d were removed of %d, and %d are empty", seed, removed, gone, empty)
			}
		}
		files, _ := filepath.Glob(filepath.Join(dir, "*"))
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			for offset, v := range all {
				if offset < end && bytes.Contains([]byte(v), []byte("runner-3.")) && bytes.Contains(b, []byte(v)) {
					t.Errorf("seed %d: %s has %q", seed, f, v)
				}
			}
		}
		if n, err := p.Forget(func() error { return nil }, func(v View, b []byte) bool { return match(v, b) && v.Offset < end }); n != 0 || err != nil {
			t.Errorf("seed %d: a second time %d: %v", seed, n, err)
		}
		stop := errors.New("enough")
		if _, err := p.Forget(func() error { return stop }, match); !errors.Is(err, stop) {
			t.Errorf("it did not stop: %v", err)
		}
		if err := p.close(); err != nil {
			t.Fatal(err)
		}
	}
}
