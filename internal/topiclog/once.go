package topiclog

import (
	"slices"

	"github.com/cespare/xxhash/v2"
)

// A writer that hears nothing of a batch sends it again. Where it gives the batch a name, each partition knows the name
// again, also after a restart, and takes the batch once. The name's hash stands in the head of the batch as the
// producer, with an epoch of its own so that it is not taken for a sink's.

const onceEpoch = 1

// mostKnown is how many names of batches a partition remembers.
const mostKnown = 1 << 16

// known are the newest names of batches of a partition, with the offsets at which they begin.
type known struct {
	at    map[int64]int64
	order []int64 // ring of names
	next  int
}

func (k *known) add(producer, base int64) {
	if k.at == nil {
		k.at = map[int64]int64{}
	}
	if len(k.order) < mostKnown {
		k.order = append(k.order, producer)
	} else {
		delete(k.at, k.order[k.next])
		k.order[k.next] = producer
		k.next = (k.next + 1) % mostKnown
	}
	k.at[producer] = base
}

// forget takes those back that begin at an offset or behind it: they have been cut off.
func (k *known) forget(from int64) {
	for p, base := range k.at {
		if base >= from {
			delete(k.at, p)
		}
	}
}

// AppendOnce writes records as a batch with a name, and waits until they are on the disk. Where the batch has been
// written before, in whole or in part, what is there is left; again says that all of it was. The same name must come with the same
// records.
func (t *Topic) AppendOnce(name string, recs []Record) (again bool, err error) {
	hash := xxhash.Sum64String(name)
	parts := t.Partitions()
	by := t.sharedAs(hash, recs, parts)
	again = len(recs) > 0
	for p, rs := range by {
		if len(rs) == 0 {
			continue
		}
		there, err := parts[p].appendOnce(int64(hash), rs)
		if err != nil {
			return false, err
		}
		again = again && there
	}
	return again, nil
}

// shared shares the records of a batch out over n partitions.
func shared(hash uint64, recs []Record, n int) [][]Record {
	by := make([][]Record, n)
	for i, r := range recs {
		p := int((hash + uint64(i)) % uint64(n))
		if r.Key != nil {
			p = KeyPartition(r.Key, n)
		}
		by[p] = append(by[p], r)
	}
	return by
}

// sharedAs shares a batch out as it was when it came first, perhaps to fewer partitions: those that know it tell. Of a batch that was written in part
// it is any count under which all that know it have something of it.
func (t *Topic) sharedAs(hash uint64, recs []Record, parts []*Partition) [][]Record {
	now := shared(hash, recs, len(parts))
	was := t.was.Load()
	if was == nil || len(*was) == 0 {
		return now
	}
	knows := make([]bool, len(parts))
	for i, p := range parts {
		p.mu.Lock()
		_, knows[i] = p.known.at[int64(hash)]
		p.mu.Unlock()
	}
	if !slices.Contains(knows, true) {
		return now
	}
	var part [][]Record
	for _, by := range append([][][]Record{now}, func() (out [][][]Record) {
		for _, n := range *was {
			out = append(out, shared(hash, recs, n))
		}
		return out
	}()...) {
		whole, fits := true, true
		for i, k := range knows {
			has := i < len(by) && len(by[i]) > 0
			whole, fits = whole && k == has, fits && (has || !k)
		}
		if whole {
			return by
		}
		if fits && part == nil {
			part = by
		}
	}
	if part != nil {
		return part
	}
	return now
}

func (p *Partition) appendOnce(producer int64, recs []Record) (there bool, err error) {
	p.mu.Lock()
	if err := p.whole(); err != nil {
		p.mu.Unlock()
		return false, err
	}
	_, there = p.known.at[producer]
	next, epoch := p.next, p.epoch
	p.mu.Unlock()
	if there { // perhaps by a call that still waits for the disk
		return true, p.syncTo(next, epoch)
	}
	_, err = p.append(producer, 0, onceEpoch, recs)
	return false, err
}
