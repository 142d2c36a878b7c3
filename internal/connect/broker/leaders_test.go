package broker_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/trial/kit"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"
)

// TestLeaders: partitions go from broker to broker while they are read, and brokers come that were not there; each row is read once. Then the topic is deleted
// and made anew, with as many messages: that is said, and none of them is taken for those that were there.
func TestLeaders(t *testing.T) {
	t.Parallel()
	c, cl := brokers(t, 3, "reads", "odd")
	job := kit.New(t, endpoint(c)+"DECLARE STREAM s (n BIGINT) FROM BROKER 'reads' VIA b; DECLARE SINK odd TO BROKER 'odd' VIA b; CREATE JOB j AS SELECT n FROM s ROUTE TO odd;", contract.Env{})
	job.Start(t)
	read := func() (n int64) {
		if st, ok := job.Status(); ok {
			for _, sp := range st.Splits {
				n += sp.Next
			}
		}
		return n
	}
	var want []string
	homes := []int32{0, 1}
	for i := range 120 {
		send(t, cl, &kgo.Record{Topic: "reads", Partition: int32(i % 3), Value: fmt.Appendf(nil, `{"n":%d}`, i)})
		want = append(want, fmt.Sprintf(`{"n":%d}`, i))
		if i == 60 {
			id, _, err := c.AddNode(-1, 0)
			if err != nil {
				t.Fatal(err)
			}
			homes = append(homes, id)
		}
		if i%10 == 0 {
			if err := c.MoveTopicPartition("reads", int32(i/10%3), homes[i/10%len(homes)]); err != nil {
				t.Fatal(err)
			}
		}
		if i%30 == 29 {
			job.Until(t, "what is there is read", func() bool { return read() == int64(i+1) })
		}
	}
	job.Until(t, "all is written", func() bool { return len(committed(t, c, "odd")) == len(want) })
	if _, err := kadm.NewClient(cl).DeleteTopics(t.Context(), "reads"); err != nil {
		t.Fatal(err)
	}
	if _, err := kadm.NewClient(cl).CreateTopics(t.Context(), 3, 1, nil, "reads"); err != nil {
		t.Fatal(err)
	}
	other, err := kgo.NewClient(kgo.SeedBrokers(c.ListenAddrs()...), kgo.RecordPartitioner(kgo.ManualPartitioner()))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	for i := range 300 {
		send(t, other, &kgo.Record{Topic: "reads", Partition: int32(i % 3), Value: []byte(`{"n":-1}`)})
	}
	ended := false
	for deadline := time.Now().Add(kit.Patience); !ended && time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		err, ended = job.Ended()
	}
	if err == nil || !strings.Contains(err.Error(), "the topic 'reads' was deleted and made anew while it was read") {
		t.Errorf("it says: %v", err)
	}
	var got []string
	for _, m := range committed(t, c, "odd") {
		got = append(got, string(m.Value))
	}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Error(difference(got, want))
	}
}
