package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/checkpoint"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
)

// unsettled says why a job cannot be changed now.
const unsettled = "the job %q could not be brought to a stand: %s; it goes on as it was"

// replace gives a job a new text, which takes over place and state.
func (s *Service) replace(ctx context.Context, actor string, j *job, src string) error {
	err := j.changed(ctx, func() error {
		version := j.record().Version + 1
		from, err := s.planOf(j.text())
		if err != nil {
			return err
		}
		to, err := s.planOf(src)
		if err == nil {
			err = j.takeOver(from, to)
		}
		if err != nil {
			return err
		}
		all, err := s.store.Versions(j.name)
		if err == nil && len(all) > 0 {
			version = all[0].Version + 1
		}
		if err == nil {
			err = s.store.ReplaceJob(j.name, version, src, actor)
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
		return nil
	})
	if err == nil {
		s.note(actor, "replaced", j.name, src)
	}
	return err
}

// takeOver prepares a job that stands still for another plan: what that one keeps in another form is written anew.
func (j *job) takeOver(from, to *plan.Plan) error {
	r := checkpoint.Run{Keeper: j.keeper(), Plan: from, Opener: j.s.jobOpener(j.name),
		Options: flow.Options{Describe: text.Describe, Parallelism: j.record().Parallelism, Memory: j.s.memoryOf(from)}}
	return r.TakeOver(to)
}

// changesOf compares a job's plan with the one that is to take over.
func (s *Service) changesOf(j *job, p *plan.Plan) ([]plan.Change, error) {
	old, err := s.planOf(j.text())
	if err != nil {
		return nil, fmt.Errorf("the version that runs cannot be read any more: %w", err)
	}
	return p.Changes(old), nil
}

// Checkpoints gives the checkpoints of a job that are kept, the newest first.
func (s *Service) Checkpoints(name string) ([]CheckpointInfo, error) {
	if _, err := s.jobNamed(name); err != nil {
		return nil, err
	}
	all, err := entries{s.store, name}.All()
	out := []CheckpointInfo{}
	for _, e := range all {
		out = append(out, checkpointInfo(e))
	}
	return out, err
}

// Versions gives the versions of a job, the newest first.
func (s *Service) Versions(name string) ([]catalog.Version, error) {
	if _, err := s.jobNamed(name); err != nil {
		return nil, err
	}
	return s.store.Versions(name)
}

// Revert gives a job the text of an earlier version, 0 for the one before, as a new version.
func (s *Service) Revert(ctx context.Context, actor, name string, to int) ([]Outcome, error) {
	j, err := s.jobNamed(name)
	if err != nil {
		return nil, err
	}
	all, err := s.store.Versions(name)
	if err != nil {
		return nil, err
	}
	current := j.record().Version
	for _, v := range all {
		if v.Version == current || to != 0 && v.Version != to {
			continue
		}
		if to == 0 && sameText(v.SQL, j.text()) {
			continue // a version that came with a change of a stream
		}
		src := v.SQL
		if script, err := sql.Parse(name, src, nil); err == nil {
			if c, ok := script.Statements[0].(*sql.CreateJob); ok && !c.Replace {
				c.Replace = true
				src = sql.Print(c)
			}
		}
		return s.Apply(ctx, actor, Script{File: fmt.Sprintf("version %d", v.Version), SQL: strings.TrimSuffix(strings.TrimSpace(src), ";") + ";"}, false)
	}
	if to != 0 {
		return nil, errorf(ErrNotFound, "the job %q has no version %d but the one that runs", name, to)
	}
	return nil, errorf(ErrConflict, "the job %q has no version before this one", name)
}

// SetParallelism changes how many tasks share the work of a job; 0: as its text says. The state moves along.
func (s *Service) SetParallelism(ctx context.Context, actor, name string, tasks int) error {
	j, err := s.jobNamed(name)
	if err != nil {
		return err
	}
	if tasks < 0 || tasks > mostTasks {
		return errorf(ErrRefused, "a job has 1 to %d tasks", mostTasks)
	}
	err = j.changed(ctx, func() error {
		if err := s.store.SetJob(name, map[string]any{"parallelism": tasks}); err != nil {
			return err
		}
		j.mu.Lock()
		j.row.Parallelism = tasks
		j.mu.Unlock()
		return nil
	})
	if err == nil {
		s.note(actor, "changed", name, fmt.Sprintf("parallelism %d", tasks))
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

// StartJobFrom starts a stopped or finished job at another place than the one where it stood. Results from there
// on are written once more.
func (s *Service) StartJobFrom(ctx context.Context, actor, name string, from Begin) error {
	j, err := s.jobNamed(name)
	if err != nil {
		return err
	}
	return j.tell(ctx, func() error {
		if j.runs() {
			return errorf(ErrConflict, "the job %q is %s: stop it first", name, j.record().State)
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
		s.note(actor, "started", name, detail)
		return nil
	})
}

// forget removes a job's checkpoints.
func (j *job) forget() error {
	files, err := j.s.store.DropCheckpoints(j.name)
	if err != nil {
		return err
	}
	k := j.keeper()
	for _, f := range files {
		if err := os.Remove(filepath.Join(k.Dir, f)); err != nil {
			j.s.log.Error("an old checkpoint cannot be removed", "file", f, "error", err)
		}
	}
	j.mu.Lock()
	j.ckpt = CheckpointInfo{}
	j.mu.Unlock()
	return nil
}

// rewind makes an older checkpoint the newest. The sinks begin anew: what they have got since comes again.
func (j *job) rewind(number int64) error {
	k := j.keeper()
	snap, _, err := k.Load(number)
	if err == checkpoint.ErrNone {
		var have []string
		if all, err := (entries{j.s.store, j.name}).All(); err == nil {
			for _, e := range all {
				have = append(have, fmt.Sprint(e.Number))
			}
		}
		return errorf(ErrNotFound, "the job %q has no checkpoint %d; kept are: %s", j.name, number, strings.Join(have, ", "))
	}
	if err != nil {
		return err
	}
	snap.Sinks = nil
	_, err = k.Save(snap, time.Now())
	return err
}

// beginAt makes a first checkpoint whose topics are read from a place on.
func (j *job) beginAt(at plan.Bound) error {
	p, err := j.s.planOf(j.text())
	if err != nil {
		return err
	}
	for _, o := range p.Scans() {
		if o.OfTable != nil {
			continue
		}
		if o.Stream.Place != "topic" {
			return errorf(ErrRefused, "the stream %s reads %s, which knows no times: start FROM BEGINNING", o.Step, strings.ToUpper(o.Stream.Place))
		}
		o.Since = at
	}
	run, err := flow.New(p, j.s.jobOpener(j.name), flow.Options{Describe: text.Describe, Checkpoints: true})
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
