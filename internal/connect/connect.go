// Package connect knows the places outside that streams read and sinks write, one folder each.
package connect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"time"

	"fiume/internal/connect/files"
	"fiume/internal/connect/mariadb"
	"fiume/internal/connect/topics"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
	"fiume/internal/disk"
	"fiume/internal/topiclog"
)

// Places are the kinds of places there are.
func Places() []plan.Place { return []plan.Place{files.Place, topics.Place, mariadb.Place} }

// Opener opens sources and sinks for a run.
type Opener struct {
	Topics  *topiclog.Log   // nil where there are no built-in topics
	MariaDB mariadb.Access  // secrets of endpoints, and the private server
	Rows    flow.Sink       // takes the rows of an output without a sink
	Durable bool            // a job of the service, which goes on for long
	Live    bool            // a live query: streams begin now unless they say otherwise
	Piece   int             // bytes that a worker decodes at a time; 0: the default
	Disk    disk.FS         // nil: that of the operating system
	Spools  string          // directory for what sinks hold back
	Files   *files.Roots    // where files may lie; nil: anywhere
	Coming  map[string]bool // topics that Check takes as there: they are about to be made
	Writer  string          // who writes, the same in all runs of a job; "" for a run that is not continued
}

// ErrNoTopics says that topics need the service.
var ErrNoTopics = errors.New("topics live in the service; use fiume apply or fiume query, or read FROM FILES")

// OpenSource implements flow.Opener.
func (o *Opener) OpenSource(scan *plan.Op) (flow.Source, error) {
	switch scan.Stream.Place {
	case "files":
		watch := time.Duration(0)
		if o.Durable && scan.Aux {
			watch = time.Second
		}
		return files.Open(scan, cmp.Or(o.Piece, files.DefaultPiece), watch, o.Files)
	case "topic":
		if o.Topics == nil {
			return nil, ErrNoTopics
		}
		return topics.Open(o.Topics, scan, o.Live)
	case "mariadb":
		return mariadb.OpenSource(scan, o.MariaDB)
	}
	return nil, fmt.Errorf("%s cannot be read", scan.Stream.Place)
}

// OpenLookup implements flow.Opener.
func (o *Opener) OpenLookup(lookup *plan.Op) (step.Rows, error) {
	if lookup.OfTable.Place != "mariadb" {
		return nil, fmt.Errorf("%s cannot be looked up", lookup.OfTable.Place)
	}
	return mariadb.OpenLookup(lookup, o.MariaDB)
}

// OpenSink implements flow.Opener.
func (o *Opener) OpenSink(out *plan.Op) (flow.Sink, error) {
	if out.Sink == nil {
		return o.Rows, nil
	}
	fs := o.Disk
	if fs == nil {
		fs = disk.OS{}
	}
	dir := filepath.Join(o.Spools, url.PathEscape(out.Step))
	switch out.Sink.Place {
	case "files":
		return files.OpenSink(fs, out, o.Files, o.writer(out))
	case "topic":
		if o.Topics == nil {
			return nil, ErrNoTopics
		}
		return topics.OpenSink(o.Topics, out, fs, dir)
	case "mariadb":
		return mariadb.OpenSink(out, o.MariaDB, fs, dir)
	}
	return nil, fmt.Errorf("%s cannot be written", out.Sink.Place)
}

// writer names what writes an output.
func (o *Opener) writer(out *plan.Op) string {
	if o.Writer == "" {
		return ""
	}
	return o.Writer + ", sink " + out.Step
}

// Leave gives up what a job holds outside, since it is gone for good.
func (o *Opener) Leave(p *plan.Plan) error {
	var errs []error
	for _, out := range p.Outputs() {
		if out.Sink == nil || out.Sink.Place != "files" {
			continue
		}
		if dir, err := o.Files.Path(out.Sink.Address); err == nil {
			errs = append(errs, files.Leave(disk.OS{}, dir, o.writer(out)))
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
		switch {
		case op.Kind == plan.Scan && op.Stream.Place == "mariadb":
			if err := mariadb.CheckSource(ctx, op.Stream, o.MariaDB); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", op.Step, err))
			}
		case op.Kind == plan.Lookup && op.OfTable.Lookup:
			if err := mariadb.CheckSource(ctx, op.OfTable.Stream, o.MariaDB); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", op.OfTable.Name, err))
			}
		}
	}
	for _, s := range p.Scans() {
		if s.Stream.Place == "files" {
			if _, err := o.Files.Path(s.Stream.Address); err != nil {
				errs = append(errs, fmt.Errorf("stream %s: %w", s.Step, err))
			}
		}
		if s.Stream.Place == "topic" && o.Topics != nil && o.Topics.Topic(s.Stream.Address) == nil && !o.Coming[s.Stream.Address] {
			errs = append(errs, fmt.Errorf("stream %s: there is no topic '%s'; create it with CREATE TOPIC", s.Step, s.Stream.Address))
		}
	}
	for _, out := range p.Outputs() {
		if out.Sink == nil {
			continue
		}
		var err error
		switch out.Sink.Place {
		case "files":
			_, err = o.Files.Path(out.Sink.Address)
		case "mariadb":
			err = mariadb.Check(ctx, out, o.MariaDB)
		case "topic":
			if o.Topics != nil && o.Topics.Topic(out.Sink.Address) == nil && !o.Coming[out.Sink.Address] {
				err = fmt.Errorf("there is no topic '%s'; create it with CREATE TOPIC", out.Sink.Address)
			} else {
				err = keyed(out)
			}
		}
		if err != nil {
			errs = append(errs, &Misfit{out.Step, err.Error()})
		}
	}
	return errors.Join(errs...)
}

func keyed(out *plan.Op) error {
	for _, k := range out.Sink.Options.Names("key") {
		if (types.Type{Kind: types.Row, Fields: out.Fields}).FieldIndex(k) < 0 {
			return fmt.Errorf("KEY names %q, which the rows do not have", k)
		}
	}
	return nil
}
