package kit

import (
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"
)

// Committed gives the messages of a broker's topic up to its first open transaction, however slowly they come: those of transactions that were committed, and those of none.
func Committed(t testing.TB, brokers []string, topic string) (out []*kgo.Record) {
	t.Helper()
	cl, err := kgo.NewClient(kgo.SeedBrokers(brokers...), kgo.ConsumeTopics(topic), kgo.FetchIsolationLevel(kgo.ReadCommitted()), kgo.KeepControlRecords(), kgo.FetchMaxWait(50*time.Millisecond))
	if err != nil {
		t.Fatal(err)
	}
	defer cl.Close()
	ends, err := kadm.NewClient(cl).ListCommittedOffsets(t.Context(), topic)
	if err == nil {
		err = ends.Error()
	}
	if err != nil {
		t.Fatal(err)
	}
	left := map[int32]int64{}
	ends.Each(func(o kadm.ListedOffset) {
		if o.Offset > 0 {
			left[o.Partition] = o.Offset
		}
	})
	for len(left) > 0 {
		got := cl.PollFetches(t.Context())
		if err := got.Err(); err != nil {
			t.Fatalf("the topic %s: %v; %v are left", topic, err, left)
		}
		got.EachRecord(func(r *kgo.Record) {
			if !r.Attrs.IsControl() {
				out = append(out, r)
			}
			if r.Offset+1 >= left[r.Partition] {
				delete(left, r.Partition)
			}
		})
	}
	return out
}
