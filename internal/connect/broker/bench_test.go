package broker_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"

	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
)

// BenchmarkRead reads the same messages from a built-in topic and from brokers, whose stand-in shares the processors.
func BenchmarkRead(b *testing.B) {
	const many = 3_000_000
	log, err := topiclog.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer log.Close()
	topic, err := log.Create("reads", topiclog.Settings{Partitions: 2})
	if err != nil {
		b.Fatal(err)
	}
	c, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.SeedTopics(2, "reads"))
	if err != nil {
		b.Fatal(err)
	}
	defer c.Close()
	cl, err := kgo.NewClient(kgo.SeedBrokers(c.ListenAddrs()...), kgo.RecordPartitioner(kgo.ManualPartitioner()), kgo.MaxBufferedRecords(100_000))
	if err != nil {
		b.Fatal(err)
	}
	defer cl.Close()
	for from := 0; from < many; from += 10_000 {
		var own []topiclog.Record
		var out []*kgo.Record
		for i := from; i < from+10_000; i++ {
			v := []byte(read(i))
			own = append(own, topiclog.Record{Key: fmt.Append(nil, i), Value: v})
			out = append(out, &kgo.Record{Topic: "reads", Partition: int32(i % 2), Value: v, Timestamp: time.UnixMilli(base + int64(i)*20)})
		}
		if err := topic.Append(own); err != nil {
			b.Fatal(err)
		}
		if err := cl.ProduceSync(context.Background(), out...).FirstErr(); err != nil {
			b.Fatal(err)
		}
	}
	for name, from := range map[string]string{"topic": "TOPIC 'reads'", "broker": "BROKER 'reads' VIA b"} {
		b.Run(name, func(b *testing.B) {
			src := endpoint(c) + "DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, read_at BIGINT, n BIGINT, at TIMESTAMP AS (FROM_UNIX_MILLIS(read_at))) EVENT TIME at DELAY 5 SECONDS FROM " + from + ";" +
				"SELECT mat, COUNT(*) AS reads, SUM(n) AS total FROM reads SINCE BEGINNING GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS) UNTIL NOW;"
			plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", src, nil, nil)
			if err != nil {
				b.Fatal(err)
			}
			for range b.N {
				o := &connect.Opener{Env: contract.Env{Topics: log}, Rows: &rows.Capture{}}
				j, err := flow.New(plans[0], o, flow.Options{Parallelism: 2, Describe: text.Describe})
				if err != nil {
					b.Fatal(err)
				}
				if err := j.Run(context.Background()); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.N)*many/b.Elapsed().Seconds(), "rows/s")
		})
	}
}

// BenchmarkDeliver measures how many rows of a topic of brokers are in another one in a second, by transactions, with a checkpoint every fifth of a second.
func BenchmarkDeliver(b *testing.B) {
	const many = 200_000
	c, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.SeedTopics(2, "reads", "all"))
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(c.Close)
	cl, err := kgo.NewClient(kgo.SeedBrokers(c.ListenAddrs()...))
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(cl.Close)
	for at := 0; at < many; at += 10_000 {
		var recs []*kgo.Record
		for n := at; n < at+10_000; n++ {
			recs = append(recs, &kgo.Record{Topic: "reads", Value: []byte(read(n))})
		}
		if err := cl.ProduceSync(b.Context(), recs...).FirstErr(); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		job := kit.New(b, endpoint(c)+"DECLARE STREAM s (chip VARCHAR, n BIGINT) FROM BROKER 'reads' VIA b; DECLARE SINK k TO BROKER 'all' VIA b; CREATE JOB j AS SELECT chip, n FROM s ROUTE TO k;", contract.Env{})
		job.Every = 200 * time.Millisecond
		job.Start(b)
		job.Until(b, "all are there", func() bool {
			st, ok := job.Status()
			return ok && len(st.Steps) > 0 && st.Steps[len(st.Steps)-1].Counts.In == many && st.Steps[len(st.Steps)-1].Spooled == 0
		})
		if err := job.Stop(); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(many*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
}
