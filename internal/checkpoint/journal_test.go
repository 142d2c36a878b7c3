package checkpoint

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"syscall"
	"testing"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/disk"
)

// TestJournal appends, reads, frees and trims with a disk that is full now and then and tears writes; what is needed is
// always there, before it has been written and after, and in the next life once it was synced.
func TestJournal(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 9))
		mem := disk.NewMemory()
		fs := mem.Session()
		fails := 0
		faults := rand.New(rand.NewPCG(seed, 10))
		fs.Fault = func(op disk.Op) (int, error) {
			if (op.Kind == "write" || op.Kind == "create") && faults.IntN(20) == 0 && fails < 6 {
				fails++
				return op.Size / 2, syscall.ENOSPC
			}
			return op.Size, nil
		}
		j := &Journal{FS: fs, Dir: "/journal", FileBytes: 4 << 10}
		if err := j.Open(nil); err != nil {
			t.Fatal(err)
		}
		have := map[flow.Extent][]byte{}
		var order []flow.Extent
		check := func(j *Journal) {
			t.Helper()
			for e, want := range have {
				if got, err := j.Read(e); err != nil || !bytes.Equal(got, want) {
					t.Fatalf("seed %d: %+v: %d bytes, %v", seed, e, len(got), err)
				}
			}
		}
		for i := range 400 {
			switch {
			case r.IntN(4) > 0 || len(order) == 0:
				b := bytes.Repeat(fmt.Appendf(nil, "%d;", i), 1+r.IntN(200))
				e, err := j.Append(t.Context(), b)
				if err != nil {
					t.Fatal(err)
				}
				have[e], order = b, append(order, e)
			default:
				k := r.IntN(len(order))
				j.Free(order[k])
				delete(have, order[k])
				order = slices.Delete(order, k, k+1)
			}
			if r.IntN(50) == 0 {
				check(j)
			}
		}
		err := j.Sync()
		for try := 0; err != nil && try < 200; try++ { // a checkpoint that cannot be finished is tried again
			time.Sleep(20 * time.Millisecond)
			err = j.Sync()
		}
		if err != nil {
			t.Fatal(err)
		}
		if w := j.Waiting(); w != nil {
			t.Errorf("seed %d: all is written, and it waits: %+v", seed, w)
		}
		check(j)
		needed := []int64{}
		for e := range have {
			if !slices.Contains(needed, e.File) {
				needed = append(needed, e.File)
			}
		}
		if err := j.Trim(needed); err != nil {
			t.Fatal(err)
		}
		check(j)
		fs.PowerLoss(r)
		again := &Journal{FS: mem.Session(), Dir: "/journal", FileBytes: 4 << 10}
		if err := again.Open(needed); err != nil {
			t.Fatal(err)
		}
		for e := range have {
			again.Adopt(e)
		}
		check(again)
		for e := range have { // a piece that is damaged is noticed
			e.Sum++
			if _, err := again.Read(e); err == nil {
				t.Error("a wrong checksum passes")
			}
			break
		}
		if err := again.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// TestJournalFailsForGood: what does not pass by itself is told to whoever appends and syncs next; a disk that stays full
// is waited for, with the reason.
func TestJournalFailsForGood(t *testing.T) {
	fs := disk.NewMemory().Session()
	broken := errors.New("the disk is gone")
	fs.Fault = func(op disk.Op) (int, error) {
		if op.Kind == "write" {
			return 0, broken
		}
		return op.Size, nil
	}
	j := &Journal{FS: fs, Dir: "/j"}
	if err := j.Open(nil); err != nil {
		t.Fatal(err)
	}
	if _, err := j.Append(t.Context(), []byte("a")); err != nil {
		t.Fatal(err)
	}
	if err := j.Sync(); !errors.Is(err, broken) {
		t.Errorf("synced: %v", err)
	}
	if _, err := j.Append(t.Context(), []byte("b")); !errors.Is(err, broken) {
		t.Errorf("appended: %v", err)
	}

	fs = disk.NewMemory().Session()
	fs.Fault = func(op disk.Op) (int, error) {
		if op.Kind == "write" {
			return 0, syscall.ENOSPC
		}
		return op.Size, nil
	}
	j = &Journal{FS: fs, Dir: "/j"}
	if err := j.Open(nil); err != nil {
		t.Fatal(err)
	}
	e, err := j.Append(t.Context(), []byte("a"))
	if err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(5 * time.Minute); j.Waiting() == nil || j.Waiting().Tries < 2; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%+v", j.Waiting())
		}
	}
	if b, err := j.Read(e); err != nil || string(b) != "a" {
		t.Errorf("what waits to be written: %q %v", b, err)
	}
	if err := j.Close(); err != nil {
		t.Error(err)
	}
}
