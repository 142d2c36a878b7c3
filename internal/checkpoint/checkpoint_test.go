package checkpoint

import (
	"bytes"
	"fiume/internal/disk"
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
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
