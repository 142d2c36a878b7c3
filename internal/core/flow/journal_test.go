package flow

import (
	"context"
	"errors"
	"hash/crc32"
	"sync"
)

// memoryJournal is a journal for tests: what is freed cannot be read any more, unless a checkpoint may need it.
type memoryJournal struct {
	mu    sync.Mutex
	at    map[int64][]byte
	users map[int64]int
	next  int64
}

func newMemoryJournal() *memoryJournal {
	return &memoryJournal{at: map[int64][]byte{}, users: map[int64]int{}}
}

func (j *memoryJournal) Append(_ context.Context, b []byte) (Extent, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.next++
	j.at[j.next] = append([]byte(nil), b...)
	j.users[j.next]++
	return Extent{File: j.next/10 + 1, Off: j.next, Len: int64(len(b)), Sum: crc32.ChecksumIEEE(b)}, nil
}

func (j *memoryJournal) Read(e Extent) ([]byte, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	b, ok := j.at[e.Off]
	if !ok || int64(len(b)) != e.Len || crc32.ChecksumIEEE(b) != e.Sum {
		return nil, errors.New("nothing is there")
	}
	return b, nil
}

func (j *memoryJournal) use(e Extent, n int) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.users[e.Off] += n; j.users[e.Off] < 0 {
		panic("freed twice")
	}
}

func (j *memoryJournal) Adopt(e Extent) { j.use(e, 1) }
func (j *memoryJournal) Free(e Extent)  { j.use(e, -1) }
func (j *memoryJournal) Sparse() int64 {
	j.mu.Lock()
	defer j.mu.Unlock()
	return max(0, j.next/10-3)
}
func (j *memoryJournal) Waiting() *Waiting { return nil }

// forget makes the use of a run that has crashed no use any more.
func (j *memoryJournal) forget() {
	j.mu.Lock()
	defer j.mu.Unlock()
	clear(j.users)
}
