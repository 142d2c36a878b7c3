package service

import (
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
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
	keptCheckpoints   = 3
	lastCheckpoint    = 10 * time.Second // how long a job that is stopped may take for it
	firstRetry        = time.Second
	longestRetry      = 30 * time.Second
)

// job is a job's life in the service.
type job struct {
	s *Service

	mu     sync.Mutex
	row    catalog.Job
	since  time.Time // of the state
	reason string
	run    *flow.Job
	cancel context.CancelFunc
	done   chan struct{} // closed when the goroutine has ended; nil where there is none
	last   *flow.Status  // when nothing runs
	ckpt   CheckpointInfo
	tries  int
}

// CheckpointInfo is about a job's newest checkpoint.
type CheckpointInfo struct {
	Number int64     `json:"number"`
	At     time.Time `json:"at"`
	Bytes  int64     `json:"bytes"`
	TookMs int64     `json:"took_ms"`
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
		j.ckpt = CheckpointInfo{cs[0].Number, cs[0].CreatedAt, cs[0].Bytes, cs[0].TookMs}
	}
	return j
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
	snap, err := j.restore()
	if err != nil {
		return err
	}
	run, err := flow.New(p, j.s.opener(), flow.Options{Restore: snap, Describe: text.Describe})
	if err != nil {
		return err
	}
	j.mu.Lock()
	j.run = run
	j.mu.Unlock()
	defer func() {
		st := run.Status()
		b, _ := json.Marshal(st)
		j.mu.Lock()
		j.run, j.last = nil, &st
		j.mu.Unlock()
		if err := j.s.store.SetJob(j.row.Name, map[string]any{"status": string(b)}); err != nil {
			j.s.log.Error("a job's ledger cannot be kept", "job", j.row.Name, "error", err)
		}
	}()
	runCtx, cancelRun := context.WithCancel(context.Background())
	defer cancelRun()
	ended := make(chan error, 1)
	go func() { ended <- run.Run(runCtx) }()
	j.set(stateRunning, "")
	every := defaultCheckpoint
	if p.Checkpoint > 0 {
		every = time.Duration(p.Checkpoint) * time.Microsecond
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case err := <-ended:
			return err
		case <-tick.C:
			if err := j.checkpoint(ctx, run, time.Minute); err != nil && ctx.Err() == nil && !errors.Is(err, flow.ErrEnded) {
				j.s.log.Error("a checkpoint was abandoned", "job", j.row.Name, "error", err)
			}
		case <-ctx.Done():
			// A last checkpoint keeps place and state; without it the one before counts.
			if err := j.checkpoint(context.Background(), run, lastCheckpoint); err != nil && !errors.Is(err, flow.ErrEnded) {
				j.s.log.Error("the last checkpoint was abandoned", "job", j.row.Name, "error", err)
			}
			cancelRun()
			<-ended
			return nil
		}
	}
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

// checkpoint takes a checkpoint: the state goes to a file, and when that is on the disk its entry goes
// to the catalog, which makes it count.
func (j *job) checkpoint(ctx context.Context, run *flow.Job, limit time.Duration) error {
	began := time.Now()
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	snap, err := run.Checkpoint(ctx)
	if err != nil {
		return err
	}
	positions, err := snap.Positions()
	if err != nil {
		return err
	}
	j.mu.Lock()
	n := j.ckpt.Number + 1
	j.mu.Unlock()
	rel := filepath.Join(stateDir(j.row.Name), fmt.Sprintf("%012d.state", n))
	data := encodeState(snap.Windows)
	if err := writeFile(filepath.Join(j.s.dir, rel), data); err != nil {
		return err
	}
	info := CheckpointInfo{n, time.Now().UTC(), int64(len(data)), time.Since(began).Milliseconds()}
	old, err := j.s.store.AddCheckpoint(&catalog.Checkpoint{Job: j.row.Name, Version: j.row.Version, Number: n,
		Positions: string(positions), File: rel, Bytes: info.Bytes, TookMs: info.TookMs}, keptCheckpoints)
	if err != nil {
		return err
	}
	for _, f := range old {
		if err := os.Remove(filepath.Join(j.s.dir, f)); err != nil && !errors.Is(err, os.ErrNotExist) {
			j.s.log.Error("an old checkpoint cannot be removed", "file", f, "error", err)
		}
	}
	j.mu.Lock()
	j.ckpt = info
	j.mu.Unlock()
	return nil
}

