// Package topics looks after the built-in topics: makes, measures, writes, reads and follows them.
package topics

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"fiume/internal/connect/recorded"
	intopics "fiume/internal/connect/topics"
	"fiume/internal/core/sql"
	"fiume/internal/format"
	"fiume/internal/service/base"
	"fiume/internal/topiclog"
)

// Topics are the topics of a service.
type Topics struct {
	*base.Base
	mu    sync.Mutex
	rates map[string]topicRate
}

// New gives the topics of a service.
func New(b *base.Base) *Topics { return &Topics{Base: b, rates: map[string]topicRate{}} }

// TopicInfo is about a topic.
type TopicInfo struct {
	Name       string          `json:"name"`
	Partitions []PartitionInfo `json:"partitions"`
	Messages   int64           `json:"messages"`
	Bytes      int64           `json:"bytes"`
	Retain     string          `json:"retain,omitempty" doc:"how long messages are kept; for ever where left out"`
	Compact    bool            `json:"compact,omitempty" doc:"of each key the newest message is kept"`
	FirstAt    *time.Time      `json:"first_at,omitempty" doc:"when the oldest message arrived"`
	LastAt     *time.Time      `json:"last_at,omitempty" doc:"when the newest message arrived"`
	Rate       float64         `json:"rate" doc:"messages a second, over the last seconds"`
	ReadBy     []string        `json:"read_by" doc:"streams and tables that are declared over it"`
	WrittenBy  []string        `json:"written_by" doc:"sinks that are declared over it"`
}

// PartitionInfo is about a partition.
type PartitionInfo struct {
	Partition int        `json:"partition"`
	First     int64      `json:"first" doc:"offset of the oldest message"`
	Next      int64      `json:"next" doc:"offset the next message gets"`
	Bytes     int64      `json:"bytes"`
	FirstAt   *time.Time `json:"first_at,omitempty"`
	LastAt    *time.Time `json:"last_at,omitempty"`
	Lost      []Lost     `json:"lost,omitempty" doc:"offsets whose messages are damaged, or gone"`
}

// Lost is a stretch of offsets whose messages are lost.
type Lost struct {
	From   int64     `json:"from" doc:"the first offset"`
	To     int64     `json:"to" doc:"the last offset"`
	Reason string    `json:"reason"`
	Found  time.Time `json:"found"`
}

// Message is a message of a topic.
type Message struct {
	Partition int               `json:"partition"`
	Offset    int64             `json:"offset"`
	At        time.Time         `json:"at" doc:"when it arrived"`
	Key       *string           `json:"key"`
	Headers   map[string]string `json:"headers,omitempty" doc:"by their names; what is no UTF-8 is left out"`
	Value     string            `json:"value" doc:"as text; what is no UTF-8 is left out"`
	Bytes     []byte            `json:"bytes,omitempty" doc:"in base64, where the value is no text"`
}

// MessageOf shows a message.
func MessageOf(m recorded.Message) Message {
	out := Message{Partition: m.Partition, Offset: m.Offset, At: time.UnixMicro(m.At).UTC()}
	out.Headers = format.Headers(m.Headers)
	if m.Key != nil {
		k := strings.ToValidUTF8(string(m.Key), "�")
		out.Key = &k
	}
	if utf8.Valid(m.Value) {
		out.Value = string(m.Value)
	} else {
		out.Value, out.Bytes = strings.ToValidUTF8(string(m.Value), "�"), m.Value
	}
	return out
}

