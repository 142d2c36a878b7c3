package questions

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/recorded"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/format"
	"fiume/internal/service/base"
	"fiume/internal/service/sensitive"
	"fiume/internal/service/topics"
	"fiume/internal/topiclog"
)

// Why says where a result row comes from: the messages that made it, found in what the topics still hold.
type Why struct {
	Job       string            `json:"job"`
	Sink      string            `json:"sink"`
	Row       json.RawMessage   `json:"row"`
	Streams   []WhyStream       `json:"streams"`
	Confirmed bool              `json:"confirmed" doc:"the job, run over these messages alone, gives just this row"`
	Gives     []json.RawMessage `json:"gives" doc:"where it does not: rows that it gives"`
	Notes     []string          `json:"notes"`
}

// WhyStream is what a stream or table had a part in.
type WhyStream struct {
	Stream     string       `json:"stream"`
	Table      bool         `json:"table,omitempty"`
	Topic      string       `json:"topic,omitempty"`
	Conditions []string     `json:"conditions" doc:"what its rows had to meet"`
	Looked     int64        `json:"looked" doc:"messages looked at"`
	Found      int          `json:"found"`
	Messages   []WhyMessage `json:"messages" doc:"the first of them"`
}

// WhyMessage is a message that had a part in a row.
type WhyMessage struct {
	topics.Message
	EventTime *int64 `json:"event_time,omitempty" doc:"microseconds"`
	Late      bool   `json:"late,omitempty" doc:"it was late for the window, and did not count"`
}

// What a search may take.
const (
	shownOrigins = 200
	mostOrigins  = 20_000
	mostLooked   = 5_000_000
)

// Why finds the messages that made a row of a sink. The row may have some of its columns only: more messages are found
// then. Topics are read from the oldest message that they hold.
func (s *Questions) Why(ctx context.Context, jobName, sink string, row json.RawMessage) (*Why, error) {
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	j, err := s.jobs.Named(jobName)
	if err != nil {
		return nil, err
	}
	p, err := s.jobs.PlanOf(j.Text())
	if err != nil {
		return nil, err
	}
	if err := sensitive.OfPlan(ctx, s.Base, p).Refuse("the job " + jobName); err != nil {
		return nil, err // a row is looked for by its values, which are not known
	}
	out, err := outputNamed(p, sink)
	if err != nil {
		return nil, err
	}
	if out.Aside != "" {
		return nil, base.Errorf(base.ErrRefused, "the sink %s gets rows that were %s: their origin stands in them", out.Step, out.Aside)
	}
	values, err := valuesOf(out.Fields, row)
	if err != nil {
		return nil, err
	}
	w := &Why{Job: jobName, Sink: out.Step, Row: row, Streams: []WhyStream{}, Gives: []json.RawMessage{}, Notes: []string{}}
	if len(values) < len(out.Fields) {
		w.Notes = append(w.Notes, fmt.Sprintf("the row has %d of the %d columns of %s", len(values), len(out.Fields), out.Step))
	}
	o := &triedOpener{Opener: s.Opener(), messages: map[string][]recorded.Message{}, names: map[string]string{}, since: plan.Bound{Kind: plan.Beginning}, until: time.Now(), sinks: map[string]*rows.Capture{}}
	whole := true
	for _, origin := range p.Origins(out, values) {
		st := origin.Scan.Stream
		x := WhyStream{Stream: st.Name, Table: origin.Scan.OfTable != nil, Conditions: append([]string{}, origin.Text()...), Messages: []WhyMessage{}}
		if !st.OwnTopics {
			w.Notes = append(w.Notes, fmt.Sprintf("%s reads %s: its rows are not looked at one by one", st.Name, strings.ToUpper(st.Place)))
			w.Streams = append(w.Streams, x)
			continue
		}
		x.Topic = st.Address
		ms, looked, err := s.search(ctx, &origin)
		if err != nil {
			return nil, err
		}
		x.Looked, x.Found = looked, len(ms)
		if looked >= mostLooked || len(ms) >= mostOrigins {
			whole = false
			w.Notes = append(w.Notes, fmt.Sprintf("the search in %s ended after %d messages with %d found; give more columns of the row", st.Address, looked, len(ms)))
		}
		have := map[[2]int64]bool{}
		for _, m := range o.messages[st.Name] {
			have[[2]int64{int64(m.Partition), m.Offset}] = true
		}
		for _, m := range ms {
			if len(x.Messages) < shownOrigins {
				t := m.time
				x.Messages = append(x.Messages, WhyMessage{topics.MessageOf(m.Message), &t, m.late})
			}
			if k := [2]int64{int64(m.Partition), m.Offset}; !m.late && !have[k] {
				have[k] = true
				o.messages[st.Name] = append(o.messages[st.Name], m.Message)
			}
		}
		if _, ok := o.messages[st.Name]; !ok {
			o.messages[st.Name] = []recorded.Message{}
		}
		o.names[st.Name] = st.Address
		slices.SortStableFunc(x.Messages, func(a, b WhyMessage) int { return cmp.Compare(*a.EventTime, *b.EventTime) })
		w.Streams = append(w.Streams, x)
	}
	if !whole || len(values) < len(out.Fields) {
		return w, nil
	}
	return w, s.confirm(ctx, w, p, out, o)
}

