// Package forget removes what a service keeps of somebody: messages of topics, of samples, and rows that were set aside; and says what it cannot reach.
package forget

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"fiume/internal/catalog"
	"fiume/internal/connect/recorded"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
	"fiume/internal/service/jobs"
	"fiume/internal/service/samples"
	"fiume/internal/topiclog"
)

// Request says what is to be forgotten: what has a value in a column.
type Request struct {
	Column string   `json:"column" minLength:"1" maxLength:"190" doc:"a column, or a path such as device.serial"`
	Value  string   `json:"value" minLength:"1" maxLength:"1000"`
	Topics []string `json:"topics,omitempty" maxItems:"1000" doc:"only these topics; all where left out"`
	Try    bool     `json:"try,omitempty" doc:"count, and change nothing"`
}

// Step is what was done at one place.
type Step struct {
	Place    string `json:"place" doc:"a topic, samples, or rows set aside"`
	Topic    bool   `json:"topic,omitempty"`
	Looked   int64  `json:"looked"`
	Found    int64  `json:"found"`
	Problem  string `json:"problem,omitempty" doc:"why not all of it was looked at, or forgotten"`
	Left     string `json:"left,omitempty" doc:"something that it does not reach"`
	Finished bool   `json:"finished,omitempty" doc:"this is the last one"`
}

// Forgetter forgets.
type Forgetter struct {
	*base.Base
	samples *samples.Samples
	jobs    *jobs.Jobs
}

// New forgets what a service has.
func New(b *base.Base, samples *samples.Samples, jobs *jobs.Jobs) *Forgetter {
	return &Forgetter{b, samples, jobs}
}

// Forget removes what a request asks for, and tells of each place as it is done. What cannot be forgotten at one place keeps no other.
func (f *Forgetter) Forget(ctx context.Context, actor string, r Request, tell func(Step) error) error {
	if err := r.check(); err != nil {
		return err
	}
	var names []string
	for _, t := range f.TopicLog.Topics() {
		names = append(names, t.Name)
	}
	for _, t := range r.Topics {
		if !slices.Contains(names, t) {
			if near := sql.Suggest(t, names); near != "" {
				return base.Errorf(base.ErrNotFound, "there is no topic %q; did you mean %q?", t, near)
			}
			return base.Errorf(base.ErrNotFound, "there is no topic %q", t)
		}
	}
	touched := map[string]bool{}
	found := int64(0)
	for _, name := range names {
		if len(r.Topics) > 0 && !slices.Contains(r.Topics, name) {
			continue
		}
		t := f.TopicLog.Topic(name)
		if t == nil {
			continue
		}
		s := f.topic(ctx, t, &r)
		if err := ctx.Err(); err != nil {
			return err
		}
		if found += s.Found; s.Found > 0 {
			touched[name] = true
		}
		if err := tell(s); err != nil {
			return err
		}
	}
	plain := r.matcher()
	s := Step{Place: "samples"}
	n, err := f.samples.Forget(r.Try, func(_ samples.SampleInfo, m *recorded.Message) bool {
		s.Looked++
		return plain(m.Key, m.Value)
	})
	if s.Found = int64(n); err != nil {
		s.Problem = err.Error()
	}
	if err := tell(s); err != nil {
		return err
	}
	found += s.Found
	s = Step{Place: "rows set aside"}
	tried := int64(0)
	n, err = f.Store.ForgetAsides(func(x *catalog.SetAside) bool {
		s.Looked++
		if !plain(nil, []byte(x.Row)) {
			return false
		}
		tried++
		return !r.Try
	})
	if s.Found = int64(n); r.Try {
		s.Found = tried
	}
	if err != nil {
		s.Problem = err.Error()
	}
	found += s.Found
	if err := tell(s); err != nil {
		return err
	}
	for _, left := range f.left(touched) {
		if err := tell(Step{Left: left}); err != nil {
			return err
		}
	}
	if !r.Try { // the value itself stands nowhere
		f.Note(actor, "forgot", "column "+r.Column, fmt.Sprintf("%d messages and rows", found))
	}
	return tell(Step{Finished: true, Found: found})
}

