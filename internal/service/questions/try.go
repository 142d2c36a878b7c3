package questions

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/recorded"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/declare"
	"fiume/internal/service/samples"
	"fiume/internal/service/sensitive"
	"fiume/internal/service/topics"
	"fiume/internal/trial"
)

// RowsOf gives rows of a stream, table or view, or those that a sink holds: of one over a topic the newest, of others the first.
func (s *Questions) RowsOf(ctx context.Context, name string, n int) (*TryResult, error) {
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	var t *tryable
	if k := s.Current().Sinks[name]; k != nil {
		if _, ok := connect.Of(k.Place).(contract.Rereader); !ok {
			return s.sampled(ctx, k, n)
		}
		t, err = s.rereading(ctx, k)
	} else {
		t, err = s.bindTry(ctx, declare.Script{File: name, SQL: "SELECT * FROM " + sql.Quoted(name) + ";"})
	}
	if err != nil {
		return nil, err
	}
	scans := t.plan.Scans()
	r := TryRequest{Rows: n, Seconds: 10}
	recent := map[string][]recorded.Message{}
	if len(scans) == 1 && scans[0].Stream.OwnTopics && scans[0].OfTable == nil {
		topic, err := s.topics.Named(scans[0].Stream.Address)
		if err != nil {
			return nil, err
		}
		looked := n
		if _, view := s.Current().Views[name]; view { // it may let few of them through
			looked, r.Rows = max(n, viewedMessages), viewedMessages
		}
		each := max(1, (looked+len(topic.Partitions())-1)/len(topic.Partitions()))
		ms, err := s.topics.Recorded(scans[0].Stream.Address, topics.Reading{Partition: -1, From: -1, Last: each, Limit: 2 * looked})
		if err != nil {
			return nil, err
		}
		recent[scans[0].Stream.Name] = ms
	}
	out, err := s.tried(ctx, t, r, recent)
	if err == nil && len(out.Results[0].Rows) > n {
		out.Results[0].Rows = out.Results[0].Rows[len(out.Results[0].Rows)-n:]
	}
	return out, err
}

// rereading is a query of what a sink has written, with the columns that a job gives it.
func (s *Questions) rereading(ctx context.Context, k *plan.Sink) (*tryable, error) {
	fields, err := s.fieldsOf(k)
	if err != nil {
		return nil, err
	}
	veil := s.ofSink(ctx, k)
	for i := range fields {
		fields[i].Sensitive = veil.Hides(fields[i].Name)
	}
	cat := s.definitions.Catalog()
	cat.Remove(k.Name)
	cat.Streams[k.Name] = cat.Reread(k, connect.Of(k.Place).(contract.Rereader).Reread(k), fields)
	if veil != nil {
		cat = cat.Masked(func(name string) bool { return name == k.Name }, s.Mask)
	}
	text := "SELECT * FROM " + sql.Quoted(k.Name) + ";"
	script, err := sql.Parse(k.Name, text, nil)
	if err != nil {
		return nil, err
	}
	errs := &sql.Errors{File: k.Name, Text: text}
	t := &tryable{cat: cat, query: true, name: k.Name, text: text, topics: map[string]bool{}}
	t.plan = cat.Query(script.Statements[0].(*sql.Query), errs)
	return t, errs.Err()
}

// ofSink gives what hides the rows that jobs have written to a sink.
func (s *Questions) ofSink(ctx context.Context, k *plan.Sink) *sensitive.Veil {
	via := ""
	if k.Via != nil {
		via = k.Via.Name
	}
	return sensitive.OfPlace(ctx, s.Base, k.Place, via, k.Address)
}

// fieldsOf gives the columns that a sink is written with.
func (s *Questions) fieldsOf(k *plan.Sink) ([]types.Field, error) {
	for _, j := range s.jobs.List() {
		job, err := s.jobs.Named(j.Name)
		if err != nil {
			continue
		}
		p, err := s.jobs.PlanOf(job.Text())
		if err != nil {
			continue
		}
		for _, out := range p.Outputs() {
			if out.Sink == nil || out.Sink.Name != k.Name {
				continue
			}
			return slices.Clone(out.Fields), nil
		}
	}
	return nil, base.Errorf(base.ErrRefused, "no job writes to the sink %s: which columns its rows have is not known", k.Name)
}

