package broker_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// TestTooLarge: a message that is larger than the brokers take ends the run with a message that says so, at once.
func TestTooLarge(t *testing.T) {
	c, _ := brokers(t, 1, "out")
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	topic, err := log.Create("in", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	if err := topic.Append([]topiclog.Record{{Value: fmt.Appendf(nil, `{"says":"%s"}`, strings.Repeat("x", 3<<20))}}); err != nil {
		t.Fatal(err)
	}
	job := kit.New(t, endpoint(c)+"DECLARE STREAM s (says VARCHAR) FROM TOPIC 'in'; DECLARE SINK out TO BROKER 'out' VIA b; CREATE JOB j AS SELECT says FROM s ROUTE TO out;", contract.Env{Topics: log})
	job.Start(t)
	for deadline := time.Now().Add(kit.Patience); ; time.Sleep(10 * time.Millisecond) {
		if err, over := job.Ended(); over {
			if err == nil || !strings.Contains(err.Error(), "larger than the topic takes") || !strings.Contains(err.Error(), "sink out") || !strings.Contains(err.Error(), "endpoint b") {
				t.Errorf("%v", err)
			}
			return
		}
		if time.Now().After(deadline) {
			st, _ := job.Status()
			t.Fatalf("nothing is said: %+v %q", st.Steps, job.Said())
		}
	}
}
