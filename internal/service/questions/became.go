package questions

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/recorded"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	intopics "fiume/internal/connect/topics"
	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
	"fiume/internal/service/sensitive"
	"fiume/internal/service/topics"
	"fiume/internal/topiclog"
)

// Became says what became of a message in a job.
type Became struct {
	Job       string         `json:"job"`
	Message   topics.Message `json:"message"`
	Read      bool           `json:"read" doc:"the job has read it"`
	EventTime *int64         `json:"event_time,omitempty" doc:"microseconds"`
	Stamp     *int64         `json:"stamp,omitempty" doc:"the watermark of its partition just before it, microseconds"`
	Steps     []BecameStep   `json:"steps" doc:"in the order in which rows pass them"`
	Results   []BecameResult `json:"results" doc:"what came of it in the sinks"`
	Notes     []string       `json:"notes"`
}

// BecameStep is what a step did with a message's row.
type BecameStep struct {
	ID      int    `json:"id"`
	Kind    string `json:"kind"`
	Step    string `json:"step"`
	Detail  string `json:"detail"`
	Verdict string `json:"verdict" enum:"passed,filtered,counted,late,rejected,waits,routed,written"`
	Reason  string `json:"reason,omitempty"`
	Row     string `json:"row,omitempty" doc:"the row as it left the step, where it has a name"`
}

// BecameResult is a row of a sink that the message has a part in.
type BecameResult struct {
	Sink  string            `json:"sink"`
	Row   json.RawMessage   `json:"row" doc:"as the message alone would make it"`
	Key   map[string]any    `json:"key,omitempty" doc:"of a result that is made of several rows: what tells it apart"`
	Found []json.RawMessage `json:"found" doc:"the rows of the sink, where it is a topic, that have the same key"`
}

