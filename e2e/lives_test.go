package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"fiume/internal/api"
)

// number reads a number from the environment.
func number(name string, usual int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return usual
}

// TestLives gives jobs random commands from one seed, several at a time, while messages are written, the service is killed, and its
// database is killed and held up. In the end each job is as it was wanted last, and has each row once. COMMANDS, JOBS and
// SEED make it longer, and another one.
func TestLives(t *testing.T) {
	t.Parallel()
	commands, jobs, seed := number("COMMANDS", 60), number("JOBS", 5), number("SEED", 1)
	r := rand.New(rand.NewPCG(uint64(seed), 3))
	dir := t.TempDir()
	p := serve(t, dir)
	p.apply(`CREATE TOPIC t (PARTITIONS 2); DECLARE STREAM t (n BIGINT, at TIMESTAMP) EVENT TIME at DELAY 1 HOUR FROM TOPIC 't';`)
	text := func(i, version int) string {
		return fmt.Sprintf(`CREATE OR REPLACE JOB j%d AS SELECT n, %d AS v FROM t UNIQUE BY (n) WITHIN 1 DAY ROUTE TO o%[1]d SET (CHECKPOINT EVERY 200 MILLISECONDS);`, i, version)
	}
	wanted := make([]string, jobs)
	for i := range jobs {
		p.apply(fmt.Sprintf("CREATE TOPIC o%d (PARTITIONS 1); DECLARE SINK o%[1]d TO TOPIC 'o%[1]d';", i) + text(i, 0))
		wanted[i] = "running"
	}
	written := 0
	write := func(end bool) {
		for { // until it is there, under one name
			var ms []api.MessageRequest
			for k := range 20 {
				at := time.Date(2026, 5, 17, 9, 0, (written+k)/2, 0, time.UTC)
				n := (written + k) / 2 // each twice
				if end {
					at, n = at.Add(48*time.Hour), -1-written-k
				}
				ms = append(ms, api.MessageRequest{Value: fmt.Sprintf(`{"n":%d,"at":"%s"}`, n, at.Format(time.RFC3339))})
			}
			if err := p.WriteBatch(t.Context(), "t", fmt.Sprint("b", written, end), ms); err == nil {
				written += 20
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	database := func(signal syscall.Signal) {
		if b, err := os.ReadFile(filepath.Join(dir, "mariadb", "pid")); err == nil {
			if pid, err := strconv.Atoi(strings.TrimSpace(string(b))); err == nil {
				_ = syscall.Kill(pid, signal)
			}
		}
	}
	var mu sync.Mutex
	did := map[string]int{}
	do := func(i int, what string, version, tasks int) {
		name := fmt.Sprint("j", i)
		var err error
		now := ""
		switch what {
		case "start":
			err, now = p.StartJob(t.Context(), name), "running"
		case "stop":
			err, now = p.StopJob(t.Context(), name), "stopped"
		case "replace":
			_, err = p.Apply(t.Context(), api.ScriptRequest{SQL: text(i, version)})
		case "parallelism":
			_ = p.fiume("", "job", "parallelism", name, fmt.Sprint(tasks))
		case "revert":
			_ = p.fiume("", "job", "revert", name)
		case "evolve": // all jobs get a stream with one column more
			more := ""
			for c := range version {
				more += fmt.Sprintf(", c%d BIGINT", c)
			}
			_, err = p.Apply(t.Context(), api.ScriptRequest{SQL: fmt.Sprintf(`DECLARE OR REPLACE STREAM t (n BIGINT%s, at TIMESTAMP) EVENT TIME at DELAY 1 HOUR FROM TOPIC 't';`, more)})
		}
		mu.Lock()
		defer mu.Unlock()
		did[what]++
		if now == "" {
			return
		}
		if err == nil {
			wanted[i] = now
			return
		}
		wanted[i] = "" // it failed, before or behind what counts; what is wanted is what the service says
	}
	columns := 0
	for c := 0; c < commands; {
		write(false)
		// Commands to several jobs at once, some of them to one.
		var wg sync.WaitGroup
		busy := map[int]bool{}
		for range 1 + r.IntN(4) {
			i := r.IntN(jobs)
			what := []string{"start", "stop", "replace", "parallelism", "revert", "start", "evolve"}[r.IntN(7)]
			if state := what == "start" || what == "stop"; state && busy[i] {
				continue // which of them is last would not be known
			} else if state {
				busy[i] = true
			}
			version, tasks := r.IntN(100), 1+r.IntN(4)
			if what == "evolve" {
				if busy[-1] {
					continue // a column that is there already would be gone
				}
				busy[-1] = true
				columns++
				version = columns
			}
			wg.Go(func() { do(i, what, version, tasks) })
			c++
		}
		switch r.IntN(12) {
		case 0:
			time.Sleep(time.Duration(r.IntN(300)) * time.Millisecond)
			p.kill()
			wg.Wait()
			p = serve(t, dir)
			did["kill"]++
		case 1:
			database(syscall.SIGSTOP)
			time.Sleep(time.Duration(r.IntN(3000)) * time.Millisecond)
			database(syscall.SIGCONT)
			did["freeze"]++
		case 2:
			database(syscall.SIGKILL)
			did["database"]++
		}
		wg.Wait()
	}
	t.Logf("%v, %d messages", did, written)
	rows := written / 2
	write(true) // what is held is given
	for i := range jobs {
		name := fmt.Sprint("j", i)
		state := func() string {
			j, err := p.Job(t.Context(), name)
			if err != nil {
				return err.Error()
			}
			return j.State
		}
		if wanted[i] != "" {
			eventually(t, fmt.Sprintf("%s to be %s (it is %s)", name, wanted[i], state()), func() bool { return state() == wanted[i] })
		}
		if s := state(); s != "running" {
			eventually(t, name+" to start", func() bool { _ = p.StartJob(t.Context(), name); return state() == "running" })
		}
		var ns []int
		eventually(t, fmt.Sprintf("%s to have %d rows", name, rows), func() bool {
			ns = ns[:0]
			for _, v := range p.values(fmt.Sprint("o", i)) {
				var row struct{ N int }
				if err := json.Unmarshal([]byte(v), &row); err != nil {
					t.Fatal(err)
				}
				if row.N >= 0 {
					ns = append(ns, row.N)
				}
			}
			return len(ns) >= rows
		})
		slices.Sort(ns)
		if len(ns) != rows || len(slices.Compact(ns)) != rows {
			t.Errorf("%s has %d rows, wanted %d, each once", name, len(ns), rows)
		}
	}
}
