package flow

import (
	"fmt"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
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

// keyed lists what the pipe sends rows to by key: windows, steps in event order, and sides of joins and tables.
func (p *pipe) keyed() (out []*plan.Op) {
	for _, x := range p.partials {
		out = append(out, x.Op)
	}
	for _, x := range p.shuffles {
		out = append(out, x.Op)
	}
	for _, x := range p.sides {
		out = append(out, x.Op)
	}
	return out
}
