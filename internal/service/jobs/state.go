package jobs

import (
	"time"

	"fiume/internal/core/flow"
)

// JobState is what a job keeps, and what its sinks promise.
type JobState struct {
	Memory      int64            `json:"memory" doc:"bytes of state that the steps may hold in memory; more of it waits on disk"`
	Steps       []StepState      `json:"steps"`
	Sinks       []SinkState      `json:"sinks"`
	Checkpoints []CheckpointInfo `json:"checkpoints" doc:"those that are kept, the newest first"`
}

// StepState is what a step keeps.
type StepState struct {
	ID     int      `json:"id"`
	Step   string   `json:"step"`
	Kind   string   `json:"kind"`
	Detail string   `json:"detail"`
	Keys   int      `json:"keys"`
	Rows   int      `json:"rows"`
	Bytes  int      `json:"bytes" doc:"in memory"`
	Disk   int64    `json:"disk" doc:"bytes in the journal: for checkpoints, and what is not in memory"`
	Parked int      `json:"parked" doc:"parts of the state that wait on disk alone"`
	Growth *float64 `json:"growth,omitempty" doc:"bytes a minute, over the last minutes"`
}

// SinkState is what a sink promises, and what it holds back.
type SinkState struct {
	Sink    string        `json:"sink"`
	Place   string        `json:"place"`
	Promise string        `json:"promise"`
	Spooled int64         `json:"spooled" doc:"bytes that wait for the place"`
	Missing int           `json:"missing" doc:"rows from before the last start that have not come again: where it stays above zero, the replay differed"`
	Waiting *flow.Waiting `json:"waiting,omitempty" doc:"set while the place is away or full"`
}

// sizes are the bytes that the steps kept at a time.
type sizes struct {
	at    time.Time
	bytes map[int]int
}

// Growth is measured over so long, from one look in so long.
const (
	growthOver  = 5 * time.Minute
	growthEvery = 2 * time.Second
)

// measure notes what the steps keep.
func (j *Job) measure(run *flow.Job) {
	now := time.Now()
	j.mu.Lock()
	due := len(j.sizes) == 0 || now.Sub(j.sizes[len(j.sizes)-1].at) >= growthEvery
	j.mu.Unlock()
	if !due {
		return
	}
	x := sizes{now, map[int]int{}}
	for _, s := range run.Status().Steps {
		x.bytes[s.ID] = s.Bytes
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	j.sizes = append(j.sizes, x)
	for now.Sub(j.sizes[0].at) > growthOver {
		j.sizes = j.sizes[1:]
	}
}

// State gives what a job keeps, and what its sinks promise.
func (s *Jobs) State(name string) (*JobState, error) {
	j, err := s.Named(name)
	if err != nil {
		return nil, err
	}
	out := &JobState{Steps: []StepState{}, Sinks: []SinkState{}}
	p, err := s.PlanOf(j.Text())
	if err != nil {
		return nil, err
	}
	out.Memory = s.memoryOf(p)
	if out.Checkpoints, err = s.Checkpoints(name); err != nil {
		return nil, err
	}
	j.mu.Lock()
	var first, last sizes
	if n := len(j.sizes); n > 1 && j.run != nil {
		first, last = j.sizes[0], j.sizes[n-1]
	}
	j.mu.Unlock()
	st, _, _ := j.Status()
	byID := map[int]flow.Step{}
	for _, x := range st.Steps {
		byID[x.ID] = x
	}
	for _, x := range st.Steps {
		switch x.Kind {
		case "window", "unique", "over", "side", "join", "as of", "table", "settle":
		default:
			continue
		}
		if x.Kind == "join" && x.Bytes == 0 || x.Kind == "side" && x.Into != nil && byID[*x.Into].Kind == "table" {
			continue // it is said elsewhere: of the sides, or of the table
		}
		y := StepState{ID: x.ID, Step: x.Step, Kind: x.Kind, Detail: x.Detail, Keys: x.Keys, Rows: x.Rows, Bytes: x.Bytes, Disk: x.Disk, Parked: x.Parked}
		if d := last.at.Sub(first.at); d > 0 {
			g := float64(last.bytes[x.ID]-first.bytes[x.ID]) / d.Minutes()
			y.Growth = &g
		}
		out.Steps = append(out.Steps, y)
	}
	for _, o := range p.Outputs() {
		x := SinkState{Sink: o.Step, Place: o.Detail, Promise: o.Promise()}
		if k, ok := byID[o.ID]; ok {
			x.Spooled, x.Missing, x.Waiting = k.Spooled, k.Missing, k.Waiting
		}
		out.Sinks = append(out.Sinks, x)
	}
	return out, nil
}
