package topics_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/service/base"
	"fiume/internal/service/servicetest"
	"fiume/internal/service/topics"
	"fiume/internal/topiclog"
)

// TestTopics makes, measures and reads a topic.
func TestTopics(t *testing.T) {
	p := servicetest.New(t)
	if list := p.Topics.List(); list == nil || len(list) != 0 {
		t.Errorf("%+v", list)
	}
	if err := p.Topics.Create("ada", "reads", topiclog.Settings{Partitions: 3, RetainFor: 3_600_000_000}); err != nil {
		t.Fatal(err)
	}
	if err := p.Topics.Create("ada", "reads", topiclog.Settings{Partitions: 1}); !errors.Is(err, base.ErrConflict) {
		t.Error(err)
	}
	for _, name := range []string{"", "../x", "a/b", strings.Repeat("x", 300), "."} {
		if err := p.Topics.Create("ada", name, topiclog.Settings{Partitions: 1}); !errors.Is(err, base.ErrRefused) {
			t.Errorf("%q: %v", name, err)
		}
	}
	_, err := p.Topics.Get("read")
	p.Says(err, "there is no topic 'read'; did you mean 'reads'?")
	_, err = p.Topics.Write("read", "", nil)
	p.Says(err, "did you mean 'reads'?")
	for i := range 30 {
		p.Write("reads", fmt.Sprintf("k%d\t{\"n\":%d}", i%7, i))
	}
	p.Write("reads", "\xff\xfe")
	x, err := p.Topics.Get("reads")
	if err != nil || x.Messages != 31 || len(x.Partitions) != 3 || x.Retain != "1 HOUR" || x.FirstAt == nil || x.LastAt.Before(*x.FirstAt) || len(x.ReadBy) != 0 {
		t.Errorf("%+v %v", x, err)
	}
	p.Apply(`DECLARE STREAM s (n BIGINT) FROM TOPIC 'reads'; DECLARE SINK k TO TOPIC 'reads'; DECLARE TABLE tab (n BIGINT PRIMARY KEY) FROM TOPIC 'reads';`)
	if x, _ := p.Topics.Get("reads"); !slices.Equal(x.ReadBy, []string{"s", "tab"}) || !slices.Equal(x.WrittenBy, []string{"k"}) {
		t.Errorf("%+v", x)
	}
}