// Info tells about a topic, and who reads and writes it.
func (s *Topics) Info(t *topiclog.Topic) TopicInfo {
	out := TopicInfo{Name: t.Name, Compact: t.Settings.Compact, ReadBy: []string{}, WrittenBy: []string{}}
	if t.Settings.RetainFor > 0 {
		out.Retain = sql.DurationText(t.Settings.RetainFor)
	}
	for i, p := range t.Partitions() {
		x := PartitionInfo{Partition: i, First: p.First(), Next: p.Next(), Bytes: p.Bytes()}
		for _, d := range p.Damaged() {
			x.Lost = append(x.Lost, Lost{d.From, d.To - 1, d.Reason, d.Found})
		}
		if x.Next > x.First {
			x.FirstAt, x.LastAt = arrival(p, x.First), arrival(p, x.Next-1)
			if out.FirstAt == nil || x.FirstAt != nil && x.FirstAt.Before(*out.FirstAt) {
				out.FirstAt = x.FirstAt
			}
			if out.LastAt == nil || x.LastAt != nil && x.LastAt.After(*out.LastAt) {
				out.LastAt = x.LastAt
			}
		}
		out.Partitions = append(out.Partitions, x)
		out.Messages += x.Next - x.First
		out.Bytes += x.Bytes
	}
	s.mu.Lock()
	out.Rate = s.rates[t.Name].rate
	s.mu.Unlock()
	cat := s.Current()
	for n, st := range cat.Streams {
		if st.OwnTopics && st.Address == t.Name {
			out.ReadBy = append(out.ReadBy, n)
		}
	}
	for n, tb := range cat.Tables {
		if tb.OwnTopics && tb.Address == t.Name {
			out.ReadBy = append(out.ReadBy, n)
		}
	}
	for n, k := range cat.Sinks {
		if k.OwnTopics && k.Address == t.Name {
			out.WrittenBy = append(out.WrittenBy, n)
		}
	}
	slices.Sort(out.ReadBy)
	slices.Sort(out.WrittenBy)
	return out
}

// arrival is when a message arrived, or nil where it cannot be read.
func arrival(p *topiclog.Partition, offset int64) (at *time.Time) {
	b, _, err := p.Read(offset, nil, 1)
	if err != nil {
		return nil
	}
	_ = topiclog.Views(b, offset, func(v topiclog.View) {
		if v.Offset == offset {
			t := time.UnixMicro(v.At).UTC()
			at = &t
		}
	})
	return at
}

// topicRate is how fast messages come to a topic.
type topicRate struct {
	at   time.Time
	next int64 // messages so far
	rate float64
}

// Measure measures how fast messages come until the context ends.
func (s *Topics) Measure(ctx context.Context) {
	t := time.NewTicker(measureEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-t.C:
			s.measure(now)
		}
	}
}

// measureEvery is how often it is measured how fast messages come.
const measureEvery = time.Second

// measure measures how fast messages came since the last time.
func (s *Topics) measure(now time.Time) {
	for _, t := range s.TopicLog.Topics() {
		next := int64(0)
		for _, p := range t.Partitions() {
			next += p.Next()
		}
		s.mu.Lock()
		before, ok := s.rates[t.Name]
		x := topicRate{now, next, 0}
		if d := now.Sub(before.at).Seconds(); ok && d > 0 {
			x.rate = (before.rate + float64(max(0, next-before.next))/d) / 2
			if x.rate < 0.01 {
				x.rate = 0
			}
		}
		s.rates[t.Name] = x
		s.mu.Unlock()
	}
}

// List gives all topics in the order of their names.
func (s *Topics) List() []TopicInfo {
	out := []TopicInfo{}
	for _, t := range s.TopicLog.Topics() {
		out = append(out, s.Info(t))
	}
	return out
}

// Named gives a topic; the error suggests another name.
func (s *Topics) Named(name string) (*topiclog.Topic, error) {
	if t := s.TopicLog.Topic(name); t != nil {
		return t, nil
	}
	var names []string
	for _, t := range s.TopicLog.Topics() {
		names = append(names, t.Name)
	}
	hint := ""
	if x := sql.Suggest(name, names); x != "" {
		hint = fmt.Sprintf("; did you mean '%s'?", x)
	}
	return nil, base.Errorf(base.ErrNotFound, "there is no topic '%s'%s", name, hint)
}

// Get gives one topic.
func (s *Topics) Get(name string) (TopicInfo, error) {
	t, err := s.Named(name)
	if err != nil {
		return TopicInfo{}, err
	}
	return s.Info(t), nil
}

// Create makes a topic.
func (s *Topics) Create(actor, name string, set topiclog.Settings) error {
	_, err := s.TopicLog.Create(name, set)
	switch {
	case errors.Is(err, topiclog.ErrExists):
		return base.Errorf(base.ErrConflict, "there is already a topic '%s'", name)
	case errors.Is(err, topiclog.ErrName):
		return base.Errorf(base.ErrRefused, "'%s': %s", name, err)
	case err != nil:
		return err
	}
	s.Note(actor, "created", "topic "+name, fmt.Sprintf("%d partitions", set.Partitions))
	return nil
}

