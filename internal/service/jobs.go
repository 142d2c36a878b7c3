package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/checkpoint"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/disk"
)

// What a job should do, and what it does.
const (
	wantRunning = "running"
	wantStopped = "stopped"

	stateStarting = "starting"
	stateRunning  = "running"
	stateRetrying = "retrying" // it failed and will be started again from its last checkpoint, or a sink waits for its place
	stateStopping = "stopping"
	stateStopped  = "stopped"
	stateFinished = "finished" // its inputs have ended
	stateFailed   = "failed"   // faults of the program have ended it again and again: it rests
)

const (
	defaultCheckpoint = 5 * time.Second
	firstRetry        = time.Second
	longestRetry      = 30 * time.Second
)

// job is a job in the service; life.go says who does what with it.
type job struct {
	s        *Service
	name     string
	commands chan command
	gone     chan struct{} // closed when no more commands are taken

	// Of the goroutine that takes commands:
	runner *runner // nil: the job does not run
	over   bool    // it takes no more commands

	saving sync.Mutex // held while a state is noted and kept

	mu        sync.Mutex
	row       catalog.Job
	since     time.Time // of the state
	reason    string
	run       *flow.Job
	last      *flow.Status // when nothing runs
	ckpt      CheckpointInfo
	abandoned *flow.Waiting // why checkpoints do not come about
	sizes     []sizes       // of the steps' state, oldest first

	watching sync.Mutex // guards watched
	watched  watch
}

// CheckpointInfo is about a job's newest checkpoint.
type CheckpointInfo struct {
	Number  int64     `json:"number"`
	At      time.Time `json:"at"`
	Bytes   int64     `json:"bytes"`
	TookMs  int64     `json:"took_ms"`
	Version int       `json:"version" doc:"of the job"`
}

// JobInfo is a job in a list.
type JobInfo struct {
	Name    string    `json:"name"`
	State   string    `json:"state" enum:"starting,running,retrying,stopping,stopped,finished,failed"`
	Since   time.Time `json:"since"`
	Reason  string    `json:"reason,omitempty" doc:"why it is retrying, or has failed"`
	Version int       `json:"version"`
	In      int64     `json:"rows_in" doc:"messages read"`
	Out     int64     `json:"rows_out" doc:"rows written to sinks"`
	Late    int64     `json:"late"`
	Rejects int64     `json:"rejected"`
	Lost    int64     `json:"lost,omitempty" doc:"messages that were damaged, or removed by retention, before they were read"`
}

// JobDetail is all there is to know of a job.
type JobDetail struct {
	JobInfo
	SQL        string              `json:"sql"`
	Explain    string              `json:"explain"`
	Plan       *plan.Explanation   `json:"plan,omitempty"`
	Status     flow.Status         `json:"status"`
	Samples    []flow.NamedSample  `json:"samples" doc:"the newest late and rejected rows"`
	Newest     map[string][]string `json:"newest" doc:"a sample of the newest rows by step, as JSON"`
	Checkpoint *CheckpointInfo     `json:"checkpoint,omitempty"`
	Abandoned  *flow.Waiting       `json:"abandoned,omitempty" doc:"why checkpoints do not come about, since when, and how often they were tried"`
}

func (s *Service) newJob(row catalog.Job) *job {
	j := &job{s: s, name: row.Name, row: row, since: row.UpdatedAt, commands: make(chan command), gone: make(chan struct{})}
	if row.State == stateFinished || row.Wanted == wantStopped {
		j.row.State = cmp.Or(row.State, stateStopped)
		if row.State != stateFinished {
			j.row.State = stateStopped
		}
	}
	if row.State == stateFailed {
		j.reason = row.Reason
	}
	if row.Status != "" {
		var st flow.Status
		if json.Unmarshal([]byte(row.Status), &st) == nil {
			j.last = &st
		}
	}
	if cs, err := s.store.Checkpoints(row.Name); err == nil && len(cs) > 0 {
		j.ckpt = CheckpointInfo{cs[0].Number, cs[0].CreatedAt, cs[0].Bytes, cs[0].TookMs, cs[0].Version}
	}
	go j.live()
	return j
}

