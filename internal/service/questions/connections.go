package questions

import (
	"context"
	"slices"
	"strings"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/declare"
)

// Connection is a source, a sink or an endpoint, and whether a job could use it now.
type Connection struct {
	Kind    string      `json:"kind" enum:"endpoint,stream,table,sink"`
	Name    string      `json:"name"`
	Place   string      `json:"place"`
	Address string      `json:"address"`
	OK      bool        `json:"ok"`
	Checks  []PlaceTest `json:"checks" doc:"in order; behind one that fails there are none"`
}

// PlaceTest is one thing that was looked at.
type PlaceTest struct {
	What   string `json:"what" doc:"reachable, allowed, exists, readable, writable, columns fit"`
	OK     bool   `json:"ok"`
	Detail string `json:"detail" doc:"what was found, or the reason why not and the way out"`
}

// tested has the connector of what is declared test it; coming are topics that are made before it is used.
func (s *Questions) tested(ctx context.Context, c Connection, of contract.Tested, coming map[string]bool) Connection {
	c.Checks = []PlaceTest{}
	env := s.Env()
	env.Coming = coming
	var r contract.Report
	if by, ok := connect.Of(c.Place).(contract.Tester); ok {
		by.Test(ctx, env, of, &r)
	}
	c.OK = true
	for _, l := range r.Looks {
		if l.Err != nil {
			l.Detail = strings.ReplaceAll(l.Err.Error(), "\n", "; ")
		}
		c.OK = l.Err == nil
		c.Checks = append(c.Checks, PlaceTest{l.What, c.OK, l.Detail})
	}
	return c
}

// Connections tests declared sources, sinks and endpoints: those of the given names, or all.
func (s *Questions) Connections(ctx context.Context, names []string) ([]Connection, error) {
	cat := s.Current()
	var defs []declare.Definition
	c := access.From(ctx)
	for _, d := range s.Defined() {
		if !c.In(access.Develop, access.SpaceOf(d.Name)) {
			continue
		}
		if len(names) == 0 || slices.Contains(names, d.Name) {
			defs = append(defs, declare.Definition{Kind: d.Kind, Name: d.Name})
		}
	}
	for _, n := range names {
		if cat.KindOf(n) == "" || !c.In(access.Develop, access.SpaceOf(n)) {
			return nil, base.Errorf(base.ErrNotFound, "nothing is declared as %q", n)
		}
	}
	out := []Connection{}
	for _, d := range defs {
		switch d.Kind {
		case sql.KindEndpoint:
			out = append(out, s.testEndpoint(ctx, cat.Endpoints[d.Name]))
		case sql.KindStream:
			out = append(out, s.testSource(ctx, d.Kind, cat.Streams[d.Name], nil, nil))
		case sql.KindTable:
			out = append(out, s.testSource(ctx, d.Kind, cat.Tables[d.Name].Stream, cat.Tables[d.Name], nil))
		case sql.KindSink:
			out = append(out, s.testSink(ctx, cat.Sinks[d.Name], nil, nil))
		}
	}
	return out, nil
}

// ConnectionsOf tests what the queries and jobs of a text read and write, its own declarations too.
func (s *Questions) ConnectionsOf(ctx context.Context, in declare.Script) ([]Connection, error) {
	t, err := s.bindTry(ctx, in)
	if err != nil {
		return nil, err
	}
	out, seen := []Connection{}, map[string]bool{}
	for _, o := range t.plan.Ops {
		st, table := o.Stream, o.OfTable
		if o.Kind == plan.Lookup && table != nil && table.Lookup {
			st = table.Stream
		} else if o.Kind != plan.Scan {
			st = nil
		}
		if st == nil || seen[st.Name] {
			continue
		}
		seen[st.Name] = true
		if _, given := t.given[st.Name]; given { // the rows of a step are here
			continue
		}
		kind := sql.KindStream
		if table != nil {
			kind = sql.KindTable
		}
		out = append(out, s.testSource(ctx, kind, st, table, t.topics))
	}
	for _, o := range t.plan.Outputs() {
		if o.Sink != nil {
			out = append(out, s.testSink(ctx, o.Sink, o, t.topics))
		}
	}
	return out, nil
}

func (s *Questions) testEndpoint(ctx context.Context, e *plan.Endpoint) Connection {
	return s.tested(ctx, Connection{Kind: sql.KindEndpoint, Name: e.Name, Place: e.Place, Address: e.Address}, contract.Tested{Endpoint: e}, nil)
}

// testSource tests a stream or table.
func (s *Questions) testSource(ctx context.Context, kind string, st *plan.Stream, table *plan.Table, coming map[string]bool) Connection {
	return s.tested(ctx, Connection{Kind: kind, Name: st.Name, Place: st.Place, Address: st.Address}, contract.Tested{Stream: st, Table: table}, coming)
}

// testSink tests a sink; out is what a job would write to it, or nil.
func (s *Questions) testSink(ctx context.Context, k *plan.Sink, out *plan.Op, coming map[string]bool) Connection {
	return s.tested(ctx, Connection{Kind: sql.KindSink, Name: k.Name, Place: k.Place, Address: k.Address}, contract.Tested{Sink: k, Output: out}, coming)
}
