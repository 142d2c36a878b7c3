// Package boards shows boards: pages of panels over queries. Each query runs once for all who look, and not at all where nobody does.
package boards

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"sync"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
	"fiume/internal/service/sensitive"
)

// Boards is the part of the service that shows boards.
type Boards struct {
	*base.Base
	Lingers time.Duration // how long a query runs on when nobody looks any more

	mu      sync.Mutex
	kept    map[query]*result
	drafts  map[string]*draft
	closed  bool
	running sync.WaitGroup
}

// New shows the boards of a service.
func New(b *base.Base) *Boards {
	return &Boards{Base: b, Lingers: lingers, kept: map[query]*result{}, drafts: map[string]*draft{}}
}

// Close ends all queries.
func (b *Boards) Close() {
	b.mu.Lock()
	b.closed = true
	for _, r := range b.kept {
		r.end()
	}
	b.mu.Unlock()
	b.running.Wait()
}

// Board is a board, for people.
type Board struct {
	Name      string     `json:"name"`
	Title     string     `json:"title"`
	Since     int64      `json:"since" doc:"how far back the panels look, microseconds"`
	Rows      int        `json:"rows" doc:"how many are kept of a panel at most"`
	SQL       string     `json:"sql"`
	Variables []Variable `json:"variables"`
	Panels    []Panel    `json:"panels"`

	plan *plan.Board
}

// Variable is what whoever looks at a board chooses.
type Variable struct {
	Name    string `json:"name"`
	Title   string `json:"title"`
	SQL     string `json:"sql" doc:"the query of what can be chosen"`
	Type    string `json:"type"`
	Column  string `json:"column" doc:"the column of what can be chosen"`
	Words   string `json:"words,omitempty" doc:"the column of what people read, where there is one"`
	Default string `json:"default" doc:"what is chosen at first"`
	All     string `json:"all,omitempty" doc:"the words for all of them, which is chosen as an empty text"`
}

// Panel is a part of a board.
type Panel struct {
	Title   string        `json:"title"`
	Kind    string        `json:"kind" enum:"series,bars,number,table,heat,histogram,states,map,areas,text"`
	Words   string        `json:"words,omitempty"`
	SQL     string        `json:"sql,omitempty"`
	Reads   []string      `json:"reads,omitempty" doc:"the variables that it reads"`
	Columns []base.Column `json:"columns"`
	Wide    int           `json:"wide" doc:"columns of the page, of 12"`
	High    int           `json:"high" doc:"rows of the page"`
	Time    string        `json:"time,omitempty"`
	Label   string        `json:"label,omitempty"`
	Value   string        `json:"value,omitempty"`
	State   string        `json:"state,omitempty"`
	Order   []string      `json:"order,omitempty" doc:"the states from least to most"`
	Across  string        `json:"across,omitempty"`
	Up      string        `json:"up,omitempty"`
	Outline []plan.Spot   `json:"outline,omitempty"`
	Top     int           `json:"top,omitempty"`
	Bins    int           `json:"bins,omitempty"`
	Stacked bool          `json:"stacked,omitempty"`
	Unit    string        `json:"unit,omitempty"`
	Above   *float64      `json:"above,omitempty"`
	Below   *float64      `json:"below,omitempty"`
	Problem string        `json:"problem,omitempty" doc:"what is wrong with a panel of a draft"`
}

// List gives all boards, in the order of their definitions.
func (b *Boards) List() []Board {
	out := []Board{}
	cat := b.Current()
	for _, d := range b.Defined() {
		if x := cat.Boards[d.Name]; x != nil {
			out = append(out, boardOf(x, d.SQL))
		}
	}
	return out
}

// Get gives a board.
func (b *Boards) Get(name string) (*Board, error) {
	var names []string
	for _, x := range b.List() {
		if x.Name == name {
			return &x, nil
		}
		names = append(names, x.Name)
	}
	if near := sql.Suggest(name, names); near != "" {
		return nil, base.Errorf(base.ErrNotFound, "no board is called %q; did you mean %q?", name, near)
	}
	return nil, base.Errorf(base.ErrNotFound, "no board is called %q", name)
}

