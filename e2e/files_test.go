package e2e

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"fiume/demo"
)

// TestDemoFiles runs the demo's jobs over files and compares their rows with what a plain program
// makes of the same messages.
func TestDemoFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	type read struct {
		Chip, Mat *string
		ReadAt    string `json:"read_at"`
		Seq       *int64
		Rssi      *float64
		Device    struct{ Battery *float64 }
		at        time.Time
	}
	var reads []read
	var lines []byte
	for _, m := range (demo.Day{Seed: 4, Runners: 400}).Messages() {
		if m.Topic != "mat-reads" {
			continue
		}
		lines = append(append(lines, m.Value...), '\n')
		var r read
		if json.Unmarshal(m.Value, &r) != nil {
			continue
		}
		at, err := time.Parse(time.RFC3339Nano, r.ReadAt)
		if err != nil {
			t.Fatal(err)
		}
		r.at = at
		reads = append(reads, r)
	}
	day := filepath.Join(dir, "reads.ndjson")
	if err := os.WriteFile(day, lines, 0o644); err != nil {
		t.Fatal(err)
	}
	type row = map[string]any
	const form = "2006-01-02T15:04:05.000Z"
	var strong []row
	type group struct {
		opens time.Time
		key   string
	}
	mats, chips := map[group][]read{}, map[group][]read{}
	newest := time.Time{}
	for _, r := range reads {
		if *r.Rssi > -70 && *r.Device.Battery < 0.5 {
			strong = append(strong, row{"chip": *r.Chip, "mat": *r.Mat, "read_at": r.ReadAt, "seq": float64(*r.Seq), "rssi": *r.Rssi})
		}
		opens := r.at.Truncate(10 * time.Second)
		if newest.IsZero() || opens.Add(10*time.Second).After(newest.Add(-20*time.Second)) {
			mats[group{opens, *r.Mat}] = append(mats[group{opens, *r.Mat}], r)
			chips[group{opens, *r.Chip}] = append(chips[group{opens, *r.Chip}], r)
		}
		if r.at.After(newest) {
			newest = r.at
		}
	}
	var byMat, byChip []row
	for g, rs := range mats {
		sum, low, high := 0.0, math.Inf(1), math.Inf(-1)
		for _, r := range rs {
			sum, low, high = sum+*r.Rssi, min(low, *r.Rssi), max(high, *r.Rssi)
		}
		byMat = append(byMat, row{"window_start": g.opens.Format(form), "window_end": g.opens.Add(10 * time.Second).Format(form), "mat": g.key,
			"count": float64(len(rs)), "avg_rssi": sum / float64(len(rs)), "min_rssi": low, "max_rssi": high})
	}
	for g, rs := range chips {
		last := int64(0)
		for _, r := range rs {
			last = max(last, *r.Seq)
		}
		byChip = append(byChip, row{"window_start": g.opens.Format(form), "window_end": g.opens.Add(10 * time.Second).Format(form), "chip": g.key,
			"count": float64(len(rs)), "max_seq": float64(last)})
	}
	text := func(r row) string {
		for k, v := range r {
			if f, ok := v.(float64); ok {
				r[k] = fmt.Sprintf("%.6f", f)
			}
		}
		b, err := json.Marshal(r)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	for job, want := range map[string][]row{"strong-reads": strong, "reads-by-mat": byMat, "reads-by-chip": byChip} {
		for _, parallelism := range []string{"1", "4"} {
			out := filepath.Join(dir, job+parallelism)
			fiume(t, "", "run", "../demo/sql/"+job+".sql", "--set", "reads="+day, "--set", "out="+out, "--parallelism", parallelism).want(t, 0, "ledger of")
			b, err := os.ReadFile(filepath.Join(out, "part-000001.json"))
			if err != nil {
				t.Fatal(err)
			}
			var got, wanted []string
			for _, l := range splitLines(b) {
				var r row
				if err := json.Unmarshal(l, &r); err != nil {
					t.Fatal(err)
				}
				got = append(got, text(r))
			}
			for _, r := range want {
				wanted = append(wanted, text(r))
			}
			slices.Sort(got)
			slices.Sort(wanted)
			if len(wanted) < 100 || !slices.Equal(got, wanted) {
				t.Errorf("%s with %s tasks: %d rows, wanted %d", job, parallelism, len(got), len(wanted))
			}
		}
	}
}

func splitLines(b []byte) (out [][]byte) {
	from := 0
	for i, c := range b {
		if c == '\n' {
			out = append(out, b[from:i])
			from = i + 1
		}
	}
	return out
}
