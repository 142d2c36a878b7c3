package files

import (
	"cmp"
	"container/heap"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"sync"
	"time"

	"fiume/internal/connect/store"
	"fiume/internal/core/flow"

	"github.com/cespare/xxhash/v2"
)

// arrivals gives the files of a folder in order, as they come.
type arrivals struct {
	f *folder
	s *series

	mu      sync.Mutex
	found   map[string]*candidate // by name
	order   candidates
	more    bool // there are more than are known
	listed  bool // once at least
	failed  error
	watched bool
	behind  map[uint64]bool // files that came behind what is remembered
	strays  []string        // those of them of which it was not said
	begun   bool
	stirred chan struct{}
}

// candidate is a file that is to be read.
type candidate struct {
	file  store.File
	key   string
	since time.Time // when it was last seen to change
	at    int       // its place in the heap
}

// candidates are a heap by key.
type candidates []*candidate

func (c candidates) Len() int           { return len(c) }
func (c candidates) Less(i, j int) bool { return c[i].key < c[j].key }
func (c candidates) Swap(i, j int) {
	c[i], c[j] = c[j], c[i]
	c[i].at, c[j].at = i, j
}

// Push implements heap.Interface.
func (c *candidates) Push(x any) {
	x.(*candidate).at = len(*c)
	*c = append(*c, x.(*candidate))
}

// Pop implements heap.Interface.
func (c *candidates) Pop() any {
	old := *c
	x := old[len(old)-1]
	old[len(old)-1] = nil
	*c = old[:len(old)-1]
	return x
}

func (a *arrivals) began(*mark) {}

// begin begins to look for files, when the one that was being read has been read to its end.
func (a *arrivals) begin() {
	a.begun = true
	a.watched = a.f.store.Watch(a.s.ctx, a.f.address, func(name string) {
		a.offer(store.File{Name: name}, true)
		a.stir()
	})
	a.s.done.Go(a.look)
}

func (a *arrivals) stir() {
	select {
	case a.stirred <- struct{}{}:
	default:
	}
}

// look lists the folder now and then.
func (a *arrivals) look() {
	var whole time.Time
	for a.s.ctx.Err() == nil {
		began := time.Now()
		err := a.list(a.s.ctx, whole.IsZero() || time.Since(whole) > wholeListing || !a.f.store.Far() || a.f.byTime)
		if err == nil && time.Since(whole) > wholeListing {
			whole = began
		}
		a.mu.Lock()
		a.failed = err
		if err == nil {
			a.listed = true
		}
		more := a.more
		a.mu.Unlock()
		a.stir()
		took := time.Since(began)
		wait := max(a.f.every, share*took)
		switch {
		case err != nil:
			wait = max(a.f.every, time.Second)
		case a.f.store.Far(): // most of the time it waits for an answer
			wait = max(a.f.every, share/10*took)
		case a.watched:
			wait = max(wait, 10*a.f.every)
		}
		if more {
			wait = min(wait, max(a.f.every, 4*took))
		}
		pause(a.s.ctx, wait)
	}
}

// list offers all files of the folder; or, where they come in the order of their names, those behind the low mark.
func (a *arrivals) list(ctx context.Context, whole bool) error {
	n := a.s.lists()
	a.s.mu.Lock()
	after := a.s.low
	a.s.mu.Unlock()
	if whole {
		after = ""
	}
	a.mu.Lock()
	a.more = false
	a.mu.Unlock()
	there := map[uint64]bool{}
	err := a.f.store.Each(ctx, a.f.address, after, func(f store.File) bool {
		if f = a.offer(f, false); whole {
			there[a.s.id(f)] = true
		}
		return ctx.Err() == nil
	})
	if err == nil && whole && ctx.Err() == nil {
		a.s.forget(n, there)
	}
	return err
}

