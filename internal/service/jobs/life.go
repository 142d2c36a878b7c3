package jobs

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/disk"
	"fiume/internal/service/base"
)

// The life of a job is in one goroutine's hands. It takes commands (start, stop, replace, drop …) one after another and
// does each to its end, so that none meets the job in the middle of another: a job that is stopped while its text is replaced is
// stopped then, and one that is dropped does not come back. What others see of the job is a copy (Record, Info).
//
// Beside it a second goroutine, the runner, runs the job again and again until it is told to end.

// command is something to do to a job.
type command struct {
	do   func() error
	done chan error
}

// live takes commands until the job is dropped or the service ends.
func (j *Job) live() {
	defer close(j.gone)
	for c := range j.commands {
		err := c.do()
		c.done <- err
		if j.over {
			return
		}
	}
}

// tell has a command done and waits for it. Where the caller goes first, before its turn has come, it is not done.
func (j *Job) tell(ctx context.Context, do func() error) error {
	c := command{do, make(chan error, 1)}
	select {
	case j.commands <- c:
		return <-c.done
	case <-j.gone:
		return base.Errorf(base.ErrNotFound, "no job is called %q any more", j.Name)
	case <-ctx.Done():
		return ctx.Err()
	}
}

// runner is the goroutine that runs a job.
type runner struct {
	cancel context.CancelFunc
	done   chan struct{}
}

