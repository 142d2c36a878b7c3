package access

import (
	"fmt"
	"strings"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
)

// World is what names in a text may stand for.
type World struct {
	Catalog *plan.Catalog
	// Root gives the name of the root that an address of FILES lies below; "": below none.
	Root func(address string) string
	// Sensitive gives the sensitive columns of what lies at an address of a kind, behind an endpoint or "".
	Sensitive func(kind, via, address string) []plan.SensitiveColumn
}

// Hides says whether the values of the sensitive columns of streams and tables are hidden from a caller: of any of them.
func (c *Caller) Hides(sources ...string) bool {
	for _, s := range sources {
		if !c.In(Disclose, SpaceOf(s)) {
			return true
		}
	}
	return false
}

// Text checks that a caller may do what a text says, and adds an error for each place where he may not. What he may not even know of is
// told as if it were not there.
func Text(c *Caller, script *sql.Script, w World, errs *sql.Errors) {
	if c == nil || c.Everywhere(Administer) {
		return
	}
	t := &text{c: c, w: w, errs: errs, kinds: map[string]string{}}
	for _, st := range script.Statements {
		t.statement(st)
	}
}

// text is the check of one.
type text struct {
	c     *Caller
	w     World
	errs  *sql.Errors
	kinds map[string]string // of what the text itself declares

	// Of the statement at hand:
	declares bool   // something is declared, which stands in space
	space    string // of it
}

// kindOf says what a name stands for; "": for nothing that is declared.
func (t *text) kindOf(name string) string {
	if k := t.kinds[name]; k != "" {
		return k
	}
	return t.w.Catalog.KindOf(name)
}

func (t *text) refuse(at sql.Span, r Role, space string) {
	t.errs.Add(sql.NotAllowed, at, "ask an administrator for it", "%s", t.c.Missing(r, space))
}

// own checks that a role holds in the space of what a statement is about.
func (t *text) own(r Role, n sql.Name) {
	if !t.c.In(r, SpaceOf(n.Text)) {
		if spaces := t.c.Spaces(r); SpaceOf(n.Text) == "" && len(spaces) > 0 {
			t.errs.Add(sql.NotAllowed, n.Span, "put it into a space of yours: "+sql.Quoted(spaces[0]+"."+n.Text), "%s", t.c.Missing(r, ""))
			return
		}
		t.refuse(n.Span, r, SpaceOf(n.Text))
	}
}

// uses checks that something may be used: read by a query, or brought into what is declared.
func (t *text) uses(kind string, r Role, n sql.Name) {
	var ok bool
	switch {
	case !t.declares:
		ok = t.c.May(r, kind, n.Text)
	case r == Operate:
		ok = t.c.Bring(Operate, kind, n.Text, t.space)
	default:
		ok = t.c.Bring(Develop, kind, n.Text, t.space)
	}
	switch {
	case ok:
	case t.c.May(Look, kind, n.Text) && t.declares:
		t.errs.Add(sql.NotAllowed, n.Span, fmt.Sprintf("have an administrator grant it: fiume grant %s %s --to %s", kind, sql.Quoted(n.Text), spaceText(t.space)),
			"the %s %q is not granted to %s", kind, n.Text, spaceText(t.space))
	case t.c.May(Look, kind, n.Text):
		t.refuse(n.Span, r, SpaceOf(n.Text))
	default:
		t.errs.Add(sql.UnknownName, n.Span, "", "no %s is called %q", kind, n.Text)
	}
}

func spaceText(space string) string {
	if space == "" {
		return "what stands in no space"
	}
	return space
}

// declare is about a statement that declares a name.
func (t *text) declare(kind string, n sql.Name) {
	t.own(Develop, n)
	t.declares, t.space = true, SpaceOf(n.Text)
	t.kinds[n.Text] = kind
}