// offer takes a file up that is to be read. It gives the file with what it found out.
func (a *arrivals) offer(f store.File, changed bool) store.File {
	a.mu.Lock()
	c := a.found[f.Name]
	if c != nil && changed {
		c.since = time.Now()
	}
	listed := a.listed
	a.mu.Unlock()
	if c != nil {
		return f
	}
	if (a.f.byTime || a.f.finish != nil) && f.Changed.IsZero() {
		x, err := a.f.store.Stat(a.s.ctx, f.Name)
		if err != nil {
			return f // it has gone, or is no file; the next listing offers it again
		}
		f = x
	}
	key := a.f.key(f)
	known, behind := a.s.known(f, key)
	if behind && (changed || !a.watched || !listed) { // what else is there was read before the mark was raised
		if f.Changed.IsZero() {
			f, _ = a.f.store.Stat(a.s.ctx, f.Name) // where it has gone, nothing has come
		}
		a.s.mu.Lock()
		since := a.s.lowAt
		a.s.mu.Unlock()
		if f.Changed.After(since) {
			a.late(f)
		}
	}
	if known {
		if fin := a.f.finish; fin != nil && !behind {
			a.s.finished(f)
		}
		return f
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.found[f.Name] != nil {
		return f
	}
	if known, _ := a.s.known(f, key); known { // somebody else offered it meanwhile, and it was taken
		return f
	}
	if len(a.order) >= mostWaiting {
		a.more = true
		last := slices.MaxFunc(a.order, func(x, y *candidate) int { return cmp.Compare(x.key, y.key) })
		if key >= last.key {
			return f
		}
		heap.Remove(&a.order, last.at)
		delete(a.found, last.file.Name)
	}
	c = &candidate{file: f, key: key}
	a.found[f.Name] = c
	heap.Push(&a.order, c)
	return f
}

// late notes that a file seems to have come behind what is remembered.
func (a *arrivals) late(f store.File) {
	h := xxhash.Sum64String(f.Name)
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.behind[h] && len(a.behind) < remembered {
		a.behind[h] = true
		a.strays = append(a.strays, f.Name)
	}
}

// tell says of files that came behind what is remembered, once they rest, and counts them.
func (a *arrivals) tell(ctx context.Context) {
	a.mu.Lock()
	names := a.strays
	a.strays = nil
	a.mu.Unlock()
	for _, n := range names {
		f, err := a.f.store.Stat(ctx, n)
		if err != nil {
			continue // it had another name for a while
		}
		if a.f.rest > 0 && time.Since(f.Changed) < a.f.rest {
			a.mu.Lock()
			a.strays = append(a.strays, n)
			a.mu.Unlock()
			continue
		}
		why := n + " has come behind the files that are remembered, by its place in the order, and is not read"
		a.s.flush()
		a.s.say(why)
		a.s.mu.Lock()
		at := a.s.next
		if f.Changed.After(a.s.saidOf) {
			a.s.saidOf = f.Changed
		}
		a.s.mu.Unlock()
		a.s.give(flow.Piece{Base: at, Next: at, Lost: 1, Why: why})
	}
}

// next implements feed.
func (a *arrivals) next(ctx context.Context) (*store.File, error) {
	if a.f.once && !a.listed {
		if err := a.list(ctx, true); err != nil {
			return nil, err
		}
		a.listed = true
	}
	if !a.f.once && !a.begun {
		a.begin()
	}
	a.tell(ctx)
	for {
		a.mu.Lock()
		err := a.failed
		var c *candidate
		if len(a.order) > 0 {
			c = a.order[0]
		}
		a.mu.Unlock()
		if c == nil {
			if a.f.once {
				return nil, io.EOF
			}
			return nil, err
		}
		f, err := a.f.store.Stat(ctx, c.file.Name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			a.drop(c) // it had another name for a while
			continue
		case err != nil && !a.f.store.Retry(err):
			a.drop(c)
			a.s.lose(fmt.Sprintf("%s cannot be read: %s", c.file.Name, err), c.file.Name, c.key)
			continue
		case err != nil:
			return nil, err
		}
		if key := a.f.key(f); key != c.key {
			a.mu.Lock()
			c.key, c.file = key, f
			heap.Fix(&a.order, c.at)
			a.mu.Unlock()
			continue
		}
		if !a.rests(c, f) {
			return nil, nil
		}
		a.s.takes(f)
		a.drop(c)
		return &f, nil
	}
}

// rests says whether a file has not been written for a while.
func (a *arrivals) rests(c *candidate, f store.File) bool {
	now := time.Now()
	a.mu.Lock() // whoever watches the directory says meanwhile that it was written
	defer a.mu.Unlock()
	if a.f.once || a.f.rest == 0 || f.Changed.Add(a.f.rest).Before(now) {
		return true
	}
	if c.since.IsZero() || f.Size != c.file.Size || !f.Changed.Equal(c.file.Changed) {
		c.file, c.since = f, now
		return false
	}
	if now.Sub(c.since) >= a.f.rest {
		return true // by a clock that goes ahead of ours
	}
	if first := now.Sub(c.since); first > time.Minute {
		a.s.say(fmt.Sprintf("waits for %s, which is still being written; files that grow are read with FOLLOW lines", f.Name))
	}
	return false
}

func (a *arrivals) drop(c *candidate) {
	a.mu.Lock()
	defer a.mu.Unlock()
	heap.Remove(&a.order, c.at)
	delete(a.found, c.file.Name)
}

// grows implements feed: files rest when they are read.
func (a *arrivals) grows(context.Context, store.File, int64) (more, replaced bool, err error) {
	return false, false, nil
}

// wait implements feed.
func (a *arrivals) wait(ctx context.Context) {
	d := time.Second
	a.mu.Lock()
	if len(a.order)+len(a.strays) > 0 { // one that rests soon
		d = min(100*time.Millisecond, a.f.rest+time.Millisecond)
	}
	a.mu.Unlock()
	select {
	case <-ctx.Done():
	case <-a.stirred:
	case <-time.After(d):
	}
}