func (r *Request) check() error {
	switch {
	case strings.TrimSpace(r.Column) == "" || r.Value == "":
		return base.Errorf(base.ErrRefused, "say what is to be forgotten: a column and its value, as in chip=P00017")
	case !utf8.ValidString(r.Value) || !utf8.ValidString(r.Column):
		return base.Errorf(base.ErrRefused, "column and value are no text")
	}
	return nil
}

// topic forgets what is in a topic.
func (f *Forgetter) topic(ctx context.Context, t *topiclog.Topic, r *Request) Step {
	s := Step{Place: t.Name, Topic: true}
	match, err := f.matcherOf(t.Name, r)
	if err != nil {
		s.Problem = err.Error()
		return s
	}
	for i, p := range t.Partitions() {
		of := func(v topiclog.View, b []byte) bool {
			s.Looked++
			var key []byte
			if v.HasKey {
				key = b[v.KeyFrom:v.KeyTo]
			}
			return match(key, b[v.From:v.To])
		}
		var n int64
		if r.Try {
			n, err = count(ctx, p, of)
		} else {
			n, err = p.Forget(ctx.Err, of)
		}
		s.Found += n
		if err != nil {
			s.Problem = fmt.Sprintf("partition %d: %s", i, err)
		}
	}
	return s
}

// count counts the messages that match.
func count(ctx context.Context, p *topiclog.Partition, match func(v topiclog.View, b []byte) bool) (n int64, err error) {
	var buf []byte
	for at, end := p.First(), p.Next(); at < end; {
		if err := ctx.Err(); err != nil {
			return n, err
		}
		b, next, err := p.Read(at, buf, 1<<20)
		if err != nil {
			return n, err
		}
		if err := topiclog.Views(b, at, func(v topiclog.View) {
			if match(v, b) {
				n++
			}
		}); err != nil {
			return n, err
		}
		if next <= at {
			return n, nil
		}
		at, buf = next, b
	}
	return n, nil
}

// matcher says of messages whether they are to be forgotten: those with the value in the column, as JSON, and those that are no JSON and have the value in them as a
// word. So nothing stays that could not be read.
func (r *Request) matcher() func(key, value []byte) bool {
	path := strings.Split(r.Column, ".")
	needle := []byte(r.Value)
	escapes := strings.ContainsFunc(r.Value, func(c rune) bool { return c < ' ' || c > '~' || strings.ContainsRune(`"\/<>&`, c) })
	return func(_, value []byte) bool {
		if len(value) == 0 || !escapes && !bytes.Contains(value, needle) && bytes.IndexByte(value, '\\') < 0 {
			return false
		}
		d := json.NewDecoder(bytes.NewReader(value))
		d.UseNumber()
		var x any
		if d.Decode(&x) != nil || d.More() {
			return word(value, needle)
		}
		return has(x, path, r.Value) || len(path) > 1 && has(x, []string{r.Column}, r.Value)
	}
}

// has says whether a value stands at a path; of arrays any element will do.
func has(x any, path []string, value string) bool {
	switch x := x.(type) {
	case []any:
		return slices.ContainsFunc(x, func(e any) bool { return has(e, path, value) })
	case map[string]any:
		if len(path) == 0 {
			return false
		}
		e, ok := x[path[0]]
		return ok && has(e, path[1:], value)
	case string:
		return len(path) == 0 && x == value
	case json.Number:
		return len(path) == 0 && x.String() == value
	case bool:
		return len(path) == 0 && fmt.Sprint(x) == value
	}
	return false
}

// word says whether a text has another in it that no letter or digit stands beside.
func word(text, needle []byte) bool {
	part := func(b byte) bool {
		return b == '_' || b >= '0' && b <= '9' || b|0x20 >= 'a' && b|0x20 <= 'z' || b >= 0x80
	}
	for at := 0; ; {
		i := bytes.Index(text[at:], needle)
		if i < 0 {
			return false
		}
		from, to := at+i, at+i+len(needle)
		if (from == 0 || !part(text[from-1])) && (to == len(text) || !part(text[to])) {
			return true
		}
		at = from + 1
	}
}

