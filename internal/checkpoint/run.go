package checkpoint

import (
	"context"
	"errors"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
)

// Run is a plan to be run with checkpoints.
type Run struct {
	Keeper  *Keeper
	Plan    *plan.Plan
	Opener  flow.Opener
	Options flow.Options
	Every   time.Duration // between checkpoints
	// Started gets the job before its first row.
	Started func(*flow.Job)
	// Saved is told of each checkpoint that counts.
	Saved func(Entry)

	// Stood is told that a checkpoint would have said what the newest one does, which therefore was not written again.
	Stood func()

	// Abandoned is told why a checkpoint did not come about. It is tried again.
	Abandoned func(error)

	// Settled says, when Do has given nil, that the newest checkpoint is where the job stands, and that the sinks
	// have all rows up to there and none behind it.
	Settled bool

	arrived chan struct{} // splits ask for a checkpoint to join with, until one was taken
}

const (
	finishWithin = 10 * time.Second // how long a job that is stopped may take for its last checkpoint
	giveUpAfter  = time.Minute      // how long a checkpoint may take
	joinsEvery   = time.Second      // at most so often a checkpoint is taken for splits that have come
)

// Do runs the plan from its newest checkpoint until its inputs end, it fails, or stop is cancelled: then it
// takes a last checkpoint. When kill is cancelled it ends at once, as in a crash.
func (r *Run) Do(kill, stop context.Context) error {
	snap, entry, err := r.Keeper.Load(0)
	if err != nil {
		return err
	}
	if err := r.Keeper.Tidy(); err != nil {
		r.Keeper.Log("files of checkpoints that do not count cannot be removed", "error", err)
	}
	job, shut, err := r.open(snap, entry)
	if err != nil {
		return err
	}
	defer shut()
	complete := false
	defer func() { _ = job.Close(complete) }()
	if snap == nil || entry.Version != r.Keeper.Version {
		// Where a job begins is kept before its first row, and what a version has taken over before its own.
		first, err := job.Begin()
		if err != nil {
			return err
		}
		if err := r.save(job, first, r.Keeper.Now()); err != nil {
			return err
		}
	} else {
		job.Commit(snap) // what counts and was perhaps not told
	}
	if r.Started != nil {
		r.Started(job)
	}
	running, cancel := context.WithCancel(kill)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- job.Run(running) }()
	r.Settled = false
	tick := time.NewTicker(r.Every)
	defer tick.Stop()
	taken := time.Now()
	for {
		select {
		case err := <-ended:
			if err != nil {
				return err
			}
			complete, err = r.last(kill, job)
			r.Settled = complete
			if err == nil {
				err = job.Close(complete)
			}
			return err
		case <-tick.C:
			r.now(kill, stop, job)
			taken = time.Now()
		case <-r.arrived:
			if time.Since(taken) >= min(r.Every, joinsEvery) {
				r.now(kill, stop, job)
				taken = time.Now()
			}
		case <-stop.Done():
			// A last checkpoint keeps place and state; without it the one before counts.
			within, cancelWithin := context.WithTimeout(kill, finishWithin)
			defer cancelWithin()
			// The sources stop first, so that no row is shown behind it.
			job.Pause(within)
			err := r.take(within, job, finishWithin)
			if err != nil && !errors.Is(err, flow.ErrEnded) {
				r.Keeper.Log("the last checkpoint was abandoned", "error", err)
			}
			r.Settled = job.Settle(within) && err == nil
			cancel()
			<-ended
			return nil
		}
	}
}

// now takes a checkpoint, or says why it did not come about.
func (r *Run) now(kill, stop context.Context, job *flow.Job) {
	if err := r.take(stop, job, giveUpAfter); err != nil && stop.Err() == nil && kill.Err() == nil && !errors.Is(err, flow.ErrEnded) {
		r.Keeper.Log("a checkpoint was abandoned, and will be tried again", "error", err)
		if r.Abandoned != nil {
			r.Abandoned(err)
		}
	}
}

// open makes the job of a checkpoint, with the journal; shut closes the journal.
func (r *Run) open(snap *flow.Snapshot, entry Entry) (job *flow.Job, shut func(), err error) {
	shut = func() {}
	r.Options.Restore, r.Options.Checkpoints = snap, true
	r.arrived = make(chan struct{}, 1)
	r.Options.Arrived = func() {
		select {
		case r.arrived <- struct{}{}:
		default:
		}
	}
	r.Options.SameVersion = snap != nil && entry.Version == r.Keeper.Version
	if journal := r.Keeper.Journal; journal != nil {
		if err := r.Keeper.OpenJournal(); err != nil {
			return nil, nil, err
		}
		r.Options.Journal, shut = journal, func() { journal.Close() }
	}
	if job, err = flow.New(r.Plan, r.Opener, r.Options); err != nil {
		shut()
	}
	return job, shut, err
}

// TakeOver prepares the change from the run's plan to another: the newest checkpoint, with the state that the other plan goes
// on with, becomes a checkpoint of its own. Either plan can be run from it, so that it does not matter whether a crash comes
// before the other plan counts or behind. The job does not run.
func (r *Run) TakeOver(to *plan.Plan) error {
	takeovers := to.Takeovers(r.Plan)
	snap, entry, err := r.Keeper.Load(0)
	if err != nil || snap == nil || len(takeovers) == 0 {
		return err
	}
	job, shut, err := r.open(snap, entry)
	if err != nil {
		return err
	}
	defer shut()
	defer func() { _ = job.Close(false) }()
	if err := job.TakeOver(snap, to, takeovers); err != nil {
		return err
	}
	k := *r.Keeper
	k.Version = 0 // it has the state of two
	_, err = k.Save(snap, k.Now())
	return err
}

// last keeps where a job has ended, and waits until the sinks have all rows.
func (r *Run) last(kill context.Context, job *flow.Job) (bool, error) {
	snap, err := job.Last()
	if err != nil {
		return false, err
	}
	if err := r.save(job, snap, r.Keeper.Now()); err != nil {
		return false, err
	}
	if !job.Settle(kill) {
		return false, errors.Join(kill.Err(), errors.New("the sinks have not got all rows"))
	}
	return true, nil
}

func (r *Run) take(ctx context.Context, job *flow.Job, limit time.Duration) error {
	began := r.Keeper.Now()
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	snap, err := job.Checkpoint(ctx)
	if err != nil {
		return err
	}
	if r.Keeper.Same(snap) { // a job that rests writes nothing
		if r.Stood != nil {
			r.Stood()
		}
		return nil
	}
	return r.save(job, snap, began)
}

func (r *Run) save(job *flow.Job, snap *flow.Snapshot, began time.Time) error {
	e, err := r.Keeper.Save(snap, began)
	if err != nil {
		return err
	}
	job.Commit(snap)
	if r.Saved != nil {
		r.Saved(e)
	}
	return nil
}
