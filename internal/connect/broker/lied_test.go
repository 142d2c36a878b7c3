package broker_test

import (
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/trial/kit"

	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// TestLied: transactions that are said to be complete, and were given up, are written again: no row is missing, and none is there twice.
func TestLied(t *testing.T) {
	c, cl := brokers(t, 2, "reads", "odd", "counts")
	var lied atomic.Int64
	var mu sync.Mutex
	ended := map[string]int{} // by writer: of its first tries every other one is the truth, whoever else writes
	c.ControlKey(int16(kmsg.EndTxn), func(r kmsg.Request) (kmsg.Response, error, bool) {
		c.KeepControl()
		if end := r.(*kmsg.EndTxnRequest); end.Commit {
			mu.Lock()
			ended[end.TransactionalID]++
			end.Commit = ended[end.TransactionalID]%2 == 0 || ended[end.TransactionalID] > 6
			mu.Unlock()
			if !end.Commit {
				lied.Add(1)
			}
		}
		return nil, nil, false
	})
	job := kit.New(t, endpoint(c)+jobText, contract.Env{})
	job.Start(t)
	const total = 1000
	var want []string
	for n := range total {
		send(t, cl, &kgo.Record{Topic: "reads", Partition: int32(n % 2), Value: []byte(read(n)), Timestamp: time.UnixMilli(base + int64(n)*20)})
		if n%2 == 1 {
			want = append(want, fmt.Sprintf(`{"chip":"P%d","n":%d}`, n%50, n))
		}
	}
	values := func() (got []string) {
		for _, m := range committed(t, c, "odd") {
			got = append(got, string(m.Value))
		}
		slices.Sort(got)
		return got
	}
	slices.Sort(want)
	job.Until(t, "all rows are there", func() bool { return len(values()) >= len(want) })
	job.Settled(t)
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	if got := values(); !slices.Equal(got, want) {
		t.Errorf("odd: %s", difference(got, want))
	}
	if lied.Load() < 3 {
		t.Errorf("only %d transactions were lied about", lied.Load())
	}
}
