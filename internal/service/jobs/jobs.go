// Package jobs runs the jobs: their lives, versions, checkpoints, state and history, and the rows they set aside.
package jobs

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/checkpoint"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/disk"
	"fiume/internal/service/base"
	"fiume/internal/service/topics"
	"fiume/internal/service/traces"
)

// PlanIn reads the text of a job against a catalog.
func PlanIn(cat *plan.Catalog, src string) (*plan.Plan, error) {
	script, err := sql.Parse("job", src, nil)
	if err != nil {
		return nil, err
	}
	errs := &sql.Errors{File: "job", Text: src}
	p := cat.Job(script.Statements[0].(*sql.CreateJob), errs)
	return p, errs.Err()
}

// What a job should do, and what it does.
const (
	wantRunning = "running"
	wantStopped = "stopped"

	stateStarting = "starting"
	StateRunning  = "running"
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

// Jobs are the jobs of a service.
type Jobs struct {
	*base.Base
	topics *topics.Topics
	memory int64 // of the state of a job

	mu   sync.Mutex
	jobs map[string]*Job
}

// New gives the jobs that the store keeps, where each was. memory is how many bytes of state a job may hold where it does not say so
// itself.
func New(b *base.Base, topics *topics.Topics, memory int64) (*Jobs, error) {
	s := &Jobs{Base: b, topics: topics, memory: memory, jobs: map[string]*Job{}}
	b.Written = s.written
	rows, err := b.Store.Jobs()
	for _, r := range rows {
		s.jobs[r.Name] = s.newJob(r)
	}
	return s, err
}

// Resume starts the jobs that were running when the service last ended.
func (s *Jobs) Resume() {
	for _, j := range s.All() {
		if row := j.Record(); row.Wanted == wantRunning && row.State != stateFinished {
			_ = j.tell(context.Background(), func() error { j.start(); return nil })
		}
	}
}

// Close stops all jobs, each after a last checkpoint.
func (s *Jobs) Close() {
	var wg sync.WaitGroup
	for _, j := range s.All() {
		wg.Go(j.leave)
	}
	wg.Wait()
}

// Create makes a job of a text that was checked, and starts it; begin is where it begins to read topics, unless nil.
func (s *Jobs) Create(ctx context.Context, actor, name, src string, begin *plan.Bound) error {
	row := catalog.Job{Name: name, SQL: src, Version: 1, Wanted: wantRunning, State: stateStarting}
	if err := s.Store.CreateJob(&row, actor); err != nil {
		return err
	}
	j := s.newJob(row)
	s.mu.Lock()
	s.jobs[name] = j
	s.mu.Unlock()
	s.Note(actor, "created", name, src)
	return j.tell(ctx, func() error {
		if begin != nil && begin.Kind != plan.Beginning {
			if err := j.beginAt(*begin); err != nil {
				return err
			}
		}
		j.start()
		return nil
	})
}

// Job is a job in the service; life.go says who does what with it.
type Job struct {
	s        *Jobs
	Name     string
	commands chan command
	gone     chan struct{} // closed when no more commands are taken

	// Of the goroutine that takes commands:
	runner *runner // nil: the job does not run
	over   bool    // it takes no more commands

	sensitive atomic.Pointer[sensitiveSinks]

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
	Left    int64     `json:"left" doc:"messages that wait to be read"`
	Lag     float64   `json:"lag" doc:"how far the watermark lies behind the newest event, seconds"`
	Recent  []float64 `json:"recent" doc:"messages read a second over the last five minutes, the newest last"`
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

func (s *Jobs) newJob(row catalog.Job) *Job {
	j := &Job{s: s, Name: row.Name, row: row, since: row.UpdatedAt, commands: make(chan command), gone: make(chan struct{})}
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
	if cs, err := s.Store.Checkpoints(row.Name); err == nil && len(cs) > 0 {
		j.ckpt = CheckpointInfo{cs[0].Number, cs[0].CreatedAt, cs[0].Bytes, cs[0].TookMs, cs[0].Version}
	}
	go j.live()
	return j
}

// Record gives a copy of what is kept of the job.
func (j *Job) Record() catalog.Job {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.row
}

// Versioned notes the number of a version that the store keeps.
func (j *Job) Versioned(version int) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.row.Version = version
}

// Text gives the job's text.
func (j *Job) Text() string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.row.SQL
}

