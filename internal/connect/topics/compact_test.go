package topics_test

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// TestCompacted: a job that is killed over and over writes keyed rows to a topic that is compacted meanwhile, far beyond what its checkpoints know. The newest message of each
// key is the one that a plain computation gives: no older row comes behind it again.
func TestCompacted(t *testing.T) {
	log, err := topiclog.Open(filepath.Join(t.TempDir(), "topics"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	in, err := log.Create("in", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	latest, err := log.Create("latest", topiclog.Settings{Partitions: 2, Compact: true})
	if err != nil {
		t.Fatal(err)
	}
	job := kit.New(t, "DECLARE STREAM s (k BIGINT, n BIGINT) FROM TOPIC 'in'; DECLARE SINK latest TO TOPIC 'latest' (KEY (k)); CREATE JOB j AS SELECT k, n FROM s ROUTE TO latest;", contract.Env{Topics: log})
	job.Every = 150 * time.Millisecond
	r := rand.New(rand.NewPCG(4, 4))
	want := map[string]string{}
	n := 0
	for range 12 {
		job.Start(t)
		for range 5 {
			var recs []topiclog.Record
			for range 60 {
				k := r.IntN(40)
				recs = append(recs, topiclog.Record{Value: fmt.Appendf(nil, `{"k":%d,"n":%d}`, k, n)})
				want[fmt.Sprint(k)] = fmt.Sprintf(`{"k":%d,"n":%d}`, k, n)
				n++
			}
			if err := in.Append(recs); err != nil {
				t.Fatal(err)
			}
			time.Sleep(time.Duration(r.IntN(50)) * time.Millisecond)
		}
		if err := job.Kill(); err != nil {
			t.Fatal(err)
		}
		for _, p := range latest.Partitions() {
			if _, err := p.Compact(time.Now().Add(48*time.Hour), true); err != nil {
				t.Fatal(err)
			}
		}
	}
	job.Start(t)
	job.Settled(t)
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	got, left := map[string]string{}, 0
	for _, p := range latest.Partitions() {
		if _, err := p.Compact(time.Now().Add(48*time.Hour), true); err != nil {
			t.Fatal(err)
		}
		for at := p.First(); at < p.Next(); {
			b, next, err := p.Read(at, nil, 1<<20)
			if err != nil {
				t.Fatal(err)
			}
			if err := topiclog.Views(b, at, func(v topiclog.View) {
				got[string(b[v.KeyFrom:v.KeyTo])] = string(b[v.From:v.To])
				left++
			}); err != nil {
				t.Fatal(err)
			}
			at = next
		}
	}
	for k, v := range want {
		if got[k] != v {
			t.Errorf("of %s the newest is %s, wanted %s", k, got[k], v)
		}
	}
	if left > 200 {
		t.Errorf("%d messages of %d are left, of %d keys", left, n, len(want))
	}
}