// Grow gives a topic more partitions, and says whether it did not have as many.
func (s *Topics) Grow(actor, name string, partitions int) (bool, error) {
	if _, err := s.Named(name); err != nil {
		return false, err
	}
	changed, err := s.TopicLog.Grow(name, partitions)
	if errors.Is(err, topiclog.ErrFewer) {
		return false, base.Errorf(base.ErrRefused, "%s", err)
	}
	if changed {
		s.Note(actor, "altered", "topic "+name, fmt.Sprintf("%d partitions", partitions))
	}
	return changed, err
}

// Write appends messages to a topic; it returns when they are on the disk. Messages of a batch with a name are
// there once, however often they are sent; again says that they had been written before.
func (s *Topics) Write(name, batch string, recs []topiclog.Record) (again bool, err error) {
	t, err := s.Named(name)
	if err != nil {
		return false, err
	}
	if batch != "" {
		return t.AppendOnce(batch, recs)
	}
	return false, t.Append(recs)
}

// mostAnswered is how many bytes of messages are given at once.
const mostAnswered = 8 << 20

// Read reads messages, partition by partition. cut says that not all that were asked for fitted into the answer.
func (s *Topics) Read(name string, r Reading) (out []Message, cut bool, err error) {
	r.Bytes = mostAnswered
	all, err := s.Recorded(name, r)
	out = []Message{}
	size := 0
	for _, m := range all {
		out = append(out, MessageOf(m))
		size += len(m.Value) + len(m.Key)
	}
	return out, size >= r.Bytes, err
}

// Recorded reads messages as they lie in the topic.
func (s *Topics) Recorded(name string, r Reading) ([]recorded.Message, error) {
	t, err := s.Named(name)
	if err != nil {
		return nil, err
	}
	out, err := intopics.Read(t, r)
	if errors.Is(err, intopics.ErrNotThere) {
		err = base.Errorf(base.ErrNotFound, "%s", err)
	}
	return out, err
}

// Reading says which messages of a topic to read.
type Reading = intopics.Reading

// MostBytes is how many bytes of messages a sample may have.
const MostBytes = intopics.MostBytes

// followed is how many messages a look at a topic that is followed gives at most; of more it gives the newest.
const followed = 200

// Follow gives the messages of a topic as they come, until the context ends: some at a time, and how many were left out
// because they came too fast to be looked at. It calls each with none at first: from then on nothing is missed.
func (s *Topics) Follow(ctx context.Context, name string, r Reading, each func(ms []Message, left int64) error) error {
	t, err := s.Named(name)
	if err != nil {
		return err
	}
	wake := make(chan struct{}, 1)
	at := make([]int64, len(t.Partitions()))
	for i, p := range t.Partitions() {
		at[i] = p.Next()
		defer p.OnData(func() {
			select {
			case wake <- struct{}{}:
			default:
			}
		})()
	}
	if err := each(nil, 0); err != nil { // from now on none is missed
		return err
	}
	for {
		var out []Message
		left := int64(0)
		for i, p := range t.Partitions() {
			next := p.Next()
			if r.Partition >= 0 && r.Partition != i {
				continue
			}
			if r.Key == "" && r.Text == "" && next-at[i] > followed {
				left += next - followed - at[i]
				at[i] = next - followed
			}
			err := intopics.Each(p, at[i], next, func(v topiclog.View, b []byte) bool {
				if r.Key != "" && string(b[v.KeyFrom:v.KeyTo]) != r.Key || r.Text != "" && !bytes.Contains(b[v.From:v.To], []byte(r.Text)) {
					return true
				}
				out = append(out, MessageOf(intopics.Recorded(i, v, b)))
				return true
			})
			if err != nil {
				return err
			}
			at[i] = next
		}
		slices.SortFunc(out, func(a, b Message) int { return a.At.Compare(b.At) })
		if n := len(out) - followed; n > 0 {
			left, out = left+int64(n), out[n:]
		}
		if len(out) > 0 || left > 0 {
			if err := each(out, left); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(250 * time.Millisecond): // a look now and then is enough for eyes
		}
		select {
		case <-ctx.Done():
			return nil
		case <-wake:
		case <-time.After(15 * time.Second):
			if err := each(nil, 0); err != nil { // somebody still looks
				return err
			}
		}
	}
}
