// Package web talks to web services: sinks that send rows to them, tables whose rows are asked for by key or read as a page, and streams of what a page has that is
// new, or of server-sent events.
package web

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/webclient"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/format"
)

// Connector is WEB.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var atOnce = plan.OptionSpec{Name: "at once", Kind: plan.NumberOption, Least: 1, Doc: "requests that may be under way at a time. With more than one, a sink keeps the order of rows of one KEY alone", Default: "1"}

var described = plan.Place{
	Kind:  "web",
	About: "a web service: rows are sent to it, looked up, or read from its pages and events",
	Example: `DECLARE ENDPOINT desk WEB 'https://desk.example/v1' SECRET 'desk' (AT ONCE 8, PER SECOND 200);
DECLARE SINK calls TO WEB '/calls' VIA desk;
DECLARE SINK words TO WEB '/rooms/{mat}' VIA desk (TEMPLATE '{"text": {words}}');
DECLARE TABLE riders (chip VARCHAR PRIMARY KEY, name VARCHAR) FROM WEB '/riders/{chip}' VIA desk (CACHE FOR 5 MINUTES);
DECLARE STREAM weather (id BIGINT, at TIMESTAMP, wind DOUBLE) EVENT TIME at DELAY 1 MINUTE FROM WEB '/weather?after={last}' VIA desk (LOOK EVERY 10 SECONDS, NEW BY id);
DECLARE STREAM news (text VARCHAR) FROM WEB '/news' VIA desk (EVENTS true);`,
	Traits:   plan.Traits{OneWay: true},
	Address:  func(address string) error { _, err := webclient.Parse(address); return err },
	Within:   func(address string, _ *plan.Endpoint) error { return within(address) },
	Endpoint: true,
	Options:  append([]plan.OptionSpec{atOnce}, webclient.Options()...),
	Source: append(format.LineSourceOptions(),
		plan.OptionSpec{Name: "events", Kind: plan.FlagOption, Doc: "true: the address gives server-sent events, the data of each is a message; false: a page that is read again and again"},
		plan.OptionSpec{Name: "event", Kind: plan.WordOption, Doc: "with EVENTS: only those of this name", Default: "all"},
		plan.OptionSpec{Name: "look every", Kind: plan.DurationOption, Doc: "how often the page is read", Default: "10 SECONDS"},
		plan.OptionSpec{Name: "rows at", Kind: plan.WordOption, Doc: "where in a JSON page the rows are, such as 'data.items'", Default: "the page is an array, or lines"},
		plan.OptionSpec{Name: "new by", Kind: plan.WordOption, Doc: "a field that ascends, number or text: rows whose value is not beyond the last one's are known already. {last} in the address stands for it", Default: "every row of a page that changed is new"},
		plan.OptionSpec{Name: "begins", Kind: plan.WordOption, Doc: "with NEW BY: the value that {last} has at first; only rows beyond it are read", Default: "nothing"}),
	Table: append(tableLines(),
		plan.OptionSpec{Name: "rows at", Kind: plan.WordOption, Doc: "where in a JSON answer the rows are, such as 'data.items'", Default: "the answer itself"},
		plan.OptionSpec{Name: "refresh every", Kind: plan.DurationOption, Doc: "how often the whole page is read again; without it, once"},
		plan.OptionSpec{Name: "cache rows", Kind: plan.NumberOption, Least: 1, Doc: "rows are not read before, but asked for by key when they are needed, {key} in the address; so many are remembered, 100000"},
		plan.OptionSpec{Name: "cache for", Kind: plan.DurationOption, Doc: "the same; how long an answer is remembered, also that there is none, 1 MINUTE"},
		plan.OptionSpec{Name: "keys", Kind: plan.NumberOption, Least: 1, Doc: "with CACHE: so many keys are asked for in a request, with commas between; the answer is an array of rows that have their keys", Default: "1"}),
	Sink: append(format.LineSinkOptions(),
		plan.OptionSpec{Name: "method", Kind: plan.WordOption, Words: []string{"post", "put", "patch", "delete"}, Doc: "what a request does", Default: "post"},
		plan.OptionSpec{Name: "rows", Kind: plan.NumberOption, Least: 1, Doc: "rows in a request at most", Default: "1"},
		plan.OptionSpec{Name: "body", Kind: plan.WordOption, Words: []string{"array", "lines"}, Doc: "what several rows are: a JSON array, or lines", Default: "array, but lines where the format is not json"},
		plan.OptionSpec{Name: "template", Kind: plan.WordOption, Doc: "the text of a request of one row; {column} stands for a value, as JSON, or as plain text where TYPE is not of JSON", Default: "the row in the format"},
		plan.OptionSpec{Name: "type", Kind: plan.WordOption, Doc: "the content type of a request", Default: "that of the format"},
		plan.OptionSpec{Name: "key", Kind: plan.NamesOption, Doc: "columns: rows that have the same values in them are sent in order, also where requests go AT ONCE"},
		plan.OptionSpec{Name: "bad rows", Kind: plan.WordOption, Words: []string{"stop", "keep"}, Doc: "what a request does that the service refuses (4xx); stop: the job waits and tries again; keep: its rows are counted and samples kept, and all of them written to ASIDE"},
		plan.OptionSpec{Name: "aside", Kind: plan.WordOption, Doc: "with BAD ROWS keep: a topic of the service that gets what was refused, with the reason"}),
	Promise: func(*plan.Op) string {
		return "each row at least once, sent when a checkpoint is complete; each request has an Idempotency-Key that stays the same when it is sent again, so that a service that heeds it has each row once"
	},
}

