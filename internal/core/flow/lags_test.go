package flow

import (
	"math/rand/v2"
	"slices"
	"testing"

	"fiume/internal/core/types"
)

// TestLags compares the counts with a sorted list: a delay proposed for a share keeps it, and is at most an
// eighth and a millisecond longer than need be.
func TestLags(t *testing.T) {
	for b := range 300 {
		if up := lagUpTo(b); lagBucket(up) != b || lagBucket(up+1) != b+1 {
			t.Fatalf("bucket %d ends at %d, which is in bucket %d, and the next in %d", b, up, lagBucket(up), lagBucket(up+1))
		}
	}
	r := rand.New(rand.NewPCG(1, 2))
	var one, two, sum Lags
	var all []int64
	for range 20_000 {
		lag := int64(0)
		if r.IntN(3) == 0 {
			lag = r.Int64N(1 << (10 + r.IntN(26)))
		}
		all = append(all, lag)
		if r.IntN(2) == 0 {
			one.add(lag)
		} else {
			two.add(lag)
		}
	}
	sum.Add(&one)
	sum.Add(&two)
	slices.Sort(all)
	for _, share := range []float64{0.5, 0.9, 0.99, 0.999, 1} {
		d := sum.Delay(share)
		exact := all[int(share*float64(len(all)))-1]
		if d < exact || d > exact+exact/8+types.Millisecond {
			t.Errorf("%v of the rows: %d, wanted %d", share, d, exact)
		}
		if k := sum.Kept(d); k < share {
			t.Errorf("a delay of %d keeps %v of the rows, wanted %v", d, k, share)
		}
	}
	if sum.Rows != 20_000 || sum.Most != all[len(all)-1] || len(sum.Buckets()) < 50 {
		t.Errorf("%d rows, at most %d", sum.Rows, sum.Most)
	}
}