// matcherOf is matcher for the messages of a topic, which are also read as the streams and tables over it read them, and whose key may be the column.
func (f *Forgetter) matcherOf(topic string, r *Request) (func(key, value []byte) bool, error) {
	cat := f.Current()
	plain := r.matcher()
	all := []func(key, value []byte) bool{plain}
	over := func(st *plan.Stream, t *plan.Table) error {
		if !st.OwnTopics || st.Address != topic {
			return nil
		}
		i := slices.IndexFunc(st.Columns, func(c types.Field) bool { return c.Name == r.Column })
		if i < 0 {
			return nil
		}
		reading, err := f.Env().ReadingOf(st, t, &plan.Use{All: true})
		if err != nil {
			return err
		}
		dec, err := reading.NewDecoder(nil)
		if err != nil {
			return fmt.Errorf("as %s is read: %w", st.Name, err)
		}
		all = append(all, func(_, value []byte) bool {
			if len(value) == 0 {
				return false
			}
			var b column.Batch
			if rejects := dec.Decode(value, []flow.Message{{Len: uint32(len(value))}}, &b); len(rejects) > 0 || b.N != 1 || i >= len(b.Cols) || b.Cols[i] == nil || b.Cols[i].Null(0) {
				return false
			}
			return string(types.AppendText(nil, b.Cols[i].Value(0))) == r.Value
		})
		return nil
	}
	var errs []error
	for _, st := range cat.Streams {
		errs = append(errs, over(st, nil))
	}
	for _, t := range cat.Tables {
		errs = append(errs, over(t.Stream, t))
	}
	keyed := slices.ContainsFunc(slices.Collect(maps.Values(cat.Sinks)), func(k *plan.Sink) bool {
		return k.OwnTopics && k.Address == topic && slices.Equal(k.Options.Names("key"), []string{r.Column})
	}) || slices.ContainsFunc(slices.Collect(maps.Values(cat.Tables)), func(t *plan.Table) bool {
		return t.Stream.OwnTopics && t.Stream.Address == topic && len(t.Key) == 1 && t.Stream.Shown()[t.Key[0]].Name == r.Column
	})
	if keyed {
		all = append(all, func(key, _ []byte) bool { return string(key) == r.Value })
	}
	return func(key, value []byte) bool {
		return slices.ContainsFunc(all, func(m func(key, value []byte) bool) bool { return m(key, value) })
	}, errors.Join(errs...)
}

// left says what was not reached of what came from topics.
func (f *Forgetter) left(touched map[string]bool) (out []string) {
	for _, j := range f.jobs.All() {
		p, err := f.jobs.PlanOf(j.Text())
		if err != nil {
			continue
		}
		reads := false
		var sinks []string
		for _, o := range p.Scans() {
			reads = reads || o.Stream.OwnTopics && touched[o.Stream.Address]
		}
		if !reads {
			continue
		}
		for _, o := range p.Outputs() {
			if o.Sink != nil && !o.Sink.OwnTopics {
				sinks = append(sinks, fmt.Sprintf("%s (%s)", o.Step, strings.ToUpper(o.Sink.Place)))
			}
		}
		stateless := []plan.Kind{plan.Scan, plan.Filter, plan.Project, plan.Route, plan.Output, plan.Explode, plan.Union, plan.Lookup}
		if slices.ContainsFunc(p.Ops, func(o *plan.Op) bool { return !slices.Contains(stateless, o.Kind) }) {
			out = append(out, fmt.Sprintf("the state and the checkpoints of the job %s, until its windows close and FORGET AFTER is over, or it begins anew: START JOB %s FROM BEGINNING", j.Name, sql.Quoted(j.Name)))
		}
		if len(sinks) > 0 {
			out = append(out, fmt.Sprintf("what the job %s has written outside: %s", j.Name, strings.Join(sinks, ", ")))
		}
	}
	return append(out, "the newest rows of running jobs, until newer ones come; files, backups, and what others have read")
}