// record gives a copy of what is kept of the job.
func (j *job) record() catalog.Job {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.row
}

// text gives the job's text.
func (j *job) text() string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.row.SQL
}

// once runs the job from its last checkpoint until it ends, fails or is stopped.
func (j *job) once(ctx context.Context) error {
	row := j.record()
	p, err := j.s.planOf(row.SQL)
	if err != nil {
		return err
	}
	every := defaultCheckpoint
	if p.Checkpoint > 0 {
		every = time.Duration(p.Checkpoint) * time.Microsecond
	}
	if err := j.s.store.SetJob(j.name, map[string]any{"settled": false}); err != nil {
		return err
	}
	r := checkpoint.Run{Keeper: j.keeper(), Plan: p, Opener: j.s.jobOpener(j.name), Every: every, Options: flow.Options{Describe: text.Describe, Say: func(what string, args ...any) { j.s.log.Warn(what, append([]any{"job", j.name}, args...)...) }, Parallelism: row.Parallelism, Memory: j.s.memoryOf(p)}}
	var run *flow.Job
	r.Started = func(started *flow.Job) {
		run = started
		j.mu.Lock()
		j.run = run
		j.mu.Unlock()
		j.set(stateRunning, "")
	}
	r.Saved = func(e checkpoint.Entry) {
		if run != nil {
			j.measure(run)
		}
		j.mu.Lock()
		j.ckpt, j.abandoned = checkpointInfo(e), nil
		j.mu.Unlock()
	}
	r.Abandoned = func(err error) {
		j.mu.Lock()
		defer j.mu.Unlock()
		if j.abandoned == nil {
			j.abandoned = &flow.Waiting{Since: time.Now().UTC()}
		}
		j.abandoned.Reason, j.abandoned.Tries = err.Error(), j.abandoned.Tries+1
	}
	err = r.Do(context.Background(), ctx)
	if run == nil {
		return err
	}
	j.mu.Lock()
	j.row.Settled = r.Settled
	j.mu.Unlock()
	st := run.Status()
	b, _ := json.Marshal(st)
	j.mu.Lock()
	j.run, j.last = nil, &st
	j.mu.Unlock()
	if err := j.s.store.SetJob(j.name, map[string]any{"status": string(b), "settled": r.Settled}); err != nil {
		j.s.log.Error("a job's ledger cannot be kept", "job", j.name, "error", err)
	}
	return err
}

// keeper keeps the job's checkpoints.
func (j *job) keeper() *checkpoint.Keeper {
	dir := filepath.Join(j.s.dir, stateDir(j.name))
	return &checkpoint.Keeper{FS: disk.OS{}, Dir: dir, Journal: &checkpoint.Journal{FS: disk.OS{}, Dir: dir}, Catalog: entries{j.s.store, j.name}, Version: j.record().Version, Now: time.Now,
		Log: func(text string, args ...any) { j.s.log.Error(text, append([]any{"job", j.name}, args...)...) }}
}

// memoryOf is how many bytes of state a job may hold in memory.
func (s *Service) memoryOf(p *plan.Plan) int64 { return cmp.Or(p.Memory, s.memory) }

// entries are a job's checkpoints in the catalog.
type entries struct {
	store *catalog.Store
	job   string
}

// Add implements checkpoint.Catalog.
func (c entries) Add(e checkpoint.Entry, keep int) ([]string, error) {
	return c.store.AddCheckpoint(&catalog.Checkpoint{Job: c.job, Version: e.Version, Number: e.Number, Positions: e.Positions, File: e.File,
		Bytes: e.Bytes, TookMs: e.Took.Milliseconds(), CreatedAt: e.At}, keep)
}

// All implements checkpoint.Catalog.
func (c entries) All() ([]checkpoint.Entry, error) {
	rows, err := c.store.Checkpoints(c.job)
	out := make([]checkpoint.Entry, len(rows))
	for i, r := range rows {
		out[i] = checkpoint.Entry{Number: r.Number, Version: r.Version, Positions: r.Positions, File: r.File, Bytes: r.Bytes, Took: time.Duration(r.TookMs) * time.Millisecond, At: r.CreatedAt}
	}
	return out, err
}

