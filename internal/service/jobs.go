package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
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
)

const (
	defaultCheckpoint = 5 * time.Second
	firstRetry        = time.Second
	longestRetry      = 30 * time.Second
)

// job is a job's life in the service.
type job struct {
	s *Service

	mu        sync.Mutex
	row       catalog.Job
	since     time.Time // of the state
	reason    string
	run       *flow.Job
	cancel    context.CancelFunc
	done      chan struct{} // closed when the goroutine has ended; nil where there is none
	last      *flow.Status  // when nothing runs
	ckpt      CheckpointInfo
	tries     int
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
	State   string    `json:"state" enum:"starting,running,retrying,stopping,stopped,finished"`
	Since   time.Time `json:"since"`
	Reason  string    `json:"reason,omitempty" doc:"why it is retrying"`
	Version int       `json:"version"`
	In      int64     `json:"rows_in" doc:"messages read"`
	Out     int64     `json:"rows_out" doc:"rows written to sinks"`
	Late    int64     `json:"late"`
	Rejects int64     `json:"rejected"`
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
	j := &job{s: s, row: row, since: row.UpdatedAt}
	if row.State == stateFinished || row.Wanted == wantStopped {
		j.row.State = cmp.Or(row.State, stateStopped)
		if row.State != stateFinished {
			j.row.State = stateStopped
		}
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
	return j
}

// text gives the job's text.
func (j *job) text() string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.row.SQL
}

func (j *job) set(state, reason string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.row.State != state || j.reason != reason {
		j.since = time.Now().UTC()
	}
	j.row.State, j.reason = state, reason
	if err := j.s.store.SetJob(j.row.Name, map[string]any{"state": state, "reason": reason}); err != nil {
		j.s.log.Error("a job's state cannot be kept", "job", j.row.Name, "error", err)
	}
	j.s.log.Info("job", "name", j.row.Name, "state", state, "reason", reason)
}

// start begins the job's goroutine. The caller knows that none runs.
func (j *job) start() {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.done != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	j.cancel, j.done, j.tries = cancel, make(chan struct{}), 0
	go j.live(ctx)
}

