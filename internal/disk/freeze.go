package disk

import (
	"context"
	"io"

	"sync"
)

// frozen is held by whoever changes files, and alone by who wants them to stand still.
var frozen sync.RWMutex

// Change is asked by who changes files beside OS, before he does; he calls what it gives when he has. In between he changes nothing through OS.
func Change() (done func()) {
	frozen.RLock()
	return frozen.RUnlock
}

// Freeze has all files of this process stand still until release is called, which must be soon: whatever writes waits meanwhile. What they are is what a machine
// that loses power at this moment would leave, if it had written all that it was told to. It gives up when the context ends.
func Freeze(ctx context.Context) (release func(), err error) {
	held := make(chan struct{})
	gone := make(chan struct{})
	go func() {
		frozen.Lock()
		select {
		case held <- struct{}{}:
		case <-gone:
			frozen.Unlock()
		}
	}()
	select {
	case <-held:
		return sync.OnceFunc(frozen.Unlock), nil
	case <-ctx.Done():
		close(gone)
		return nil, ctx.Err()
	}
}

func (f osFile) WriteAt(b []byte, at int64) (int, error) {
	frozen.RLock()
	defer frozen.RUnlock()
	return f.File.WriteAt(b, at)
}

func (f osFile) Truncate(size int64) error {
	frozen.RLock()
	defer frozen.RUnlock()
	return f.File.Truncate(size)
}

var _ io.WriterAt = osFile{}
