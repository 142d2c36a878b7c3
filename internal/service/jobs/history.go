package jobs

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect/recorded"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/step"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/topics"
	"fiume/internal/topiclog"
)

// Point is what a job did in a stretch of time. Rates are a second.
type Point struct {
	At         time.Time `json:"at" doc:"the end of the stretch"`
	In         float64   `json:"in" doc:"messages read a second"`
	Out        float64   `json:"out" doc:"rows written a second"`
	Late       float64   `json:"late"`
	Rejected   float64   `json:"rejected"`
	Lag        float64   `json:"lag" doc:"how far the watermark lies behind the newest event, seconds"`
	Left       int64     `json:"left" doc:"messages that wait to be read"`
	State      int64     `json:"state" doc:"bytes of state in memory"`
	Disk       int64     `json:"disk" doc:"bytes of state on disk"`
	Queues     float64   `json:"queues" doc:"how full the fullest queue was, 0 to 1"`
	Checkpoint int64     `json:"checkpoint" doc:"what the newest checkpoint took, milliseconds"`
	Running    bool      `json:"running"`
}

// History is what a job did over a time.
type History struct {
	Job    string  `json:"job"`
	Step   int     `json:"step_seconds" doc:"length of the stretches"`
	Points []Point `json:"points" doc:"in order"`
}

// How history is kept: finely for an hour, in memory; by the minute for a week, in the catalog.
const (
	lookEvery   = time.Second
	pointEvery  = 5 * time.Second
	finePoints  = 720
	keptMinutes = 7 * 24 * time.Hour
	mostAside   = 2000 // rows set aside that are kept of each job and kind
)

// watch is what is remembered of a job between two looks.
type watch struct {
	run                     *flow.Job
	seq                     int64            // of the samples harvested
	counted                 map[string]int64 // rejected rows by step and class that the catalog knows of, of this run
	at                      time.Time
	in, out, late, rejected int64
	queues                  float64
	points                  []Point
	minute                  time.Time
}

// KeepHistory looks at all jobs until the context ends.
func (s *Jobs) KeepHistory(ctx context.Context) {
	t := time.NewTicker(lookEvery)
	defer t.Stop()
	for beat := 1; ; beat++ {
		select {
		case <-ctx.Done():
			s.Look(time.Now(), true)
			return
		case now := <-t.C:
			s.Look(now, beat%int(pointEvery/lookEvery) == 0)
		}
	}
}

// recentPoints is how many points are told beside a job.
const recentPoints = 60

// recent gives how many messages were read a second in the newest points, and the newest of these.
func (j *Job) recent() ([]float64, Point) {
	j.watching.Lock()
	defer j.watching.Unlock()
	ps := j.watched.points
	rates := []float64{}
	if len(ps) == 0 {
		return rates, Point{}
	}
	for _, p := range ps[max(0, len(ps)-recentPoints):] {
		rates = append(rates, p.In)
	}
	return rates, ps[len(ps)-1]
}

// Look gathers what jobs have set aside since the last look, and with point notes how fast they are.
func (s *Jobs) Look(now time.Time, point bool) {
	var aside []catalog.SetAside
	var reasons []catalog.ReasonCount
	var minutes []catalog.Minute
	for _, j := range s.All() {
		j.watching.Lock()
		a, r := j.harvest(now)
		aside, reasons = append(aside, a...), append(reasons, r...)
		if m := j.measurePoint(now, point); m != nil {
			minutes = append(minutes, *m)
		}
		j.watching.Unlock()
	}
	if err := s.Store.AddSetAside(aside, mostAside); err != nil {
		s.Log.Error("late and rejected rows cannot be kept", "error", err)
	}
	if err := s.Store.AddReasons(reasons); err != nil {
		s.Log.Error("the counts of rejected rows cannot be kept", "error", err)
	}
	if len(minutes) > 0 {
		if err := s.Store.AddMinutes(minutes, now.Add(-keptMinutes)); err != nil {
			s.Log.Error("the history of jobs cannot be kept", "error", err)
		}
	}
}

