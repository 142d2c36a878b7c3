package demo

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestDay looks at the day that a seed gives: it is the same each time, and what should happen does.
func TestDay(t *testing.T) {
	day := Day{Seed: 7, Runners: 2000}.Messages()
	again := Day{Seed: 7, Runners: 2000}.Messages()
	other := Day{Seed: 8, Runners: 2000}.Messages()
	equal := func(a, b Message) bool {
		return a.At.Equal(b.At) && a.Topic == b.Topic && a.Key == b.Key && bytes.Equal(a.Value, b.Value)
	}
	if !slices.EqualFunc(day, again, equal) || slices.EqualFunc(day, other, equal) {
		t.Fatal("a seed does not give one day of its own")
	}
	if !slices.IsSortedFunc(day, func(a, b Message) int { return a.At.Compare(b.At) }) {
		t.Error("messages do not come in the order of their arrival")
	}
	type read struct {
		Chip, Mat string
		ReadAt    time.Time `json:"read_at"`
		Rssi      float64
		Device    struct{ Battery float64 }
	}
	topics, mats, bad := map[string]int{}, map[string]int{}, 0
	chips := map[string]map[string]bool{}
	var burst []time.Time
	ahead, behind := 0, 0
	for _, m := range day {
		topics[m.Topic]++
		if m.Topic != "mat-reads" {
			continue
		}
		var r read
		if err := json.Unmarshal(m.Value, &r); err != nil || r.Chip == "" {
			bad++
			continue
		}
		if m.Key != r.Chip || r.Rssi > -48 || r.Rssi < -88 || r.Device.Battery < 0 || r.Device.Battery > 1 {
			t.Fatalf("%+v", m)
		}
		mats[r.Mat]++
		if chips[r.Chip] == nil {
			chips[r.Chip] = map[string]bool{}
		}
		chips[r.Chip][r.Mat] = true
		switch lag := m.At.Sub(r.ReadAt); {
		case lag > 30*time.Second:
			burst = append(burst, m.At)
			if r.Mat != Mats[outageMat].Name {
				t.Fatalf("%s lags by %s", r.Mat, lag)
			}
		case lag < 0:
			ahead++
			if r.Mat != Mats[fastClock].Name {
				t.Fatalf("the clock of %s runs ahead", r.Mat)
			}
		case lag > 2*time.Second:
			behind++
		}
	}
	total := topics["mat-reads"]
	if len(mats) != 14 || topics["wave-starts"] != 5 || topics["entrants"] != 2000+100+2*40 || topics["medical-calls"] == 0 {
		t.Errorf("%v %v", topics, mats)
	}
	if bad*3000 < total || bad*300 > total {
		t.Errorf("%d of %d messages are no rows", bad, total)
	}
	if ahead == 0 || behind == 0 || len(burst) < 20 {
		t.Errorf("%d ahead, %d behind, %d in the burst", ahead, behind, len(burst))
	}
	if len(burst) > 0 && burst[len(burst)-1].Sub(burst[0]) > 3*time.Second {
		t.Errorf("the burst takes %s", burst[len(burst)-1].Sub(burst[0]))
	}
	if topics["radio"] < 1000 {
		t.Errorf("%d words on the radio", topics["radio"])
	}
	gaveUp := 0
	for _, seen := range chips {
		if !seen["finish"] {
			gaveUp++
		}
	}
	if gaveUp < 20 || gaveUp > 200 {
		t.Errorf("%d runners gave up", gaveUp)
	}
	if n := len((Day{Seed: 1, Runners: 0}).Messages()); n != 5 {
		t.Errorf("a day without runners has %d messages", n)
	}
	for _, part := range []string{"clean_reads", "crowding", "splits", "missing_runners", "call_places", "mat_outages", "radio_words"} {
		if !strings.Contains(RaceSQL, "CREATE JOB "+part) {
			t.Errorf("the demo lacks the job %s", part)
		}
	}
}
