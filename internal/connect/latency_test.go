package connect_test

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
)

// BenchmarkRowToResult measures the time from the moment before a row is appended to a topic to the moment
// when the result that it changes comes out, at 50,000 rows a second and with REPORT ON CHANGE. An
// iteration is a second of rows.
func BenchmarkRowToResult(b *testing.B) {
	log, err := topiclog.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer log.Close()
	topic, err := log.Create("reads", topiclog.Settings{Partitions: 4})
	if err != nil {
		b.Fatal(err)
	}
	const src = `SELECT mat, w.opens AS opened, COUNT(*) AS reads, MAX(n) AS sent FROM reads
		GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE REPORT ON CHANGE)`
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("live.sql", topicSQL+src+";", nil, nil)
	if err != nil {
		b.Fatal(err)
	}
	var mu sync.Mutex
	var took []time.Duration
	o := &connect.Opener{Env: contract.Env{Topics: log}, Rows: &rows.Sink{Format: "json", Limit: -1, Each: func(row []byte) error {
		now := time.Now()
		var r struct{ Sent int64 }
		if err := json.Unmarshal(row, &r); err != nil {
			return err
		}
		mu.Lock()
		defer mu.Unlock()
		took = append(took, now.Sub(time.UnixMicro(r.Sent)))
		return nil
	}}}
	job, err := flow.New(plans[0], o, flow.Options{Describe: text.Describe})
	if err != nil {
		b.Fatal(err)
	}
	ctx, cancel := context.WithCancel(b.Context())
	done := make(chan error, 1)
	go func() { done <- job.Run(ctx) }()
	const everyMs, perTick = 2, 100
	for b.Loop() {
		tick := time.NewTicker(everyMs * time.Millisecond)
		for range 1000 / everyMs {
			at := <-tick.C
			recs := make([]topiclog.Record, perTick)
			for i := range recs {
				recs[i].Key = fmt.Append(nil, i)
				recs[i].Value = fmt.Appendf(nil, `{"chip":"P%05d","mat":"m%d","at":"%s","n":%d}`, i, i%50, at.UTC().Format(time.RFC3339Nano), time.Now().UnixMicro())
			}
			if err := topic.Append(recs); err != nil {
				b.Fatal(err)
			}
		}
		tick.Stop()
	}
	cancel()
	<-done
	slices.Sort(took)
	if len(took) == 0 {
		b.Fatal("no results")
	}
	ms := func(share float64) float64 { return float64(took[int(share*float64(len(took)-1))]) / 1e6 }
	b.ReportMetric(ms(0.5), "p50-ms")
	b.ReportMetric(ms(0.99), "p99-ms")
	b.ReportMetric(float64(len(took))/float64(b.N), "results/s")
}
