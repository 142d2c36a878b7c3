package flow

import (
	"fmt"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
)

// pipe is the tree of nodes that one goroutine runs for a stage.
type pipe struct {
	ctx      *step.Context
	root     step.Node
	partials []*step.Partial
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
func (s *sinkNode) Push(b *column.Batch) { s.enc.Add(b) }

// pipe builds the nodes behind an operator that begins a stage.
func (j *Job) pipe(op *plan.Op, ctx *step.Context) (*pipe, error) {
	p := &pipe{ctx: ctx}
	leaves := map[*plan.Op]*sinkNode{}
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
	var after func(o *plan.Op) (step.Node, error)
	after = func(o *plan.Op) (step.Node, error) {
		var fan step.Fan
		if t := j.taps[o.ID]; t != nil {
			fan = append(fan, &tapNode{t, ctx})
		}
		for _, n := range o.Next {
			var node step.Node
			switch n.Kind {
			case plan.Window:
				part := &step.Partial{Op: n, C: ctx, Groups: groupsPool.get(n)}
				p.partials = append(p.partials, part)
				node = part
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
				if n.Kind == plan.Filter {
					node = &step.Filter{Op: n, C: ctx, Next: next}
				} else {
					node = &step.Project{Op: n, C: ctx, Next: next}
				}
			}
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
	groups    []*sharedGroups // by partial; nil where empty
	payloads  []Payload       // by output
	outputs   []*plan.Op
	partials  []*plan.Op
	watermark int64
	idle      bool
	end       bool
	next      int64 // position behind it
}

// take empties the pipe into a turn.
func (p *pipe) take(tasks int) *turn {
	t := &turn{counts: slices.Clone(p.ctx.Counts), samples: slices.Clone(p.ctx.Samples)}
	for _, x := range p.partials {
		var g *sharedGroups
		if x.Groups.Len() > 0 {
			g = &sharedGroups{op: x.Op, groups: x.Groups}
			g.refs.Store(int32(tasks))
			x.Groups = groupsPool.get(x.Op)
		}
		t.groups, t.partials = append(t.groups, g), append(t.partials, x.Op)
	}
	for _, o := range p.outputs {
		t.payloads, t.outputs = append(t.payloads, o.enc.enc.Take()), append(t.outputs, o.op)
	}
	p.ctx.Reset()
	return t
}
