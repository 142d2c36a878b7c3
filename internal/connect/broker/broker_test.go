package broker_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/trial/kit"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// brokers starts stand-ins of brokers with topics, and a client of them.
func brokers(t *testing.T, parts int32, topics ...string) (*kfake.Cluster, *kgo.Client) {
	t.Helper()
	c, err := kfake.NewCluster(kfake.NumBrokers(2), kfake.SeedTopics(parts, topics...))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	cl, err := kgo.NewClient(kgo.SeedBrokers(c.ListenAddrs()...), kgo.RecordPartitioner(kgo.ManualPartitioner()))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cl.Close)
	return c, cl
}

func send(t *testing.T, cl *kgo.Client, recs ...*kgo.Record) {
	t.Helper()
	if err := cl.ProduceSync(t.Context(), recs...).FirstErr(); err != nil {
		t.Fatal(err)
	}
}

// committed gives the values of all messages of a topic that readers of committed messages see.
func committed(t *testing.T, c *kfake.Cluster, topic string) []*kgo.Record {
	t.Helper()
	return committedOf(t, c.ListenAddrs(), topic)
}

// committedOf gives the messages of a topic in which no transaction is left open.
func committedOf(t *testing.T, addrs []string, topic string) []*kgo.Record {
	t.Helper()
	cl, err := kgo.NewClient(kgo.SeedBrokers(addrs...))
	if err != nil {
		t.Fatal(err)
	}
	defer cl.Close()
	admin := kadm.NewClient(cl)
	for deadline := time.Now().Add(kit.Patience); ; time.Sleep(50 * time.Millisecond) {
		ends, err := admin.ListEndOffsets(t.Context(), topic)
		if err != nil {
			t.Fatal(err)
		}
		closed, err := admin.ListCommittedOffsets(t.Context(), topic)
		if err != nil {
			t.Fatal(err)
		}
		open := false
		ends.Each(func(end kadm.ListedOffset) {
			o, ok := closed.Lookup(topic, end.Partition)
			open = open || !ok || o.Offset < end.Offset
		})
		if !open {
			return kit.Committed(t, addrs, topic)
		}
		if time.Now().After(deadline) {
			t.Fatalf("the topic %s cannot be read to its end: a transaction is open", topic)
		}
	}
}

func endpoint(c *kfake.Cluster) string {
	return "DECLARE ENDPOINT b BROKER '" + strings.Join(c.ListenAddrs(), ",") + "';\n"
}

const base = int64(1_779_000_000_000)

func read(n int) string {
	return fmt.Sprintf(`{"chip":"P%d","mat":"M%d","read_at":%d,"n":%d}`, n%50, n%4, base+int64(n)*20, n)
}

const jobText = `
DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, read_at BIGINT, n BIGINT, at TIMESTAMP AS (FROM_UNIX_MILLIS(read_at))) EVENT TIME at DELAY 5 SECONDS FROM BROKER 'reads' VIA b (GROUP 'monitor');
DECLARE SINK odd TO BROKER 'odd' VIA b (KEY (chip));
DECLARE SINK counts TO BROKER 'counts' VIA b (COMPRESS zstd);
CREATE JOB j WITH
	odd_reads AS (SELECT chip, n FROM reads WHERE n % 2 = 1),
	by_mat AS (SELECT mat, w.opens AS opens, COUNT(*) AS reads, SUM(n) AS total FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS))
ROUTE odd_reads TO odd
ROUTE by_mat TO counts;`

