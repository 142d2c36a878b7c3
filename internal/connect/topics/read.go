package topics

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"time"

	"fiume/internal/connect/recorded"
	"fiume/internal/topiclog"
)

// ErrNotThere says that a topic has no such partition or offset.
var ErrNotThere = errors.New("not there")

type notThereError struct{ text string }

func (e *notThereError) Error() string        { return e.text }
func (e *notThereError) Is(target error) bool { return target == ErrNotThere }

func notThere(text string, args ...any) error { return &notThereError{fmt.Sprintf(text, args...)} }

// Reading says which messages of a topic to read.
type Reading struct {
	Partition int       // -1: all
	From      int64     // an offset, for one partition; -1: the beginning
	Since     time.Time // zero: not by time
	Last      int       // the last so many of each partition; 0: not so
	Limit     int       // in all
	Bytes     int       // in all, but for the message that goes beyond them; 0: mostAnswered
	Key       string    // only those with this key, unless empty
	Text      string    // only those whose value has this text, unless empty
}

// MostScanned is how many messages of a partition are looked at to find those with a key or a text.
const MostScanned = 2_000_000

// MostBytes is how many bytes of messages a sample may have.
const MostBytes = 12 << 20

// Read reads messages as they lie in a topic, partition by partition. An offset or a partition that is not there is ErrNotThere.
func Read(t *topiclog.Topic, r Reading) ([]recorded.Message, error) {
	left := cmp.Or(r.Bytes, MostBytes)
	if r.Partition >= len(t.Partitions()) {
		return nil, notThere("the topic '%s' has partitions 0 to %d", t.Name, len(t.Partitions())-1)
	}
	out := []recorded.Message{}
	for i, p := range t.Partitions() {
		if r.Partition >= 0 && i != r.Partition {
			continue
		}
		first, next := p.First(), p.Next()
		from := first
		switch {
		case r.From >= 0 && r.Partition >= 0:
			if r.From < first || r.From > next {
				return nil, notThere("partition %d of '%s' holds the offsets %d to %d", i, t.Name, first, next)
			}
			from = r.From
		case !r.Since.IsZero():
			var err error
			if from, err = p.OffsetAt(r.Since.UnixMicro()); err != nil {
				return nil, err
			}
		case r.Last > 0 && r.Key == "" && r.Text == "":
			from = max(first, next-int64(r.Last))
		}
		sought := r.Key != "" || r.Text != ""
		if sought {
			from = max(from, next-MostScanned)
		}
		var part []recorded.Message
		room := r.Limit - len(out)
		err := Each(p, from, next, func(v topiclog.View, b []byte) bool {
			if r.Key != "" && string(b[v.KeyFrom:v.KeyTo]) != r.Key || r.Text != "" && !bytes.Contains(b[v.From:v.To], []byte(r.Text)) {
				return true
			}
			part = append(part, Recorded(i, v, b))
			if left -= v.To - v.From + v.KeyTo - v.KeyFrom; left <= 0 {
				return false
			}
			if sought && r.Last > 0 {
				if len(part) >= 2*r.Last {
					part = append(part[:0], part[len(part)-r.Last:]...)
				}
				return true
			}
			return len(part) < room
		})
		if err != nil {
			return nil, err
		}
		if sought && r.Last > 0 {
			part = part[max(0, len(part)-r.Last):]
		}
		out = append(out, part[:min(len(part), max(room, 0))]...)
	}
	return out, nil
}

// Recorded copies a message.
func Recorded(partition int, v topiclog.View, b []byte) recorded.Message {
	m := recorded.Message{Partition: partition, Offset: v.Offset, At: v.At, Value: bytes.Clone(b[v.From:v.To])}
	if v.HasKey {
		m.Key = append([]byte{}, b[v.KeyFrom:v.KeyTo]...)
	}
	if v.HeadTo > v.HeadFrom+1 { // more than that there are none
		m.Headers = bytes.Clone(b[v.HeadFrom:v.HeadTo])
	}
	return m
}

// Each reads the messages of a partition in [from, to) until each says false.
func Each(p *topiclog.Partition, from, to int64, each func(v topiclog.View, b []byte) bool) error {
	var buf []byte
	for going := true; going && from < to; {
		b, next, err := p.Read(from, buf, 256<<10)
		if err != nil {
			return err
		}
		if err := topiclog.Views(b, from, func(v topiclog.View) {
			if going && v.Offset < to {
				going = each(v, b)
			}
		}); err != nil {
			return err
		}
		if next == from {
			break
		}
		from, buf = next, b
	}
	return nil
}