// start begins the runner, where none is at work. It is part of a command.
func (j *Job) start() {
	if j.runs() {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	r := &runner{cancel, make(chan struct{})}
	j.runner = r
	j.set(stateStarting, "")
	go func() {
		defer close(r.done)
		j.retry(ctx)
	}()
}

// runs says whether the runner is at work.
func (j *Job) runs() bool {
	if j.runner == nil {
		return false
	}
	select {
	case <-j.runner.done:
		return false
	default:
		return true
	}
}

// halt ends the runner and waits for it. With forget the job is meant to stay stopped. It is part of a command.
func (j *Job) halt(forget bool) {
	if j.runs() {
		if forget {
			j.set(stateStopping, "")
		}
		j.runner.cancel()
		<-j.runner.done
	}
	j.runner = nil
	if forget {
		j.set(stateStopped, "")
	}
}

// mostFaults is how often a run may end by a fault of the program before the job rests: the rows that cause it come again.
const mostFaults = 3

// retry runs the job until it is stopped or its inputs end, trying again after failures.
func (j *Job) retry(ctx context.Context) {
	wait := firstRetry
	for tries, faults := 1, 0; ; tries++ {
		if tries == 1 { // afterwards it goes on saying why it tries again, until it runs
			j.set(stateStarting, "")
		}
		began := time.Now()
		err := j.once(ctx)
		switch {
		case ctx.Err() != nil:
			return
		case err == nil:
			j.set(stateFinished, j.ends())
			j.s.Note("service", "finished", j.Name, "all inputs have ended")
			return
		}
		var fault *flow.ErrFault
		if errors.As(err, &fault) {
			j.s.Log.Error("a fault in a job", "job", j.Name, "error", fault.What, "stack", fault.Stack)
			if faults++; faults >= mostFaults {
				j.set(stateFailed, fmt.Sprintf("%s. It was tried %d times, and rests now; START JOB tries again", err, faults))
				j.s.Note("service", "failed", j.Name, err.Error())
				return
			}
		}
		if time.Since(began) > time.Minute {
			wait = firstRetry
		}
		reason := err.Error()
		if tries >= 3 && time.Since(began) < 10*time.Second {
			reason += fmt.Sprintf(". It is tried again for as long as it is wanted. Where that cannot help: STOP JOB %[1]s, then START JOB %[1]s FROM CHECKPOINT with an older number (SHOW them with: fiume job state), or FROM BEGINNING, or DROP JOB it", j.Name)
		}
		j.set(stateRetrying, reason)
		if tries == 1 {
			j.s.Note("service", "retrying", j.Name, err.Error())
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = min(2*wait, longestRetry)
	}
}

// ends says why a job has finished, where that may surprise.
func (j *Job) ends() string {
	p, err := j.s.PlanOf(j.Text())
	if err != nil {
		return ""
	}
	for _, o := range p.Scans() {
		if o.Stream.Ends && o.OfTable == nil {
			return fmt.Sprintf("the files of %s have been read to their ends: a job reads those that are there when it starts", o.Stream.Name)
		}
	}
	return ""
}

// set notes what the job does now, and keeps it in the catalog.
func (j *Job) set(state, reason string) {
	j.saving.Lock() // what is kept last is what was noted last
	defer j.saving.Unlock()
	j.mu.Lock()
	if j.row.State != state || j.reason != reason {
		j.since = time.Now().UTC()
	}
	j.row.State, j.reason = state, reason
	j.mu.Unlock()
	if err := j.s.Store.SetJob(j.Name, map[string]any{"state": state, "reason": base.ClipText(reason, 20_000)}); err != nil {
		j.s.Log.Error("a job's state cannot be kept", "job", j.Name, "error", err)
	}
	j.s.Log.Info("job", "name", j.Name, "state", state, "reason", reason)
}

// want notes what the job should do from now on. It is part of a command.
func (j *Job) want(wanted string) error {
	if err := j.s.Store.SetJob(j.Name, map[string]any{"wanted": wanted}); err != nil {
		return err
	}
	j.mu.Lock()
	j.row.Wanted = wanted
	j.mu.Unlock()
	return nil
}

// Start starts a stopped job where it was; a finished one begins again only after it was dropped.
func (s *Jobs) Start(ctx context.Context, actor, name string) error {
	j, err := s.Named(name)
	if err != nil {
		return err
	}
	return j.tell(ctx, func() error {
		switch state := j.Record().State; {
		case state == stateFinished:
			return base.Errorf(base.ErrConflict, "the job %q has finished: its inputs have ended", name)
		case j.runs():
			return base.Errorf(base.ErrConflict, "the job %q is already %s", name, state)
		}
		if err := j.want(wantRunning); err != nil {
			return err
		}
		j.start()
		s.Note(actor, "started", name, "")
		return nil
	})
}

// Stop stops a job; it keeps its place and its state.
func (s *Jobs) Stop(ctx context.Context, actor, name string) error {
	j, err := s.Named(name)
	if err != nil {
		return err
	}
	return j.tell(ctx, func() error {
		switch state := j.Record().State; state {
		case stateStopped, stateFinished:
			return base.Errorf(base.ErrConflict, "the job %q is already %s", name, state)
		}
		if err := j.want(wantStopped); err != nil {
			return err
		}
		j.halt(true)
		s.Note(actor, "stopped", name, "")
		return nil
	})
}

// Drop stops a job and forgets it, its place and its state. What it has written stays. Where the catalog cannot
// forget it, it goes on as it was.
func (s *Jobs) Drop(ctx context.Context, actor, name string) error {
	j, err := s.Named(name)
	if err != nil {
		return err
	}
	return j.tell(ctx, func() error {
		ran := j.runs()
		j.halt(false)
		if err := s.Store.DropJob(name); err != nil {
			if ran {
				j.start()
			}
			return err
		}
		j.over = true
		if p, err := s.PlanOf(j.Text()); err == nil {
			if err := s.JobOpener(name).Leave(p); err != nil {
				s.Log.Error("what a dropped job held cannot be given up", "job", name, "error", err)
			}
		}
		s.mu.Lock()
		delete(s.jobs, name)
		s.mu.Unlock()
		s.Note(actor, "dropped", name, "")
		return disk.OS{}.RemoveAll(filepath.Join(s.Dir, base.StateDir(name)))
	})
}

// leave ends the job's goroutines with the service; the job is as it was at the next start.
func (j *Job) leave() {
	_ = j.tell(context.Background(), func() error {
		j.halt(false)
		j.over = true
		return nil
	})
}

// rest brings a job to a stand at a checkpoint behind which nothing was shown. It says whether it ran. It is part of a command.
func (j *Job) rest() (ran bool, err error) {
	ran = j.runs()
	if !ran && j.Record().Settled {
		return false, nil
	}
	if !ran { // it was stopped in the middle: it has to run to a checkpoint first
		j.start()
		for deadline := time.Now().Add(30 * time.Second); j.runs() && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			j.mu.Lock()
			running := j.run != nil
			j.mu.Unlock()
			if running {
				break
			}
		}
	}
	j.halt(false)
	j.mu.Lock()
	settled, state, reason := j.row.Settled, j.row.State, j.reason
	j.mu.Unlock()
	if settled || state == stateFinished {
		return ran, nil
	}
	if reason == "" {
		reason = "its last checkpoint did not come about, or a sink is away"
	}
	if ran {
		j.start()
	} else {
		j.set(stateStopped, "")
	}
	return ran, base.Errorf(base.ErrConflict, unsettled, j.Name, reason)
}

// Changed brings a job to a stand, changes it and starts it again if it ran.
func (j *Job) Changed(ctx context.Context, change func() error) error {
	return j.tell(ctx, func() error {
		ran, err := j.rest()
		if err != nil {
			return err
		}
		err = change()
		if ran {
			j.start()
		} else if s := j.Record().State; s != stateFinished && s != stateFailed {
			j.set(stateStopped, "")
		}
		return err
	})
}