// sampled gives the first rows of what a sink wrote to, from a place that tells them by itself.
func (s *Questions) sampled(ctx context.Context, k *plan.Sink, n int) (*TryResult, error) {
	from, ok := connect.Of(k.Place).(contract.Sampler)
	if !ok || connect.Of(k.Place).Place().OneWay {
		return nil, base.Errorf(base.ErrRefused, "what is written to %s cannot be read again", strings.ToUpper(k.Place))
	}
	began := time.Now()
	got, err := from.Sample(ctx, s.Env(), contract.Wanted{Via: k.Via, Address: k.Address, Limit: n, Bytes: topics.MostBytes, Partition: -1, From: -1})
	if err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	r := TriedResult{Columns: []base.Column{}, Rows: []json.RawMessage{}, Total: int64(len(got.Messages))}
	for _, c := range got.Columns {
		r.Columns = append(r.Columns, base.Column{Name: c.Name, Type: c.Type})
	}
	veil := s.ofSink(ctx, k)
	for _, m := range got.Messages {
		r.Rows = append(r.Rows, veil.Row(m.Value))
	}
	return &TryResult{Results: []TriedResult{r}, Shown: map[string][]string{}, Samples: []flow.NamedSample{}, Reasons: []flow.ReasonCount{}, TookMs: time.Since(began).Milliseconds()}, nil
}

// viewedMessages are how many of the newest messages a view is run over, to show some of its rows.
const viewedMessages = 2000

// TryRequest is a text to be tried: declarations that are not there yet, if need be, and a query or a job. It is run
// over samples, and over what the other streams and tables hold, to their end.
type TryRequest struct {
	SQL     string            `json:"sql" minLength:"1"`
	File    string            `json:"file,omitempty" doc:"a name for messages"`
	Params  map[string]string `json:"params,omitempty"`
	Samples map[string]uint   `json:"samples,omitempty" doc:"streams and tables, and the samples that stand for them"`
	Since   string            `json:"since,omitempty" doc:"where topics without a sample are read from, as behind SINCE; the beginning where left out"`
	Rows    int               `json:"rows,omitempty" minimum:"0" maximum:"10000" doc:"rows shown of each result; 200 where left out"`
	Seconds int               `json:"seconds,omitempty" minimum:"0" maximum:"120" doc:"how long it may take; 20 where left out"`
}

// TryResult is what came of a text that was tried.
type TryResult struct {
	Results []TriedResult       `json:"results" doc:"of a query: its rows; of a job: what stands in each sink"`
	Status  flow.Status         `json:"status" doc:"the ledger: what each step got and gave"`
	Shown   map[string][]string `json:"shown" doc:"the first rows of each step, by its id, as JSON"`
	Samples []flow.NamedSample  `json:"samples" doc:"late and rejected rows"`
	Reasons []flow.ReasonCount  `json:"reasons" doc:"rejected rows by reason"`
	Plan    *plan.Explanation   `json:"plan"`
	TookMs  int64               `json:"took_ms"`
	Stopped string              `json:"stopped,omitempty" doc:"why it did not come to its end"`
}

// TriedResult is the rows of a query, or what stands in a sink.
type TriedResult struct {
	Sink    string            `json:"sink,omitempty"`
	Columns []base.Column     `json:"columns"`
	Rows    []json.RawMessage `json:"rows"`
	Total   int64             `json:"total"`
}

const (
	usualTried   = 200
	usualSeconds = 20
	firstRows    = 50 // of each step
)