// confirm runs the job over what was found, to see whether it gives the row.
func (s *Questions) confirm(ctx context.Context, w *Why, p *plan.Plan, out *plan.Op, o *triedOpener) error {
	for _, sc := range p.Scans() { // streams that have no part in the row are empty
		if _, ok := o.messages[sc.Stream.Name]; !ok && sc.OfTable == nil {
			o.messages[sc.Stream.Name] = []recorded.Message{}
		}
	}
	within, cancel := context.WithTimeout(ctx, usualSeconds*time.Second)
	defer cancel()
	_, err := s.RunQuestion(within, p, o, flow.Options{Describe: text.Describe, Parallelism: 1})
	if err != nil {
		w.Notes = append(w.Notes, "the messages could not be run through the job again: "+err.Error())
		return ctx.Err()
	}
	have, err := o.sinks[out.Step].Rows()
	if err != nil {
		return err
	}
	want := string(compact(w.Row))
	values, _ := valuesOf(out.Fields, w.Row)
	near := []json.RawMessage{}
	for _, row := range have {
		got, err := valuesOf(out.Fields, json.RawMessage(row))
		if err != nil {
			continue
		}
		if row == want || sameValues(got, values) {
			w.Confirmed = true
			return nil
		}
		near = append(near, json.RawMessage(row))
	}
	if w.Gives = near[:min(len(near), 10)]; len(near) == 0 {
		w.Notes = append(w.Notes, "these messages alone give no row: the topics may not hold all that made it any more")
	} else {
		w.Notes = append(w.Notes, "these messages alone give other rows: the topics may not hold all that made it any more, or it is no row of this version of the job")
	}
	return nil
}

func compact(raw json.RawMessage) []byte {
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return raw
	}
	b, _ := json.Marshal(v) // it was read
	return b
}

func sameValues(a, b map[int]types.Value) bool {
	return maps.EqualFunc(a, b, func(x, y types.Value) bool {
		return x.IsNull() == y.IsNull() && string(types.AppendText(nil, x)) == string(types.AppendText(nil, y))
	})
}

func outputNamed(p *plan.Plan, sink string) (*plan.Op, error) {
	var names []string
	for _, o := range p.Outputs() {
		if o.Step == sink {
			return o, nil
		}
		names = append(names, o.Step)
	}
	hint := "it writes to " + strings.Join(names, ", ")
	if x := sql.Suggest(sink, names); x != "" {
		hint = fmt.Sprintf("did you mean %q?", x)
	}
	return nil, base.Errorf(base.ErrNotFound, "the job %s has no sink %q; %s", p.Name, sink, hint)
}

// valuesOf reads the columns that a JSON row has.
func valuesOf(fields []types.Field, row json.RawMessage) (map[int]types.Value, error) {
	var cells map[string]json.RawMessage
	if err := json.Unmarshal(row, &cells); err != nil {
		return nil, base.Errorf(base.ErrRefused, "the row is no JSON object: %s", err)
	}
	var names []string
	for _, f := range fields {
		names = append(names, f.Name)
	}
	for n := range cells {
		if !slices.Contains(names, n) && n != "_change" {
			hint := "it has " + strings.Join(names, ", ")
			if x := sql.Suggest(n, names); x != "" {
				hint = fmt.Sprintf("did you mean %q?", x)
			}
			return nil, base.Errorf(base.ErrRefused, "the sink has no column %q; %s", n, hint)
		}
	}
	st := &plan.Stream{Name: "row", Time: -1, Columns: slices.Clone(fields)}
	for i := range st.Columns {
		st.Columns[i].NotNull = false
	}
	dec, err := (&format.Reading{Stream: st, Used: &plan.Use{All: true}}).NewDecoder(nil)
	if err != nil {
		return nil, err
	}
	data := append(slices.Clone([]byte(row)), make([]byte, flow.Pad)...)[:len(row)]
	var b column.Batch
	if bad := dec.Decode(data, []flow.Message{{Len: uint32(len(row))}}, &b); len(bad) > 0 {
		return nil, base.Errorf(base.ErrRefused, "the row does not fit the columns of the sink: %s", bad[0].Reason)
	}
	out := map[int]types.Value{}
	for i, f := range fields {
		if _, ok := cells[f.Name]; ok {
			out[i] = b.Cols[i].Value(0)
		}
	}
	return out, nil
}

