package files

import (
	"fmt"
	"sync"
	"testing"

	"fiume/internal/connect/store"
)

// TestOfferedAtOnce: a file that several find at the same time, while it is being taken, is taken once.
func TestOfferedAtOnce(t *testing.T) {
	f := &folder{reading: &reading{}}
	a := &arrivals{f: f, s: &series{reading: f.reading, linked: map[uint64]bool{}, seen: map[uint64]seen{}}, found: map[string]*candidate{}}
	taken := map[string]int{}
	for i := range 20_000 {
		file := store.File{Name: fmt.Sprintf("%06d", i)}
		var offering sync.WaitGroup
		for range 3 {
			offering.Go(func() { a.offer(file, false) })
		}
		over := make(chan struct{})
		go func() {
			offering.Wait()
			close(over)
		}()
		for last := false; ; {
			a.mu.Lock()
			c := a.found[file.Name]
			a.mu.Unlock()
			if c != nil { // as next does
				a.s.takes(file)
				a.drop(c)
				taken[file.Name]++
			} else if last {
				break
			}
			select {
			case <-over:
				last = true
			default:
			}
		}
		if taken[file.Name] != 1 {
			t.Fatalf("the file %s was taken %d times", file.Name, taken[file.Name])
		}
	}
}
