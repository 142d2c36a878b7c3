package topics

import (
	"context"
	"fmt"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/recorded"
	"fiume/internal/core/plan"
)

// List implements contract.Lister.
func (connector) List(_ context.Context, env *contract.Env, _ *plan.Endpoint) (out []string, err error) {
	if env.Topics == nil {
		return nil, ErrNone
	}
	for _, t := range env.Topics.Topics() {
		out = append(out, t.Name)
	}
	return out, nil
}

// Test implements contract.Tester.
func (connector) Test(_ context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	name := ""
	switch {
	case of.Stream != nil:
		name = of.Stream.Address
	case of.Sink != nil:
		name = of.Sink.Address
	}
	t, err := named(env, name)
	switch {
	case err != nil && env.Coming[name]:
		r.Saw("exists", nil, "the text makes it")
		return
	case err != nil:
		r.Saw("exists", err, "")
		return
	}
	messages := int64(0)
	for _, p := range t.Partitions() {
		messages += p.Next() - p.First()
	}
	r.Saw("exists", nil, fmt.Sprintf("%d partition(s), %d messages", len(t.Partitions()), messages))
	if of.Stream == nil {
		return
	}
	const looked = 20
	ms, err := Read(t, Reading{Partition: -1, From: -1, Last: looked, Limit: looked})
	r.SawRows(env, of, ms, err)
}

// Sample implements contract.Sampler.
func (connector) Sample(_ context.Context, env *contract.Env, w contract.Wanted) (*contract.Sample, error) {
	t, err := named(env, w.Address)
	if err != nil {
		return nil, err
	}
	read := Reading{Partition: w.Partition, From: w.From, Since: w.Since, Limit: w.Limit, Bytes: w.Bytes}
	if w.Since.IsZero() && w.From < 0 {
		read.Last = max(1, w.Limit/len(t.Partitions()))
	}
	ms, err := Read(t, read)
	if err != nil {
		return nil, err
	}
	if len(ms) == 0 {
		return nil, fmt.Errorf("the topic '%s' has no messages there", w.Address)
	}
	return &contract.Sample{Origin: "topic " + w.Address, Name: w.Address, Format: recorded.FormatOf(ms), Messages: ms}, nil
}
