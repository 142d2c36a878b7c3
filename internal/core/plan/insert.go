package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// Insertion is a checked INSERT INTO … VALUES: rows to write where a stream or table is read.
type Insertion struct {
	Kind   string // stream or table
	Stream *Stream
	Key    []int         // of a table: the columns of its primary key
	Rows   *column.Batch // with the columns of Stream; what is left out is NULL
}

// Insert checks an INSERT and computes its values. It reports to errs and gives nil where something is wrong.
func (c *Catalog) Insert(st *sql.Insert, errs *sql.Errors) *Insertion {
	in := c.insertInto(st, errs)
	if in == nil {
		return nil
	}
	before := len(errs.List)
	columns := insertColumns(st, in.Stream, errs)
	if len(errs.List) > before {
		return nil
	}
	n, now := len(st.Rows), time.Now().UnixMicro()
	in.Rows = &column.Batch{N: n}
	for col, f := range in.Stream.Columns {
		v := column.New(f.Type)
		v.Resize(n)
		for i := range n {
			if !slices.Contains(columns, col) {
				v.Set(i, n, types.Value{})
			}
		}
		in.Rows.Cols = append(in.Rows.Cols, v)
	}
	b := &binder{cat: c, errs: errs, scope: &scope{}, where: "VALUES"}
	for i, row := range st.Rows {
		if len(row) != len(columns) {
			at := row[len(row)-1].Place()
			if len(row) > len(columns) {
				at = row[len(columns)].Place()
			}
			errs.Add(sql.WrongType, at, "they are "+strings.Join(namesOf(in.Stream, columns), ", "), "row %d is of %d values, and the columns are %d", i+1, len(row), len(columns))
			continue
		}
		for k, e := range row {
			col := columns[k]
			if v, ok := b.insertValue(e, in.Stream.Columns[col], col == in.Stream.Time, now); ok {
				in.Rows.Cols[col].Set(i, n, v)
			}
		}
	}
	if len(errs.List) > before {
		return nil
	}
	return in
}

// insertInto finds what an INSERT writes to.
func (c *Catalog) insertInto(st *sql.Insert, errs *sql.Errors) *Insertion {
	name := st.Into.Text
	in := &Insertion{Kind: c.KindOf(name)}
	switch in.Kind {
	case sql.KindStream:
		in.Stream = c.Streams[name].WithoutParts()
	case sql.KindTable:
		t := c.Tables[name]
		in.Stream = t.Stream.WithoutParts()
		for _, k := range t.Key {
			name := t.shown[k].Name
			in.Key = append(in.Key, slices.IndexFunc(in.Stream.Columns, func(f types.Field) bool { return f.Name == name }))
		}
	case sql.KindSink:
		hint := "INSERT INTO a stream that is read from the same place"
		if st.Query != nil {
			hint = fmt.Sprintf("CREATE JOB to_%s AS %s ROUTE TO %s", name, oneLine(st.Query), name)
		}
		errs.Add(sql.WrongPlace, st.Into.Span, hint, "%q is a sink, which is written to by jobs", name)
		return nil
	case "":
		if !c.broken[name] {
			errs.Add(sql.UnknownName, st.Into.Span, sql.DidYouMean(name, append(keys(c.Streams), keys(c.Tables)...)), "no stream or table is called %q", name)
		}
		return nil
	default:
		errs.Add(sql.WrongPlace, st.Into.Span, "INSERT INTO a stream or a table", "%q is a %s", name, in.Kind)
		return nil
	}
	if st.Query != nil {
		errs.Add(sql.WrongPlace, st.Into.Span, fmt.Sprintf("declare a sink TO %s '%s', and CREATE JOB to_%s AS %s ROUTE TO that sink", strings.ToUpper(in.Stream.Place), in.Stream.Address, name, oneLine(st.Query)),
			"the rows of a query are written by a job")
		return nil
	}
	if !c.Places[in.Stream.Place].Insert {
		errs.Add(sql.WrongPlace, st.Into.Span, "write to the place itself; INSERT writes to topics", "the %s %q is read FROM %s, which INSERT does not write to", in.Kind, name, strings.ToUpper(in.Stream.Place))
		return nil
	}
	return in
}

