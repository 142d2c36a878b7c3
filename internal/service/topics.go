package service

import (
	"errors"
	"fmt"
	"time"

	"fiume/internal/core/sql"
	"fiume/internal/topiclog"
)

// TopicInfo is about a topic.
type TopicInfo struct {
	Name       string          `json:"name"`
	Partitions []PartitionInfo `json:"partitions"`
	Messages   int64           `json:"messages"`
	Bytes      int64           `json:"bytes"`
	Retain     string          `json:"retain,omitempty" doc:"how long messages are kept; for ever where left out"`
}

// PartitionInfo is about a partition.
type PartitionInfo struct {
	Partition int   `json:"partition"`
	First     int64 `json:"first" doc:"offset of the oldest message"`
	Next      int64 `json:"next" doc:"offset the next message gets"`
	Bytes     int64 `json:"bytes"`
}

// Message is a message of a topic.
type Message struct {
	Partition int       `json:"partition"`
	Offset    int64     `json:"offset"`
	At        time.Time `json:"at" doc:"when it arrived"`
	Key       *string   `json:"key"`
	Value     string    `json:"value"`
}

func topicInfo(t *topiclog.Topic) TopicInfo {
	out := TopicInfo{Name: t.Name}
	if t.Settings.RetainFor > 0 {
		out.Retain = sql.DurationText(t.Settings.RetainFor)
	}
	for i, p := range t.Partitions() {
		x := PartitionInfo{Partition: i, First: p.First(), Next: p.Next(), Bytes: p.Bytes()}
		out.Partitions = append(out.Partitions, x)
		out.Messages += x.Next - x.First
		out.Bytes += x.Bytes
	}
	return out
}

// Topics gives all topics in the order of their names.
func (s *Service) Topics() []TopicInfo {
	out := []TopicInfo{}
	for _, t := range s.topics.Topics() {
		out = append(out, topicInfo(t))
	}
	return out
}

func (s *Service) topicNamed(name string) (*topiclog.Topic, error) {
	if t := s.topics.Topic(name); t != nil {
		return t, nil
	}
	var names []string
	for _, t := range s.topics.Topics() {
		names = append(names, t.Name)
	}
	hint := ""
	if x := sql.Suggest(name, names); x != "" {
		hint = fmt.Sprintf("; did you mean '%s'?", x)
	}
	return nil, errorf(ErrNotFound, "there is no topic '%s'%s", name, hint)
}

// Topic gives one topic.
func (s *Service) Topic(name string) (TopicInfo, error) {
	t, err := s.topicNamed(name)
	if err != nil {
		return TopicInfo{}, err
	}
	return topicInfo(t), nil
}

// CreateTopic makes a topic.
func (s *Service) CreateTopic(actor, name string, set topiclog.Settings) error {
	_, err := s.topics.Create(name, set)
	switch {
	case errors.Is(err, topiclog.ErrExists):
		return errorf(ErrConflict, "there is already a topic '%s'", name)
	case errors.Is(err, topiclog.ErrName):
		return errorf(ErrRefused, "'%s': %s", name, err)
	case err != nil:
		return err
	}
	s.note(actor, "created", "topic "+name, fmt.Sprintf("%d partitions", set.Partitions))
	return nil
}

// DropTopic deletes a topic and its data, unless a job uses it.
func (s *Service) DropTopic(actor, name string) error {
	if _, err := s.topicNamed(name); err != nil {
		return err
	}
	if users := s.usersOf(nil, sql.KindTopic, name, nil); len(users) > 0 {
		return errorf(ErrConflict, "the topic '%s' is used by %s", name, users[0])
	}
	if err := s.topics.Drop(name); err != nil {
		return err
	}
	s.note(actor, "dropped", "topic "+name, "")
	return nil
}

// WriteMessages appends messages to a topic; it returns when they are on the disk.
func (s *Service) WriteMessages(name string, recs []topiclog.Record) error {
	t, err := s.topicNamed(name)
	if err != nil {
		return err
	}
	return t.Append(recs)
}

// Reading says which messages of a topic to read.
type Reading struct {
	Partition int       // -1: all
	From      int64     // an offset, for one partition; -1: the beginning
	Since     time.Time // zero: not by time
	Last      int       // the last so many of each partition; 0: not so
	Limit     int       // in all
}

// ReadMessages reads messages, partition by partition.
func (s *Service) ReadMessages(name string, r Reading) ([]Message, error) {
	t, err := s.topicNamed(name)
	if err != nil {
		return nil, err
	}
	if r.Partition >= len(t.Partitions()) {
		return nil, errorf(ErrNotFound, "the topic '%s' has partitions 0 to %d", name, len(t.Partitions())-1)
	}
	out := []Message{}
	for i, p := range t.Partitions() {
		if r.Partition >= 0 && i != r.Partition {
			continue
		}
		first, next := p.First(), p.Next()
		from := first
		switch {
		case r.From >= 0 && r.Partition >= 0:
			if r.From < first || r.From > next {
				return nil, errorf(ErrNotFound, "partition %d of '%s' holds the offsets %d to %d", i, name, first, next)
			}
			from = r.From
		case !r.Since.IsZero():
			if from, err = p.OffsetAt(r.Since.UnixMicro()); err != nil {
				return nil, err
			}
		case r.Last > 0:
			from = max(first, next-int64(r.Last))
		}
		var buf []byte
		for from < next && len(out) < r.Limit {
			b, to, err := p.Read(from, buf, 256<<10)
			if err != nil {
				return nil, err
			}
			if err := topiclog.Views(b, from, func(v topiclog.View) {
				if len(out) >= r.Limit {
					return
				}
				m := Message{Partition: i, Offset: v.Offset, At: time.UnixMicro(v.At).UTC(), Value: string(b[v.From:v.To])}
				if v.KeyTo > 0 {
					k := string(b[v.KeyFrom:v.KeyTo])
					m.Key = &k
				}
				out = append(out, m)
			}); err != nil {
				return nil, err
			}
			if to == from {
				break
			}
			from, buf = to, b
		}
	}
	return out, nil
}
