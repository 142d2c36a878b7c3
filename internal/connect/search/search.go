// Package search sends rows to a search store, as documents.
package search

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/outbox"
	"fiume/internal/connect/text"
	"fiume/internal/connect/webclient"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
)

// Connector is SEARCH.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:  "search",
	About: "a search store that takes documents in bulk (NDJSON at /_bulk)",
	Example: `DECLARE ENDPOINT store SEARCH 'https://timing@search.race.example:9200' SECRET 'store';
DECLARE SINK latest TO SEARCH 'latest' VIA store (KEY (chip));
DECLARE SINK reads TO SEARCH 'reads-{mat}' VIA store (BAD ROWS keep);`,
	Traits:   plan.Traits{Replaces: true, WholeKey: true, OneWay: true},
	Address:  func(address string) error { _, err := webclient.Parse(address); return err },
	Within:   func(address string, _ *plan.Endpoint) error { return within(address) },
	Endpoint: true,
	Options:  webclient.Options(),
	Sink: []plan.OptionSpec{
		{Name: "key", Kind: plan.NamesOption, Doc: "columns whose values are the id of a row's document: a later row of a key replaces it, and a row that is withdrawn removes it. NULL is a value like others", Default: "each row is a document of its own"},
		{Name: "rows", Kind: plan.NumberOption, Least: 1, Doc: "rows in a request at most", Default: "2000"},
		outbox.TemplateOption,
		{Name: "bad rows", Kind: plan.WordOption, Words: []string{"stop", "keep"}, Doc: "what a document that the store refuses does; stop: the job waits and tries again; keep: it is counted and a sample kept"},
	},
	Promise: func(*plan.Op) string {
		return "each row once, written when a checkpoint is complete: what is sent again after a crash has the same id, and replaces itself"
	},
}

// reserved are names of fields that a store has for itself.
var reserved = map[string]bool{"_id": true, "_index": true, "_source": true, "_type": true, "_routing": true, "_version": true}

// within looks at the name of an index, with columns in it or without.
func within(address string) error {
	if address == "" {
		return errors.New("it names an index")
	}
	if plain := text.Placeholder.ReplaceAllString(address, "x"); indexFault(plain) != "" {
		return fmt.Errorf("'%s' is no name of an index: %s", address, indexFault(plain))
	}
	return nil
}

// indexFault says why a text is no name of an index; "": it is one.
func indexFault(name string) string {
	switch {
	case name == "":
		return "it is empty"
	case len(name) > 255:
		return "it has more than 255 bytes"
	case strings.ToLower(name) != name:
		return "it has upper case letters"
	case strings.ContainsAny(name[:1], "-_+."):
		return "it begins with " + name[:1]
	case strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || strings.ContainsRune(`\/*?"<>|,#:{}%`, r) }):
		return `it has a blank, or one of \ / * ? " < > | , # : { } %`
	}
	return ""
}

func sinkOf(env *contract.Env, out *plan.Op) (*sender, *outbox.Sink, error) {
	for _, f := range out.Fields {
		if reserved[f.Name] {
			return nil, nil, fmt.Errorf("the column %s has a name that search stores keep for themselves; call it something else", f.Name)
		}
	}
	c, err := webclient.Open(out.Sink.Via, env.Secrets)
	if err != nil {
		return nil, nil, err
	}
	s := &sender{c: c, rows: out.Sink.Options.Number("rows", 2000), keyed: out.Sink.Options.Names("key") != nil}
	box, err := outbox.Open(env, out, s)
	return s, box, err
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	_, box, err := sinkOf(env, out)
	return outbox.Opened(box, err)
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	s, _, err := sinkOf(env, out)
	if err != nil {
		return err
	}
	return s.greet(ctx)
}

// Test implements contract.Tester.
func (x connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	e := of.Endpoint
	if of.Sink != nil {
		e = of.Sink.Via
	}
	c, err := webclient.Open(e, env.Secrets)
	if err != nil {
		r.Saw("allowed", err, "")
		return
	}
	err = (&sender{c: c}).greet(ctx)
	var no *webclient.Refusal
	if errors.As(err, &no) && (no.Code == http.StatusUnauthorized || no.Code == http.StatusForbidden) {
		r.Saw("reachable", nil, "it answers")
		r.Saw("allowed", err, "")
		return
	}
	if !r.Saw("reachable", err, "a search store answers, and lets us in") || of.Sink == nil {
		return
	}
	if index := of.Sink.Address; text.Placeholder.MatchString(index) {
		r.Saw("exists", nil, "which indices there will be, the rows say")
	} else {
		_, err := c.Do(ctx, webclient.Request{Method: http.MethodHead, Path: "/" + index})
		switch {
		case err == nil:
			r.Saw("exists", nil, "the index is there")
		case errors.As(err, &no) && no.Code == http.StatusNotFound:
			r.Saw("exists", nil, "the index is not there; most stores make it with the first document")
		default:
			if !r.Saw("exists", err, "") {
				return
			}
		}
	}
	if of.Output != nil {
		_, _, err := sinkOf(env, of.Output)
		r.Saw("columns fit", err, "the rows can be sent")
	}
}