// tryable is a text bound to be tried.
type tryable struct {
	plan  *plan.Plan
	cat   *plan.Catalog
	text  string // of the query or the job
	query bool
	name  string
	decls []string // declarations of the text itself
	// topics are those that the text makes.
	topics map[string]bool
	given  map[string][]recorded.Message // the rows of steps of jobs, by job.step
	stands bool                          // the rows that stand at the end are wanted
}

// bindTry binds the last query or job of a text.
func (s *Questions) bindTry(ctx context.Context, in declare.Script) (*tryable, error) {
	script, err := sql.Parse(in.File, in.SQL, in.Params)
	if err != nil {
		return nil, err
	}
	errs := &sql.Errors{File: in.File, Text: in.SQL}
	if s.Allowed(ctx, script, errs); len(errs.List) > 0 {
		return nil, errs.Err()
	}
	cat := sensitive.Catalog(ctx, s.Base, s.definitions.Catalog())
	t := &tryable{cat: cat, topics: map[string]bool{}}
	for _, st := range script.Statements {
		switch st := st.(type) {
		case *sql.Query:
			if t.given, err = s.present(ctx, st, &cat, errs); err != nil {
				return nil, err
			}
			t.plan, t.stands = cat.Asked(st, errs)
			t.cat, t.query, t.text, t.name = cat, true, script.Source(st), "tried"
		case *sql.CreateJob:
			t.plan, t.query, t.text, t.name = cat.Clone().Job(st, errs), false, script.Source(st), st.Name.Text
		case *sql.DeclareStream, *sql.DeclareTable, *sql.DeclareSink, *sql.DeclareEndpoint, *sql.CreateView, *sql.CreateFunction, *sql.CreateBoard, *sql.CreateAlert:
			name := sql.NameOf(st)
			same := s.definitions.SameDefinition(cat.KindOf(name), name, st, script.Source(st))
			all := declare.Listed(st)
			if !same {
				if cat.KindOf(name) != "" && strings.HasPrefix(sql.KindOf(st), "declare") {
					cat.Remove(name) // what is being written takes the place of what is there
				}
				cat.Define(st, errs)
			}
			text := script.Source(st)
			if !all && declare.Listed(st) { // its columns are found
				text = sql.Print(st)
			}
			t.decls = append(t.decls, text)
		case *sql.CreateTopic:
			t.topics[st.Name.Text] = true
		default:
			errs.Add(sql.WrongPlace, st.At(), "declarations, and a query or a job, can be tried", "%s: this is not something to try", sql.KindOf(st))
		}
	}
	if err := errs.Err(); err != nil {
		return nil, err
	}
	if t.plan == nil {
		errs.Add(sql.WrongPlace, sql.Span{From: 0, To: len(in.SQL)}, "write a SELECT or a CREATE JOB", "there is nothing to try")
		return nil, errs.Err()
	}
	return t, nil
}

// Try runs a text over samples and over what streams hold, and keeps nothing.
func (s *Questions) Try(ctx context.Context, r TryRequest) (*TryResult, error) {
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	t, err := s.bindTry(ctx, declare.Script{File: r.File, SQL: r.SQL, Params: r.Params})
	if err != nil {
		return nil, err
	}
	return s.tried(ctx, t, r, nil)
}