// hit is a message that was found.
type hit struct {
	recorded.Message
	time int64
	late bool
}

// decoder makes a decoder of the messages of a partition that a scan reads.
func (s *Questions) decoder(scan *plan.Op, partition int) (flow.Decoder, error) {
	r, err := s.Env().Reading(scan)
	if err != nil {
		return nil, err
	}
	return r.DecoderFrom(format.Origin{Topic: scan.Stream.Address, Partition: partition}, nil)
}

// search finds the messages of a topic that an origin describes, and says how many it looked at.
func (s *Questions) search(ctx context.Context, origin *plan.Origin) (found []hit, looked int64, err error) {
	scan := origin.Scan
	t, err := s.topics.Named(scan.Stream.Address)
	if err != nil {
		return nil, 0, err
	}
	var m eval.Machine
	for i, part := range t.Partitions() {
		dec, err := s.decoder(scan, i)
		if err != nil {
			return nil, 0, err
		}
		from, to := part.First(), part.Next()
		newest := types.MinTime
		var buf []byte
		for from < to && looked < mostLooked && len(found) < mostOrigins {
			if ctx.Err() != nil {
				return nil, looked, ctx.Err()
			}
			data, next, err := part.Read(from, buf[:0], 1<<20)
			if err != nil {
				return nil, looked, err
			}
			if next == from {
				break
			}
			data = slices.Grow(data, flow.Pad)
			var ms []flow.Message
			if err := topiclog.Views(data, from, func(v topiclog.View) {
				x := flow.Message{Off: uint32(v.From), Len: uint32(v.To - v.From), Pos: v.Offset, At: v.At}
				if v.HasKey {
					x.Key = data[v.KeyFrom:v.KeyTo:v.KeyTo]
				}
				x.Headers = data[v.HeadFrom:v.HeadTo]
				ms = append(ms, x)
			}); err != nil {
				return nil, looked, err
			}
			looked += int64(len(ms))
			b := column.Batch{}
			dec.Decode(data, ms, &b)
			newest = s.choose(origin, &m, &b, newest, func(row int, late bool) {
				k, ok := slices.BinarySearchFunc(ms, b.Pos[row], func(x flow.Message, pos int64) int { return cmp.Compare(x.Pos, pos) })
				if ok && len(found) < mostOrigins {
					x := ms[k]
					h := hit{recorded.Message{Partition: i, Offset: x.Pos, At: x.At, Value: slices.Clone(data[x.Off : x.Off+x.Len])}, b.Time[row], late}
					if x.Key != nil {
						h.Key = slices.Clone(x.Key)
					}
					found = append(found, h)
				}
			})
			from, buf = next, data
		}
	}
	return found, looked, nil
}

// choose tells each of the rows of a batch that an origin describes, and whether it was late for its window. It gives the
// newest event time so far.
func (s *Questions) choose(origin *plan.Origin, m *eval.Machine, b *column.Batch, newest int64, each func(row int, late bool)) int64 {
	m.Begin()
	m.Now = time.Now().UnixMicro()
	scan := origin.Scan
	if e := scan.Stream.TimeOf; e != nil {
		v := m.Eval(e, b)
		b.Cols = append(slices.Clone(b.Cols), v)
		b.Time = slices.Clone(v.I[:b.N])
	}
	fits := make([]bool, b.N)
	stamps := make([]int64, b.N)
	any := false
	for i := range b.N {
		stamps[i] = types.MinTime
		if newest > types.MinTime {
			stamps[i] = newest - scan.Stream.Delay
		}
		newest = max(newest, b.Time[i])
		fits[i] = origin.From <= b.Time[i] && b.Time[i] <= origin.To
		any = any || fits[i]
	}
	if !any {
		return newest
	}
	for _, e := range origin.Equals {
		v := m.Eval(e.Expr, b)
		want := string(types.AppendText(nil, e.Value))
		for i := range b.N {
			if !fits[i] {
				continue
			}
			if v.Null(i) || e.Value.IsNull() {
				fits[i] = v.Null(i) == e.Value.IsNull()
			} else {
				fits[i] = string(types.AppendText(nil, v.Value(i))) == want
			}
		}
	}
	for _, c := range origin.Conds {
		chosen := make([]bool, b.N)
		for _, i := range m.Select(c.Expr, b, nil) {
			chosen[i] = true
		}
		for i := range fits {
			fits[i] = fits[i] && chosen[i]
		}
	}
	for _, f := range m.Failures {
		fits[f.Row] = false
	}
	m.Failures = m.Failures[:0]
	for i, ok := range fits {
		if ok {
			each(i, origin.Closes != 0 && stamps[i] > types.MinTime && origin.Closes+origin.Lateness <= stamps[i])
		}
	}
	return newest
}
