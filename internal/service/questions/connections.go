package questions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fiume/internal/connect/files"
	"fiume/internal/connect/mariadb"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/base"
	"fiume/internal/service/declare"
	"fiume/internal/service/topics"
	"fiume/internal/topiclog"
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

func (c *Connection) test(what string, err error, detail string) bool {
	if err != nil {
		detail = strings.ReplaceAll(err.Error(), "\n", "; ")
	}
	c.Checks = append(c.Checks, PlaceTest{what, err == nil, detail})
	c.OK = err == nil
	return c.OK
}

// Connections tests declared sources, sinks and endpoints: those of the given names, or all.
func (s *Questions) Connections(ctx context.Context, names []string) ([]Connection, error) {
	cat := s.Current()
	var defs []declare.Definition
	for _, d := range s.Defined() {
		if len(names) == 0 || slices.Contains(names, d.Name) {
			defs = append(defs, declare.Definition{Kind: d.Kind, Name: d.Name})
		}
	}
	for _, n := range names {
		if cat.KindOf(n) == "" {
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
	t, err := s.bindTry(in)
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
	c := Connection{Kind: sql.KindEndpoint, Name: e.Name, Place: e.Place, Address: e.Address, Checks: []PlaceTest{}}
	s.reach(ctx, &c, e)
	return c
}

// reach tests whether a database answers and lets us in.
func (s *Questions) reach(ctx context.Context, c *Connection, e *plan.Endpoint) bool {
	reach, allow := mariadb.Probe(ctx, e, s.Databases)
	return c.test("reachable", reach, "the server answers") && c.test("allowed", allow, "it lets us in")
}

// testSource tests a stream or table; coming are topics that are made before it is read.
func (s *Questions) testSource(ctx context.Context, kind string, st *plan.Stream, table *plan.Table, coming map[string]bool) Connection {
	c := Connection{Kind: kind, Name: st.Name, Place: st.Place, Address: st.Address, Checks: []PlaceTest{}}
	switch st.Place {
	case "topic":
		if s.testTopic(&c, st.Address, coming) != nil {
			s.testRows(&c, st, table)
		}
	case "files":
		names, err := s.Files.Names(st.Address)
		if c.test("exists", err, fmt.Sprintf("%d files", len(names))) && len(names) > 0 {
			n, notices, err := files.Probe(st, s.Files)
			if c.test("readable", err, fmt.Sprintf("%d files can be opened", n)) && st.Options.Word("format", "") == "csv" {
				c.test("columns fit", nil, cmp.Or(strings.Join(notices, "; "), "the columns are there"))
			}
		}
	case "mariadb":
		if s.reach(ctx, &c, st.Via) {
			c.test("columns fit", mariadb.CheckSource(ctx, st, s.Databases), fmt.Sprintf("the table %s has the columns that are declared", st.Address))
		}
	}
	return c
}

// testRows decodes the newest messages of a topic.
func (s *Questions) testRows(c *Connection, st *plan.Stream, table *plan.Table) {
	const looked = 20
	ms, err := s.topics.Recorded(st.Address, topics.Reading{Partition: -1, From: -1, Last: looked, Limit: looked})
	if err != nil || len(ms) == 0 {
		c.test("readable", err, "there are no messages yet")
		return
	}
	bad, reason, err := topics.BadRows(st, table, ms)
	switch {
	case err != nil:
	case bad == len(ms):
		err = fmt.Errorf("none of the newest %d messages is a row: %s", len(ms), reason)
	case bad > 0:
		reason = fmt.Sprintf("%d of the newest %d messages are rows; of the others, one: %s", len(ms)-bad, len(ms), reason)
	default:
		reason = fmt.Sprintf("the newest %d messages are rows", len(ms))
	}
	c.test("columns fit", err, reason)
}

// testTopic looks for a topic, or says that it is made before it is needed.
func (s *Questions) testTopic(c *Connection, name string, coming map[string]bool) *topiclog.Topic {
	t, err := s.topics.Named(name)
	switch {
	case err == nil:
		info := s.topics.Info(t)
		c.test("exists", nil, fmt.Sprintf("%d partition(s), %d messages", len(info.Partitions), info.Messages))
		return t
	case coming[name]:
		c.test("exists", nil, "the text makes it")
	default:
		c.test("exists", fmt.Errorf("%w; create it with CREATE TOPIC \"%s\"", err, name), "")
	}
	return nil
}

// testSink tests a sink; out is what a job would write to it, or nil; coming are topics that are made before it is written.
func (s *Questions) testSink(ctx context.Context, k *plan.Sink, out *plan.Op, coming map[string]bool) Connection {
	c := Connection{Kind: sql.KindSink, Name: k.Name, Place: k.Place, Address: k.Address, Checks: []PlaceTest{}}
	switch k.Place {
	case "topic":
		s.testTopic(&c, k.Address, coming)
	case "files":
		dir, err := s.Files.Path(k.Address)
		if err == nil {
			err = mayWriteTo(dir)
		}
		c.test("writable", err, "files can be made in "+k.Address)
	case "mariadb":
		if !s.reach(ctx, &c, k.Via) {
			break
		}
		if out == nil {
			if !c.test("exists", mariadb.HasTable(ctx, k.Via, k.Address, s.Databases), "the table "+k.Address+" is there") {
				break
			}
		} else if !c.test("columns fit", mariadb.Check(ctx, out, s.Databases), "the table "+k.Address+" takes the rows") {
			break
		}
		c.test("writable", mariadb.MayWrite(ctx, k.Via, k.Address, s.Databases), "rows may be written to it")
	}
	return c
}

// mayWriteTo looks whether a file can be made in a directory, or in the nearest one above that is there.
func mayWriteTo(dir string) error {
	for {
		st, err := os.Stat(dir)
		if errors.Is(err, os.ErrNotExist) && filepath.Dir(dir) != dir {
			dir = filepath.Dir(dir)
			continue
		}
		if err != nil {
			return err
		}
		if !st.IsDir() {
			return fmt.Errorf("%s is a file, and a sink of FILES takes a directory", dir)
		}
		f, err := os.CreateTemp(dir, ".fiume-test-")
		if err != nil {
			return fmt.Errorf("no file can be made in %s: %w", dir, err)
		}
		return errors.Join(f.Close(), os.Remove(f.Name()))
	}
}
