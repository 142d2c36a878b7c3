package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/service/alerts"

	"github.com/chromedp/chromedp"
)

// told is a web service that is told of alerts.
type told struct {
	*httptest.Server
	mu      sync.Mutex
	refuses int // so many requests more
	got     []string
}

func tellHere(t *testing.T) *told {
	w := &told{}
	w.Server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		var x struct{ ID, Alert, Event, Of, What, Since, At, Row string }
		if err := json.Unmarshal(b, &x); err != nil || x.ID == "" || x.Since == "" || x.At == "" {
			t.Errorf("it is told %q", b)
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.refuses > 0 {
			w.refuses--
			rw.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		w.got = append(w.got, fmt.Sprintf("%s %s %s: %s", x.Event, x.Alert, x.Of, x.What))
	}))
	t.Cleanup(w.Close)
	return w
}

// has waits until it has been told something, and says how often.
func (w *told) has(t *testing.T, what string) int {
	t.Helper()
	n := 0
	eventually(t, "it is told "+what, func() bool {
		w.mu.Lock()
		defer w.mu.Unlock()
		n = len(slices.DeleteFunc(slices.Clone(w.got), func(s string) bool { return !strings.Contains(s, what) }))
		return n > 0
	})
	return n
}

// TestAlerts: alerts over what the service tells of itself, over the rows of a job and over a topic are told when they begin and when they end, once
// each, through a web service that refuses at first, a killed service and a restart; those that every service has, too.
func TestAlerts(t *testing.T) {
	t.Parallel()
	w := tellHere(t)
	w.refuses = 2
	dir := t.TempDir()
	p := serve(t, dir)
	p.fiume("", "alert", "list").want(t, 0, "nothing gives an alarm; 17 alerts are looked at")
	p.apply(`CREATE TOPIC reads (PARTITIONS 1); CREATE TOPIC out (PARTITIONS 1); CREATE TOPIC alarms (PARTITIONS 1);
		DECLARE ENDPOINT duty WEB '` + w.URL + `';
		DECLARE SINK duty_hook TO WEB '/told' VIA duty;
		DECLARE SINK alarms TO TOPIC 'alarms';
		DECLARE STREAM reads (chip VARCHAR NOT NULL, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'reads';
		DECLARE SINK out TO TOPIC 'out' (KEY (chip));
		CREATE JOB counts AS SELECT chip, COUNT(*) AS n FROM reads GROUP BY chip FORGET AFTER 1 DAY ROUTE TO out SET (CHECKPOINT EVERY 1 SECOND);
		CREATE ALERT often WHEN (SELECT chip, n FROM counts.counts WHERE n > 2) BY chip EVERY 1 SECOND SAY '{chip} was read {n} times' NOTIFY duty_hook, alarms;
		CREATE ALERT stands_still WHEN (SELECT job, state FROM fiume.jobs WHERE state = 'stopped') BY job FOR 1 SECOND EVERY 1 SECOND SAY '{job} is {state}' NOTIFY duty_hook;
		CREATE ALERT quiet_topic WHEN (SELECT topic FROM fiume.topics WHERE topic = 'reads' AND newest_at < CURRENT_TIMESTAMP - INTERVAL '1' SECOND) BY topic EVERY 1 SECOND NOTIFY alarms;
		CREATE ALERT busy WHEN (SELECT chip, COUNT(*) AS n FROM reads SINCE 10 MINUTES GROUP BY chip FORGET AFTER 1 DAY HAVING COUNT(*) > 2) BY chip EVERY 1 SECOND NOTIFY alarms;`)
	p.send("reads", `{"chip":"C-1","at":"2026-05-17T09:00:00Z"}`, `{"chip":"C-1","at":"2026-05-17T09:00:01Z"}`, `{"chip":"C-2","at":"2026-05-17T09:00:01Z"}`)
	eventually(t, "they are looked at", func() bool {
		x, err := p.Alert(t.Context(), "often")
		return err == nil && x.Looked != nil && x.Problem == "" && len(x.Standing) == 0
	})
	p.send("reads", `{"chip":"C-1","at":"2026-05-17T09:00:02Z"}`)
	w.has(t, "begins often C-1: C-1 was read 3 times")
	eventually(t, "the topic is told", func() bool {
		return strings.Contains(strings.Join(p.values("alarms"), "\n"), `"alert":"often","event":"begins"`)
	})

	eventually(t, "a topic that nobody writes, and who was read often", func() bool {
		all := strings.Join(p.values("alarms"), "\n")
		return strings.Contains(all, `"alert":"quiet_topic","event":"begins","of":"reads"`) && strings.Contains(all, `"alert":"busy","event":"begins","of":"C-1"`)
	})

	p.fiume("", "job", "stop", "counts").want(t, 0)
	w.has(t, "begins stands_still counts: counts is stopped")
	eventually(t, "what cannot be looked at is said", func() bool {
		x, err := p.Alert(t.Context(), "often")
		return err == nil && strings.Contains(x.Problem, "the job counts does not run") && len(x.Standing) == 1
	})
	p.fiume("", "alert", "list").want(t, 0, "stands_still  alarm", "counts is stopped", "often         alarm")
	p.fiume("", "alert", "show", "often").want(t, 0, "cannot be looked at: the job counts does not run", "C-1 was read 3 times", "tells duty_hook, alarms")
	p.fiume("", "alert", "show", "oftn").want(t, 4, `did you mean "often"?`)
	p.fiume("", "alert", "silence", "stands_still", "--for", "no").want(t, 2, "write a length of time such as")
	p.fiume("", "alert", "silence", "stands_still", "--for", "2 HOURS", "--why", "the move").want(t, 0, "is silent until")
	p.fiume("", "alert", "show", "stands_still").want(t, 0, "the move")

	p.kill()
	p = serve(t, dir)
	eventually(t, "it is looked at again", func() bool {
		x, err := p.Alert(t.Context(), "stands_still")
		return err == nil && x.Looked != nil && len(x.Standing) == 1 && len(x.Silences) == 1
	})
	p.fiume("", "job", "start", "counts").want(t, 0)
	w.has(t, "ends stands_still counts:") // what has been told is told to be over, also in silence
	for _, what := range []string{"begins often C-1", "begins stands_still"} {
		if n := w.has(t, what); n != 1 {
			t.Errorf("%s was told %d times", what, n)
		}
	}
	p.fiume("", "alert", "silence", "stands_still", "--for", "0").want(t, 0, "tells again")

	p.fiume("", "alert", "tell", "duty_hok").want(t, 4, `did you mean "duty_hook"?`)
	p.fiume("", "alert", "tell", "duty_hook").want(t, 0, "tell duty_hook")
	p.fiume("", "alert", "tell").want(t, 0, "tell duty_hook", "nothing waits to be told")
	if r := p.fiume("DROP SINK duty_hook;", "apply", "-"); r.code == 0 || !strings.Contains(r.err, "fiume alert tell") {
		t.Errorf("a sink that is told is dropped: %+v", r)
	}
	if _, err := p.SilenceAlert(t.Context(), "often", "C-2", time.Hour, ""); err != nil {
		t.Fatal(err)
	}
	b := browse(t, p.base)
	b.open("/")
	b.do("the count leads there", press("alarm-count"))
	b.shows("Alarms", "C-1 was read 3 times", "What is looked at", "a sink has been tried in vain for 30 seconds", "told duty_hook, alarms")
	b.accessible("alerts")
	b.do("silence it", press("silence-open"), visible(named("silence")))
	b.accessible("silencing an alert")
	b.do("with a reason", press("silence"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")))
	b.shows("silent until")
	b.do("who is told", press("telling"), visible(named("tell")))
	b.shows("duty_hook")
	b.accessible("who is told")
	b.do("close", click("//button[.='Close']"))
	b.clean()
	p.apply("DROP ALERT often;")
	eventually(t, "it is gone", func() bool {
		all, err := p.Alerts(t.Context())
		return err == nil && !slices.ContainsFunc(all, func(x alerts.Alert) bool { return x.Name == "often" })
	})
	p.stop()
}