func (t *text) statement(st sql.Statement) {
	t.declares, t.space = false, ""
	switch st := st.(type) {
	case *sql.DeclareEndpoint:
		t.declare(sql.KindEndpoint, st.Name)
		t.own(Operate, st.Name)
		if st.Secret != nil {
			t.secret(st.Secret.Value, st.Secret.Span)
		}
		if st.Place.Text == "lake" && !strings.Contains(st.Address.Value, "://") && !strings.Contains(st.Address.Value, "@") {
			t.file(st.Address.Value, st.Address.Span)
		}
		t.options(st.Options)
	case *sql.DeclareStream:
		t.declare(sql.KindStream, st.Name)
		t.changes(st.Name)
		t.columns(st.Columns)
		if st.History != nil {
			t.reads(*st.History)
		}
		t.reads(st.From)
	case *sql.DeclareTable:
		t.declare(sql.KindTable, st.Name)
		t.changes(st.Name)
		t.columns(st.Columns)
		t.reads(st.From)
	case *sql.DeclareSink:
		t.declare(sql.KindSink, st.Name)
		t.place(st.To)
	case *sql.CreateView:
		t.declare(sql.KindView, st.Name)
		t.query(st.Query)
	case *sql.CreateBoard:
		t.declare(sql.KindBoard, st.Name)
		for _, v := range st.Variables {
			t.query(v.Query)
		}
		for _, p := range st.Panels {
			t.query(p.Query)
		}
	case *sql.CreateAlert:
		t.declare(sql.KindAlert, st.Name)
		t.query(st.Query)
		for _, n := range st.Notify {
			if t.kindOf(n.Text) != "" {
				t.uses(sql.KindSink, Write, n)
			}
		}
	case *sql.CreateFunction:
		t.declare(sql.KindFunction, st.Name)
	case *sql.CreateJob:
		t.declare(sql.KindJob, st.Name)
		t.job(st)
	case *sql.CreateTopic:
		t.declare(sql.KindTopic, st.Name)
	case *sql.AlterTopic:
		t.own(Develop, st.Name)
	case *sql.Drop:
		t.own(Develop, st.Name)
		t.changes(st.Name)
	case *sql.StartJob:
		t.own(Operate, st.Name)
	case *sql.StopJob:
		t.own(Operate, st.Name)
	case *sql.Insert:
		if kind := t.kindOf(st.Into.Text); kind != "" {
			t.own(Write, st.Into)
			if kind == sql.KindSink {
				t.own(Operate, st.Into) // it goes outside
			}
		}
		if st.Query != nil {
			t.query(st.Query)
		}
	case *sql.Query:
		t.query(st)
	case *sql.Describe:
		if kind := t.kindOf(st.Name.Text); kind != "" && !st.Place && !t.c.May(Look, kind, st.Name.Text) {
			t.errs.Add(sql.UnknownName, st.Name.Span, "", "nothing is called %q", st.Name.Text)
		}
	case *sql.Explain:
		switch {
		case st.Query != nil:
			t.query(st.Query)
		case st.Create != nil:
			t.declare(sql.KindJob, st.Create.Name)
			t.job(st.Create)
		default:
			t.uses(sql.KindJob, Look, *st.Job)
		}
	}
}

func (t *text) job(j *sql.CreateJob) {
	t.steps(j.Steps, map[string]bool{})
	steps := map[string]bool{}
	for _, s := range j.Steps {
		steps[s.Name.Text] = true
	}
	for _, r := range j.Routes {
		if kind := t.kindOf(r.Step.Text); kind != "" && !steps[r.Step.Text] {
			t.uses(kind, Read, r.Step)
		}
		for _, b := range r.Branches {
			t.block(&sql.Select{Where: b.Where}, steps)
			for _, k := range b.Sinks {
				if t.kindOf(k.Text) != "" {
					t.uses(sql.KindSink, Write, k)
				}
			}
		}
	}
}

// steps checks steps, each of which may read those before it.
func (t *text) steps(steps []sql.Step, known map[string]bool) map[string]bool {
	for _, s := range steps {
		t.block(s.Query, known)
		known[s.Name.Text] = true
	}
	return known
}

func (t *text) query(q *sql.Query) {
	if q != nil {
		t.block(q.Body, t.steps(q.With, map[string]bool{}))
	}
}

// block checks what a query and those inside it read.
func (t *text) block(q *sql.Select, steps map[string]bool) {
	if q == nil {
		return
	}
	q.Walk(func(s *sql.Select) {
		t.from(s.From, steps)
		for _, j := range s.Joins {
			t.from(j.With, steps)
		}
	}, func(sql.Expr) {})
}

