package topiclog

import (
	"math/rand/v2"
	"syscall"
	"testing"

	"fiume/internal/disk"
)

// TestNamed: what was appended outlives the loss of power also where the file that it is in was made by a process, or a moment, in which the directory could not be
// synced: nobody knows then that the file is in it for good.
func TestNamed(t *testing.T) {
	for _, killed := range []bool{true, false} { // the process ends there, or goes on
		for seed := range uint64(40) {
			memory := disk.NewMemory()
			s := memory.Session()
			log, err := OpenOn(s, "/topics", nil)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := log.Create("words", Settings{Partitions: 1}); err != nil {
				t.Fatal(err)
			}
			log.topics["words"].Partitions()[0].limit = 100
			fails := true
			add := func(v string) error {
				_, err := log.Topic("words").Partitions()[0].Append([]Record{{Value: []byte(v)}})
				return err
			}
			if err := add("one, and as long as a segment is, so that the next one begins another, which is made for it"); err != nil {
				t.Fatal(err)
			}
			s.Fault = func(op disk.Op) (int, error) {
				if fails && op.Kind == "syncdir" {
					return 0, syscall.EIO
				}
				return op.Size, nil
			}
			if err := add("two"); err == nil {
				t.Fatal("the directory was not synced, and it was appended")
			}
			fails = false
			if killed {
				s.Kill()
				s = memory.Session()
				if log, err = OpenOn(s, "/topics", nil); err != nil {
					t.Fatal(err)
				}
			}
			if err := add("three"); err != nil {
				t.Fatal(err)
			}
			s.PowerLoss(rand.New(rand.NewPCG(seed, 1)))
			if log, err = OpenOn(memory.Session(), "/topics", nil); err != nil {
				t.Fatal(err)
			}
			var got []string
			p := log.Topic("words").Partitions()[0]
			for at := p.First(); ; {
				b, next, err := p.Read(at, nil, 1<<20)
				if err != nil {
					t.Fatal(err)
				}
				if next == at {
					break
				}
				if err := Views(b, at, func(v View) { got = append(got, string(b[v.From:v.To])) }); err != nil {
					t.Fatal(err)
				}
				at = next
			}
			if len(got) == 0 || got[len(got)-1] != "three" {
				t.Fatalf("killed %v, seed %d: what was appended is gone: %q", killed, seed, got)
			}
			if err := log.Close(); err != nil {
				t.Fatal(err)
			}
		}
	}
}
