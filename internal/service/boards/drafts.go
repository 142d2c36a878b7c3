package boards

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/base"
)

// A draft is a board that somebody is changing: it is drawn over live rows like one that is kept, and forgotten when nobody has changed or looked at it for a
// while.

const (
	mostDrafts  = 200
	draftsStand = 10 * time.Minute
)

type draft struct {
	board Board
	used  time.Time
}

// Draft is the text of a board that is being changed, and its parts.
type Draft struct {
	SQL     string          `json:"sql" doc:"laid out"`
	Parts   *sql.BoardParts `json:"parts"`
	Problem string          `json:"problem,omitempty" doc:"why it cannot be kept as it is"`
}

// Draft takes a board that is being changed, as a text or as its parts, and gives both. It can be watched by its id from then on. What is
// no text of a board at all is refused.
func (b *Boards) Draft(ctx context.Context, id, text string, parts *sql.BoardParts) (*Draft, error) {
	if id == "" || len(id) > 200 {
		return nil, base.Errorf(base.ErrRefused, "a draft has an id of up to 100 letters")
	}
	var err error
	if parts != nil {
		if text, err = parts.SQL(); err != nil {
			return nil, base.Errorf(base.ErrRefused, "%s", err)
		}
	}
	out := &Draft{}
	if out.Parts, err = sql.Cut(text); err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	if out.SQL, err = out.Parts.SQL(); err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	script, err := sql.Parse("board", out.SQL, nil)
	if err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	errs := &sql.Errors{File: "board", Text: out.SQL}
	b.Allowed(ctx, script, errs)
	checked := b.Current().Board(script.Statements[0].(*sql.CreateBoard), errs)
	if err := errs.Err(); err != nil {
		out.Problem = err.Error()
	}
	board := boardOf(checked, out.SQL)
	b.mu.Lock()
	defer b.mu.Unlock()
	now := time.Now()
	for id, d := range b.drafts {
		if now.Sub(d.used) > draftsStand {
			delete(b.drafts, id)
		}
	}
	if b.drafts[id] == nil && len(b.drafts) >= mostDrafts {
		return nil, base.Errorf(base.ErrBusy, "%d boards are being changed; try again in some minutes", mostDrafts)
	}
	b.drafts[id] = &draft{board, now}
	return out, nil
}

// draftOf gives a draft as a board.
func (b *Boards) draftOf(id string) (*Board, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	d := b.drafts[id]
	if d == nil {
		return nil, base.Errorf(base.ErrNotFound, "there is no such draft any more; change it once more")
	}
	d.used = time.Now()
	board := d.board
	return &board, nil
}

// PanelKind describes a kind of panel, for forms.
type PanelKind struct {
	Kind    string        `json:"kind"`
	Options []PanelOption `json:"options"`
}

// PanelOption describes an option of a panel.
type PanelOption struct {
	Name    string `json:"name"`
	Takes   string `json:"takes" enum:"text,column,number,flag" doc:"a column is one of the panel's query"`
	Doc     string `json:"doc"`
	Default string `json:"default,omitempty"`
}

var errNoOption = errors.New("an option of panels takes something that forms do not know")

// Kinds describes all kinds of panels.
func Kinds() (out []PanelKind) {
	for _, kind := range sql.PanelKinds {
		k := PanelKind{Kind: kind, Options: []PanelOption{}}
		for _, o := range plan.PanelOptions(kind) {
			takes := map[plan.OptionKind]string{plan.WordOption: "text", plan.NumberOption: "number", plan.FlagOption: "flag"}[o.Kind]
			if takes == "" {
				panic(errNoOption)
			}
			if slices.Contains(plan.PanelColumns, o.Name) {
				takes = "column"
			}
			k.Options = append(k.Options, PanelOption{strings.ToLower(o.Name), takes, o.Doc, o.Default})
		}
		out = append(out, k)
	}
	return out
}