func oneLine(q *sql.Query) string { return strings.Join(strings.Fields(sql.Print(q)), " ") }

func namesOf(s *Stream, columns []int) (out []string) {
	for _, c := range columns {
		out = append(out, s.Columns[c].Name)
	}
	return out
}

// insertColumns gives the columns that have values, and reports those that need one and have none.
func insertColumns(st *sql.Insert, s *Stream, errs *sql.Errors) (out []int) {
	if st.Columns == nil {
		for i := range s.Columns {
			out = append(out, i)
		}
		return out
	}
	for _, n := range st.Columns {
		i := slices.IndexFunc(s.Columns, func(f types.Field) bool { return f.Name == n.Text })
		switch {
		case i >= 0 && slices.Contains(out, i):
			errs.Add(sql.Duplicate, n.Span, "", "the column %q is there twice", n.Text)
		case i >= 0:
			out = append(out, i)
		case slices.ContainsFunc(s.shown, func(f shownColumn) bool { return f.Name == n.Text }):
			errs.Add(sql.WrongPlace, n.Span, "leave it out", "the column %q is computed", n.Text)
		default:
			var names []string
			for _, f := range s.Columns {
				names = append(names, f.Name)
			}
			errs.Add(sql.UnknownName, n.Span, suggestion(n.Text, names, s.Name), "unknown column %q in %s", n.Text, s.Name)
		}
	}
	for i, f := range s.Columns {
		if (f.NotNull || i == s.Time) && !slices.Contains(out, i) {
			errs.Add(sql.NoValue, st.Into.Span, "name it among the columns, and give its value", "%s has no value", needed(f, i == s.Time))
		}
	}
	return out
}

// needed says why a column may not be NULL.
func needed(f types.Field, time bool) string {
	if time {
		return fmt.Sprintf("%q, the event time,", f.Name)
	}
	return fmt.Sprintf("%q, which is NOT NULL,", f.Name)
}

// insertValue computes a value for a column.
func (b *binder) insertValue(e sql.Expr, f types.Field, isTime bool, now int64) (v types.Value, ok bool) {
	x := b.bound(e)
	if x == nil {
		return v, false
	}
	numbers := x.Type.IsNumber() && f.Type.IsNumber()
	// Text is read as what the column is, and the parts of a row go by their places.
	cast := (x.Type.Kind == types.Varchar || x.Type.IsNested()) && eval.CanCast(x.Type, f.Type)
	if !eval.Implicit(x.Type, f.Type) && !numbers && !cast {
		b.fail(sql.WrongType, e, "", "the column %q is %s, and this is %s", f.Name, f.Type, x.Type)
		return v, false
	}
	v, reason := evaluate(eval.Cast(x, f.Type), now)
	if reason == "" && numbers && !v.IsNull() && !eval.Implicit(x.Type, f.Type) {
		// A number that the column cannot hold exactly is not rounded in silence.
		if back, wrong := evaluate(eval.Cast(eval.Const(f.Type, v), x.Type), now); wrong != "" || string(types.AppendText(nil, back)) != textOf(x, now) {
			reason = fmt.Sprintf("%s is no %s", textOf(x, now), f.Type)
		}
	}
	if reason != "" {
		b.fail(sql.WrongType, e, "", "the column %q: %s", f.Name, reason)
		return v, false
	}
	if v.IsNull() && (f.NotNull || isTime) {
		b.fail(sql.NoValue, e, "", "%s is NULL here", needed(f, isTime))
		return v, false
	}
	return v, true
}

// evaluate computes an expression that sees no row.
func evaluate(x *eval.Expr, now int64) (v types.Value, reason string) {
	m := eval.Machine{Now: now}
	vec := m.Eval(x, &column.Batch{N: 1, Time: []int64{now}})
	if len(m.Failures) > 0 {
		return v, m.Failures[0].Reason
	}
	return vec.Value(0), ""
}

func textOf(x *eval.Expr, now int64) string {
	v, _ := evaluate(x, now)
	return string(types.AppendText(nil, v))
}