// TestOnce: a job between topics of external brokers is killed over and over, its topic gets partitions, and the brokers fail now and then.
// Readers of committed messages find each row once.
func TestOnce(t *testing.T) {
	c, cl := brokers(t, 2, "reads", "odd", "counts")
	r := rand.New(rand.NewPCG(1, 2))
	job := kit.New(t, endpoint(c)+jobText, contract.Env{})
	total := 12_000
	if kit.Brief {
		total = 3000
	}
	parts := int32(2)
	n := 0
	write := func(many int) {
		var recs []*kgo.Record
		for range many {
			recs = append(recs, &kgo.Record{Topic: "reads", Partition: int32(n) % parts, Value: []byte(read(n)), Timestamp: time.UnixMilli(base + int64(n)*20)})
			n++
		}
		send(t, cl, recs...)
	}
	for life := range 16 {
		job.Start(t)
		for range 3 {
			write(total / 60)
			time.Sleep(time.Duration(r.IntN(120)) * time.Millisecond)
			if r.IntN(4) == 0 { // a broker does not answer
				c.ControlKey(int16([]int16{0, 1, 24, 26}[r.IntN(4)]), func(kreq kmsg.Request) (kmsg.Response, error, bool) {
					return nil, fmt.Errorf("the connection breaks"), true
				})
			}
		}
		if life == 6 {
			if _, err := kadm.NewClient(cl).UpdatePartitions(t.Context(), 4, "reads"); err != nil {
				t.Fatal(err)
			}
			time.Sleep(400 * time.Millisecond) // the job finds them before anything is in them that could be late
			cl.ForceMetadataRefresh()
			job.Until(t, "the partitions are there", func() bool { st, _ := job.Status(); return len(st.Splits) == 4 })
			parts = 4
		}
		if err, over := job.Ended(); over && err != nil {
			t.Logf("life %d ended: %v", life, err)
		}
		if err := job.Kill(); err != nil {
			t.Logf("life %d: %v", life, err)
		}
	}
	write(total - n)
	job.Start(t)
	ends := map[int32]int64{}
	listed, err := kadm.NewClient(cl).ListEndOffsets(t.Context(), "reads")
	if err != nil {
		t.Fatal(err)
	}
	listed.Each(func(o kadm.ListedOffset) { ends[o.Partition] = o.Offset })
	job.Until(t, "all is read", func() bool {
		st, ok := job.Status()
		sum := int64(0)
		for _, s := range st.Splits {
			sum += s.Next
		}
		return ok && sum >= int64(total)
	})
	st := job.Settled(t)
	for _, s := range st.Steps {
		if s.Counts.Late > 0 || s.Counts.Rejected > 0 {
			t.Errorf("%s %s: %+v", s.Kind, s.Step, s.Counts)
		}
	}
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	var want []string
	for i := range total {
		if i%2 == 1 {
			want = append(want, fmt.Sprintf(`{"chip":"P%d","n":%d}`, i%50, i))
		}
	}
	var got []string
	keys := map[string]int32{}
	for _, m := range committed(t, c, "odd") {
		got = append(got, string(m.Value))
		if p, ok := keys[string(m.Key)]; ok && p != m.Partition {
			t.Errorf("the key %s is in the partitions %d and %d", m.Key, p, m.Partition)
		}
		keys[string(m.Key)] = m.Partition
	}
	slices.Sort(want)
	slices.Sort(got)
	if !slices.Equal(got, want) {
		t.Errorf("odd: %s", difference(got, want))
	}
	windows(t, total, committed(t, c, "counts"))
	// The group has learnt how far the job is.
	at, err := kadm.NewClient(cl).FetchOffsets(t.Context(), "monitor")
	if err != nil {
		t.Fatal(err)
	}
	for p, end := range ends {
		if o, ok := at.Lookup("reads", p); !ok || o.At != end {
			t.Errorf("the group is at %d of partition %d, which ends at %d", o.At, p, end)
		}
	}
}

// windows checks the counts of so many reads: windows are closed up to the watermark, each is there once, whole. It gives how many there are.
func windows(t *testing.T, total int, counts []*kgo.Record) int {
	t.Helper()
	sums := map[string][2]int{}
	for i := range total {
		k := fmt.Sprintf("M%d %d", i%4, (base+int64(i)*20)/10_000*10_000)
		sums[k] = [2]int{sums[k][0] + 1, sums[k][1] + i}
	}
	seen := map[string]bool{}
	for _, m := range counts {
		var x struct {
			Mat          string
			Opens        time.Time
			Reads, Total int
		}
		if err := json.Unmarshal(m.Value, &x); err != nil {
			t.Fatal(err)
		}
		k := fmt.Sprintf("%s %d", x.Mat, x.Opens.UnixMilli())
		if seen[k] || sums[k] != [2]int{x.Reads, x.Total} {
			t.Errorf("%s: seen %v, wanted %v once", m.Value, seen[k], sums[k])
		}
		seen[k] = true
	}
	if len(seen) < len(sums)-12 {
		t.Errorf("only %d of %d windows", len(seen), len(sums))
	}
	return len(seen)
}

func difference(got, want []string) string {
	n := map[string]int{}
	for _, x := range got {
		n[x]++
	}
	for _, x := range want {
		n[x]--
	}
	out := fmt.Sprintf("%d rows, wanted %d", len(got), len(want))
	for x, k := range n {
		if k != 0 && len(out) < 800 {
			out += fmt.Sprintf("; %+d of %s", k, x)
		}
	}
	return out
}