// live runs the job until it is stopped or its inputs end, trying again after failures.
func (j *job) live(ctx context.Context) {
	defer func() {
		j.mu.Lock()
		close(j.done)
		j.done = nil
		j.mu.Unlock()
	}()
	wait := firstRetry
	for {
		j.set(stateStarting, "")
		began := time.Now()
		err := j.once(ctx)
		switch {
		case ctx.Err() != nil:
			return
		case err == nil:
			j.set(stateFinished, "")
			j.s.note("service", "finished", j.row.Name, "all inputs have ended")
			return
		}
		if time.Since(began) > time.Minute {
			wait = firstRetry
		}
		j.mu.Lock()
		j.tries++
		j.mu.Unlock()
		j.set(stateRetrying, err.Error())
		if j.tries == 1 {
			j.s.note("service", "retrying", j.row.Name, err.Error())
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = min(2*wait, longestRetry)
	}
}

// once runs the job from its last checkpoint until it ends, fails or is stopped.
func (j *job) once(ctx context.Context) error {
	p, err := j.s.planOf(j.row.SQL)
	if err != nil {
		return err
	}
	every := defaultCheckpoint
	if p.Checkpoint > 0 {
		every = time.Duration(p.Checkpoint) * time.Microsecond
	}
	if err := j.s.store.SetJob(j.row.Name, map[string]any{"settled": false}); err != nil {
		return err
	}
	r := checkpoint.Run{Keeper: j.keeper(), Plan: p, Opener: j.s.jobOpener(j.row.Name), Every: every, Options: flow.Options{Describe: text.Describe, Say: func(what string, args ...any) { j.s.log.Warn(what, append([]any{"job", j.row.Name}, args...)...) }, Parallelism: j.row.Parallelism, Memory: j.s.memoryOf(p)}}
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
	if err := j.s.store.SetJob(j.row.Name, map[string]any{"status": string(b), "settled": r.Settled}); err != nil {
		j.s.log.Error("a job's ledger cannot be kept", "job", j.row.Name, "error", err)
	}
	return err
}

// keeper keeps the job's checkpoints.
func (j *job) keeper() *checkpoint.Keeper {
	dir := filepath.Join(j.s.dir, stateDir(j.row.Name))
	return &checkpoint.Keeper{FS: disk.OS{}, Dir: dir, Journal: &checkpoint.Journal{FS: disk.OS{}, Dir: dir}, Catalog: entries{j.s.store, j.row.Name}, Version: j.row.Version, Now: time.Now,
		Log: func(text string, args ...any) { j.s.log.Error(text, append([]any{"job", j.row.Name}, args...)...) }}
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

// halt stops the job's goroutine and waits for it. With forget the job is meant to stay stopped.
func (j *job) halt(forget bool) {
	j.mu.Lock()
	done, cancel := j.done, j.cancel
	j.mu.Unlock()
	if done != nil {
		if forget {
			j.set(stateStopping, "")
		}
		cancel()
		<-done
	}
	if forget {
		j.set(stateStopped, "")
	}
}

// planOf binds a job's text.
func (s *Service) planOf(src string) (*plan.Plan, error) {
	script, err := sql.Parse("job", src, nil)
	if err != nil {
		return nil, err
	}
	errs := &sql.Errors{File: "job", Text: src}
	p := s.current().Job(script.Statements[0].(*sql.CreateJob), errs)
	return p, errs.Err()
}

func (j *job) info() JobInfo {
	st, _, _ := j.status()
	j.mu.Lock()
	defer j.mu.Unlock()
	i := JobInfo{Name: j.row.Name, State: j.row.State, Since: j.since, Reason: j.reason, Version: j.row.Version}
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
	}
	return i
}

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

// Jobs gives all jobs in the order of their names.
func (s *Service) Jobs() []JobInfo {
	s.mu.Lock()
	all := make([]*job, 0, len(s.jobs))
	for _, j := range s.jobs {
		all = append(all, j)
	}
	s.mu.Unlock()
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
	d := &JobDetail{JobInfo: j.info(), SQL: j.row.SQL}
	d.Status, d.Samples, d.Newest = j.status()
	if p, err := s.planOf(j.row.SQL); err == nil {
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

// want notes what a job should do from now on, unless its state is one of those that refuse it.
func (s *Service) want(name, wanted string, refused ...string) (*job, error) {
	j, err := s.jobNamed(name)
	if err != nil {
		return nil, err
	}
	j.mu.Lock()
	state := j.row.State
	j.mu.Unlock()
	switch {
	case wanted == wantRunning && state == stateFinished:
		return nil, errorf(ErrConflict, "the job %q has finished: its inputs have ended", name)
	case slices.Contains(refused, state):
		return nil, errorf(ErrConflict, "the job %q is already %s", name, state)
	}
	return j, s.store.SetJob(name, map[string]any{"wanted": wanted})
}

// StartJob starts a stopped job where it was; a finished one begins again only after it was dropped.
func (s *Service) StartJob(actor, name string) error {
	j, err := s.want(name, wantRunning, stateStarting, stateRunning, stateRetrying, stateStopping)
	if err != nil {
		return err
	}
	j.start()
	s.note(actor, "started", name, "")
	return nil
}

// StopJob stops a job; it keeps its place and its state.
func (s *Service) StopJob(actor, name string) error {
	j, err := s.want(name, wantStopped, stateStopped, stateFinished)
	if err != nil {
		return err
	}
	j.halt(true)
	s.note(actor, "stopped", name, "")
	return nil
}

// DropJob stops a job and forgets it, its place and its state. What it has written stays.
func (s *Service) DropJob(actor, name string) error {
	j, err := s.jobNamed(name)
	if err != nil {
		return err
	}
	j.halt(true)
	if err := s.store.DropJob(name); err != nil {
		return err
	}
	if p, err := s.planOf(j.row.SQL); err == nil {
		if err := s.jobOpener(name).Leave(p); err != nil {
			s.log.Error("what a dropped job held cannot be given up", "job", name, "error", err)
		}
	}
	s.mu.Lock()
	delete(s.jobs, name)
	s.mu.Unlock()
	s.note(actor, "dropped", name, "")
	return os.RemoveAll(filepath.Join(s.dir, stateDir(name)))
}

// stateDir is where a job's state lies in the data directory. A name can be any text.
func stateDir(job string) string { return filepath.Join("checkpoints", "job-"+url.PathEscape(job)) }
