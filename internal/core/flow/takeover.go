package flow

import (
	"fmt"
	"slices"

	"fiume/internal/core/plan"
	"fiume/internal/core/step"
)

// TakeOver adds to the snapshot from which the job was made, and which it has not gone on from, the state that a plan
// which replaces its own can go on with, in the form that the other keeps it. What the snapshot has stays: whichever of the
// two plans is run from it finds its own. State that waits on disk, because the job is not to hold more in memory, is
// refused.
func (j *Job) TakeOver(s *Snapshot, to *plan.Plan, takeovers []plan.Takeover) error {
	for _, t := range takeovers {
		var pieces [][]byte
		for op, ws := range j.keyed {
			if op.Key != t.Old.Key {
				continue
			}
			for _, w := range ws {
				for _, c := range w.cells {
					if c.keyed == nil {
						return fmt.Errorf("the state of the step %s is more than the job may hold in memory (%d MB), and columns cannot be added to what waits on disk: give the service more --memory, or drop the job and create it anew", t.Old.Step, j.opts.Memory>>20)
					}
					b, err := step.TakeOver(&t, c.keyed.Snapshot())
					if err != nil {
						return fmt.Errorf("the state of the step %s cannot be taken over: %w", t.Old.Step, err)
					}
					pieces = append(pieces, b)
				}
			}
		}
		s.State[t.New.Key] = pieces
	}
	for _, o := range to.Ops {
		if slices.Contains(s.Keys, o.Key) {
			continue
		}
		if i := slices.IndexFunc(j.plan.Ops, func(x *plan.Op) bool { return x.Kind == o.Kind && x.Means == o.Means }); i >= 0 {
			if k := slices.Index(s.Keys, j.plan.Ops[i].Key); k >= 0 && k < len(s.Ledger) {
				s.Keys, s.Ledger = append(s.Keys, o.Key), append(s.Ledger, s.Ledger[k])
			}
		}
	}
	return nil
}
