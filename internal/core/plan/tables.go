package plan

import (
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// Table is a declared table: the latest row of each key.
type Table struct {
	*Stream
	Key     []int // columns of the primary key, in their order among the columns that queries see
	Lookup  bool  // rows are looked up where they are, and cached
	Changes bool  // MariaDB: the place tells its changes
}

// Forever is the length of time that stands for no end.
const Forever = 1000 * 365 * day

// table checks a declaration.
func (c *Catalog) table(d *sql.DeclareTable, errs *sql.Errors) *Table {
	s := c.stream(&sql.DeclareStream{Stmt: d.Stmt, Name: d.Name, Columns: d.Columns, Sampled: d.Sampled, Time: d.Time, From: d.From}, true, errs)
	t := &Table{Stream: s}
	names := d.Key
	for _, col := range d.Columns {
		if col.Key {
			if d.Key != nil {
				errs.Add(sql.Duplicate, col.Span, "say it once", "the table %q has two keys", d.Name.Text)
				return t
			}
			names = append(names, col.Name)
		}
	}
	if d.Columns != nil && len(names) == 0 {
		errs.Add(sql.WrongPlace, d.Name.Span, "write PRIMARY KEY behind a column, or PRIMARY KEY (a, b) behind the last one", "a table needs a key: it keeps the latest row of each")
		return t
	}
	for _, n := range names {
		i := slices.IndexFunc(s.shown, func(f shownColumn) bool { return f.Name == n.Text })
		switch {
		case i < 0:
			errs.Add(sql.UnknownName, n.Span, "", "unknown column %q in %s", n.Text, d.Name.Text)
		case s.shown[i].expr.Op != eval.OpColumn || s.TimeOf != nil && s.shown[i].expr.Index == len(s.Columns):
			errs.Add(sql.WrongType, n.Span, "", "the key column %q is computed; a key stands in the data", n.Text)
		case s.shown[i].Type.IsNested() || s.shown[i].Type.Kind == types.JSON:
			errs.Add(sql.WrongType, n.Span, "", "a %s cannot be a key", s.shown[i].Type.Kind)
		case s.shown[i].Sensitive && s.shown[i].Type.Kind != types.Varchar: // a masked text still tells rows apart
			errs.Add(sql.WrongType, n.Span, "declare it as VARCHAR", "a sensitive key is VARCHAR, and %q is %s", n.Text, s.shown[i].Type)
		case slices.Contains(t.Key, i):
			errs.Add(sql.Duplicate, n.Span, "", "the column %q is there twice", n.Text)
		default:
			t.Key = append(t.Key, i)
			s.shown[i].NotNull = true
			s.Columns[s.shown[i].expr.Index].NotNull = true
		}
	}
	t.Changes = s.Options.Flag("changes", false)
	_, rows := s.Options["cache rows"]
	_, age := s.Options["cache for"]
	t.Lookup = rows || age
	if t.Lookup && t.Changes {
		errs.Add(sql.BadOption, d.From.Address.Span, "leave CACHE out", "a table that follows the changes needs no cache")
	}
	if d.Time != nil && s.OfChanges && !t.Changes {
		errs.Add(sql.Misfit, d.Time.Span, "write CHANGES true, or leave EVENT TIME out and join AS OF NOW", "a table that is read whole tells no earlier state: it has no event time")
	}
	return t
}

// KeyColumns gives the columns of the primary key among those that are declared.
func (t *Table) KeyColumns() (out []int) {
	for _, k := range t.Key {
		out = append(out, t.shown[k].expr.Index)
	}
	return out
}

// ColumnOf gives the declared column that a shown one is, or -1 where it is computed.
func (t *Table) ColumnOf(shown int) int {
	if e := t.shown[shown].expr; e.Op == eval.OpColumn && e.Index < len(t.Columns) {
		return e.Index
	}
	return -1
}

// keyNames writes the key for people.
func (t *Table) keyNames() string {
	var out []string
	for _, k := range t.Key {
		out = append(out, t.shown[k].Name)
	}
	return strings.Join(out, ", ")
}

// read adds the scan of a table, with its computed columns: the columns are those that queries see.
func (b *builder) read(t *Table) *Op {
	key := t.Name + " table"
	if o := b.scans[key]; o != nil {
		return o
	}
	fields, at := t.scanned()
	scan := b.add(&Op{Kind: Scan, Step: t.Name, Stream: t.Stream, Since: Bound{Kind: Beginning}, Until: b.until, Fields: fields, Time: at, opens: -1, closes: -1, OfTable: t,
		Detail: fmt.Sprintf("%s '%s'%s", strings.ToUpper(t.Place), t.Address, tableDetail(t))})
	p := &Op{Kind: Project, Step: t.Name, Input: scan, Time: -1, opens: -1, closes: -1, Detail: "columns of the table"}
	for i, c := range t.shown {
		p.Exprs, p.Fields = append(p.Exprs, c.given()), append(p.Fields, c.Field)
		if c.expr.Op == eval.OpColumn && c.expr.Index == at && at >= 0 {
			p.Time = i
			p.Times = []TimeColumn{{Column: i}}
		}
	}
	o := b.add(p)
	b.scans[key] = o
	return o
}

func tableDetail(t *Table) string {
	out := ""
	if !t.Arrival() {
		out = fmt.Sprintf(", event time %s, delay %s", t.TimeIs, sql.DurationText(t.Delay))
	}
	if t.Changes {
		out += ", follows its changes"
	}
	if d := t.Options.Duration("refresh every", 0); d > 0 {
		out += ", read again every " + sql.DurationText(d)
	}
	return out
}

// keep adds the operator that holds the latest row of each key. Its output is a change stream.
func (b *builder) keep(t *Table) *Op {
	key := t.Name + " kept"
	if o := b.scans[key]; o != nil {
		return o
	}
	in := b.read(t)
	o := &Op{Kind: Keep, Step: t.Name, Time: -1, opens: -1, closes: -1, Changes: true, Table: true, OfTable: t, Fields: in.Fields, Keys: t.Key, Lateness: 0,
		Detail: "the latest row of each " + t.keyNames()}
	side := &Op{Kind: Side, Step: t.Name, Input: in, Into: o, Alias: t.Name, Order: &Ordering{}, Detail: "by " + t.keyNames()}
	for _, k := range t.Key {
		side.Order.Keys = append(side.Order.Keys, eval.Column(k, in.Fields[k].Type))
		side.Order.Names = append(side.Order.Names, in.Fields[k].Name)
	}
	o.Input = b.add(side)
	b.scans[key] = b.add(o)
	return o
}

// withTable joins the rows of a stream with a table by its key. right is the table's kept rows.
func (b *builder) withTable(left, right *Op, t *Table, asOf sql.Expr, terms []*eval.Expr, j *Joining, step string, text joinText, bind *binder) *Op {
	n := len(left.Fields)
	bad := func(code sql.Code, at sql.Span, hint, format string, args ...any) *Op {
		b.errs.Add(code, at, hint, format, args...)
		return nil
	}
	if j.Pick != PickAll {
		return bad(sql.WrongPlace, text.at, "leave "+j.Pick+" OF out", "a table has one row for each key")
	}
	if j.Kind == Right || j.Kind == Full {
		return bad(sql.WrongPlace, text.at, "use JOIN or LEFT JOIN", "a stream is joined with a table by JOIN or LEFT JOIN: which rows of a table were never met is not known while the stream goes on")
	}
	if left.Changes {
		return bad(sql.Misfit, text.at, "join the table before the rows are grouped, or let the step before report ON CLOSE without LATENESS", "a table is joined to rows that stay; those of %s are replaced and withdrawn", text.left)
	}
	now := t.Arrival()
	if asOf != nil {
		if _, ok := asOf.(*sql.NowMark); ok {
			now = true
		} else {
			if t.Arrival() {
				return bad(sql.Misfit, asOf.Place(), "declare the table with EVENT TIME, or write AS OF NOW", "the table %q has no event time: what it was at another time is not known", t.Name)
			}
			if !bind.atTimeOf(asOf, left, text) {
				return nil
			}
			now = false
		}
	}
	keys := make([]*eval.Expr, len(t.Key))
	var rest []*eval.Expr
	for _, term := range terms {
		if term.Op == eval.OpCall && term.Name == "=" && len(term.Args) == 2 {
			x, y := term.Args[0], term.Args[1]
			if l, r := sidesOf(x, n); r && !l {
				x, y = y, x
			}
			_, xr := sidesOf(x, n)
			i := -1
			if y.Op == eval.OpCast && y.Type.IsWhole() && y.Args[0].Type.IsWhole() {
				y = y.Args[0] // INT and BIGINT are one as keys
			}
			if y.Op == eval.OpColumn && y.Index >= n {
				i = slices.Index(t.Key, y.Index-n)
			}
			if !xr && i >= 0 && keys[i] == nil {
				keys[i] = x
				continue
			}
		}
		rest = append(rest, term)
	}
	for i, k := range keys {
		if k == nil {
			name := t.shown[t.Key[i]].Name
			return bad(sql.Unbounded, text.at, fmt.Sprintf("add %s.%s = …, of the same type, or declare a table with another key", text.right, name),
				"a table is joined by its key (%s), and nothing says what %s is", t.keyNames(), name)
		}
	}
	if len(rest) > 0 {
		j.Cond = all(rest)
	}
	j.On = text.on
	names := make([]string, len(keys))
	for i, k := range keys {
		names[i] = left.nameOf(k)
	}
	o := &Op{Step: step, Join: j, Fields: joinedFields(left, right, text.right, j.Kind), Time: left.Time, Times: left.Times, opens: left.opens, closes: left.closes, OfTable: t, Alias: text.right}
	if now {
		if left.Table {
			return bad(sql.NotYet, text.at, "leave AS OF NOW out", "AS OF NOW between two tables: this version of Fiume does not run it yet")
		}
		o.Kind, o.Input, o.Of = Lookup, left, right
		o.Order = &Ordering{Keys: keys, Names: names}
		o.Detail = fmt.Sprintf("%s %s by %s, as it is when the row comes", j.Kind, t.Name, strings.Join(names, ", "))
		return b.add(o)
	}
	rows := b.read(t)
	of := make([]*eval.Expr, len(t.Key))
	for i, k := range t.Key {
		of[i] = eval.Column(k, rows.Fields[k].Type)
	}
	o.Detail = fmt.Sprintf("%s %s by %s, as of the row's event time", j.Kind, t.Name, strings.Join(names, ", "))
	return b.asOf(o, left, rows, [2][]*eval.Expr{keys, of}, text)
}

// asOf adds the two sides of a join with versions, and the join.
func (b *builder) asOf(o *Op, left, right *Op, keys [2][]*eval.Expr, text joinText) *Op {
	j := o.Join
	if j.Lateness == 0 {
		j.Lateness = types.Hour
	}
	j.Slack = [2]int64{j.Lateness, 0}
	o.Kind = AsOf
	sides := [2]*Op{}
	for i, in := range [2]*Op{left, right} {
		side := &Op{Kind: Side, Step: o.Step, Input: in, Side: i, Into: o, Alias: [2]string{text.left, text.right}[i], Order: &Ordering{Keys: keys[i]}}
		for _, k := range keys[i] {
			side.Order.Names = append(side.Order.Names, in.nameOf(k))
		}
		side.Detail = side.Alias + " by " + strings.Join(side.Order.Names, ", ")
		sides[i] = b.add(side)
	}
	o.Input, o.Right = sides[0], sides[1]
	return b.add(o)
}

// atTimeOf checks that AS OF names the event time of the rows on the left.
func (b *binder) atTimeOf(asOf sql.Expr, left *Op, text joinText) bool {
	in := *b
	in.where = "AS OF"
	x := in.bound(asOf)
	if x == nil {
		return false
	}
	if x.Op != eval.OpColumn || left.Time != x.Index {
		b.errs.Add(sql.WrongType, asOf.Place(), "write AS OF "+text.left+"."+left.timeName(), "what is joined is read as of the event time of the row it is joined to")
		return false
	}
	return true
}

// withWindows joins rows with the results of windows, as of the rows' event time: with those of the last window
// that had closed by then.
func (b *builder) withWindows(left, right *Op, asOf sql.Expr, terms []*eval.Expr, j *Joining, step string, text joinText, bind *binder) *Op {
	n := len(left.Fields)
	bad := func(code sql.Code, at sql.Span, hint, format string, args ...any) *Op {
		b.errs.Add(code, at, hint, format, args...)
		return nil
	}
	var frame *Frame
	for o := right; o != nil && o.Kind != Join; o = o.Input {
		if o.Kind == Window {
			frame = &o.Agg.Frame
			break
		}
	}
	switch {
	case frame == nil || right.closes < 0 || right.Keys == nil:
		return bad(sql.WrongPlace, asOf.Place(), "declare it with DECLARE TABLE, let the step have windows and select w.closes, or bound the join in time", "AS OF belongs to a table or to the results of windows, and %s is neither", text.right)
	case frame.Kind != Fixed || frame.Zone != nil || frame.Length == 1:
		return bad(sql.Misfit, asOf.Place(), "use TUMBLING or SLIDING", "only the windows of TUMBLING and SLIDING follow each other at a distance that is known")
	case right.Changes:
		return bad(sql.Misfit, asOf.Place(), "let the window report ON CLOSE without LATENESS", "a row is joined once, and the results of %s are corrected", text.right)
	case left.Changes:
		return bad(sql.Misfit, text.at, "let the step before report ON CLOSE without LATENESS", "AS OF takes rows that stay; those of %s are replaced and withdrawn", text.left)
	case j.Pick != PickAll || j.Kind == Right || j.Kind == Full:
		return bad(sql.WrongPlace, text.at, "use JOIN or LEFT JOIN", "AS OF stands in JOIN and LEFT JOIN")
	}
	if !bind.atTimeOf(asOf, left, text) {
		return nil
	}
	var keys [2][]*eval.Expr
	known := map[int]bool{}
	var rest []*eval.Expr
	for _, t := range terms {
		if t.Op == eval.OpCall && t.Name == "=" && len(t.Args) == 2 {
			x, y := t.Args[0], t.Args[1]
			if l, r := sidesOf(x, n); r && !l {
				x, y = y, x
			}
			if _, xr := sidesOf(x, n); !xr && y.Op == eval.OpColumn && y.Index >= n && slices.Contains(right.Keys, y.Index-n) && !known[y.Index-n] {
				known[y.Index-n] = true
				keys[0], keys[1] = append(keys[0], x), append(keys[1], shift(y, -n))
				continue
			}
		}
		rest = append(rest, t)
	}
	for _, k := range right.Keys {
		if k != right.opens && k != right.closes && !known[k] {
			return bad(sql.Unbounded, text.at, fmt.Sprintf("add %s.%s = …, of the same type", text.right, right.Fields[k].Name), "the results of %s are told apart by %s, and nothing says what it is", text.right, right.Fields[k].Name)
		}
	}
	if len(rest) > 0 {
		j.Cond = all(rest)
	}
	j.On, j.Valid, j.After = text.on, frame.Step, 1
	o := &Op{Step: step, Join: j, Fields: joinedFields(left, right, text.right, j.Kind), Time: left.Time, Times: left.Times, opens: left.opens, closes: left.closes, Alias: text.right,
		Detail: fmt.Sprintf("%s %s, the last window that had closed at the row's event time", j.Kind, text.right)}
	return b.asOf(o, left, right, keys, text)
}
