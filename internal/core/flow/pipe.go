package flow

import (
	"fmt"
	"maps"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// pipe is the tree of nodes that one goroutine runs for a stage.
type pipe struct {
	ctx      *step.Context
	root     step.Node
	partials []*step.Partial
	shuffles []*step.Shuffle
	sides    []*step.Side
	outputs  []outputLeaf
}

type outputLeaf struct {
	op  *plan.Op
	enc *sinkNode
}

// sinkNode encodes what it is given for a sink.
type sinkNode struct {
	op  *plan.Op
	ctx *step.Context
	enc Encoder
}

// Push implements step.Node.
func (s *sinkNode) Push(b *column.Batch) {
	if s.op.Full {
		b = inFull(b)
	}
	s.enc.Add(b)
}

// inFull puts a column before the others that says what each row does. What a replacement takes back is
// left out, since the replacement says it.
func inFull(b *column.Batch) *column.Batch {
	out := b
	if b.Change != nil {
		var sel []uint32
		for i, c := range b.Change {
			if c != column.Replaced {
				sel = append(sel, uint32(i))
			}
		}
		out = &column.Batch{}
		b.Gather(sel, out)
		for i, r := range sel { // the pairs are whole
			out.Change[i] = b.Change[r]
		}
	}
	kind := column.New(types.Of(types.Varchar))
	kind.Resize(out.N)
	for i := range out.N {
		c := column.Insert
		if out.Change != nil {
			c = out.Change[i]
		}
		kind.SetText(i, []byte(c.String()))
	}
	full := *out
	full.Change = nil
	full.Cols = append([]*column.Vector{kind}, out.Cols...)
	return &full
}

// pipe builds the nodes behind an operator that begins a stage.
func (j *Job) pipe(op *plan.Op, ctx *step.Context) (*pipe, error) {
	p := &pipe{ctx: ctx}
	ctx.Machine.Ended = func() bool { return j.ctx.Err() != nil }
	leaves := map[*plan.Op]*sinkNode{}
	made := map[*plan.Op]step.Node{} // a union is reached from several sides
	leaf := func(o *plan.Op) (step.Node, error) {
		if s := leaves[o]; s != nil {
			return s, nil
		}
		enc, err := j.sinkOf[o].sink.NewEncoder(o.Fields)
		if err != nil {
			return nil, fmt.Errorf("sink %s: %w", o.Step, err)
		}
		leaves[o] = &sinkNode{o, ctx, enc}
		p.outputs = append(p.outputs, outputLeaf{o, leaves[o]})
		return leaves[o], nil
	}
	side := func(o *plan.Op) error {
		for i, outs := range [][]*plan.Op{o.Late, o.Rejected} {
			for _, out := range outs {
				l, err := leaf(out)
				if err != nil {
					return err
				}
				ctx.AddAside(&step.Aside{Op: out, Of: o, Next: l}, i == 0)
			}
		}
		return nil
	}
	if err := side(op); err != nil {
		return nil, err
	}
	var after func(o *plan.Op) (step.Node, error)
	after = func(o *plan.Op) (step.Node, error) {
		var fan step.Fan
		if t := j.taps[o.ID]; t != nil {
			fan = append(fan, &tapNode{t, ctx})
		}
		for _, n := range o.Next {
			if node := made[n]; node != nil {
				fan = append(fan, node)
				continue
			}
			var node step.Node
			if err := side(n); err != nil {
				return nil, err
			}
			switch n.Kind {
			case plan.Window:
				part := &step.Partial{Op: n, C: ctx, Groups: groupsPool.get(n)}
				p.partials = append(p.partials, part)
				node = part
			case plan.Unique, plan.Over:
				sh := &step.Shuffle{Op: n, C: ctx, Parts: make([]*column.Batch, j.opts.Parallelism)}
				p.shuffles = append(p.shuffles, sh)
				node = sh
			case plan.Side:
				side := step.NewSide(n, ctx, j.opts.Parallelism)
				p.sides = append(p.sides, side)
				node = side
			case plan.Output:
				l, err := leaf(n)
				if err != nil {
					return nil, err
				}
				node = l
			case plan.Route:
				r := &step.Route{Op: n, C: ctx}
				for _, b := range n.Branches {
					var f step.Fan
					for _, s := range b.Sinks {
						l, err := leaf(s)
						if err != nil {
							return nil, err
						}
						f = append(f, l)
					}
					r.Branches = append(r.Branches, f)
				}
				node = r
			default:
				next, err := after(n)
				if err != nil {
					return nil, err
				}
				switch n.Kind {
				case plan.Filter:
					node = &step.Filter{Op: n, C: ctx, Next: next}
				case plan.Lookup:
					rows := j.caches[n]
					if rows == nil {
						rows = &step.Kept{Table: j.tables[n.Of]}
					}
					node = step.NewLookup(n, ctx, next, rows, j.fail)
				case plan.Union:
					node = next
				case plan.Explode:
					node = &step.Explode{Op: n, C: ctx, Next: next}
				default:
					node = &step.Project{Op: n, C: ctx, Next: next}
				}
			}
			made[n] = node
			fan = append(fan, node)
		}
		if len(fan) == 1 {
			return fan[0], nil
		}
		return fan, nil
	}
	root, err := after(op)
	p.root = root
	return p, err
}

// turn is what came out of a pipe for one piece or one advance of the watermark.
type turn struct {
	counts    []step.Counts
	samples   []step.Sample
	reasons   map[step.Reason]int64 // nil where nothing was rejected
	groups    []*sharedGroups       // by partial; nil where empty
	rows      [][]*column.Batch     // by shuffle, then task
	shuffles  []*plan.Op
	blocks    [][]*state.Block // by side, then task
	sides     []*plan.Op
	split     int32
	fresh     bool
	complete  bool
	loaded    bool
	newest    int64     // greatest event time of all rows so far
	payloads  []Payload // by output
	outputs   []*plan.Op
	partials  []*plan.Op
	watermark int64
	idle      bool
	still     int64 // watermark that the clock gives while all splits are idle, or 0
	end       bool
	next      int64 // position behind it
}

// take empties the pipe into a turn.
func (p *pipe) take(tasks int) *turn {
	p.ctx.Flush()
	t := &turn{counts: slices.Clone(p.ctx.Counts), samples: slices.Clone(p.ctx.Samples), reasons: maps.Clone(p.ctx.Reasons), newest: types.MinTime}
	for _, x := range p.partials {
		var g *sharedGroups
		if x.Groups.Len() > 0 || x.Partly != nil {
			g = &sharedGroups{op: x.Op, groups: x.Groups, partly: x.Partly}
			g.refs.Store(int32(tasks))
			x.Groups, x.Partly = groupsPool.get(x.Op), nil
		}
		t.groups, t.partials = append(t.groups, g), append(t.partials, x.Op)
	}
	for _, x := range p.shuffles {
		t.rows, t.shuffles = append(t.rows, x.Parts), append(t.shuffles, x.Op)
		x.Parts = make([]*column.Batch, len(x.Parts))
	}
	for _, x := range p.sides {
		t.blocks, t.sides = append(t.blocks, x.Blocks), append(t.sides, x.Op)
		x.Blocks = make([]*state.Block, len(x.Blocks))
	}
	for _, o := range p.outputs {
		t.payloads, t.outputs = append(t.payloads, o.enc.enc.Take()), append(t.outputs, o.op)
	}
	p.ctx.Reset()
	return t
}
