package base

import (
	"context"
	"sync"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/service/access"
)

// Questions are what people ask while jobs run: live queries, tries, comparisons, why a row is there, what became of a message,
// how late a stream is, samples and proposals. Together they have one budget, beside that of the jobs: how many are at
// work at a time, the memory that all of them hold, and the processors, which they leave to jobs that need them.

const (
	mostLive     = 200              // live queries, which mostly wait
	mostAtOnce   = 4                // other questions at work
	mostOfOne    = 50               // live queries of one caller
	mostAtOnceOf = 2                // other questions of one caller at work
	patience     = 20 * time.Second // how long one waits for its turn
	longestAsked = 2 * time.Minute  // how long one may take
)

// Turns are the places that questions take.
type Turns struct {
	live, others chan struct{}
	budget       flow.Budget

	mu sync.Mutex
	of map[string]*turnsOf // by caller
}

// turnsOf are the places that one caller takes, so that the others get some, too.
type turnsOf struct{ live, others chan struct{} }

// one gives the places of the caller of a context; nil: whoever uses the machine, and the service itself, may take all.
func (t *Turns) one(ctx context.Context) *turnsOf {
	c := access.From(ctx)
	if c == nil || c.Via == "" {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.of == nil {
		t.of = map[string]*turnsOf{}
	}
	key := c.Name + " " + c.Via
	if t.of[key] == nil {
		for k, x := range t.of { // who takes none is forgotten
			if len(t.of) > 1000 && len(x.live)+len(x.others) == 0 {
				delete(t.of, k)
			}
		}
		t.of[key] = &turnsOf{make(chan struct{}, mostOfOne), make(chan struct{}, mostAtOnceOf)}
	}
	return t.of[key]
}

// NewTurns gives the places of questions that may hold so many bytes of state together.
func NewTurns(memory int64) *Turns {
	return &Turns{live: make(chan struct{}, mostLive), others: make(chan struct{}, mostAtOnce), budget: flow.Budget{Limit: memory}}
}

// Ask waits for the turn of a question. It gives the context within which it is answered, and what gives the place back.
func (b *Base) Ask(ctx context.Context) (context.Context, func(), error) {
	wait := time.NewTimer(patience)
	defer wait.Stop()
	back := func() {}
	if mine := b.Turns.one(ctx); mine != nil {
		select {
		case mine.others <- struct{}{}:
			back = func() { <-mine.others }
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-wait.C:
			return nil, nil, Errorf(ErrBusy, "%d other questions of yours are being answered; try again in a while", mostAtOnceOf)
		}
	}
	select {
	case b.Turns.others <- struct{}{}:
	case <-ctx.Done():
		back()
		return nil, nil, ctx.Err()
	case <-wait.C:
		back()
		return nil, nil, Errorf(ErrBusy, "%d other questions are being answered; try again in a while", mostAtOnce)
	}
	ctx, cancel := context.WithTimeout(ctx, longestAsked)
	return ctx, func() { cancel(); <-b.Turns.others; back() }, nil
}

// Listen takes the place of a live query.
func (b *Base) Listen(ctx context.Context) (func(), error) {
	back := func() {}
	if mine := b.Turns.one(ctx); mine != nil {
		select {
		case mine.live <- struct{}{}:
			back = func() { <-mine.live }
		default:
			return nil, Errorf(ErrBusy, "you have %d live queries; end one first", mostOfOne)
		}
	}
	select {
	case b.Turns.live <- struct{}{}:
		return func() { <-b.Turns.live; back() }, nil
	default:
		back()
		return nil, Errorf(ErrBusy, "there are %d live queries; end one first", mostLive)
	}
}

// Asked gives the options of a run that answers a question.
func (b *Base) Asked(o flow.Options) flow.Options {
	o.Memory, o.Budget, o.Polite = b.Turns.budget.Limit/2, &b.Turns.budget, true
	return o
}

// RunQuestion runs a plan that answers a question.
func (b *Base) RunQuestion(ctx context.Context, p *plan.Plan, opener flow.Opener, o flow.Options) (*flow.Job, error) {
	run, err := flow.New(p, opener, b.Asked(o))
	if err != nil {
		return nil, err
	}
	return run, run.Run(ctx)
}