func boardOf(x *plan.Board, text string) Board {
	out := Board{Name: x.Name, Title: x.Title, Since: x.Since, Rows: x.Rows, SQL: text, Variables: []Variable{}, Panels: []Panel{}, plan: x}
	for _, v := range x.Variables {
		out.Variables = append(out.Variables, Variable{v.Name, v.Title, v.SQL, v.Type.String(), v.Column, v.Words, v.Default, v.All})
	}
	for _, p := range x.Panels {
		out.Panels = append(out.Panels, Panel{Title: p.Title, Kind: p.Kind, Words: p.Words, SQL: p.SQL, Reads: p.Reads, Columns: columnsOf(p.Columns), Wide: p.Wide, High: p.High, Time: p.Time, Label: p.Label, Value: p.Value,
			State: p.State, Order: p.Order, Across: p.Across, Up: p.Up, Outline: p.Outline, Top: p.Top, Bins: p.Bins, Stacked: p.Stacked, Unit: p.Unit, Above: p.Most, Below: p.Least, Problem: p.Problem})
	}
	return out
}

func columnsOf(fields []types.Field) []base.Column {
	out := []base.Column{}
	for _, f := range fields {
		out = append(out, base.Column{Name: f.Name, Type: f.Type.String()})
	}
	return out
}

// View says how somebody looks at a board.
type View struct {
	Chosen   map[string]string // of the variables; what is not there is as at first
	Since    int64             // how far back, microseconds; 0: as the board says
	From, To int64             // a stretch of event time instead, microseconds since 1970; To 0: none
	Draft    string            // a draft, instead of a board that is kept
}

// longest is the longest stretch or way back that is looked at.
const longest = 400 * types.Day

func (v *View) check() error {
	switch {
	case v.To != 0 && v.From >= v.To:
		return base.Errorf(base.ErrRefused, "the stretch ends before it begins")
	case v.To != 0 && v.To-v.From > longest || v.Since > longest || v.Since < 0:
		return base.Errorf(base.ErrRefused, "a board looks back over up to 400 days")
	}
	return nil
}

// board is what a view shows.
func (b *Boards) board(name string, v *View) (*Board, error) {
	if v.Draft != "" {
		return b.draftOf(v.Draft)
	}
	return b.Get(name)
}

// query is the one of a panel, or of a variable: p then is nil.
func (v *View) query(board *Board, text string, p *plan.Panel) (query, error) {
	q := query{sql: text, since: board.Since, rows: board.Rows}
	if v.Since > 0 {
		q.since = v.Since
	}
	if p == nil {
		q.rows = mostChoices
		return q, nil
	}
	q.from, q.to = v.From, v.To
	if q.to != 0 {
		q.since = 0 // the same for all who look at the stretch
	}
	values, err := board.plan.Values(p, v.Chosen)
	if err != nil {
		return q, base.Errorf(base.ErrRefused, "%s", err)
	}
	for _, name := range p.Reads {
		x := values[name]
		q.values += fmt.Sprintf("%s %d %d %q;", name, x.Type.Kind, x.Value.Kind, fmt.Sprint(x.Value.I, x.Value.S))
	}
	q.look = &plan.Look{Values: values, From: q.from, To: q.to}
	return q, nil
}

// mostChoices is how many rows of a variable are kept.
const mostChoices = 1000

// ErrReplaced is the error of Watch when the board is another one than it was.
var ErrReplaced = errors.New("the board has been replaced")

