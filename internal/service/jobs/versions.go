package jobs

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/checkpoint"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/service/base"
)

// unsettled says why a job cannot be changed now.
const unsettled = "the job %q could not be brought to a stand: %s; it goes on as it was"

// Replace gives a job a new text, which takes over place and state.
func (j *Job) Replace(ctx context.Context, actor string, src string) error {
	s := j.s
	err := j.Changed(ctx, func() error {
		version := j.Record().Version + 1
		from, err := s.PlanOf(j.Text())
		if err != nil {
			return err
		}
		to, err := s.PlanOf(src)
		if err == nil {
			err = j.TakeOver(from, to)
		}
		if err != nil {
			return err
		}
		all, err := s.Store.Versions(j.Name)
		if err == nil && len(all) > 0 {
			version = all[0].Version + 1
		}
		if err == nil {
			err = s.Store.ReplaceJob(j.Name, version, src, actor)
		}
		if err != nil {
			return err
		}
		j.mu.Lock()
		j.row.SQL, j.row.Version = src, version
		if j.row.State == stateFinished {
			j.row.State = stateStopped // new inputs may not have ended
		}
		j.mu.Unlock()
		if err := s.JobOpener(j.Name).LeaveSources(from, to); err != nil {
			s.Log.Error("what a job held for what it does not read any more cannot be given up", "job", j.Name, "error", err)
		}
		return nil
	})
	if err == nil {
		s.Note(actor, "replaced", j.Name, src)
	}
	return err
}

// TakeOver prepares a job that stands still for another plan: what that one keeps in another form is written anew.
func (j *Job) TakeOver(from, to *plan.Plan) error {
	r := checkpoint.Run{Keeper: j.keeper(), Plan: from, Opener: j.s.JobOpener(j.Name),
		Options: flow.Options{Describe: text.Describe, Parallelism: j.Record().Parallelism, Memory: j.s.memoryOf(from)}}
	return r.TakeOver(to)
}

// ChangesTo compares a job's plan with the one that is to take over.
func (j *Job) ChangesTo(p *plan.Plan) ([]plan.Change, error) {
	old, err := j.s.PlanOf(j.Text())
	if err != nil {
		return nil, fmt.Errorf("the version that runs cannot be read any more: %w", err)
	}
	return p.Changes(old), nil
}

// Checkpoints gives the checkpoints of a job that are kept, the newest first.
func (s *Jobs) Checkpoints(name string) ([]CheckpointInfo, error) {
	if _, err := s.Named(name); err != nil {
		return nil, err
	}
	all, err := entries{s.Store, name}.All()
	out := []CheckpointInfo{}
	for _, e := range all {
		out = append(out, checkpointInfo(e))
	}
	return out, err
}

// Versions gives the versions of a job, the newest first.
func (s *Jobs) Versions(name string) ([]catalog.Version, error) {
	if _, err := s.Named(name); err != nil {
		return nil, err
	}
	return s.Store.Versions(name)
}

// SetParallelism changes how many tasks share the work of a job; 0: as its text says. The state moves along.
func (s *Jobs) SetParallelism(ctx context.Context, actor, name string, tasks int) error {
	j, err := s.Named(name)
	if err != nil {
		return err
	}
	if tasks < 0 || tasks > mostTasks {
		return base.Errorf(base.ErrRefused, "a job has 1 to %d tasks", mostTasks)
	}
	err = j.Changed(ctx, func() error {
		if err := s.Store.SetJob(name, map[string]any{"parallelism": tasks}); err != nil {
			return err
		}
		j.mu.Lock()
		j.row.Parallelism = tasks
		j.mu.Unlock()
		return nil
	})
	if err == nil {
		s.Note(actor, "changed", name, fmt.Sprintf("parallelism %d", tasks))
	}
	return err
}

// mostTasks is the number of key ranges: more tasks would have nothing to do.
const mostTasks = 256

// Begin says where a stopped job begins when it is started.
type Begin struct {
	Beginning  bool
	Checkpoint int64     // a number, or 0
	At         time.Time // messages stored then or later, unless zero
}

// StartFrom starts a stopped or finished job at another place than the one where it stood. Results from there
// on are written once more.
func (s *Jobs) StartFrom(ctx context.Context, actor, name string, from Begin) error {
	j, err := s.Named(name)
	if err != nil {
		return err
	}
	return j.tell(ctx, func() error {
		if j.runs() {
			return base.Errorf(base.ErrConflict, "the job %q is %s: stop it first", name, j.Record().State)
		}
		var detail string
		switch {
		case from.Checkpoint != 0:
			detail = fmt.Sprintf("from checkpoint %d", from.Checkpoint)
			err = j.rewind(from.Checkpoint)
		case from.Beginning:
			detail = "from the beginning"
			err = j.forget()
		default:
			detail = "from " + from.At.UTC().Format(time.RFC3339)
			err = j.beginAt(plan.Bound{Kind: plan.AtTime, At: from.At.UnixMicro()})
		}
		if err == nil {
			err = j.want(wantRunning)
		}
		if err != nil {
			return err
		}
		j.start()
		s.Note(actor, "started", name, detail)
		return nil
	})
}

// forget removes a job's checkpoints.
func (j *Job) forget() error {
	files, err := j.s.Store.DropCheckpoints(j.Name)
	if err != nil {
		return err
	}
	k := j.keeper()
	for _, f := range files {
		if err := k.FS.Remove(filepath.Join(k.Dir, f)); err != nil {
			j.s.Log.Error("an old checkpoint cannot be removed", "file", f, "error", err)
		}
	}
	j.mu.Lock()
	j.ckpt = CheckpointInfo{}
	j.mu.Unlock()
	return nil
}

// rewind makes an older checkpoint the newest. The sinks begin anew: what they have got since comes again.
func (j *Job) rewind(number int64) error {
	k := j.keeper()
	snap, _, err := k.Load(number)
	if err == checkpoint.ErrNone {
		var have []string
		if all, err := (entries{j.s.Store, j.Name}).All(); err == nil {
			for _, e := range all {
				have = append(have, fmt.Sprint(e.Number))
			}
		}
		return base.Errorf(base.ErrNotFound, "the job %q has no checkpoint %d; kept are: %s", j.Name, number, strings.Join(have, ", "))
	}
	if err != nil {
		return err
	}
	snap.Sinks = nil
	_, err = k.Save(snap, time.Now())
	return err
}

// beginAt makes a first checkpoint whose topics are read from a place on.
func (j *Job) beginAt(at plan.Bound) error {
	p, err := j.s.PlanOf(j.Text())
	if err != nil {
		return err
	}
	for _, o := range p.Scans() {
		if o.OfTable != nil {
			continue
		}
		if !o.Stream.Times {
			return base.Errorf(base.ErrRefused, "the stream %s reads %s, which knows no times: start FROM BEGINNING", o.Step, strings.ToUpper(o.Stream.Place))
		}
		o.Since = at
	}
	run, err := flow.New(p, j.s.JobOpener(j.Name), flow.Options{Describe: text.Describe, Checkpoints: true})
	if err != nil {
		return err
	}
	defer run.Close(false)
	snap, err := run.Begin()
	if err != nil {
		return err
	}
	if err := j.forget(); err != nil {
		return err
	}
	_, err = j.keeper().Save(snap, time.Now())
	return err
}
