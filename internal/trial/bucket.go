package trial

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"sync"

	"fiume/internal/disk"
)

// bucket stands for an object store: it outlives crashes, is slow, is away, does not say what it has done, has pieces of objects that were never made whole,
// and gets what was once sent a second time, late.
type bucket struct {
	mu      sync.Mutex
	objects map[string][]byte
	pieces  map[string]bool // of objects that are not whole, by name
	sent    []object
	r       *rand.Rand
	life    context.Context
	wait    func()
	trouble func() (fails, done bool)
	of      float64 // how often what was sent comes again
}

// object is what was sent once.
type object struct {
	name    string
	content []byte
}

func (w *World) openBucket(o *opener) *bucket {
	if w.bucket == nil {
		w.bucket = &bucket{objects: map[string][]byte{}, pieces: map[string]bool{}, r: rand.New(rand.NewPCG(w.set.Seed, 7)), of: w.set.Trouble}
	}
	b := w.bucket
	b.mu.Lock()
	defer b.mu.Unlock()
	b.life, b.wait, b.trouble = o.kill, o.wait, o.trouble
	return b
}

// Put makes an object, whole or not at all.
func (b *bucket) Put(_ context.Context, name string, in io.ReaderAt, size int64) error {
	b.mu.Lock()
	wait := b.wait
	b.mu.Unlock()
	wait()
	content, err := io.ReadAll(io.NewSectionReader(in, 0, size))
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.pieces[name] = true
	if b.life.Err() != nil { // it may have been sent with the last breath
		if b.r.IntN(2) == 0 {
			b.keep(name, content)
		}
		return disk.ErrDead
	}
	fails, done := b.trouble()
	if fails && !done {
		return errAway
	}
	b.keep(name, content)
	if len(b.sent) > 0 && b.r.Float64() < b.of {
		x := b.sent[b.r.IntN(len(b.sent))]
		b.objects[x.name] = x.content
	}
	if fails {
		return errAway
	}
	return nil
}

func (b *bucket) keep(name string, content []byte) {
	b.objects[name] = content
	b.sent = append(b.sent, object{name, content})
	delete(b.pieces, name)
}

// Abort gives up pieces of objects that were never made whole.
func (b *bucket) Abort(_ context.Context, address string, ours func(key string) bool) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	maps.DeleteFunc(b.pieces, func(name string, _ bool) bool { return strings.HasPrefix(name, address+"/") && ours(name) })
	return nil
}

// Retry says whether a failure may pass by itself.
func (b *bucket) Retry(err error) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return errors.Is(err, errAway) && b.life.Err() == nil
}

// rows gives the rows of the parts at an address.
func (b *bucket) rows(address, form string) (out []string, err error) {
	if b == nil {
		return nil, nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(b.objects)) {
		if !strings.HasPrefix(name, address+"/") {
			continue
		}
		if !strings.HasPrefix(path.Base(name), "part-") {
			return nil, fmt.Errorf("the object %s is no part", name)
		}
		rows, err := partRows(name, bytes.Clone(b.objects[name]), form)
		if err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	for name := range b.pieces {
		if strings.HasPrefix(name, address+"/") {
			return nil, fmt.Errorf("pieces are left of the object %s, which was never made whole", name)
		}
	}
	return out, nil
}
