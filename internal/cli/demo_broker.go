package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"fiume/demo"
	"fiume/internal/topiclog"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
)

// The demo over external brokers: what writes the day is an ordinary client of theirs.

// reachBrokers makes the topics that are not there, and gives the statements of the race.
func (d *demoRun) reachBrokers(ctx context.Context) (string, error) {
	text, topics := demo.RaceOver(d.outside)
	c, err := kgo.NewClient(kgo.SeedBrokers(strings.Split(d.outside, ",")...), kgo.RecordPartitioner(kgo.ManualPartitioner()))
	if err != nil {
		return "", fail(exitUsage, "--broker %s: %s", d.outside, err)
	}
	d.brokers = c
	within, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if err := c.Ping(within); err != nil {
		return "", fail(exitFailed, "no broker answers at %s: %s", d.outside, err)
	}
	for name, n := range topics {
		_, err := kadm.NewClient(c).CreateTopic(within, n, -1, nil, name)
		if err != nil && !errors.Is(err, kerr.TopicAlreadyExists) {
			return "", fail(exitFailed, "the topic %s cannot be made at %s: %s", name, d.outside, err)
		}
	}
	for { // a topic that was made is not everywhere at once
		found, err := kadm.NewClient(c).ListTopics(within)
		if err != nil {
			return "", fail(exitFailed, "the topics at %s: %s", d.outside, err)
		}
		missing := ""
		for name := range topics {
			if t := found[name]; t.Err != nil || len(t.Partitions) == 0 {
				missing = name
			}
		}
		if missing == "" {
			return text, nil
		}
		select {
		case <-within.Done():
			return "", fail(exitFailed, "the topic %s does not come at %s", missing, d.outside)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (d *demoRun) writtenOutside(ctx context.Context) (written, error) {
	out := written{}
	for _, t := range demo.Topics {
		out[t.Name] = make([]int64, t.Partitions)
		ends, err := kadm.NewClient(d.brokers).ListEndOffsets(ctx, t.Name)
		if err != nil {
			return nil, err
		}
		for p, o := range ends[t.Name] {
			if int(p) < t.Partitions {
				out[t.Name][p] = o.Offset
			}
		}
	}
	return out, nil
}

// writeOutside writes messages; those of a key go where they would in a built-in topic.
func (d *demoRun) writeOutside(ctx context.Context, ms []demo.Message) error {
	partitions := map[string]int{}
	for _, t := range demo.Topics {
		partitions[t.Name] = t.Partitions
	}
	for len(ms) > 0 {
		n := min(len(ms), 20000)
		recs := make([]*kgo.Record, n)
		for i, m := range ms[:n] {
			recs[i] = &kgo.Record{Topic: m.Topic, Value: m.Value}
			if m.Key != "" {
				recs[i].Key = []byte(m.Key)
				recs[i].Partition = int32(topiclog.KeyPartition(recs[i].Key, partitions[m.Topic]))
			}
			if len(m.Value) == 0 { // the row of the key is gone
				recs[i].Value = nil
			}
		}
		if err := d.brokers.ProduceSync(ctx, recs...).FirstErr(); err != nil {
			return fmt.Errorf("the brokers at %s: %w", d.outside, err)
		}
		ms = ms[n:]
	}
	return nil
}
