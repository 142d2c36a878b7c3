// Package kit tries connectors: it runs a job over real places through crashes, as the service does, with its checkpoints in a directory and its
// catalog in memory.
package kit

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"fiume/internal/checkpoint"
	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/disk"
	"fiume/internal/loopback"
	"fiume/internal/topiclog"
)

// FreePort gives a port of 127.0.0.1 at which nobody listens, and which no other test is given.
func FreePort(t testing.TB) int {
	t.Helper()
	port, err := loopback.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	return port
}

// Job is a job that goes on from its checkpoints.
type Job struct {
	Plan        *plan.Plan
	Env         contract.Env
	Dir         string // of its checkpoints and spools
	Every       time.Duration
	Parallelism int

	catalog entries
	mu      sync.Mutex
	job     *flow.Job
	kill    context.CancelFunc
	stop    context.CancelFunc
	ended   chan error
	said    []string
}

// entries are a catalog in memory.
type entries struct {
	mu  sync.Mutex
	all []checkpoint.Entry
}

// Add implements checkpoint.Catalog.
func (c *entries) Add(e checkpoint.Entry, keep int) (removed []string, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all = append([]checkpoint.Entry{e}, c.all...)
	for len(c.all) > keep {
		removed = append(removed, c.all[len(c.all)-1].File)
		c.all = c.all[:len(c.all)-1]
	}
	return removed, nil
}

// All implements checkpoint.Catalog.
func (c *entries) All() ([]checkpoint.Entry, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.all), nil
}

// New binds the text of a job. Its declarations are in the text.
func New(t testing.TB, src string, env contract.Env) *Job {
	t.Helper()
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("job.sql", src, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	env.Spools, env.Durable, env.Writer = filepath.Join(dir, "spools"), true, "job of a test"
	return &Job{Plan: plans[0], Env: env, Dir: filepath.Join(dir, "state"), Every: 50 * time.Millisecond, Parallelism: 2}
}

// Start begins a life. Where the places cannot be opened the life ends with an error, as when it fails later.
func (j *Job) Start(t testing.TB) {
	t.Helper()
	if err := os.MkdirAll(j.Dir, 0o700); err != nil {
		t.Fatal(err)
	}
	kill, killNow := context.WithCancel(context.Background())
	stop, stopNow := context.WithCancel(context.Background())
	j.kill, j.stop, j.ended = killNow, stopNow, make(chan error, 1)
	fs := disk.OS{}
	say := func(text string, args ...any) {
		j.mu.Lock()
		defer j.mu.Unlock()
		j.said = append(j.said, fmt.Sprint(append([]any{text, " "}, args...)...))
	}
	run := checkpoint.Run{
		Keeper: &checkpoint.Keeper{FS: fs, Dir: j.Dir, Catalog: &j.catalog, Version: 1, Now: time.Now, Log: say},
		Plan:   j.Plan, Opener: &connect.Opener{Env: j.Env}, Every: j.Every,
		Options: flow.Options{Parallelism: j.Parallelism, Describe: text.Describe, Say: say},
		Started: func(x *flow.Job) {
			j.mu.Lock()
			defer j.mu.Unlock()
			j.job = x
		},
	}
	go func() {
		err := run.Do(kill, stop)
		j.mu.Lock()
		j.job = nil
		j.mu.Unlock()
		j.ended <- err
	}()
}

// Status is what the job tells of itself; ok is false while it does not run.
func (j *Job) Status() (st flow.Status, ok bool) {
	j.mu.Lock()
	job := j.job
	j.mu.Unlock()
	if job == nil {
		return st, false
	}
	return job.Status(), true // a job may say something meanwhile, which takes the lock
}

// Samples gives the newest rows of the life at hand that are late, rejected or refused.
func (j *Job) Samples() []flow.NamedSample {
	j.mu.Lock()
	job := j.job
	j.mu.Unlock()
	if job == nil {
		return nil
	}
	return job.Samples()
}

// Said gives what the job has said, in all its lives.
func (j *Job) Said() []string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return slices.Clone(j.said)
}

// Kill ends a life as a crash does: nothing is written any more.
func (j *Job) Kill() error {
	j.kill()
	err := <-j.ended
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// Stop ends a life with a last checkpoint.
func (j *Job) Stop() error {
	j.stop()
	err := <-j.ended
	j.kill()
	return err
}

// Ended gives the error of a life that has ended by itself, and whether it has.
func (j *Job) Ended() (error, bool) {
	select {
	case err := <-j.ended:
		j.ended <- err
		return err, true
	default:
		return nil, false
	}
}

// Brief says that tests are to try less of the same: under the race detector, which makes them ten times slower ($BRIEF).
var Brief = os.Getenv("BRIEF") != ""

// Patience is how long it is waited for what is bound to come: $PATIENCE, or five minutes, which are seconds on a machine that is not busy.
var Patience = func() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("PATIENCE")); err == nil {
		return d
	}
	return 5 * time.Minute
}()

// Until waits until something is so. Looking takes a part of the time alone, so that tests beside each other leave it to the jobs.
func (j *Job) Until(t testing.TB, what string, so func() bool) {
	t.Helper()
	looked := time.Now()
	for deadline := looked.Add(Patience); !so(); looked = time.Now() {
		time.Sleep(max(10*time.Millisecond, 3*time.Since(looked)))
		if time.Now().After(deadline) {
			st, _ := j.Status()
			t.Fatalf("%s did not come about: %+v\n%+v\n%q", what, st.Splits, st.Steps, j.Said())
		}
		if err, over := j.Ended(); over && !so() { // it may have become so just before
			t.Fatalf("waiting until %s the job ended: %v", what, err)
		}
	}
}

// Settled waits until nothing is on its way in the job, and gives its status: every row that went into a step is accounted for.
func (j *Job) Settled(t testing.TB) (st flow.Status) {
	t.Helper()
	j.Until(t, "the ledger balances", func() (ok bool) {
		if st, ok = j.Status(); !ok {
			return false
		}
		for _, s := range st.Steps {
			if c := s.Counts; c.In != c.Passed+c.Filtered+c.Absorbed+c.Late+c.Rejected+c.Held {
				return false
			}
		}
		return true
	})
	return st
}

// Rows runs a query that comes to its end, and gives its rows as JSON, sorted, and what it counted.
func Rows(t testing.TB, src string, env contract.Env, parallelism int) (out []string, st flow.Status, err error) {
	t.Helper()
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", src, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	o := &connect.Opener{Env: env, Rows: &rows.Sink{Format: "json", Limit: -1, Each: func(row []byte) error {
		out = append(out, string(row))
		return nil
	}}}
	j, err := flow.New(plans[0], o, flow.Options{Parallelism: parallelism, Describe: text.Describe})
	if err != nil {
		return nil, st, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	err = j.Run(ctx)
	slices.Sort(out)
	return out, j.Status(), err
}

// Values gives the values of a topic's messages, sorted.
func Values(t testing.TB, topic *topiclog.Topic) (out []string) {
	t.Helper()
	for _, p := range topic.Partitions() {
		for at := p.First(); ; {
			b, next, err := p.Read(at, nil, 1<<20)
			if err != nil {
				t.Fatal(err)
			}
			if next == at {
				break
			}
			if err := topiclog.Views(b, at, func(v topiclog.View) { out = append(out, string(b[v.From:v.To])) }); err != nil {
				t.Fatal(err)
			}
			at = next
		}
	}
	slices.Sort(out)
	return out
}
