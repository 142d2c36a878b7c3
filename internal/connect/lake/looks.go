package lake

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/recorded"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// List implements contract.Lister.
func (connector) List(ctx context.Context, env *contract.Env, via *plan.Endpoint) ([]string, error) {
	l, err := open(ctx, env, via)
	if err != nil {
		return nil, err
	}
	defer l.close()
	return l.names(ctx)
}

// Test implements contract.Tester.
func (x connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	e, address := of.Endpoint, ""
	switch {
	case of.Stream != nil:
		e, address = of.Stream.Via, of.Stream.Address
	case of.Sink != nil:
		e, address = of.Sink.Via, of.Sink.Address
	}
	ctx, cancel := context.WithTimeout(ctx, 2*mayAnswer)
	defer cancel()
	l, err := open(ctx, env, e)
	how := "the catalogue answers"
	if err == nil {
		defer l.close()
		if l.delta {
			how = "what the tables lie below can be looked at"
			_, err = l.names(ctx)
		}
	}
	if !r.Saw("reachable", err, how) {
		return
	}
	if at, far := object(e.Options.Word("warehouse", l.root)); far && l.reach.far != nil {
		probe, how := l.reach.far.Probe, "the object store takes files"
		if l.delta {
			probe, how = l.reach.far.Guards, "the object store takes files, and none in the place of another where that is not wanted"
		}
		if !r.Saw("writable", probe(ctx, strings.TrimSuffix(at, "/")+"/"), how) {
			return
		}
	}
	if address == "" {
		found, err := l.names(ctx)
		r.Saw("allowed", err, fmt.Sprintf("%d table(s)", len(found)))
		return
	}
	t, err := l.look(ctx, address)
	if of.Sink != nil && errors.Is(err, errNoTable) {
		if of.Output != nil {
			_, err = l.shape(of.Output)
			r.Saw("columns fit", err, "the table is made when the job starts")
			return
		}
		r.Saw("exists", nil, "the table is made when a job starts")
		return
	}
	if !r.Saw("exists", err, "the table is there") {
		return
	}
	if of.Output != nil {
		r.Saw("columns fit", l.takes(of.Output, t), "the rows can be written")
	}
	if of.Stream != nil && r.Saw("columns fit", fitsSource(t, of.Stream), "it has the columns") {
		_, err := first(ctx, t, 20)
		r.Saw("readable", err, "rows can be read")
	}
}

// first gives the first rows that are found as JSON objects.
func first(ctx context.Context, t look, limit int) (out [][]byte, err error) {
	if t.newest() == 0 {
		return nil, nil
	}
	cols, err := t.columns()
	if err != nil {
		return nil, err
	}
	fields := format.ArrowColumns(cols)
	loose := slices.Clone(fields)
	for i := range loose {
		loose[i].NotNull = false
	}
	recs, done, err := t.all(ctx, t.newest(), nil, limit)
	if err != nil {
		return nil, err
	}
	defer done()
	dec := format.NewArrowDecoder(&format.Reading{Stream: &plan.Stream{Name: "table", Time: -1, Columns: loose}, Used: &plan.Use{All: true}})
	enc := format.NewJSONEncoder(fields)
	for rec, err := range recs {
		if err != nil {
			return nil, err
		}
		var ms []flow.Message
		for i := range min(int(rec.NumRows()), limit-len(out)) {
			ms = append(ms, flow.Message{Pos: int64(i)})
		}
		var b column.Batch
		if bad := dec.Decode(rec, 0, ms, &b); len(bad) > 0 {
			return nil, errors.New(bad[0].Reason)
		}
		for i := range b.N {
			out = append(out, enc.Append(nil, &b, i))
		}
		if len(out) >= limit {
			break
		}
	}
	return out, nil
}

// Sample implements contract.Sampler: it gives the columns of a table, and some of its rows.
func (connector) Sample(ctx context.Context, env *contract.Env, w contract.Wanted) (*contract.Sample, error) {
	l, err := open(ctx, env, w.Via)
	if err != nil {
		return nil, err
	}
	defer l.close()
	t, err := l.look(ctx, w.Address)
	if err != nil {
		return nil, err
	}
	cols, err := t.columns()
	if err != nil {
		return nil, err
	}
	key := t.keys()
	out := &contract.Sample{Origin: fmt.Sprintf("table %s via %s", w.Address, w.Via.Name), Name: w.Address[strings.LastIndexByte(w.Address, '.')+1:], Format: "json"}
	for _, f := range format.ArrowColumns(cols) {
		c := contract.Column{Name: f.Name, Type: f.Type.String(), NotNull: f.NotNull, Key: slices.Contains(key, f.Name)}
		if f.Type.Kind == types.JSON {
			c.Note = "its type has no other here"
		}
		out.Columns = append(out.Columns, c)
	}
	rows, err := first(ctx, t, w.Limit)
	if err != nil {
		return nil, fmt.Errorf("the table %s cannot be read: %w", w.Address, err)
	}
	at, size := time.Now().UnixMicro(), 0
	for i, r := range rows {
		if size += len(r); size > w.Bytes && i > 0 {
			break
		}
		out.Messages = append(out.Messages, recorded.Message{Offset: int64(i), At: at, Value: r})
	}
	return out, nil
}
