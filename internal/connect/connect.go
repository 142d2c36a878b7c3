// Package connect knows the places outside that streams read and sinks write: a connector each, one folder below.
package connect

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"fiume/internal/connect/amqp"
	"fiume/internal/connect/broker"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/files"
	"fiume/internal/connect/generator"
	"fiume/internal/connect/history"
	"fiume/internal/connect/lake"
	"fiume/internal/connect/mail"
	"fiume/internal/connect/mariadb"
	"fiume/internal/connect/mqtt"
	"fiume/internal/connect/nats"
	"fiume/internal/connect/postgres"
	"fiume/internal/connect/registry"
	"fiume/internal/connect/search"
	"fiume/internal/connect/tcp"
	"fiume/internal/connect/topics"
	"fiume/internal/connect/web"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
)

// connectors are all there are. A new one is a folder, and a line here.
var connectors = []contract.Connector{
	topics.Connector,
	files.Connector,
	mariadb.Connector,
	postgres.Connector,
	broker.Connector,
	tcp.Connector,
	lake.Connector,
	generator.Connector,
	amqp.Connector,
	mail.Connector,
	mqtt.Connector,
	nats.Connector,
	registry.Connector,
	search.Connector,
	web.Connector,
}

// Where the service itself has something: messages in its topics, and files that are handed to it.
var (
	OwnTopics  = topics.Connector
	UploadedTo = files.Connector
)

// Places are the kinds of places there are.
func Places() (out []plan.Place) {
	for _, c := range connectors {
		out = append(out, c.Place())
	}
	return out
}

// Of gives the connector of a kind of place, or nil.
func Of(place string) contract.Connector {
	for _, c := range connectors {
		if c.Place().Kind == place {
			return c
		}
	}
	return nil
}

// Opener opens sources and sinks for a run.
type Opener struct {
	contract.Env
	Rows flow.Sink // takes the rows of an output without a sink
}

// OpenSource implements flow.Opener.
func (o *Opener) OpenSource(scan *plan.Op) (flow.Source, error) {
	if begins := scan.Since.Kind; scan.Stream.History != nil && (begins == plan.Beginning || begins == plan.Default && !o.Live) {
		return history.Open(scan, o.OpenSource)
	}
	if c, ok := Of(scan.Stream.Place).(contract.Reader); ok {
		return c.OpenSource(&o.Env, scan)
	}
	return nil, fmt.Errorf("%s cannot be read", scan.Stream.Place)
}

// OpenLookup implements flow.Opener.
func (o *Opener) OpenLookup(lookup *plan.Op) (step.Rows, error) {
	if c, ok := Of(lookup.OfTable.Place).(contract.Looker); ok {
		return c.OpenLookup(&o.Env, lookup)
	}
	return nil, fmt.Errorf("%s cannot be looked up", lookup.OfTable.Place)
}

// OpenSink implements flow.Opener.
func (o *Opener) OpenSink(out *plan.Op) (flow.Sink, error) {
	if out.Sink == nil {
		return o.Rows, nil
	}
	if c, ok := Of(out.Sink.Place).(contract.Writer); ok {
		return c.OpenSink(&o.Env, out)
	}
	return nil, fmt.Errorf("%s cannot be written", out.Sink.Place)
}

// Prepares says what the sinks of a plan that fits would have made or changed at their places before the first row, a line each.
func (o *Opener) Prepares(ctx context.Context, p *plan.Plan) (all []string, err error) {
	for _, out := range p.Outputs() {
		if out.Sink == nil {
			continue
		}
		var will []string
		if c, ok := Of(out.Sink.Place).(contract.Preparer); ok {
			if will, err = c.Prepares(ctx, &o.Env, out); err != nil {
				return nil, err
			}
		}
		if out.Sink.Schemas != nil {
			what, err := o.Registers(out)
			if err != nil {
				return nil, err
			}
			will = append(will, what...)
		}
		for _, w := range will {
			all = append(all, "the sink "+out.Step+" "+w)
		}
	}
	return all, nil
}

// Leave gives up what a job holds outside, since it is gone for good.
func (o *Opener) Leave(p *plan.Plan) error {
	errs := []error{o.LeaveSources(p, nil)}
	for _, out := range p.Outputs() {
		if out.Sink == nil {
			continue
		}
		if c, ok := Of(out.Sink.Place).(contract.Owner); ok {
			errs = append(errs, c.Leave(&o.Env, out))
		}
	}
	return errors.Join(errs...)
}

// LeaveSources gives up what a job holds for what it reads, and does not read in a later version; nil stands for no version.
func (o *Opener) LeaveSources(p, later *plan.Plan) error {
	var errs []error
	for _, scan := range p.Scans() {
		c, ok := Of(scan.Stream.Place).(contract.Holder)
		stays := later != nil && slices.ContainsFunc(later.Scans(), func(l *plan.Op) bool {
			return l.Stream.Place == scan.Stream.Place && l.Stream.Name == scan.Stream.Name && l.Stream.Address == scan.Stream.Address
		})
		if ok && !stays {
			errs = append(errs, c.LeaveSource(&o.Env, scan))
		}
	}
	return errors.Join(errs...)
}

// Misfit says that what a job would write does not fit its sink.
type Misfit struct {
	Sink, Reason string
}

func (m *Misfit) Error() string { return fmt.Sprintf("sink %s: %s", m.Sink, m.Reason) }

// Check looks at what a plan reads and writes: that it is there and that the columns fit.
func (o *Opener) Check(ctx context.Context, p *plan.Plan) error {
	var errs []error
	for _, op := range p.Ops {
		s := op.Stream
		if op.Kind == plan.Lookup && op.OfTable.Lookup {
			s = op.OfTable.Stream
		} else if op.Kind != plan.Scan {
			continue
		}
		kind := "stream"
		if op.OfTable != nil {
			kind = "table"
		}
		for _, of := range []*plan.Stream{s.History, s} {
			if of == nil {
				continue
			}
			if c, ok := Of(of.Place).(contract.Reader); ok {
				if err := c.CheckSource(ctx, &o.Env, of); err != nil {
					errs = append(errs, fmt.Errorf("%s %s: %w", kind, s.Name, err))
				}
			}
		}
	}
	for _, out := range p.Outputs() {
		if out.Sink == nil {
			continue
		}
		if c, ok := Of(out.Sink.Place).(contract.Writer); ok {
			if err := c.CheckSink(ctx, &o.Env, out); err != nil {
				errs = append(errs, &Misfit{out.Step, err.Error()})
			}
		}
	}
	return errors.Join(errs...)
}
