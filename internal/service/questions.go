package service

import (
	"context"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
)

// Questions are what people ask while jobs run: live queries, tries, comparisons, why a row is there, what became of a message,
// how late a stream is, samples and proposals. Together they have one budget, beside that of the jobs: how many are at
// work at a time, the memory that all of them hold, and the processors, which they leave to jobs that need them.

const (
	mostLive     = 200              // live queries, which mostly wait
	mostAtOnce   = 4                // other questions at work
	patience     = 20 * time.Second // how long one waits for its turn
	longestAsked = 2 * time.Minute  // how long one may take
)

// questions are the places that questions take.
type questions struct {
	live, others chan struct{}
	budget       flow.Budget
}

func newQuestions(memory int64) *questions {
	return &questions{live: make(chan struct{}, mostLive), others: make(chan struct{}, mostAtOnce), budget: flow.Budget{Limit: memory}}
}

// ask waits for the turn of a question. It gives the context within which it is answered, and what gives the place back.
func (s *Service) ask(ctx context.Context) (context.Context, func(), error) {
	wait := time.NewTimer(patience)
	defer wait.Stop()
	select {
	case s.questions.others <- struct{}{}:
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	case <-wait.C:
		return nil, nil, errorf(ErrBusy, "%d other questions are being answered; try again in a while", mostAtOnce)
	}
	ctx, cancel := context.WithTimeout(ctx, longestAsked)
	return ctx, func() { cancel(); <-s.questions.others }, nil
}

// listen takes the place of a live query.
func (s *Service) listen() (func(), error) {
	select {
	case s.questions.live <- struct{}{}:
		return func() { <-s.questions.live }, nil
	default:
		return nil, errorf(ErrBusy, "there are %d live queries; end one first", mostLive)
	}
}

// asked gives the options of a run that answers a question.
func (s *Service) asked(o flow.Options) flow.Options {
	o.Memory, o.Budget, o.Polite = s.questions.budget.Limit/2, &s.questions.budget, true
	return o
}

// runQuestion runs a plan that answers a question.
func (s *Service) runQuestion(ctx context.Context, p *plan.Plan, opener flow.Opener, o flow.Options) (*flow.Job, error) {
	run, err := flow.New(p, opener, s.asked(o))
	if err != nil {
		return nil, err
	}
	return run, run.Run(ctx)
}