// TestReading compares what is read with what was written, for all ways to say what to read.
func TestReading(t *testing.T) {
	p := servicetest.New(t)
	if err := p.Topics.Create("ada", "t", topiclog.Settings{Partitions: 2}); err != nil {
		t.Fatal(err)
	}
	type message struct {
		partition int
		key, text string
	}
	var all []message
	for i := range 200 {
		key := fmt.Sprint("k", i%5)
		p.Write("t", fmt.Sprintf("%s\tn=%d.", key, i))
		all = append(all, message{0, key, fmt.Sprintf("n=%d.", i)})
	}
	everything, _, err := p.Topics.Read("t", topics.Reading{Partition: -1, From: -1, Limit: 1000})
	if err != nil || len(everything) != 200 {
		t.Fatal(len(everything), err)
	}
	of := map[string]int{}
	next := [2]int64{}
	for _, m := range everything {
		of[*m.Key] = m.Partition
		if m.Offset != next[m.Partition] {
			t.Errorf("%+v behind offset %d", m, next[m.Partition])
		}
		next[m.Partition]++
	}
	for i := range all {
		all[i].partition = of[all[i].key]
	}
	for _, r := range []topics.Reading{
		{Partition: -1, From: -1, Limit: 1000}, {Partition: 0, From: -1, Limit: 1000}, {Partition: 1, From: 10, Limit: 20}, {Partition: 0, From: -1, Last: 7, Limit: 100},
		{Partition: -1, From: -1, Last: 3, Limit: 100}, {Partition: -1, From: -1, Key: "k3", Limit: 1000}, {Partition: -1, From: -1, Key: "k3", Last: 4, Limit: 1000},
		{Partition: -1, From: -1, Text: "n=1", Limit: 1000}, {Partition: 1, From: -1, Text: "9.", Key: "k4", Limit: 1000}, {Partition: -1, From: -1, Key: "nobody", Limit: 10}, {Partition: -1, From: -1, Limit: 5},
	} {
		var want []string
		for part := range 2 {
			if r.Partition >= 0 && part != r.Partition {
				continue
			}
			var of []string
			n := int64(0)
			for _, m := range all {
				if m.partition != part {
					continue
				}
				if (r.Key == "" || m.key == r.Key) && strings.Contains(m.text, r.Text) && (r.From < 0 || n >= r.From) {
					of = append(of, m.text)
				}
				n++
			}
			if r.Last > 0 {
				of = of[max(0, len(of)-r.Last):]
			}
			want = append(want, of...)
		}
		want = want[:min(len(want), r.Limit)]
		got, cut, err := p.Topics.Read("t", r)
		if err != nil || cut {
			t.Error(err, cut)
		}
		var texts []string
		for _, m := range got {
			texts = append(texts, m.Value)
		}
		if !slices.Equal(texts, want) {
			t.Errorf("%+v\ngot  %q\nwant %q", r, texts, want)
		}
	}
	_, _, err = p.Topics.Read("t", topics.Reading{Partition: 2, From: -1, Limit: 1})
	p.Says(err, "has partitions 0 to 1")
	_, _, err = p.Topics.Read("t", topics.Reading{Partition: 0, From: 1000, Limit: 1})
	p.Says(err, "holds the offsets 0 to")
	future, _, err := p.Topics.Read("t", topics.Reading{Partition: -1, From: -1, Since: time.Now().Add(time.Hour), Limit: 10})
	if err != nil || len(future) != 0 {
		t.Error(future, err)
	}
	if got, _, err := p.Topics.Read("t", topics.Reading{Partition: -1, From: -1, Since: everything[0].At.Add(-time.Hour), Limit: 1000}); err != nil || len(got) != 200 {
		t.Error(len(got), err)
	}
	// A page ends where it has enough bytes.
	p.Write("t", "big\t"+strings.Repeat("x", 9<<20), "big\tlast")
	got, cut, err := p.Topics.Read("t", topics.Reading{Partition: -1, From: -1, Key: "big", Limit: 10})
	if err != nil || !cut || len(got) != 1 {
		t.Error(len(got), cut, err)
	}
}

// TestBatches: messages of a batch that has a name are there once.
func TestBatches(t *testing.T) {
	p := servicetest.New(t)
	if err := p.Topics.Create("ada", "t", topiclog.Settings{Partitions: 2}); err != nil {
		t.Fatal(err)
	}
	recs := []topiclog.Record{{Key: []byte("a"), Value: []byte("1")}, {Key: []byte("b"), Value: []byte("2")}}
	for i := range 3 {
		if again, err := p.Topics.Write("t", "batch-1", recs); err != nil || again != (i > 0) {
			t.Error(again, err)
		}
	}
	if got := p.Values("t"); !slices.Equal(got, []string{"1", "2"}) {
		t.Errorf("%q", got)
	}
	q := p.Restart()
	if again, err := q.Topics.Write("t", "batch-1", recs); err != nil || !again {
		t.Error("a new process writes a batch again", again, err)
	}
}

// TestFollow sees what comes, of one key or with a text, and how much it leaves out; it ends with its caller.
func TestFollow(t *testing.T) {
	p := servicetest.New(t)
	if err := p.Topics.Create("ada", "t", topiclog.Settings{Partitions: 2}); err != nil {
		t.Fatal(err)
	}
	p.Write("t", "old\tbefore")
	ctx, cancel := context.WithCancel(t.Context())
	got, ended, began := make(chan string, 1000), make(chan error), make(chan bool, 100)
	go func() {
		ended <- p.Topics.Follow(ctx, "t", topics.Reading{Partition: -1, Key: "k"}, func(ms []topics.Message, left int64) error {
			began <- true
			for _, m := range ms {
				got <- m.Value
			}
			return nil
		})
	}()
	<-began // from now on nothing is missed
	p.Write("t", "k\tfirst", "other\tx")
	p.Write("t", "k\tlast")
	var seen []string
	p.Wait("the last message", func() bool {
		for {
			select {
			case v := <-got:
				seen = append(seen, v)
				if v == "last" {
					return true
				}
			default:
				return false
			}
		}
	})
	cancel()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	if !slices.Equal(seen, []string{"first", "last"}) {
		t.Errorf("%q", seen)
	}
	p.Says(p.Topics.Follow(t.Context(), "nothing", topics.Reading{Partition: -1}, nil), "there is no topic 'nothing'")
}
