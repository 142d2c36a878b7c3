package plan

import (
	"errors"
	"maps"
	"slices"
	"strings"

	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// Alert is a condition that is looked at now and then: it holds while its query gives rows. Who is told, is told once when it begins and once when it ends.
type Alert struct {
	Name   string
	SQL    string   // its query
	By     []string // the columns that tell the rows apart, each of which begins and ends by itself; none: all rows together
	For    int64    // how long it must hold before it begins, microseconds
	Every  int64    // how often it is looked at, microseconds
	Say    string   // what is said, with {column} for a value of the row; "": all columns
	Notify []string // sinks that are told

	reads []sql.From
}

const (
	// DefaultEvery is how often an alert is looked at that does not say so, LeastEvery how often at most.
	DefaultEvery = 10 * types.Second
	LeastEvery   = types.Second
)

// StepsOf gives the columns of a job's step; see Catalog.Steps.
type StepsOf func(job, step string) ([]types.Field, error)

// OwnSpace is the space of what the service tells of itself; see OwnTables.
const OwnSpace = "fiume"

// OwnTable is what the service tells of itself, as a table that is read as it stands.
type OwnTable struct {
	Name    string // behind OwnSpace
	About   string
	Columns []OwnColumn
}

// OwnColumn is one of its columns.
type OwnColumn struct {
	types.Field
	Doc string
}

// OwnTables are all of them.
var OwnTables = []OwnTable{
	{"jobs", "the jobs", columnsAs(
		"job VARCHAR", "its name",
		"state VARCHAR", "running, stopped, finished, retrying, failed …",
		"reason VARCHAR", "why it is in that state",
		"since TIMESTAMP", "when the state began",
		"rows_in BIGINT", "messages read",
		"rows_out BIGINT", "rows given to sinks",
		"late BIGINT", "rows that came too late",
		"rejected BIGINT", "messages and rows that were rejected",
		"waiting BIGINT", "messages that wait to be read",
		"watermark TIMESTAMP", "how far all its streams have come, in event time",
		"state_bytes BIGINT", "bytes of state",
		"checkpoint_at TIMESTAMP", "when its newest checkpoint was complete",
		"no_checkpoint_since TIMESTAMP", "since when checkpoints do not come about; NULL: they do")},
	{"steps", "the steps of jobs that run", columnsAs(
		"job VARCHAR", "the job",
		"step VARCHAR", "its step",
		"kind VARCHAR", "what it does: scan, filter, aggregate, output …",
		"rows_in BIGINT", "rows that came in",
		"rows_out BIGINT", "rows given on",
		"late BIGINT", "rows that came too late",
		"rejected BIGINT", "rows that were rejected",
		"state_keys BIGINT", "keys that it holds",
		"state_bytes BIGINT", "bytes of its state",
		"watermark TIMESTAMP", "how far it has come, in event time")},
	{"splits", "what jobs that run read: partitions, files", columnsAs(
		"job VARCHAR", "the job",
		"stream VARCHAR", "the stream or table",
		"split VARCHAR", "the partition or file",
		"waiting BIGINT", "messages that wait to be read; NULL: not known",
		"watermark TIMESTAMP", "how far it has come, in event time",
		"idle BOOLEAN", "whether it is idle, and holds nobody up",
		"silent_seconds DOUBLE", "for how long it has held the others up by its silence; NULL: it does not",
		"away_since TIMESTAMP", "since when it cannot be read; NULL: it can",
		"reason VARCHAR", "why it cannot")},
	{"sinks", "what jobs that run write", columnsAs(
		"job VARCHAR", "the job",
		"sink VARCHAR", "the sink",
		"rows BIGINT", "rows given to it",
		"rejected BIGINT", "rows that its place refused",
		"spooled_bytes BIGINT", "bytes that are held back for it",
		"away_since TIMESTAMP", "since when it is tried in vain; NULL: it is not",
		"tries BIGINT", "how often",
		"reason VARCHAR", "why in vain")},
	{"topics", "the built-in topics", columnsAs(
		"topic VARCHAR", "its name",
		"messages BIGINT", "messages in it",
		"bytes BIGINT", "bytes in it",
		"newest_at TIMESTAMP", "when the newest message arrived")},
	{"findings", "what fiume doctor finds", columnsAs(
		"kind VARCHAR", "what it is, such as sink-away",
		"grave VARCHAR", "broken, costly or tidying",
		"of VARCHAR", "what it is about: job, topic or stream; NULL: the service",
		"name VARCHAR", "its name",
		"what VARCHAR", "what was found",
		"todo VARCHAR", "what can be done")},
}

// columnsAs makes columns of pairs of texts: name and type, and what the column means.
func columnsAs(pairs ...string) (out []OwnColumn) {
	kinds := map[string]types.Kind{"VARCHAR": types.Varchar, "BIGINT": types.BigInt, "DOUBLE": types.Double, "TIMESTAMP": types.Timestamp, "BOOLEAN": types.Boolean}
	for i := 0; i < len(pairs); i += 2 {
		name, kind, _ := strings.Cut(pairs[i], " ")
		out = append(out, OwnColumn{types.Field{Name: name, Type: types.Type{Kind: kinds[kind]}}, pairs[i+1]})
	}
	return out
}

// Own gives the table of the service's own that a query reads as fiume.name, or says which there are.
func Own(name string) (*OwnTable, error) {
	var names []string
	for i := range OwnTables {
		if OwnTables[i].Name == name {
			return &OwnTables[i], nil
		}
		names = append(names, OwnSpace+"."+OwnTables[i].Name)
	}
	return nil, errors.New("the service tells of itself in " + strings.Join(names, ", "))
}

// Fields are its columns.
func (t *OwnTable) Fields() (out []types.Field) {
	for _, c := range t.Columns {
		out = append(out, c.Field)
	}
	return out
}

// Has says whether it has a column.
func (t *OwnTable) Has(name string) bool {
	return slices.ContainsFunc(t.Columns, func(c OwnColumn) bool { return c.Name == name })
}

// alert checks an alert.
func (c *Catalog) alert(d *sql.CreateAlert, errs *sql.Errors) *Alert {
	a := &Alert{Name: d.Name.Text, SQL: sql.Print(d.Query), Every: DefaultEvery}
	if d.For != nil {
		a.For = d.For.Micros
	}
	if d.Every != nil {
		if a.Every = d.Every.Micros; a.Every < LeastEvery {
			errs.Add(sql.BadOption, d.Span, "", "an alert is looked at every second at most")
		}
	}
	for _, n := range d.By {
		a.By = append(a.By, n.Text)
	}
	if d.Say != nil {
		a.Say = d.Say.Value
	}
	for _, n := range d.Notify {
		if c.Sinks[n.Text] == nil && !c.broken[n.Text] {
			errs.Add(sql.UnknownName, n.Span, sql.DidYouMean(n.Text, keys(c.Sinks)), "no sink is called %q: DECLARE SINK … TO WEB, MAIL or TOPIC first", n.Text)
		}
		if c.Sinks[n.Text] != nil {
			if _, err := c.Notices(n.Text); err != nil {
				errs.Add(sql.Misfit, n.Span, "it gets the columns "+noticeNames(), "%s", err)
			}
		}
		a.Notify = append(a.Notify, n.Text)
	}
	if d.Query.Until != nil || d.Query.Limit != nil {
		errs.Add(sql.WrongPlace, d.Query.Span, "leave it out", "an alert looks at what there is now, and takes no UNTIL or LIMIT")
		return a
	}
	a.reads = d.Query.JobSteps(c.Knows)
	before := len(errs.List)
	own := c.WithSteps(a.reads, errs)
	if own == nil || len(errs.List) > before {
		return a
	}
	q := *d.Query
	q.Until = &sql.NowMark{}
	p, _ := own.Asked(&q, errs)
	if p == nil || len(errs.List) > before {
		return a
	}
	for _, o := range p.Scans() {
		if o.OfTable == nil && o.Stream.Times && o.Since.Kind == Default {
			errs.Add(sql.WrongPlace, d.Query.Span, "write SINCE 10 MINUTES behind the stream", "say how far back the alert looks at %s", o.Stream.Name)
		}
	}
	fields := p.Outputs()[0].Fields
	known := func(name string) bool {
		return slices.ContainsFunc(fields, func(f types.Field) bool { return f.Name == name })
	}
	var names []string
	for _, f := range fields {
		names = append(names, f.Name)
	}
	for _, n := range d.By {
		if !known(n.Text) {
			errs.Add(sql.UnknownName, n.Span, sql.DidYouMean(n.Text, names), "the query has no column %q", n.Text)
		}
	}
	if d.Say != nil {
		_, err := a.Said(func(name string) (string, bool) { return "", known(name) })
		if err != nil {
			errs.Add(sql.UnknownName, d.Say.Span, "", "%s", err)
		}
	}
	return a
}

// WithSteps gives a copy of the catalogue that has what a query reads as it stands: steps of jobs, and what the service tells of itself. nil: not all of it is
// known yet.
func (c *Catalog) WithSteps(reads []sql.From, errs *sql.Errors) *Catalog {
	if len(reads) == 0 {
		return c
	}
	out := c.Clone()
	for _, f := range reads {
		if out.Knows(f.Read()) {
			continue
		}
		fields, err := c.standing(f)
		if err == nil && fields == nil {
			return nil
		}
		if err == nil {
			err = out.Present(f.Read(), fields)
		}
		if err != nil {
			errs.Add(sql.UnknownName, f.Span, "", "%s", err)
		}
	}
	return out
}

// standing gives the columns of a job's step, or of what the service tells of itself; nil: not known yet.
func (c *Catalog) standing(f sql.From) ([]types.Field, error) {
	if f.Job.Text == OwnSpace {
		t, err := Own(f.Name.Text)
		if err != nil {
			return nil, err
		}
		return t.Fields(), nil
	}
	if c.Steps == nil {
		return nil, nil
	}
	return c.Steps(f.Job.Text, f.Name.Text)
}

// Said is what an alert says of a row: its text, with the values of columns in place of their names in braces; {{ is a brace.
func (a *Alert) Said(value func(column string) (string, bool)) (string, error) {
	var out strings.Builder
	for rest := a.Say; rest != ""; {
		i := strings.IndexByte(rest, '{')
		if i < 0 {
			out.WriteString(rest)
			break
		}
		out.WriteString(rest[:i])
		if rest = rest[i+1:]; strings.HasPrefix(rest, "{") {
			out.WriteByte('{')
			rest = rest[1:]
			continue
		}
		name, behind, ok := strings.Cut(rest, "}")
		v, known := value(name)
		switch {
		case !ok:
			return "", errors.New("a brace { is not closed in SAY; write {{ for a brace")
		case !known:
			return "", errors.New("the query has no column \"" + name + "\", which SAY names")
		}
		out.WriteString(v)
		rest = behind
	}
	return out.String(), nil
}

// NoticeColumns are those of what sinks are told of an alert.
var NoticeColumns = columnsAs(
	"id VARCHAR", "the same when a notice is sent again",
	"alert VARCHAR", "the alert",
	"event VARCHAR", "begins or ends",
	"of VARCHAR", "what gives the alarm: the values of the columns behind BY",
	"what VARCHAR", "what it says",
	"since TIMESTAMP", "since when it has held",
	"at TIMESTAMP", "when it began, or ended",
	"row VARCHAR", "the row of its query, as JSON")

func noticeNames() string {
	var out []string
	for _, c := range NoticeColumns {
		out = append(out, c.Name)
	}
	return strings.Join(out, ", ")
}

// Notices gives the output that tells a sink of alerts, or says why the sink does not take such rows.
func (c *Catalog) Notices(sink string) (*Op, error) {
	var columns []string
	for _, f := range NoticeColumns {
		columns = append(columns, sql.Quoted(f.Name)+" "+sql.TypeText(f.Type))
	}
	all := make([]string, len(columns))
	for i, f := range NoticeColumns {
		all[i] = sql.Quoted(f.Name)
	}
	text := "DECLARE STREAM notices (" + strings.Join(columns, ", ") + ") FROM TOPIC 'notices' (FORMAT json);\n" +
		"CREATE JOB alerts AS SELECT " + strings.Join(all, ", ") + " FROM notices ROUTE TO " + sql.Quoted(sink) + ";"
	own := NewCatalog(slices.Collect(maps.Values(c.Places)))
	own.Sinks[sink], own.Endpoints = c.Sinks[sink], c.Endpoints
	plans, _, err := own.Bind("notices", text, nil, nil)
	if err != nil {
		var found *sql.Errors
		if errors.As(err, &found) && len(found.List) > 0 {
			return nil, errors.New(found.List[0].Message)
		}
		return nil, err
	}
	return plans[0].Outputs()[0], nil
}

// Reads are the steps of jobs, and the service's own tables, that its query reads.
func (a *Alert) Reads() []sql.From { return a.reads }
