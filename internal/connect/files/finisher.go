package files

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"sync"

	"fiume/internal/connect/store"
)

// finisher moves or removes files that were read, when a checkpoint counts that has them.
type finisher struct {
	store   store.Store
	address string
	to      string // a directory; "": they are removed

	mu    sync.Mutex
	files []finished
	known map[store.File]bool
}

type finished struct {
	file store.File
	end  int64
}

// read notes that a file was read up to a position of the series.
func (f *finisher) read(file store.File, end int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.known == nil {
		f.known = map[store.File]bool{}
	}
	if !f.known[file] {
		f.known[file] = true
		f.files = append(f.files, finished{file, end})
	}
}

func (f *finisher) commit(ctx context.Context, pos int64) error {
	f.mu.Lock()
	n := 0
	for n < len(f.files) && f.files[n].end <= pos {
		n++
	}
	due := slices.Clone(f.files[:n])
	f.mu.Unlock()
	for i, x := range due {
		now, err := f.store.Stat(ctx, x.file.Name)
		switch {
		case err != nil:
		case now.Tag != x.file.Tag || !now.Changed.Equal(x.file.Changed): // another one of the same name
		case f.to == "delete":
			err = f.store.Remove(ctx, x.file.Name)
		default:
			err = f.store.Move(ctx, f.address, x.file.Name, f.to)
		}
		if errors.Is(err, fs.ErrNotExist) {
			err = nil // somebody was faster, or it was done before a crash
		}
		f.mu.Lock()
		if err == nil {
			f.files = f.files[1:]
			delete(f.known, x.file)
		}
		f.mu.Unlock()
		if err != nil {
			return fmt.Errorf("%s was read and cannot be put away, nor %d others: %w", x.file.Name, len(due)-i-1, err)
		}
	}
	return nil
}
