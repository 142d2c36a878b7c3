package web_test

import (
	"fmt"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/web/standin"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"

	"net/http/httptest"
)

// BenchmarkSink sends rows, a request each, to a service in the same process that answers in 20 ms and fails at 1 % of the requests. An iteration is 20,000 rows.
func BenchmarkSink(b *testing.B) {
	for _, atOnce := range []int{1, 16, 64} {
		rows := min(20_000, 1000*atOnce)
		b.Run(fmt.Sprintf("at-once-%d", atOnce), func(b *testing.B) {
			for b.Loop() {
				s := &standin.Service{Slow: 20 * time.Millisecond, Faulty: 0.01}
				server := httptest.NewServer(s)
				log, err := topiclog.Open(b.TempDir())
				if err != nil {
					b.Fatal(err)
				}
				topic, err := log.Create("in", topiclog.Settings{Partitions: 1})
				if err != nil {
					b.Fatal(err)
				}
				for from := 0; from < rows; from += 1000 {
					var recs []topiclog.Record
					for i := range 1000 {
						recs = append(recs, topiclog.Record{Value: fmt.Appendf(nil, `{"chip":"P%d","n":%d,"says":"x"}`, i%50, from+i)})
					}
					if err := topic.Append(recs); err != nil {
						b.Fatal(err)
					}
				}
				j := kit.New(b, fmt.Sprintf("DECLARE ENDPOINT w WEB '%s' (AT ONCE %d); %s DECLARE SINK k TO WEB '/rows' VIA w; CREATE JOB j AS SELECT chip, n, says FROM s ROUTE TO k;", server.URL, atOnce, source), contract.Env{Topics: log})
				began := time.Now()
				j.Start(b)
				j.Until(b, "all are there", func() bool { taken, _, _ := s.Counts(); return taken >= int64(rows) })
				b.ReportMetric(float64(rows)/time.Since(began).Seconds(), "requests/s")
				if err := j.Stop(); err != nil {
					b.Fatal(err)
				}
				server.Close()
				if err := log.Close(); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