func checkpointInfo(e checkpoint.Entry) CheckpointInfo {
	return CheckpointInfo{e.Number, e.At, e.Bytes, e.Took.Milliseconds(), e.Version}
}

// planOf binds a job's text.
func (s *Service) planOf(src string) (*plan.Plan, error) { return planIn(s.current(), src) }

func (j *job) info() JobInfo {
	st, _, _ := j.status()
	j.mu.Lock()
	defer j.mu.Unlock()
	i := JobInfo{Name: j.row.Name, State: j.row.State, Since: j.since, Reason: j.reason, Version: j.row.Version}
	for _, x := range st.Splits {
		if h := x.Holds; h != nil && i.State == stateRunning {
			i.Reason = fmt.Sprintf("waits for %s, which has had no row for %s", x.Split, lengthText(h.Silent))
			if h.Behind > 0 {
				i.Reason += fmt.Sprintf(" and is %s behind the others", lengthText(h.Behind))
			}
			i.Reason += fmt.Sprintf("; with IDLE AFTER in its declaration the stream %s would not wait for it", x.Stream)
		}
	}
	for _, x := range st.Steps {
		switch x.Kind {
		case "scan":
			if !x.Table { // what is only looked into is no input
				i.In += x.Counts.In
			}
		case "output":
			i.Out += x.Out
		}
		if w := x.Waiting; w != nil && i.State == stateRunning {
			what := "the sink " + x.Step
			if x.Kind != "output" {
				what = "the state of " + x.Step
			}
			i.State, i.Since = stateRetrying, w.Since
			i.Reason = fmt.Sprintf("%s cannot be written, tried %d times: %s", what, w.Tries, w.Reason)
		}
		i.Late += x.Counts.Late
		i.Rejects += x.Counts.Rejected
		i.Lost += x.Counts.Lost
	}
	return i
}

// lengthText is a length of time in words, to the second.
func lengthText(micros int64) string { return sql.DurationText(micros / types.Second * types.Second) }

func (j *job) status() (flow.Status, []flow.NamedSample, map[string][]string) {
	j.mu.Lock()
	run, last := j.run, j.last
	j.mu.Unlock()
	switch {
	case run != nil:
		return run.Status(), run.Samples(), run.Newest()
	case last != nil:
		return *last, []flow.NamedSample{}, map[string][]string{}
	}
	return flow.Status{Steps: []flow.Step{}, Splits: []flow.SplitStatus{}}, []flow.NamedSample{}, map[string][]string{}
}

// all lists the jobs, in no order.
func (s *Service) all() []*job {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Values(s.jobs))
}

// Jobs gives all jobs in the order of their names.
func (s *Service) Jobs() []JobInfo {
	all := s.all()
	out := make([]JobInfo, len(all))
	for i, j := range all {
		out[i] = j.info()
	}
	slices.SortFunc(out, func(a, b JobInfo) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

func (s *Service) jobNamed(name string) (*job, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	j := s.jobs[name]
	if j == nil {
		var names []string
		for n := range s.jobs {
			names = append(names, n)
		}
		hint := ""
		if x := sql.Suggest(name, names); x != "" {
			hint = fmt.Sprintf("; did you mean %q?", x)
		}
		return nil, errorf(ErrNotFound, "no job is called %q%s", name, hint)
	}
	return j, nil
}

// Job gives all there is to know of a job.
func (s *Service) Job(name string) (*JobDetail, error) {
	j, err := s.jobNamed(name)
	if err != nil {
		return nil, err
	}
	d := &JobDetail{JobInfo: j.info(), SQL: j.text()}
	d.Status, d.Samples, d.Newest = j.status()
	if p, err := s.planOf(d.SQL); err == nil {
		d.Plan = p.Explain(0)
		d.Explain = d.Plan.String()
	}
	j.mu.Lock()
	if j.ckpt.Number > 0 {
		c := j.ckpt
		d.Checkpoint = &c
	}
	if j.abandoned != nil {
		a := *j.abandoned
		d.Abandoned = &a
	}
	j.mu.Unlock()
	return d, nil
}

// stateDir is where a job's state lies in the data directory. A name can be any text.
func stateDir(job string) string { return filepath.Join("checkpoints", "job-"+url.PathEscape(job)) }