// tableLines are the options of lines, for tables.
func tableLines() []plan.OptionSpec {
	specs := format.LineSourceOptions()
	for i := range specs {
		if specs[i].Name == "bad rows" {
			specs[i].Doc = "what a row of a page that does not fit does; keep: it is counted and a sample kept. With CACHE: an answer that does not fit stops the job, but where keep is written there is no row then"
		}
	}
	return specs
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(_ context.Context, env *contract.Env, out *plan.Op) error {
	if _, err := sinkOf(env, out); err != nil {
		return err
	}
	_, err := webclient.Open(out.Sink.Via, env.Secrets)
	return err
}

// CheckSource implements contract.Reader.
func (connector) CheckSource(_ context.Context, env *contract.Env, s *plan.Stream) error {
	_, err := webclient.Open(s.Via, env.Secrets)
	if err != nil {
		return err
	}
	names, err := namesIn(s.Address)
	if err != nil {
		return err
	}
	_, rows := s.Options["cache rows"]
	_, age := s.Options["cache for"]
	looked := s.Options.Word("new by", "") != ""
	for _, n := range names {
		if !rows && !age && (n != "last" || !looked) {
			return fmt.Errorf("the address names {%s}: of a stream it may be {last}, with NEW BY; of a table with CACHE FOR, columns of its key", n)
		}
	}
	if s.Options.Word("begins", "") != "" && !looked {
		return errors.New("BEGINS says where NEW BY begins: write NEW BY too")
	}
	return nil
}

// OpenSource implements contract.Reader.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	c, err := webclient.Open(scan.Stream.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	switch {
	case scan.OfTable != nil:
		return openTable(c, env, scan)
	case scan.Stream.Options.Flag("events", false):
		return openEvents(c, scan), nil
	}
	return openPages(c, scan), nil
}

// OpenLookup implements contract.Looker.
func (connector) OpenLookup(env *contract.Env, o *plan.Op) (step.Rows, error) {
	c, err := webclient.Open(o.OfTable.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	return openLookup(c, o)
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	s, err := sinkOf(env, out)
	if err != nil {
		return nil, err
	}
	s.client, err = webclient.Open(out.Sink.Via, env.Secrets)
	return s, err
}

// Test implements contract.Tester: it asks for the headers of the address, which changes nothing. That the service knows no such question is well.
func (connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	e, path := of.Endpoint, ""
	switch {
	case of.Stream != nil:
		e, path = of.Stream.Via, of.Stream.Address
	case of.Sink != nil:
		e, path = of.Sink.Via, of.Sink.Address
	}
	c, err := webclient.Open(e, env.Secrets)
	if err != nil {
		r.Saw("allowed", err, "")
		return
	}
	names, err := namesIn(path)
	if err != nil {
		r.Saw("exists", err, "")
		return
	}
	if len(names) > 0 { // what they stand for is not known: what is before them is asked for
		path = path[:strings.IndexByte(path, '{')]
	}
	answer, err := c.Do(ctx, webclient.Request{Method: http.MethodHead, Path: path})
	var no *webclient.Refusal
	switch {
	case err == nil:
		r.Saw("reachable", nil, fmt.Sprintf("it answers %d", answer.Code))
	case errors.As(err, &no) && (no.Code == http.StatusUnauthorized || no.Code == http.StatusForbidden):
		if r.Saw("reachable", nil, "it answers") {
			r.Saw("allowed", err, "")
		}
	case errors.As(err, &no) && (no.Code == http.StatusMethodNotAllowed || no.Code == http.StatusNotImplemented || of.Sink != nil || len(names) > 0 || path == ""):
		r.Saw("reachable", nil, fmt.Sprintf("it answers %d to a question for headers", no.Code))
	default:
		r.Saw("reachable", err, "")
	}
}

// Sample implements contract.Sampler: the first rows of a page.
func (connector) Sample(ctx context.Context, env *contract.Env, w contract.Wanted) (*contract.Sample, error) {
	if w.Options.Flag("events", false) {
		return nil, errors.New("events are not kept: declare the columns, and look at the rows as they come")
	}
	c, err := webclient.Open(w.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	names, err := namesIn(w.Address)
	if err != nil {
		return nil, err
	}
	if len(names) > 0 && (len(names) > 1 || names[0] != "last") {
		return nil, fmt.Errorf("the address asks for one {%s}: declare the columns", names[0])
	}
	p := page{client: c, at: w.Options.Word("rows at", ""), format: w.Options.Word("format", "json"), path: w.Address, last: w.Options.Word("begins", "")}
	rows, err := p.all(ctx)
	if err != nil {
		return nil, err
	}
	return sampleOf(w, rows), nil
}