// once runs the job from its last checkpoint until it ends, fails or is stopped.
func (j *Job) once(ctx context.Context) error {
	row := j.Record()
	p, err := j.s.PlanOf(row.SQL)
	if err != nil {
		return err
	}
	every := defaultCheckpoint
	if p.Checkpoint > 0 {
		every = time.Duration(p.Checkpoint) * time.Microsecond
	}
	if err := j.s.Store.SetJob(j.Name, map[string]any{"settled": false}); err != nil {
		return err
	}
	if err := j.mark(p); err != nil {
		return err
	}
	r := checkpoint.Run{Keeper: j.keeper(), Plan: p, Opener: j.s.JobOpener(j.Name), Every: every, Options: flow.Options{Describe: text.Describe, Say: func(what string, args ...any) { j.s.Log.Warn(what, append([]any{"job", j.Name}, args...)...) }, Parallelism: row.Parallelism, Memory: j.s.memoryOf(p)}}
	var run *flow.Job
	r.Started = func(started *flow.Job) {
		run = started
		j.mu.Lock()
		j.run = run
		j.mu.Unlock()
		j.set(StateRunning, "")
	}
	r.Options.Delivered = func(sink string, began time.Time, err error) {
		traces.Was(traces.Delivery, began, err, traces.Job.String(j.Name), traces.Sink.String(sink))
	}
	r.Saved = func(e checkpoint.Entry) {
		traces.Was(traces.Checkpoint, time.Now().Add(-e.Took), nil, traces.Job.String(j.Name), traces.Number.Int64(e.Number), traces.Bytes.Int64(e.Bytes))
		if run != nil {
			j.measure(run)
		}
		j.mu.Lock()
		j.ckpt, j.abandoned = checkpointInfo(e), nil
		j.mu.Unlock()
	}
	r.Stood = func() {
		j.mu.Lock()
		j.ckpt.At, j.abandoned = time.Now().UTC(), nil
		j.mu.Unlock()
	}
	r.Abandoned = func(err error) {
		traces.Was(traces.Checkpoint, time.Now(), err, traces.Job.String(j.Name))
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
	if err := j.s.Store.SetJob(j.Name, map[string]any{"status": string(b), "settled": r.Settled}); err != nil {
		j.s.Log.Error("a job's ledger cannot be kept", "job", j.Name, "error", err)
	}
	return err
}

// keeper keeps the job's checkpoints.
func (j *Job) keeper() *checkpoint.Keeper {
	dir := filepath.Join(j.s.Dir, base.StateDir(j.Name))
	return &checkpoint.Keeper{FS: disk.OS{}, Dir: dir, Journal: &checkpoint.Journal{FS: disk.OS{}, Dir: dir}, Catalog: entries{j.s.Store, j.Name}, Version: j.Record().Version, Now: time.Now,
		Log: func(text string, args ...any) { j.s.Log.Error(text, append([]any{"job", j.Name}, args...)...) }}
}

// memoryOf is how many bytes of state a job may hold in memory.
func (s *Jobs) memoryOf(p *plan.Plan) int64 { return cmp.Or(p.Memory, s.memory) }

// entries are a job's checkpoints in the catalog.
type entries struct {
	store catalog.Records
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

// PlanOf binds a job's text.
func (s *Jobs) PlanOf(src string) (*plan.Plan, error) { return PlanIn(s.Current(), src) }

// Info says what the job does now.
func (j *Job) Info() JobInfo {
	return j.info(j.ledger())
}

// info is Info with a ledger that was asked for already.
func (j *Job) info(st flow.Status) JobInfo {
	recent, newest := j.recent()
	j.mu.Lock()
	defer j.mu.Unlock()
	i := JobInfo{Recent: recent, Left: newest.Left, Lag: newest.Lag, Name: j.row.Name, State: j.row.State, Since: j.since, Reason: j.reason, Version: j.row.Version}
	for _, x := range st.Splits {
		if h := x.Holds; h != nil && i.State == StateRunning {
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
		if w := x.Waiting; w != nil && i.State == StateRunning {
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

// ledger gives the status of the run, or of the last one.
func (j *Job) ledger() flow.Status {
	j.mu.Lock()
	run, last := j.run, j.last
	j.mu.Unlock()
	switch {
	case run != nil:
		return run.Status()
	case last != nil:
		return *last
	}
	return flow.Status{Steps: []flow.Step{}, Splits: []flow.SplitStatus{}}
}

// Status gives the ledger, samples of rows set aside, and the newest rows by step: of the run, or of the last one.
func (j *Job) Status() (flow.Status, []flow.NamedSample, map[string][]string) {
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

// Find gives a job, or nil.
func (s *Jobs) Find(name string) *Job {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.jobs[name]
}

// All lists the jobs, in no order.
func (s *Jobs) All() []*Job {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Values(s.jobs))
}

// List gives all jobs in the order of their names.
func (s *Jobs) List() []JobInfo {
	all := s.All()
	out := make([]JobInfo, len(all))
	for i, j := range all {
		out[i] = j.Info()
	}
	slices.SortFunc(out, func(a, b JobInfo) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Named gives a job; the error suggests another name.
func (s *Jobs) Named(name string) (*Job, error) {
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
		return nil, base.Errorf(base.ErrNotFound, "no job is called %q%s", name, hint)
	}
	return j, nil
}

// Get gives all there is to know of a job.
func (s *Jobs) Get(name string) (*JobDetail, error) {
	j, err := s.Named(name)
	if err != nil {
		return nil, err
	}
	d := &JobDetail{JobInfo: j.Info(), SQL: j.Text()}
	d.Status, d.Samples, d.Newest = j.Status()
	if p, err := s.PlanOf(d.SQL); err == nil {
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

// Measure is what measuring a job gives.
type Measure struct {
	JobInfo
	Status     flow.Status
	Checkpoint CheckpointInfo // Number 0: there is none yet
	Abandoned  *flow.Waiting  // why checkpoints do not come about
}

// Measure measures all jobs, in the order of their names.
func (s *Jobs) Measure() []Measure {
	all := s.All()
	slices.SortFunc(all, func(a, b *Job) int { return cmp.Compare(a.Name, b.Name) })
	out := make([]Measure, len(all))
	for i, j := range all {
		m := Measure{Status: j.ledger()}
		m.JobInfo = j.info(m.Status)
		j.mu.Lock()
		m.Checkpoint = j.ckpt
		if j.abandoned != nil {
			a := *j.abandoned
			m.Abandoned = &a
		}
		j.mu.Unlock()
		out[i] = m
	}
	return out
}