// restore reads the newest checkpoint that can be read; nil where there is none.
func (j *job) restore() (*flow.Snapshot, error) {
	all, err := j.s.store.Checkpoints(j.row.Name)
	if err != nil {
		return nil, err
	}
	var failed error
	for _, c := range all {
		snap := &flow.Snapshot{}
		data, err := os.ReadFile(filepath.Join(j.s.dir, c.File))
		if err == nil {
			snap.Windows, err = decodeState(data)
		}
		if err == nil {
			err = json.Unmarshal([]byte(c.Positions), snap)
		}
		if err == nil {
			j.mu.Lock()
			j.ckpt.Number = max(j.ckpt.Number, all[0].Number)
			j.mu.Unlock()
			return snap, nil
		}
		j.s.log.Error("a checkpoint cannot be read; the one before it is tried", "job", j.row.Name, "number", c.Number, "error", err)
		failed = err
	}
	if failed != nil {
		return nil, fmt.Errorf("no checkpoint can be read: %w", failed)
	}
	return nil, nil
}

// stateMark stands before a state with its checksum; what was written before there were checksums begins with
// the small number of an operator.
const stateMark = 0x32_74_53_f1

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// encodeState writes the state of the steps: a mark and a CRC-32C of what follows, then for each operator its
// number, its pieces, each with its length; all little-endian uint32 but the lengths, which are uint64.
func encodeState(windows map[int][][]byte) []byte {
	le := binary.LittleEndian
	b := le.AppendUint64(nil, stateMark)
	ops := make([]int, 0, len(windows))
	for op := range windows {
		ops = append(ops, op)
	}
	slices.Sort(ops)
	for _, op := range ops {
		b = le.AppendUint32(b, uint32(op))
		b = le.AppendUint32(b, uint32(len(windows[op])))
		for _, p := range windows[op] {
			b = append(le.AppendUint64(b, uint64(len(p))), p...)
		}
	}
	le.PutUint32(b[4:], crc32.Checksum(b[8:], castagnoli))
	return b
}

func decodeState(b []byte) (map[int][][]byte, error) {
	le := binary.LittleEndian
	cut := errors.New("the state is cut short")
	if len(b) >= 8 && le.Uint32(b) == stateMark {
		if crc32.Checksum(b[8:], castagnoli) != le.Uint32(b[4:]) {
			return nil, errors.New("the state is damaged: its checksum differs")
		}
		b = b[8:]
	}
	out := map[int][][]byte{}
	for len(b) > 0 {
		if len(b) < 8 {
			return nil, cut
		}
		op, n := int(le.Uint32(b)), le.Uint32(b[4:])
		b = b[8:]
		for range n {
			if len(b) < 8 || uint64(len(b)-8) < le.Uint64(b) {
				return nil, cut
			}
			size := le.Uint64(b)
			out[op] = append(out[op], b[8:8+size])
			b = b[8+size:]
		}
	}
	return out, nil
}

// writeFile writes a file that is there whole or not at all.
func writeFile(path string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.Create(path + ".new")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// planOf binds a job's text.
func (s *Service) planOf(src string) (*plan.Plan, error) {
	script, err := sql.Parse("job", src, nil)
	if err != nil {
		return nil, err
	}
	errs := &sql.Errors{File: "job", Text: src}
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.cat.Job(script.Statements[0].(*sql.CreateJob), errs)
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
			if w := x.Waiting; w != nil && i.State == stateRunning {
				i.State, i.Since = stateRetrying, w.Since
				i.Reason = fmt.Sprintf("the sink %s cannot be written, tried %d times: %s", x.Step, w.Tries, w.Reason)
			}
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
	s.mu.Lock()
	delete(s.jobs, name)
	s.mu.Unlock()
	s.note(actor, "dropped", name, "")
	return os.RemoveAll(filepath.Join(s.dir, stateDir(name)))
}

// stateDir is where a job's state lies in the data directory. A name can be any text.
func stateDir(job string) string { return filepath.Join("checkpoints", "job-"+url.PathEscape(job)) }