// harvest takes the rows that a job has set aside since the last look.
func (j *Job) harvest(now time.Time) (aside []catalog.SetAside, reasons []catalog.ReasonCount) {
	j.mu.Lock()
	run := j.run
	j.mu.Unlock()
	w := &j.watched
	if run != w.run {
		w.run, w.seq, w.counted = run, 0, map[string]int64{}
		w.at = time.Time{}
	}
	if run == nil {
		return nil, nil
	}
	samples := run.SamplesSince(w.seq)
	slices.SortFunc(samples, func(a, b flow.NamedSample) int { return cmp.Compare(a.Seq, b.Seq) })
	for _, x := range samples {
		w.seq = max(w.seq, x.Seq)
		row := catalog.SetAside{Job: j.Name, Kind: x.Kind, At: now.UTC(), Step: base.ClipText(x.Step, 180), Reason: x.Reason, Class: base.ClipText(step.ReasonClass(x.Reason), 180),
			Origin: x.Origin, EventTime: x.EventTime, LateBy: x.LateBy, Row: strings.ToValidUTF8(x.Row, "�"), Raw: x.Raw}
		if topic, partition, ok := topicOf(x.Split); ok && strings.Contains(x.Origin, " offset ") {
			row.Topic, row.Partition, row.Offset = topic, partition, x.Pos
		}
		aside = append(aside, row)
	}
	for _, r := range run.Reasons() {
		k := r.Step + "\x00" + r.Class
		if n := r.Rows - w.counted[k]; n > 0 {
			w.counted[k] = r.Rows
			reasons = append(reasons, catalog.ReasonCount{Job: j.Name, Step: base.ClipText(r.Step, 180), Class: base.ClipText(r.Class, 180), Count: n})
		}
	}
	return aside, reasons
}

// topicOf takes the name of a topic's split apart.
func topicOf(split string) (topic string, partition int, ok bool) {
	i := strings.LastIndexByte(split, '/')
	if i < 0 {
		return "", 0, false
	}
	if _, err := fmt.Sscanf(split[i+1:], "%d", &partition); err != nil {
		return "", 0, false
	}
	return split[:i], partition, true
}

// measurePoint notes how a job is doing; with point it makes a point of it, and gives the minute that has ended, or nil.
func (j *Job) measurePoint(now time.Time, point bool) *catalog.Minute {
	w := &j.watched
	x := Point{At: now.UTC()}
	j.mu.Lock()
	run, took := j.run, j.ckpt.TookMs
	j.mu.Unlock()
	if run == nil {
		if !point || len(w.points) == 0 {
			return nil
		}
		w.add(x)
		return w.ended(j.Name, now)
	}
	st := run.Status()
	var in, out, late, rejected int64
	for _, k := range st.Steps {
		switch k.Kind {
		case "scan":
			if !k.Table {
				in += k.Counts.In
			}
		case "output":
			out += k.Out
		}
		late, rejected = late+k.Counts.Late, rejected+k.Counts.Rejected
		x.State, x.Disk = x.State+int64(k.Bytes), x.Disk+k.Disk
		if k.Room > 0 {
			w.queues = max(w.queues, float64(k.Queued)/float64(k.Room))
		}
	}
	if !point {
		return nil
	}
	newest, low := int64(0), int64(0)
	for _, sp := range st.Splits {
		if sp.Left != nil && !sp.Table {
			x.Left += *sp.Left
		}
		if sp.Table || sp.NewestAt == nil {
			continue
		}
		newest = max(newest, *sp.NewestAt)
		if sp.Watermark != nil && !sp.Idle && !sp.Ended && (low == 0 || *sp.Watermark < low) {
			low = *sp.Watermark
		}
	}
	if low > 0 {
		x.Lag = max(0, float64(newest-low)/1e6)
	}
	x.Queues, x.Checkpoint, x.Running = w.queues, took, true
	w.queues = 0
	if d := now.Sub(w.at).Seconds(); !w.at.IsZero() && d > 0 {
		x.In, x.Out = float64(max(0, in-w.in))/d, float64(max(0, out-w.out))/d
		x.Late, x.Rejected = float64(max(0, late-w.late))/d, float64(max(0, rejected-w.rejected))/d
		w.add(x)
	}
	w.at, w.in, w.out, w.late, w.rejected = now, in, out, late, rejected
	return w.ended(j.Name, now)
}

