package flow

import (
	"math/bits"
	"slices"

	"fiume/internal/core/types"
)

// Lags counts how far rows lie behind the greatest event time that their split has shown before them: a
// row is kept by a DELAY that is not shorter. The counts are by lag in milliseconds, with eight buckets
// between a power of two and the next, so that a lag is known to an eighth of it.
type Lags struct {
	Rows    int64
	Most    int64 // the greatest lag, microseconds
	buckets []int64
}

func lagBucket(micros int64) int {
	ms := uint64(micros+types.Millisecond-1) / uint64(types.Millisecond)
	if ms < 8 {
		return int(ms)
	}
	e := bits.Len64(ms) - 4 // ms>>e has four bits, the first of them set
	return e*8 + int(ms>>e)
}

// lagUpTo is the greatest lag of a bucket, in microseconds.
func lagUpTo(bucket int) int64 {
	if bucket < 8 {
		return int64(bucket) * types.Millisecond
	}
	e := bucket/8 - 1
	return (int64(bucket-e*8+1)<<e - 1) * types.Millisecond
}

func (l *Lags) add(micros int64) {
	l.Rows++
	l.Most = max(l.Most, micros)
	b := lagBucket(micros)
	if b >= len(l.buckets) {
		l.buckets = append(l.buckets, make([]int64, b+1-len(l.buckets))...)
	}
	l.buckets[b]++
}

// Add adds other counts.
func (l *Lags) Add(o *Lags) {
	l.Rows += o.Rows
	l.Most = max(l.Most, o.Most)
	if n := len(o.buckets) - len(l.buckets); n > 0 {
		l.buckets = append(l.buckets, make([]int64, n)...)
	}
	for b, n := range o.buckets {
		l.buckets[b] += n
	}
}

// LagBucket has the rows with a lag of up to UpTo, and above that of the bucket before.
type LagBucket struct {
	UpTo int64 `json:"up_to"` // microseconds
	Rows int64 `json:"rows"`
}

// Buckets gives the buckets that have rows.
func (l *Lags) Buckets() []LagBucket {
	out := []LagBucket{}
	for b, n := range l.buckets {
		if n > 0 {
			out = append(out, LagBucket{lagUpTo(b), n})
		}
	}
	return out
}

// Kept is the share of rows that a delay keeps, to the precision of the buckets.
func (l *Lags) Kept(delay int64) float64 {
	if l.Rows == 0 || delay >= l.Most {
		return 1
	}
	kept := int64(0)
	for b, n := range l.buckets {
		if lagUpTo(b) > delay {
			break
		}
		kept += n
	}
	return float64(kept) / float64(l.Rows)
}

// Delay is the shortest delay, to the precision of the buckets, that keeps a share of the rows.
func (l *Lags) Delay(share float64) int64 {
	kept := int64(0)
	for b, n := range l.buckets {
		kept += n
		if float64(kept) >= share*float64(l.Rows) {
			return min(lagUpTo(b), l.Most)
		}
	}
	return l.Most
}

// SplitLags are the lags of one split.
type SplitLags struct {
	Stream, Split string
	*Lags
}

// Lags gives, for each split whose rows are judged, how far its rows lay behind.
func (j *Job) Lags() (out []SplitLags) {
	for _, sc := range j.sources {
		if !sc.stamped {
			continue
		}
		for _, sr := range sc.splits() {
			sr.maxMu.Lock()
			l := &Lags{Rows: sr.lags.Rows, Most: sr.lags.Most, buckets: slices.Clone(sr.lags.buckets)}
			sr.maxMu.Unlock()
			out = append(out, SplitLags{sc.op.Step, sr.split.Name(), l})
		}
	}
	return out
}
