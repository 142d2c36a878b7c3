package files_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// BenchmarkWritten has a job write the rows of a topic as JSON, to local files and to an object store's stand-in, which works on the same cores.
func BenchmarkWritten(b *testing.B) {
	const many = 3_000_000
	log, err := topiclog.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer log.Close()
	in, err := log.Create("in", topiclog.Settings{Partitions: 2})
	if err != nil {
		b.Fatal(err)
	}
	for n := 0; n < many; {
		var recs []topiclog.Record
		for range 10_000 {
			recs = append(recs, topiclog.Record{Value: fmt.Appendf(nil, `{"chip":"P%05d","mat":"km-%02d","read_at":"2026-05-17T09:00:%02d.%03dZ","seq":%d,"rssi":-%d.5}`, n%20_000, n%40, n/1000%60, n%1000, n, 40+n%40)})
			n++
		}
		if err := in.Append(recs); err != nil {
			b.Fatal(err)
		}
	}
	store := bucketOf(b)
	crc := strings.NewReplacer("far FILES", "crc FILES", ";", " (CHECKSUM crc32c);").Replace(store.endpoint())
	for name, to := range map[string]string{"local": "'" + b.TempDir() + "/%d'", "objects": "'s3://race/%d' VIA far", "objects-crc32c": "'s3://race/crc%d' VIA crc"} {
		b.Run(name, func(b *testing.B) {
			for round := 0; b.Loop(); round++ {
				j := kit.New(b, store.endpoint()+crc+`DECLARE STREAM s (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP, seq BIGINT, rssi DOUBLE) FROM TOPIC 'in'; DECLARE SINK o TO FILES `+fmt.Sprintf(to, round)+`;
					CREATE JOB j AS SELECT chip, mat, read_at, seq, rssi FROM s ROUTE TO o;`, contract.Env{Topics: log, Secrets: store.env().Secrets})
				j.Every = time.Second
				j.Start(b)
				j.Until(b, "all is written", func() bool { st, ok := j.Status(); return ok && len(st.Steps) > 0 && st.Steps[0].Counts.In == many })
				if err := j.Stop(); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(many*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mrows/s")
		})
	}
}