func (w *watch) add(x Point) {
	w.points = append(w.points, x)
	if len(w.points) > finePoints {
		w.points = slices.Clone(w.points[len(w.points)-finePoints:])
	}
}

// ended gives what was done in the minute that has ended, once.
func (w *watch) ended(name string, now time.Time) *catalog.Minute {
	this := now.Truncate(time.Minute)
	if w.minute.IsZero() {
		w.minute = this
	}
	if this.Equal(w.minute) {
		return nil
	}
	from := w.minute
	w.minute = this
	var in []Point
	for _, p := range w.points {
		if p.At.After(from) && !p.At.After(this) {
			in = append(in, p)
		}
	}
	if len(in) == 0 {
		return nil
	}
	b, _ := json.Marshal(rolled(in, this)) // numbers and a time
	return &catalog.Minute{Job: name, At: this.UTC(), Point: string(b)}
}

// rolled makes one point of several: rates are averaged, and of what stands the last or the most counts.
func rolled(in []Point, at time.Time) Point {
	x := in[len(in)-1]
	x.At, x.In, x.Out, x.Late, x.Rejected = at.UTC(), 0, 0, 0, 0
	for _, p := range in {
		n := float64(len(in))
		x.In, x.Out, x.Late, x.Rejected = x.In+p.In/n, x.Out+p.Out/n, x.Late+p.Late/n, x.Rejected+p.Rejected/n
		x.Lag, x.Queues, x.Checkpoint = max(x.Lag, p.Lag), max(x.Queues, p.Queues), max(x.Checkpoint, p.Checkpoint)
	}
	return x
}

// History gives what a job did: over the last minutes finely, or over a longer time by the minute or more.
func (s *Jobs) History(name string, span time.Duration) (*History, error) {
	j, err := s.Named(name)
	if err != nil {
		return nil, err
	}
	out := &History{Job: name, Step: int(pointEvery / time.Second), Points: []Point{}}
	since := time.Now().Add(-span)
	if span <= finePoints*pointEvery {
		j.watching.Lock()
		defer j.watching.Unlock()
		for _, p := range j.watched.points {
			if p.At.After(since) {
				out.Points = append(out.Points, p)
			}
		}
		return out, nil
	}
	rows, err := s.Store.Minutes(name, since)
	if err != nil {
		return nil, err
	}
	var all []Point
	for _, r := range rows {
		var p Point
		if err := json.Unmarshal([]byte(r.Point), &p); err == nil {
			all = append(all, p)
		}
	}
	// Not more points than a picture has room for.
	each := max(1, int(span/time.Minute)/500)
	out.Step = 60 * each
	for i := 0; i < len(all); i += each {
		part := all[i:min(i+each, len(all))]
		out.Points = append(out.Points, rolled(part, part[len(part)-1].At))
	}
	return out, nil
}

// ReasonTotal is how many rows of a step were late, or rejected for a kind of reason.
type ReasonTotal struct {
	Kind  string `json:"kind" enum:"late,rejected"`
	Step  string `json:"step"`
	Class string `json:"class" doc:"the reason without values; of late rows one a step"`
	Rows  int64  `json:"rows"`
}

// lateClass is what late rows of a step are counted under.
const lateClass = "late"

// Aside is late or rejected rows of a job.
type Aside struct {
	Rows    []catalog.SetAside `json:"items" doc:"the newest first; of each kind the newest 2000 are kept, of rows that come fast a sample"`
	Next    string             `json:"next,omitempty" doc:"pass it as before for more"`
	Reasons []ReasonTotal      `json:"reasons" doc:"all rows, counted by step and reason"`
}

