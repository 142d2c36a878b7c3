package e2e

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"fiume/demo"
	"fiume/internal/api"
)

// setting reads a number of a long run.
func setting(name string, def int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return def
}

// TestKilled kills the service again and again, without warning, while the race's reads come in and jobs write to
// topics, files and MariaDB: in the end each sink holds just what that of a job holds that ran without a break.
// KILLS, EVERY (milliseconds between kills) and RATE (reads a second) make it longer.
func TestKilled(t *testing.T) {
	t.Parallel()
	kills, every, rate := setting("KILLS", 4), time.Duration(setting("EVERY", 1500))*time.Millisecond, setting("RATE", 4000)
	dir, out := t.TempDir(), t.TempDir()
	p := serve(t, dir)
	address, db := raceDatabase(t)
	job := func(name string) string {
		for _, q := range rivalTables(name) {
			if _, err := db.Exec(q); err != nil {
				t.Fatal(err)
			}
		}
		return rivalJob(name, out)
	}
	p.apply(declareReads + p.endpoint(address) + job("broken"))

	// The reads come at a rate from one who tries again whatever fails: a part can be there twice, for both jobs.
	seconds := int((time.Duration(kills)*(every+time.Second) + 2*time.Second).Seconds())
	var reads []api.MessageRequest
	for _, m := range (demo.Day{Seed: 9, Runners: max(200, rate*seconds/36)}).Messages() {
		if m.Topic == "mat-reads" {
			key := m.Key
			reads = append(reads, api.MessageRequest{Key: &key, Value: string(m.Value)})
		}
	}
	var service atomic.Pointer[process]
	service.Store(p)
	fed := make(chan int)
	go func() {
		began, again := time.Now(), 0
		for i := 0; i < len(reads); {
			n := min(500, len(reads)-i)
			if service.Load().Write(t.Context(), "mat-reads", reads[i:i+n]) != nil {
				again++
				time.Sleep(20 * time.Millisecond)
				if t.Context().Err() != nil {
					break
				}
				continue
			}
			i += n
			time.Sleep(time.Until(began.Add(time.Duration(i) * time.Second / time.Duration(rate))))
		}
		fed <- again
	}()
	onDisk := int64(0) // the most of the state that was
	look := func() {
		for _, name := range []string{"broken", "whole"} {
			if kept, err := p.JobState(t.Context(), name); err == nil {
				sum := int64(0)
				for _, x := range kept.Steps {
					sum += x.Disk
				}
				onDisk = max(onDisk, sum)
			}
		}
	}
	for range kills {
		time.Sleep(every)
		look()
		p.kill()
		p = serve(t, dir)
		service.Store(p)
	}
	again := <-fed
	p.apply(job("whole"))

	topic, err := p.Topics(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var written int64
	for _, x := range topic {
		if x.Name != "mat-reads" {
			continue
		}
		written = x.Messages
		for _, part := range x.Partitions {
			for _, torn := range part.Lost { // a kill in the middle of a write: its sender was not told that it is there, and sent it again
				written -= torn.To - torn.From + 1
			}
		}
	}
	defer func() {
		if !t.Failed() {
			return
		}
		for _, name := range []string{"broken", "whole"} {
			j, err := p.Job(t.Context(), name)
			t.Logf("of %d reads: %+v, %v", written, j, err)
		}
	}()
	there := map[string]bool{}
	for _, value := range p.all("mat-reads") {
		there[value] = true
	}
	for _, r := range reads {
		if !there[r.Value] {
			t.Fatalf("a read that was written is lost: %s", r.Value)
		}
	}
	p.rivalsSettle(written, look)
	if onDisk == 0 {
		t.Error("the memory of the job was enough for its state")
	}
	for _, name := range []string{"broken", "whole"} { // a last checkpoint moves the open parts and delivers what is spooled
		p.fiume("", "job", "stop", name).want(t, 0)
	}
	p.rivalsAgree(out, func(cols, name string) []string {
		return texts(t, db, fmt.Sprintf("SELECT CONCAT_WS('|', %s) FROM %s", cols, name))
	})
	t.Logf("%d reads, %d kills, %d parts sent again, up to %d bytes of state on disk", written, kills, again, onDisk)
}

// all gives the messages of a topic of any size, sorted.
func (p *process) all(topic string) (rows []string) {
	p.t.Helper()
	info, err := p.Topics(p.t.Context())
	if err != nil {
		p.t.Fatal(err)
	}
	for _, x := range info {
		if x.Name != topic {
			continue
		}
		for _, part := range x.Partitions {
			for at := part.First; at < part.Next; {
				ms, err := p.Read(p.t.Context(), topic, map[string][]string{"partition": {strconv.Itoa(part.Partition)}, "from": {strconv.FormatInt(at, 10)}, "limit": {"50000"}})
				if err != nil {
					p.t.Fatal(err)
				}
				if len(ms) == 0 {
					break
				}
				for _, m := range ms {
					rows = append(rows, m.Value)
				}
				at = ms[len(ms)-1].Offset + 1
			}
		}
	}
	slices.Sort(rows)
	return rows
}