// tried runs a text that is bound, with messages that stand for streams.
func (s *Questions) tried(ctx context.Context, t *tryable, r TryRequest, messages map[string][]recorded.Message) (*TryResult, error) {
	p := t.plan
	o, err := s.trying(ctx, p, r)
	if err != nil {
		return nil, err
	}
	maps.Copy(o.messages, t.given)
	for name, ms := range messages {
		o.messages[name] = ms
		for _, sc := range p.Scans() {
			if sc.Stream.Name == name {
				o.names[name] = sc.Stream.Address
			}
		}
	}
	most := cmp.Or(r.Rows, usualTried)
	var query *TriedResult
	standing := &rows.Capture{Limit: mostStanding}
	show := func(row []byte) error {
		if query.Total++; query.Total <= int64(most) {
			query.Rows = append(query.Rows, bytes.Clone(row))
		}
		return nil
	}
	if t.query {
		out := p.Outputs()[0]
		query = &TriedResult{Columns: sensitive.OfOutput(ctx, s.Base, p, out).Mark(columnsOf(out)), Rows: []json.RawMessage{}}
		var mu sync.Mutex
		o.Opener.Rows = &rows.Sink{Format: "json", Limit: out.Limit, Each: func(row []byte) error {
			mu.Lock()
			defer mu.Unlock()
			return show(row)
		}}
		if t.stands {
			o.Opener.Rows = standing
		}
	}
	began := time.Now()
	within, cancel := context.WithTimeout(ctx, time.Duration(cmp.Or(r.Seconds, usualSeconds))*time.Second)
	defer cancel()
	run, err := s.RunQuestion(within, p, o, flow.Options{Describe: text.Describe, First: firstRows, Parallelism: 2})
	if run == nil {
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	veil := sensitive.OfScans(ctx, s.Base, p)
	out := &TryResult{Results: []TriedResult{}, Status: run.Status(), Shown: map[string][]string{}, Samples: veil.Samples(run.Samples()), Reasons: run.Reasons(), Plan: p.Explain(0), TookMs: time.Since(began).Milliseconds()}
	for id, list := range run.Rows() {
		if p.Ops[id].Kind == plan.Scan { // what others show is masked
			for i, row := range list {
				list[i] = veil.Text(row)
			}
		}
		out.Shown[fmt.Sprint(id)] = list
	}
	switch {
	case err == nil:
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case within.Err() != nil:
		out.Stopped = fmt.Sprintf("it was stopped after %d seconds; try a smaller sample, or begin later", cmp.Or(r.Seconds, usualSeconds))
	case errors.Is(err, rows.ErrTooMany):
		out.Stopped = fmt.Sprintf("more than %d rows stand in one result; try a smaller sample", mostTried)
	default:
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	if t.stands {
		if err := giveAll(standing, p.Outputs()[0].Limit, show); err != nil {
			return nil, err
		}
	}
	if query != nil {
		out.Results = append(out.Results, *query)
		return out, nil
	}
	for _, k := range p.Outputs() {
		c := o.sinks[k.Step]
		if c == nil {
			continue
		}
		all, err := c.Rows()
		if err != nil {
			return nil, fmt.Errorf("sink %s: %w", k.Step, err)
		}
		x := TriedResult{Sink: k.Step, Columns: sensitive.OfOutput(ctx, s.Base, p, k).Mark(columnsOf(k)), Rows: []json.RawMessage{}, Total: int64(len(all))}
		for _, row := range all[:min(most, len(all))] {
			x.Rows = append(x.Rows, json.RawMessage(row))
		}
		out.Results = append(out.Results, x)
	}
	return out, nil
}

func columnsOf(out *plan.Op) []base.Column {
	list := []base.Column{}
	for _, f := range out.Fields {
		list = append(list, base.Column{Name: f.Name, Type: f.Type.String()})
	}
	return list
}

// mostTried is how many rows a sink may have where a job is tried.
const mostTried = 200_000

// triedOpener reads samples in the place of streams, and keeps what is written.
type triedOpener struct {
	*connect.Opener
	messages map[string][]recorded.Message // by stream
	names    map[string]string             // of the splits
	since    plan.Bound
	until    time.Time
	sinks    map[string]*rows.Capture
}

// trying prepares an opener for a plan.
func (s *Questions) trying(ctx context.Context, p *plan.Plan, r TryRequest) (*triedOpener, error) {
	o := &triedOpener{Opener: s.Opener(), messages: map[string][]recorded.Message{}, names: map[string]string{}, since: plan.Bound{Kind: plan.Beginning}, until: time.Now(), sinks: map[string]*rows.Capture{}}
	o.Opener.Durable = false
	if r.Since != "" {
		var err error
		if o.since, err = plan.ParseBound(r.Since); err != nil {
			return nil, base.Errorf(base.ErrRefused, "since: %s", err)
		}
	}
	used := map[string]*plan.Stream{}
	for _, sc := range p.Scans() {
		used[sc.Stream.Name] = sc.Stream
	}
	for name, id := range r.Samples {
		st := used[name]
		if st == nil {
			hint := "it reads " + strings.Join(slices.Sorted(maps.Keys(used)), ", ")
			if x := sql.Suggest(name, slices.Sorted(maps.Keys(used))); x != "" {
				hint = fmt.Sprintf("did you mean %q?", x)
			}
			return nil, base.Errorf(base.ErrRefused, "the text reads nothing that is called %q; %s", name, hint)
		}
		info, ms, err := s.samples.Messages(ctx, id)
		if err != nil {
			return nil, err
		}
		if o.messages[name], err = samples.Fitted(info, ms, st); err != nil {
			return nil, err
		}
		o.names[name] = cmp.Or(strings.TrimPrefix(info.Origin, "topic "), info.Name)
	}
	return o, nil
}

// OpenSource implements flow.Opener.
func (o *triedOpener) OpenSource(scan *plan.Op) (flow.Source, error) {
	s := *scan
	if s.Until.Kind == plan.Default || s.Until.Kind == plan.Now {
		s.Until = plan.Bound{Kind: plan.AtTime, At: o.until.UnixMicro()}
	}
	if ms, ok := o.messages[scan.Stream.Name]; ok {
		reading, err := o.Reading(&s)
		if err != nil {
			return nil, err
		}
		return recorded.Open(reading, o.names[scan.Stream.Name], ms), nil
	}
	if s.Since.Kind == plan.Default && scan.OfTable == nil {
		s.Since = o.since
	}
	return o.Opener.OpenSource(&s)
}

// OpenSink implements flow.Opener.
func (o *triedOpener) OpenSink(out *plan.Op) (flow.Sink, error) {
	if out.Sink == nil {
		return o.Rows, nil
	}
	c := &capturing{sinks: o.sinks}
	k, err := c.OpenSink(out)
	if c, ok := k.(*rows.Capture); ok {
		c.Limit = mostTried
	}
	return k, err
}

// KeepTry makes a test of a text that was tried: its declarations, the messages of its samples, and what stands in its
// sinks. It gives a ZIP file of one directory, for fiume test.
func (s *Questions) KeepTry(ctx context.Context, r TryRequest, name string) ([]byte, error) {
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	if name = samples.NameOf(name, "tried"); name == "" {
		name = "tried"
	}
	t, err := s.bindTry(ctx, declare.Script{File: r.File, SQL: r.SQL, Params: r.Params})
	if err != nil {
		return nil, err
	}
	if err := sensitive.OfScans(ctx, s.Base, t.plan).Refuse("what the text reads"); err != nil {
		return nil, err
	}
	for name := range t.given {
		return nil, base.Errorf(base.ErrRefused, "the rows of %s are those of this moment: a test has messages, and gives the same rows each time", name)
	}
	o, err := s.trying(ctx, t.plan, r)
	if err != nil {
		return nil, err
	}
	work, err := os.MkdirTemp("", "fiume-test-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(work)
	dir := filepath.Join(work, name)
	if err := os.MkdirAll(filepath.Join(dir, "in"), 0o755); err != nil {
		return nil, err
	}
	text, job := t.text, t.name
	if t.query {
		job = "tried"
		text = "DECLARE SINK tried_rows TO TOPIC 'tried-rows';\n\nCREATE JOB tried AS " + strings.TrimSuffix(strings.TrimSpace(t.text), ";") + " ROUTE TO tried_rows;"
	}
	text = strings.TrimSuffix(strings.TrimSpace(text), ";") + ";"
	for _, t := range append(slices.Clone(t.decls), text) {
		for line := range strings.Lines(t) { // it would have a file of the service's machine read
			if strings.HasPrefix(strings.TrimSpace(line), "-- use:") {
				return nil, base.Errorf(base.ErrRefused, "the text names another file (%s); write what it needs into the text itself", strings.TrimSpace(line))
			}
		}
	}
	all := fmt.Sprintf("-- job: %s\n\n%s\n\n%s\n", job, s.needed(ctx, text, t.decls), text)
	if script, err := sql.Parse("test.sql", all, nil); err == nil {
		all = sql.Format(script)
		if !strings.Contains(all, "-- job:") {
			all = "-- job: " + job + "\n\n" + all
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "test.sql"), []byte(all), 0o644); err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, sc := range t.plan.Scans() {
		n := sc.Stream.Name
		if seen[n] {
			continue
		}
		seen[n] = true
		ms, ok := o.messages[n]
		if !ok && sc.Stream.OwnTopics {
			ms, err = s.topics.Recorded(sc.Stream.Address, topics.Reading{Partition: -1, From: -1, Limit: samples.MostMessages})
			if err != nil {
				return nil, err
			}
			slices.SortStableFunc(ms, func(a, b recorded.Message) int { return cmp.Compare(a.At, b.At) })
		} else if !ok {
			return nil, base.Errorf(base.ErrRefused, "%s reads %s: give it a sample, so that the test has its messages", n, strings.ToUpper(sc.Stream.Place))
		}
		keyed := slices.ContainsFunc(ms, func(m recorded.Message) bool { return m.Key != nil })
		var b bytes.Buffer
		for _, m := range ms {
			if bytes.IndexByte(m.Value, '\n') >= 0 || bytes.IndexByte(m.Key, '\t') >= 0 {
				return nil, base.Errorf(base.ErrRefused, "a message of %s has line breaks, which a test's files cannot hold", n)
			}
			if keyed {
				b.Write(m.Key)
				b.WriteByte('\t')
			}
			b.Write(m.Value)
			b.WriteByte('\n')
		}
		ext := ".json"
		if keyed {
			ext = ".keyed"
		}
		if !filepath.IsLocal(n+ext) || strings.ContainsAny(n, `/\`) || strings.HasPrefix(n, ".") {
			return nil, base.Errorf(base.ErrRefused, "the stream %q has a name that no file can have; give it another one to keep a test of it", n)
		}
		if err := os.WriteFile(filepath.Join(dir, "in", n+ext), b.Bytes(), 0o644); err != nil {
			return nil, err
		}
	}
	test, err := trial.Load(dir, r.Params)
	if err != nil {
		return nil, base.Errorf(base.ErrRefused, "the test cannot be read: %s", err)
	}
	if _, err := test.Do(ctx, 1, 0, true); err != nil {
		return nil, base.Errorf(base.ErrRefused, "the test cannot be run: %s", err)
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	if err := z.AddFS(os.DirFS(work)); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// needed gives the declarations that a text uses: its own ones, and those of the service that it names, in the order of
// declaration.
func (s *Questions) needed(ctx context.Context, text string, own []string) string {
	have := map[string]bool{}
	for _, d := range own {
		if script, err := sql.Parse("", d, nil); err == nil {
			have[sql.NameOf(script.Statements[0])] = true
		}
	}
	want := map[string]bool{}
	for grown, all := true, text+strings.Join(own, "\n"); grown; {
		grown = false
		for _, d := range s.Defined() {
			if want[d.Name] || have[d.Name] || !access.From(ctx).May(access.Look, d.Kind, d.Name) {
				continue
			}
			if ok, _ := regexp.MatchString(`(?i)\b`+regexp.QuoteMeta(d.Name)+`\b`, all); ok {
				want[d.Name], grown = true, true
				all += "\n" + d.SQL
			}
		}
	}
	var out []string
	for _, d := range s.Defined() {
		if want[d.Name] {
			out = append(out, d.SQL)
		}
	}
	out = append(out, own...)
	for i, d := range out {
		out[i] = strings.TrimSuffix(strings.TrimSpace(d), ";") + ";"
	}
	return strings.Join(out, "\n\n")
}