// SetAside gives late or rejected rows of a job, and how many there are by reason.
func (s *Jobs) SetAside(l catalog.Looking) (*Aside, error) {
	j, err := s.Named(l.Job)
	if err != nil {
		return nil, err
	}
	l.Limit = min(max(l.Limit, 1), 1000)
	l.Limit++
	rows, err := s.Store.SetAsides(l)
	if err != nil {
		return nil, err
	}
	out := &Aside{Rows: rows, Reasons: []ReasonTotal{}}
	if out.Rows == nil {
		out.Rows = []catalog.SetAside{}
	}
	if len(rows) == l.Limit {
		out.Rows = rows[:l.Limit-1]
		out.Next = fmt.Sprint(out.Rows[l.Limit-2].ID)
	}
	st, _, _ := j.Status()
	if l.Kind != "rejected" {
		for _, x := range st.Steps {
			if x.Counts.Late > 0 {
				out.Reasons = append(out.Reasons, ReasonTotal{"late", x.Step, lateClass, x.Counts.Late})
			}
		}
	}
	if l.Kind != "late" {
		counts, err := s.Store.Reasons(l.Job)
		if err != nil {
			return nil, err
		}
		for _, c := range counts {
			out.Reasons = append(out.Reasons, ReasonTotal{"rejected", c.Step, c.Class, c.Count})
		}
	}
	return out, nil
}

// SentAgain is a row set aside whose mended message was written.
type SentAgain struct {
	catalog.SetAside
	Readers []string `json:"readers" doc:"the other jobs that read the topic, and get the message, too"`
}

// SendAgain writes a mended message to the topic where a rejected row came from. It has to be a row of the job's stream, and
// one that was sent before is sent once more only where that is said.
func (s *Jobs) SendAgain(ctx context.Context, actor, jobName string, id uint, value string, once bool) (*SentAgain, error) {
	row, err := s.Store.SetAsideOf(id)
	if err != nil {
		return nil, err
	}
	if row == nil || row.Job != jobName {
		return nil, base.Errorf(base.ErrNotFound, "the job %q has set no row %d aside; the newest %d of each kind are kept", jobName, id, mostAside)
	}
	if row.Topic == "" {
		return nil, base.Errorf(base.ErrRefused, "the row came from %s, not from a topic: it cannot be sent again", cmp.Or(row.Origin, "a step"))
	}
	t, err := s.topics.Named(row.Topic)
	if err != nil {
		return nil, err
	}
	if c := access.From(ctx); !c.May(access.Write, sql.KindTopic, row.Topic) { // that the job may read it says nothing
		return nil, base.Errorf(base.ErrDenied, "the row came from the topic '%s', and %s", row.Topic, c.Missing(access.Write, access.SpaceOf(row.Topic)))
	}
	if row.SentAt != nil && once {
		return nil, base.Errorf(base.ErrConflict, "the row %d was sent again at %s by %s; say that it is to be sent once more (--once-more)", id, row.SentAt.Format(time.RFC3339), row.SentBy)
	}
	out := &SentAgain{Readers: []string{}}
	for _, j := range s.All() {
		p, err := s.PlanOf(j.Text())
		if err != nil || !access.From(ctx).May(access.Look, sql.KindJob, j.Name) {
			continue
		}
		i := slices.IndexFunc(p.Scans(), func(o *plan.Op) bool { return o.Stream.OwnTopics && o.Stream.Address == row.Topic })
		switch {
		case i < 0:
		case j.Name != jobName:
			out.Readers = append(out.Readers, j.Name)
		default:
			o := p.Scans()[i]
			reading, err := s.Env().ReadingOf(o.Stream, o.OfTable, &plan.Use{All: true})
			if err != nil {
				return nil, err
			}
			if bad, reason, err := recorded.BadRows(reading, []recorded.Message{{Value: []byte(value), At: time.Now().UnixMicro()}}); err != nil || bad > 0 {
				return nil, base.Errorf(base.ErrRefused, "the message is no row of %s: %s", o.Stream.Name, cmp.Or(reason, fmt.Sprint(err)))
			}
		}
	}
	slices.Sort(out.Readers)
	rec := topiclog.Record{Value: []byte(value)}
	if ms, err := s.topics.Recorded(row.Topic, topics.Reading{Partition: row.Partition, From: row.Offset, Limit: 1}); err == nil && len(ms) == 1 {
		rec.Key = ms[0].Key // it goes where the first one went
	}
	if err := t.Append([]topiclog.Record{rec}); err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	if err := s.Store.Sent(id, now, actor); err != nil {
		return nil, err
	}
	s.Note(actor, "sent again", jobName, fmt.Sprintf("a row that was %s at %s", row.Kind, row.Origin))
	row.SentAt, row.SentBy = &now, actor
	out.SetAside = *row
	return out, nil
}
