package checkpoint

import (
	"bytes"
	"errors"
	"fiume/internal/core/flow"
	"fiume/internal/disk"
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"
)

// TestState writes and reads the state of steps: what was changed or cut anywhere is noticed.
func TestState(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 50 {
		want := map[string][][]byte{}
		for range r.IntN(5) {
			op := fmt.Sprint("window ", r.IntN(40))
			want[op] = nil
			for range 1 + r.IntN(4) {
				piece := make([]byte, r.IntN(200))
				for i := range piece {
					piece[i] = byte(r.Uint32())
				}
				want[op] = append(want[op], piece)
			}
		}
		fs := disk.NewMemory().Session()
		_ = fs.MkdirAll("/d")
		f, err := fs.Create("/d/state")
		if err != nil {
			t.Fatal(err)
		}
		size, err := encodeState(f, want)
		data := make([]byte, size)
		if err == nil {
			_, err = f.ReadAt(data, 0)
		}
		if err != nil {
			t.Fatal(err)
		}
		if got, err := decodeState(data); err != nil || !reflect.DeepEqual(got, want) {
			t.Fatalf("%v: %v, wanted %v", err, got, want)
		}
		for range 50 {
			bad := bytes.Clone(data)
			bad[4+r.IntN(len(bad)-4)] ^= byte(1 + r.IntN(255))
			if _, err := decodeState(bad); err == nil {
				t.Fatal("a changed state is read")
			}
			if n := 8 + r.IntN(len(data)-7); n < len(data) {
				if _, err := decodeState(data[:n]); err == nil {
					t.Fatalf("a state cut to %d of %d bytes is read", n, len(data))
				}
			}
		}
	}
}

// TestKeeper keeps three checkpoints, passes a damaged one over for the one before, and tidies up what does not count.
func TestKeeper(t *testing.T) {
	fs := disk.NewMemory().Session()
	var logged []string
	k := &Keeper{FS: fs, Dir: "/state", Catalog: &memoryCatalog{}, Now: time.Now, Log: func(text string, _ ...any) { logged = append(logged, text) }}
	if snap, _, err := k.Load(0); snap != nil || err != nil {
		t.Fatalf("%v %v", snap, err)
	}
	for i := range 5 {
		snap := &flow.Snapshot{Splits: map[string]flow.SplitPosition{"s": {Next: int64(i)}}, Sinks: map[string][]byte{"k": {byte(i)}}, State: map[string][][]byte{"w": {[]byte("state")}}}
		if e, err := k.Save(snap, time.Now()); err != nil || e.Number != int64(i+1) {
			t.Fatalf("%+v %v", e, err)
		}
	}
	f, err := fs.Create("/state/000000000099.state.new") // of one that never counted
	if err != nil || f.Close() != nil || k.Tidy() != nil {
		t.Fatal(err)
	}
	if names, _ := fs.List("/state"); len(names) != 3 {
		t.Errorf("%q", names)
	}
	f, err = fs.Open("/state/000000000005.state")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteAt([]byte("X"), 12); err != nil {
		t.Fatal(err)
	}
	again := &Keeper{FS: fs, Dir: "/state", Catalog: k.Catalog, Now: time.Now, Log: k.Log}
	snap, e, err := again.Load(0)
	if err != nil || e.Number != 4 || snap.Splits["s"].Next != 3 || snap.Sinks != nil || len(logged) != 2 {
		t.Fatalf("%+v %+v %v %q", snap, e, err, logged)
	}
	if e, err := again.Save(snap, time.Now()); err != nil || e.Number != 6 {
		t.Fatalf("a number is used twice: %+v %v", e, err)
	}
	if snap, _, err := again.Load(4); err != nil || snap.Sinks["k"][0] != 3 {
		t.Fatalf("%+v %v", snap, err)
	}
	if _, _, err := again.Load(1); !errors.Is(err, ErrNone) {
		t.Fatal(err)
	}
}
