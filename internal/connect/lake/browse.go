package lake

import (
	"cmp"
	"context"
	"slices"

	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/format"
)

// Browse implements contract.Browser: the tables of a catalogue, or what is known of one.
func (connector) Browse(ctx context.Context, env *contract.Env, via *plan.Endpoint, address string, most int) (*contract.Browsed, error) {
	l, err := open(ctx, env, via)
	if err != nil {
		return nil, err
	}
	defer l.close()
	out := &contract.Browsed{Address: address, Entries: []contract.Entry{}}
	if address == "" {
		all, err := l.names(ctx)
		for _, n := range all[:min(most, len(all))] {
			out.Entries = append(out.Entries, contract.Entry{Name: n, Kind: "table"})
		}
		out.More = len(all) > most
		return out, err
	}
	t, err := l.look(ctx, address)
	if err != nil {
		return nil, err
	}
	cols, err := t.columns()
	if err != nil {
		return nil, err
	}
	key := t.keys()
	for _, f := range format.ArrowColumns(cols) {
		out.Columns = append(out.Columns, contract.TableColumn{Name: f.Name, Type: f.Type.String(), NotNull: f.NotNull, Key: slices.Contains(key, f.Name)})
	}
	if err := t.browse(ctx, out, most); err != nil {
		return nil, l.said(err)
	}
	return out, nil
}

func fact(to *contract.Browsed, name, value string) {
	if value != "" {
		to.Facts = append(to.Facts, contract.Fact{Name: name, Value: value})
	}
}

// partitions sums files up.
type partitions struct {
	by map[string]*contract.Partition
}

func (p *partitions) add(name string, rows, bytes int64) {
	if p.by == nil {
		p.by = map[string]*contract.Partition{}
	}
	x := p.by[name]
	if x == nil {
		x = &contract.Partition{Name: name}
		p.by[name] = x
	}
	x.Rows, x.Files, x.Bytes = x.Rows+rows, x.Files+1, x.Bytes+bytes
}

// to gives the largest.
func (p *partitions) to(out *contract.Browsed, most int) {
	for _, x := range p.by {
		out.Parts = append(out.Parts, *x)
	}
	slices.SortFunc(out.Parts, func(a, b contract.Partition) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Name, b.Name))
	})
	if len(out.Parts) > most {
		out.Parts, out.More = out.Parts[:most], true
	}
}
