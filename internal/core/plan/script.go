package plan

import (
	"errors"

	"fiume/internal/core/sql"
)

// Bind parses a script and binds it statement by statement: declarations go into the catalog, jobs and
// queries come back as plans in their order. Other statements are given to other, where that is set.
// The error, where there is one, is an *sql.Errors with all that is wrong in the text, in order.
func (c *Catalog) Bind(file, text string, params map[string]string, other func(st sql.Statement, errs *sql.Errors)) ([]*Plan, *sql.Script, error) {
	script, err := sql.Parse(file, text, params)
	errs := &sql.Errors{File: file, Text: text}
	var parse *sql.Errors
	if errors.As(err, &parse) {
		errs.List = append(errs.List, parse.List...)
	}
	for _, n := range script.Broken {
		c.broken[n] = true
	}
	var plans []*Plan
	for _, st := range script.Statements {
		switch st := st.(type) {
		case *sql.CreateJob:
			plans = append(plans, c.Job(st, errs))
		case *sql.Query:
			plans = append(plans, c.Query(st, errs))
		case *sql.DeclareEndpoint, *sql.DeclareStream, *sql.DeclareTable, *sql.DeclareSink, *sql.CreateView, *sql.CreateFunction, *sql.CreateBoard, *sql.CreateAlert:
			c.Define(st, errs)
		default:
			if other != nil {
				other(st, errs)
			}
		}
	}
	return plans, script, errs.Err()
}