// Became runs a message of a topic through a job by itself, with the watermark that its partition had then, and says
// what each step did with it.
func (s *Questions) Became(ctx context.Context, jobName, topic string, partition int, offset int64) (*Became, error) {
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	j, err := s.jobs.Named(jobName)
	if err != nil {
		return nil, err
	}
	ms, err := s.topics.Recorded(topic, topics.Reading{Partition: partition, From: offset, Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(ms) == 0 || ms[0].Offset != offset || partition < 0 {
		return nil, base.Errorf(base.ErrNotFound, "partition %d of '%s' has no message %d", partition, topic, offset)
	}
	m := ms[0]
	p, err := s.jobs.PlanOf(j.Text())
	if err != nil {
		return nil, err
	}
	out := &Became{Job: jobName, Message: topics.MessageOf(m), Steps: []BecameStep{}, Results: []BecameResult{}, Notes: []string{}}
	var scans []*plan.Op
	for _, sc := range p.Scans() {
		if sc.Stream.OwnTopics && sc.Stream.Address == topic {
			scans = append(scans, sc)
		}
	}
	if len(scans) == 0 {
		return nil, base.Errorf(base.ErrRefused, "the job %s does not read the topic '%s'", jobName, topic)
	}
	st, _, _ := j.Status()
	for _, sp := range st.Splits {
		if sp.Split == fmt.Sprintf("%s/%d", topic, partition) {
			out.Read = out.Read || sp.Next > offset
		}
	}
	if !out.Read {
		out.Notes = append(out.Notes, "the job has not read it yet: this is what would become of it")
	}
	o := &triedOpener{Opener: s.Opener(), messages: map[string][]recorded.Message{}, names: map[string]string{}, since: plan.Bound{Kind: plan.Beginning}, until: time.Now(), sinks: map[string]*rows.Capture{}}
	snap := &flow.Snapshot{Splits: map[string]flow.SplitPosition{}, Ledger: nil, State: map[string][][]byte{}}
	for _, sc := range p.Scans() {
		name := sc.Stream.Name
		if slices.Contains(scans, sc) {
			o.messages[name], o.names[name] = []recorded.Message{m}, topic
			newest, err := s.newestOf(sc, partition, offset-mostLooked, offset)
			if err != nil {
				return nil, err
			}
			if own, err := s.newestOf(sc, partition, offset, offset+1); err != nil {
				return nil, err
			} else if own > types.MinTime && sc.OfTable == nil {
				out.EventTime = &own
			}
			if newest > types.MinTime {
				snap.Splits[sc.Key+"/"+fmt.Sprintf("%s/%d", topic, partition)] = flow.SplitPosition{Newest: newest}
				if sc.OfTable == nil {
					stamp := newest - sc.Stream.Delay
					out.Stamp = &stamp
				}
			}
		} else if sc.OfTable == nil {
			o.messages[name], o.names[name] = []recorded.Message{}, sc.Stream.Address
		}
	}
	within, cancel := context.WithTimeout(ctx, usualSeconds*time.Second)
	defer cancel()
	run, err := flow.New(p, o, s.Asked(flow.Options{Describe: text.Describe, First: firstRows, Parallelism: 1, Restore: snap}))
	if err == nil {
		err = run.Run(within)
	}
	if err != nil {
		return nil, base.Errorf(base.ErrRefused, "the message cannot be run through the job: %s", err)
	}
	out.verdicts(p, run, scans)
	s.results(out, p, o)
	out.hide(sensitive.OfPlan(ctx, s.Base, p), sensitive.OfTopic(ctx, s.Base, topic))
	return out, nil
}

// hide masks what the caller may not see of the rows of the job, and of the message.
func (b *Became) hide(rows, message *sensitive.Veil) {
	b.Message = message.Message(b.Message)
	if rows == nil {
		return
	}
	for i := range b.Steps {
		x := &b.Steps[i]
		x.Row, x.Reason = rows.Text(x.Row), rows.Reason(x.Reason)
	}
	for i := range b.Results {
		x := &b.Results[i]
		x.Row = rows.Row(x.Row)
		for k := range x.Found {
			x.Found[k] = rows.Row(x.Found[k])
		}
		for column := range x.Key {
			if rows.Hides(column) {
				delete(x.Key, column)
			}
		}
	}
}

// newestOf gives the greatest event time of a partition's rows from an offset to before another; MinTime where there are none.
func (s *Questions) newestOf(scan *plan.Op, partition int, from, to int64) (int64, error) {
	t, err := s.topics.Named(scan.Stream.Address)
	if err != nil {
		return 0, err
	}
	dec, err := s.decoder(scan, partition)
	if err != nil {
		return 0, err
	}
	part := t.Partitions()[partition]
	newest := types.MinTime
	var m eval.Machine
	from = max(part.First(), from)
	var buf []byte
	for from < to {
		data, next, err := part.Read(from, buf[:0], 1<<20)
		if err != nil {
			return 0, err
		}
		if next == from {
			break
		}
		data = slices.Grow(data, flow.Pad)
		var ms []flow.Message
		if err := topiclog.Views(data, from, func(v topiclog.View) {
			if v.Offset < to {
				x := flow.Message{Off: uint32(v.From), Len: uint32(v.To - v.From), Pos: v.Offset, At: v.At, Headers: data[v.HeadFrom:v.HeadTo]}
				if v.HasKey {
					x.Key = data[v.KeyFrom:v.KeyTo:v.KeyTo]
				}
				ms = append(ms, x)
			}
		}); err != nil {
			return 0, err
		}
		var b column.Batch
		dec.Decode(data, ms, &b)
		times := b.Time[:b.N]
		if e := scan.Stream.TimeOf; e != nil {
			m.Begin()
			times = m.Eval(e, &b).I[:b.N]
			m.Failures = m.Failures[:0]
		}
		for _, x := range times {
			newest = max(newest, x)
		}
		from, buf = next, data
	}
	return newest, nil
}

// verdicts says what each step did.
func (b *Became) verdicts(p *plan.Plan, run *flow.Job, scans []*plan.Op) {
	st, samples, newest := run.Status(), run.Samples(), run.Rows()
	reason := func(step, kind string) string {
		for _, x := range samples {
			if x.Step == step && x.Kind == kind {
				return x.Reason
			}
		}
		return ""
	}
	// Only what rows of the message can come to.
	reached := map[*plan.Op]bool{}
	var reach func(o *plan.Op)
	reach = func(o *plan.Op) {
		if reached[o] {
			return
		}
		reached[o] = true
		for _, n := range o.Next {
			reach(n)
		}
		if o.Into != nil {
			reach(o.Into)
		}
		for _, b := range o.Branches {
			for _, k := range b.Sinks {
				reach(k)
			}
		}
	}
	for _, sc := range scans {
		reach(sc)
	}
	for i, k := range st.Steps {
		o := p.Ops[i]
		if !reached[o] || k.Counts.In == 0 && k.Kind != "scan" {
			continue
		}
		if k.Kind == "table" || k.Kind == "side" && (o.Into.Kind == plan.Keep || o.Into.Kind == plan.AsOf && o.Side == 1) {
			continue // rows of tables, which stand beside
		}
		x := BecameStep{ID: k.ID, Kind: k.Kind, Step: k.Step, Detail: k.Detail}
		c := k.Counts
		switch {
		case c.Rejected > 0:
			x.Verdict, x.Reason = "rejected", reason(k.Step, "rejected")
		case c.Late > 0:
			x.Verdict, x.Reason = "late", reason(k.Step, "late")
		case c.Filtered > 0 && c.Passed == 0:
			x.Verdict = "filtered"
			x.Reason = "it is not true that " + strings.TrimPrefix(k.Detail, "where ")
			if k.Kind == "unique" {
				x.Reason = "it repeats a row before it"
			}
		case k.Kind == "output":
			x.Verdict = "written"
		case k.Kind == "route":
			x.Verdict = "routed"
		case k.Kind == "window":
			x.Verdict = "counted"
		case k.Kind == "join" && c.Passed+c.Made == 0, c.Held > 0:
			x.Verdict, x.Reason = "waits", "for rows of the other side, which are left out here"
		default:
			x.Verdict = "passed"
		}
		if list := newest[k.ID]; o.Named() && len(list) > 0 && x.Verdict == "passed" {
			x.Row = list[0]
		}
		b.Steps = append(b.Steps, x)
	}
}

// results says which rows of the sinks the message has a part in.
func (s *Questions) results(b *Became, p *plan.Plan, o *triedOpener) {
	for _, k := range p.Outputs() {
		c := o.sinks[k.Step]
		if c == nil || k.Aside != "" {
			continue
		}
		all, err := c.Rows()
		if err != nil {
			continue
		}
		for _, row := range all[:min(len(all), 20)] {
			x := BecameResult{Sink: k.Step, Row: json.RawMessage(row), Found: []json.RawMessage{}}
			var cells map[string]json.RawMessage
			if json.Unmarshal([]byte(row), &cells) == nil {
				x.Key = keyCells(p, k, cells)
			}
			x.Found = s.stands(k, cells, x.Key)
			b.Results = append(b.Results, x)
		}
	}
}

// keyCells gives the columns of a row that tell a result of several rows apart; nil where it is one row's own.
func keyCells(p *plan.Plan, out *plan.Op, cells map[string]json.RawMessage) map[string]any {
	keys := p.KeyOf(out)
	if len(keys) == 0 {
		return nil
	}
	key := map[string]any{}
	for _, i := range keys {
		var v any
		_ = json.Unmarshal(cells[out.Fields[i].Name], &v)
		key[out.Fields[i].Name] = v
	}
	return key
}

// stands finds the newest rows of a topic's sink with a key, or, without one, the row itself.
func (s *Questions) stands(out *plan.Op, cells map[string]json.RawMessage, key map[string]any) []json.RawMessage {
	found := []json.RawMessage{}
	if out.Sink == nil || !out.Sink.OwnTopics || out.Sink.Options.Word("format", "json") != "json" {
		return found
	}
	t, err := s.topics.Named(out.Sink.Address)
	if err != nil {
		return found
	}
	for _, part := range t.Partitions() {
		_ = intopics.Each(part, max(part.First(), part.Next()-intopics.MostScanned/10), part.Next(), func(v topiclog.View, data []byte) bool {
			var have map[string]json.RawMessage
			value := data[v.From:v.To]
			if json.Unmarshal(value, &have) != nil {
				return true
			}
			for n, raw := range cells {
				if _, ok := key[n]; key != nil && !ok {
					continue
				}
				if string(have[n]) != string(raw) {
					return true
				}
			}
			found = append(found, slices.Clone(value))
			if len(found) > 20 {
				found = found[1:]
			}
			return true
		})
	}
	return found
}
