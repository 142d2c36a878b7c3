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

// TestSame: a snapshot that says what the newest checkpoint does need not be written again; any difference, also in the state alone, is one.
func TestSame(t *testing.T) {
	k := &Keeper{FS: disk.NewMemory().Session(), Dir: "/state", Catalog: &memoryCatalog{}, Now: time.Now, Log: func(string, ...any) {}}
	snap := func(next int64, state string) *flow.Snapshot {
		return &flow.Snapshot{Splits: map[string]flow.SplitPosition{"s": {Next: next}}, Sinks: map[string][]byte{}, State: map[string][][]byte{"w": {[]byte(state)}, "v": nil}}
	}
	save := func(s *flow.Snapshot) {
		t.Helper()
		if _, err := k.Save(s, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	same := func(s *flow.Snapshot, want bool) {
		t.Helper()
		if got := k.Same(s); got != want {
			t.Errorf("it is the same: %v", got)
		}
	}
	same(snap(0, ""), false)
	save(snap(1, "a"))
	same(snap(1, "a"), false) // it is not known yet what the state was
	save(snap(1, "a"))
	same(snap(1, "a"), true)
	same(snap(1, "b"), false)
	same(snap(2, "a"), false)
	same(snap(1, "a"), true)
	save(snap(1, "b")) // the state alone has changed
	same(snap(1, "a"), false)
	same(snap(1, "b"), true)
	save(snap(2, "b"))
	same(snap(2, "b"), false)
	moved := snap(1, "")
	moved.State = map[string][][]byte{"w": {[]byte("b"), {}}, "v": nil} // the same bytes in other pieces
	save(snap(1, "b"))
	save(snap(1, "b"))
	same(moved, false)
	same(snap(1, "b"), true)
}