// Watch tells what the panels of a board show, first all, and then what changes, and what can be chosen of its variables, until the context ends,
// or the board is another one: begun gets it as it was at first. Tell is not called at once for two.
func (b *Boards) Watch(ctx context.Context, name string, v View, begun func(*Board) error, tell func(Update) error) error {
	if err := v.check(); err != nil {
		return err
	}
	board, err := b.board(name, &v)
	if err != nil {
		return err
	}
	if err := begun(board); err != nil {
		return err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	updates := make(chan Update)
	var watching sync.WaitGroup
	defer watching.Wait()
	look := func(text string, p *plan.Panel, marked func(Update) Update) {
		q, err := v.query(board, text, p)
		q.hidden = sensitive.Key(ctx, b.Current())
		var r *result
		var leave func()
		if err == nil {
			r, leave, err = b.look(q)
		}
		if err != nil { // another panel may be right
			watching.Go(func() {
				select {
				case updates <- marked(Update{Full: true, Rows: []Row{}, Problem: err.Error()}):
				case <-ctx.Done():
				}
			})
			return
		}
		watching.Go(func() {
			defer leave()
			follow(ctx, r, func(u Update) bool {
				select {
				case updates <- marked(u):
					return true
				case <-ctx.Done():
					return false
				}
			})
		})
	}
	for i := range board.Panels {
		if board.Panels[i].SQL != "" {
			look(board.Panels[i].SQL, &board.plan.Panels[i], func(u Update) Update { u.Panel = i; return u })
		}
	}
	for _, x := range board.Variables {
		look(x.SQL, nil, func(u Update) Update { u.Panel, u.Variable = -1, x.Name; return u })
	}
	defer cancel(nil) // before those who watch are waited for
	looked := time.NewTicker(lookedAt)
	defer looked.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case u := <-updates:
			if err := tell(u); err != nil {
				return err
			}
		case <-looked.C:
			now, err := b.board(name, &v)
			if err != nil {
				return err
			}
			if !now.same(board) {
				return ErrReplaced
			}
		}
	}
}

// lookedAt is how often those who watch a board look whether it is still the same.
const lookedAt = 500 * time.Millisecond

func (b *Board) same(as *Board) bool {
	return b.SQL == as.SQL && (b.plan == as.plan || reflect.DeepEqual(b.Panels, as.Panels) && reflect.DeepEqual(b.Variables, as.Variables))
}

// follow tells of a result until the context ends, or tell says no.
func follow(ctx context.Context, r *result, tell func(Update) bool) {
	var since uint64
	for {
		changed := r.waiting()
		if u, ok := r.update(since); ok {
			since = u.seq
			if !tell(u) {
				return
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(betweenUpdates):
			}
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

// Stands gives the rows of a panel as they stand, when the query has come to what is there, or after a while.
func (b *Boards) Stands(ctx context.Context, name string, panel int, v View, wait time.Duration) (*Update, error) {
	if err := v.check(); err != nil {
		return nil, err
	}
	board, err := b.board(name, &v)
	if err != nil {
		return nil, err
	}
	if panel < 0 || panel >= len(board.Panels) || board.Panels[panel].SQL == "" {
		return nil, base.Errorf(base.ErrNotFound, "the board %s has no panel %d with rows", name, panel)
	}
	q, err := v.query(board, board.Panels[panel].SQL, &board.plan.Panels[panel])
	if err != nil {
		return nil, err
	}
	q.hidden = sensitive.Key(ctx, b.Current())
	r, leave, err := b.look(q)
	if err != nil {
		return nil, err
	}
	defer leave()
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	last := Update{Rows: []Row{}}
	var since uint64
	for quiet := false; !quiet; { // until nothing has changed for a while
		if u, ok := r.update(0); ok {
			last = u
		}
		quiet = since == last.seq && (len(last.Rows) > 0 || last.Problem != "")
		since = last.seq
		select {
		case <-ctx.Done():
			quiet = true
		case <-time.After(300 * time.Millisecond):
		}
	}
	last.Panel = panel
	return &last, nil
}

// Running says how many queries run.
func (b *Boards) Running() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.kept)
}
