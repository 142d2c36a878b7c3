package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/demo"
	"fiume/internal/api"
)

// latest gives the newest value of each key of a topic; empty ones delete.
func (p *process) latest(topic string) map[string]string {
	p.t.Helper()
	ms, err := p.Read(p.t.Context(), topic, url.Values{"limit": {"100000"}})
	if err != nil {
		p.t.Fatal(err)
	}
	out := map[string]string{}
	for _, m := range ms {
		if out[*m.Key] = m.Value; m.Value == "" {
			delete(out, *m.Key)
		}
	}
	return out
}

// TestKilledJoins kills the service again and again while a job joins a stream with itself, with a file, and with
// registrations as they were: in the end the splits are those of a job that ran without a break.
func TestKilledJoins(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	mats := "mat,km,mat_before\n"
	before := ""
	for _, m := range demo.Mats {
		mats += fmt.Sprintf("%s,%g,%s\n", m.Name, m.Km, before)
		before = m.Name
	}
	file := writeFile(t, t.TempDir(), "mats.csv", mats)
	p := serve(t, dir)
	job := func(name, sink string) string {
		return fmt.Sprintf(`CREATE TOPIC %[2]s (PARTITIONS 1); DECLARE SINK %[2]s_topic TO TOPIC '%[2]s' (KEY (chip, mat));
			CREATE JOB %[1]s WITH legs AS (
				SELECT p.chip, p.mat, p.read_at, p.read_at - b.read_at AS took FROM passed p
				LEFT JOIN passed b ON b.chip = p.chip AND b.mat = p.mat_before AND b.read_at WITHIN 2 HOURS BEFORE p.read_at
			), %[1]s_named AS (
				SELECT l.chip, l.mat, l.took, e.name, e.club FROM legs l LEFT JOIN entrants e AS OF l.read_at ON e.chip = l.chip
			) ROUTE %[1]s_named TO %[2]s_topic SET (CHECKPOINT EVERY 100 MILLISECONDS);`, name, sink)
	}
	p.apply(declareReads + fmt.Sprintf(`CREATE TOPIC entrants (PARTITIONS 2);
		DECLARE TABLE mats (mat VARCHAR PRIMARY KEY, km DOUBLE, mat_before VARCHAR) FROM FILES '%s' (FORMAT csv);
		DECLARE TABLE entrants (chip VARCHAR PRIMARY KEY, bib INT, name VARCHAR, club VARCHAR, wave VARCHAR, birth_year INT, updated_at TIMESTAMP)
		EVENT TIME updated_at FROM TOPIC 'entrants' (FORMAT csv);
		CREATE VIEW passed AS SELECT r.chip, r.mat, r.read_at, m.mat_before FROM reads r JOIN mats m ON m.mat = r.mat UNIQUE BY (r.chip, r.mat) WITHIN 10 MINUTES;`, file) +
		job("broken", "broken"))
	byTopic := map[string][]api.MessageRequest{}
	for _, m := range (demo.Day{Seed: 4, Runners: 150}).Messages() {
		key := m.Key
		byTopic[m.Topic] = append(byTopic[m.Topic], api.MessageRequest{Key: &key, Value: string(m.Value)})
	}
	if err := p.Write(t.Context(), "entrants", byTopic["entrants"]); err != nil {
		t.Fatal(err)
	}
	parts := slices.Collect(slices.Chunk(byTopic["mat-reads"], len(byTopic["mat-reads"])/8+1))
	for i, part := range parts {
		if err := p.Write(t.Context(), "mat-reads", part); err != nil {
			t.Fatal(err)
		}
		time.Sleep(250 * time.Millisecond)
		if i%2 == 1 {
			p.kill()
			p = serve(t, dir)
		}
	}
	p.apply(job("whole", "whole"))
	var want, got map[string]string
	settled := 0
	eventually(t, "both jobs to have the same splits", func() bool {
		n := len(want)
		want, got = p.latest("whole"), p.latest("broken")
		if settled++; n != len(want) || n < 1500 {
			settled = 0 // results are still coming
		}
		return settled > 4 && maps.Equal(got, want)
	})
	named, withLeg := 0, 0
	for _, v := range want {
		var x struct{ Name, Took *string }
		if err := json.Unmarshal([]byte(v), &x); err != nil {
			t.Fatal(err)
		}
		if x.Name != nil {
			named++
		}
		if x.Took != nil {
			withLeg++
		}
	}
	if named != len(want) || withLeg*10 < len(want)*8 {
		t.Errorf("of %d splits %d have a name and %d a leg", len(want), named, withLeg)
	}
	for _, name := range []string{"broken", "whole"} {
		j, err := p.Job(t.Context(), name)
		if err != nil || j.State != "running" || strings.Contains(j.Reason, "state") {
			t.Errorf("%v %+v", err, j)
		}
	}
}