func (t *text) from(f sql.From, steps map[string]bool) {
	name := f.Read()
	if f.Query != nil || f.Unnest != nil || name == "" || steps[name] {
		return
	}
	at := f.Name
	if f.Job != nil {
		at = sql.Name{Text: name, Span: sql.Span{From: f.Job.From, To: f.Name.To}}
	}
	switch kind := t.kindOf(name); {
	case kind != "":
		t.uses(kind, Read, at)
	case f.Job != nil && f.Job.Text == plan.OwnSpace: // of what the service tells of itself everybody gets what he knows
	case f.Job != nil: // the rows of its step
		t.uses(sql.KindJob, Read, sql.Name{Text: f.Job.Text, Span: at.Span})
	}
}

// columns checks the expressions of columns that are computed.
func (t *text) columns(all []sql.Column) {
	for _, c := range all {
		t.block(&sql.Select{Where: c.As}, nil)
	}
}

// place checks what a stream, table or sink stands over.
func (t *text) place(p sql.Place) {
	kind := t.w.Catalog.Places[p.Kind.Text]
	switch {
	case p.Via != nil:
		t.uses(sql.KindEndpoint, Operate, *p.Via)
	case kind.OwnTopics:
		t.uses(sql.KindTopic, Read, sql.Name{Text: p.Address.Value, Span: p.Address.Span})
	case kind.Made || kind.Kind == "":
	case kind.Here:
		t.file(p.Address.Value, p.Address.Span)
	default: // a server that it names, or an address that it listens at
		if !t.c.In(Operate, t.space) {
			t.refuse(p.Address.Span, Operate, t.space)
		}
	}
	t.options(p.Options)
}

// reads checks what a stream or table stands over: rows that have sensitive columns are not read without their marks by who may not see their values.
func (t *text) reads(p sql.Place) {
	t.place(p)
	via := ""
	if p.Via != nil {
		via = p.Via.Text
	}
	for _, c := range t.w.Sensitive(p.Kind.Text, via, p.Address.Value) {
		if t.c.Hides(c.From...) {
			t.errs.Add(sql.NotAllowed, p.Address.Span, "read "+c.From[0]+", where it is masked, or ask an administrator for the role disclose", "'%s' has the sensitive column %q of %s", p.Address.Value, c.Name, c.From[0])
			return
		}
	}
}

// changes checks that a declaration with sensitive columns is replaced and dropped by those alone who may see their values: its marks would be gone.
func (t *text) changes(n sql.Name) {
	s := t.w.Catalog.Streams[n.Text]
	if x := t.w.Catalog.Tables[n.Text]; x != nil {
		s = x.Stream
	}
	if s != nil && len(s.Sensitive()) > 0 && t.c.Hides(n.Text) {
		t.errs.Add(sql.NotAllowed, n.Span, "ask an administrator for the role disclose", "%s has sensitive columns, and is changed by those alone who may see them", n.Text)
	}
}

// options checks those that name an endpoint, a topic, a secret or a directory.
func (t *text) options(all []sql.Option) {
	for _, o := range all {
		n := sql.Name{Text: o.Word, Span: o.Span}
		switch o.Name {
		case "schemas":
			t.uses(sql.KindEndpoint, Operate, n)
		case "aside":
			t.uses(sql.KindTopic, Read, n)
		case "ca", "certificate", "store secret":
			t.secret(o.Word, o.Span)
		case "warehouse":
			if !strings.Contains(o.Word, "://") {
				t.file(o.Word, o.Span)
			}
		case "done":
			if dir, ok := strings.CutPrefix(o.Word, "move "); ok && !strings.Contains(dir, "://") {
				t.file(strings.TrimSpace(dir), o.Span)
			}
		}
	}
}

// secret checks that a secret may be used.
func (t *text) secret(name string, at sql.Span) {
	if !t.c.Bring(Operate, "secret", name, t.space) {
		t.errs.Add(sql.NotAllowed, at, "", "the secret '%s' stands in another space", name)
	}
}

// file checks that an address lies below a root that is granted.
func (t *text) file(address string, at sql.Span) {
	root := t.w.Root(address)
	if t.c.Everywhere(Develop) || root != "" && t.c.Shared != nil && t.space != "" && t.c.In(Develop, t.space) && t.c.Shared("files", root, t.space) {
		return
	}
	if root == "" {
		root = "NAME"
	}
	t.errs.Add(sql.NotAllowed, at, "have an administrator grant a root: fiume grant files "+root+" --to "+spaceText(t.space), "%s lies below no directory for files that is granted to %s", address, spaceText(t.space))
}
