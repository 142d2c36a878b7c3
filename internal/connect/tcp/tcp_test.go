package tcp_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/trial/kit"
)

// reader connects to an address and keeps the lines that come.
type reader struct {
	mu    sync.Mutex
	lines []string
}

func (r *reader) all() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.lines)
}

func (r *reader) take(c net.Conn) {
	s := bufio.NewScanner(c)
	for s.Scan() {
		r.mu.Lock()
		r.lines = append(r.lines, s.Text())
		r.mu.Unlock()
	}
}

// connected connects once somebody listens.
func connected(t *testing.T, address string) net.Conn {
	t.Helper()
	for deadline := time.Now().Add(kit.Patience); ; time.Sleep(10 * time.Millisecond) {
		c, err := net.Dial("tcp", address)
		if err == nil {
			t.Cleanup(func() { c.Close() })
			return c
		}
		if time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
}

// TestWords counts the words that many send in windows of ten seconds, by the time they say.
func TestWords(t *testing.T) {
	in, out := fmt.Sprintf("127.0.0.1:%d", kit.FreePort(t)), fmt.Sprintf("127.0.0.1:%d", kit.FreePort(t))
	job := kit.New(t, `DECLARE STREAM said (line VARCHAR, word VARCHAR AS (LOWER(SPLIT(line, ' ')[2])), at TIMESTAMP AS (FROM_UNIX_MILLIS(CAST(SPLIT(line, ' ')[1] AS BIGINT))))
		EVENT TIME at DELAY 1 MINUTE FROM TCP '`+in+`' (LISTEN true, FORMAT text);
		DECLARE SINK screen TO TCP '`+out+`' (LISTEN true);
		CREATE JOB counted AS SELECT word, w.opens AS opens, COUNT(*) AS n FROM said GROUP BY word, w WINDOW w AS (TUMBLING 10 SECONDS) ROUTE TO screen;`, contract.Env{})
	job.Start(t)
	var got reader
	screen := connected(t, out)
	go got.take(screen)
	words := []string{"mat", "Mat", "chip", "river", "wave"}
	const base, each, many = int64(1_779_000_000_000), 300, 20
	want := map[string]int{}
	var sending sync.WaitGroup
	for p := range many {
		for i := range each {
			at := base + int64(i)*100
			want[fmt.Sprintf("%s %d", strings.ToLower(words[(i+p)%5]), at/10_000*10_000)]++
		}
		c := connected(t, in)
		sending.Go(func() {
			for i := range each {
				fmt.Fprintf(c, "%d %s\r\n", base+int64(i)*100, words[(i+p)%5])
			}
		})
	}
	sending.Wait()
	job.Until(t, "all lines are there", func() bool {
		st, ok := job.Status()
		return ok && st.Steps[0].Counts.In == many*each
	})
	last := connected(t, in)
	fmt.Fprintf(last, "%d end\n%s\nnonsense\n", base+3_600_000, strings.Repeat("x", 2<<20))
	job.Until(t, "the windows are closed", func() bool { return len(got.all()) >= len(want) })
	job.Until(t, "the rest is counted", func() bool {
		st, ok := job.Status()
		return ok && st.Steps[0].Counts.Lost == 1 && st.Steps[0].Counts.Rejected == 1
	})
	for _, l := range got.all() {
		var x struct {
			Word  string
			Opens time.Time
			N     int
		}
		if err := json.Unmarshal([]byte(l), &x); err != nil {
			t.Fatalf("%s: %v", l, err)
		}
		k := fmt.Sprintf("%s %d", x.Word, x.Opens.UnixMilli())
		if want[k] != x.N {
			t.Errorf("%s: wanted %d", l, want[k])
		}
		delete(want, k)
	}
	if len(want) > 0 {
		t.Errorf("missing: %v", want)
	}
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
}

// TestConnectsAgain: a job that connects waits for the other sides and says so, connects again when they went, and the lines it sends are whole.
func TestConnectsAgain(t *testing.T) {
	in, out := fmt.Sprintf("127.0.0.1:%d", kit.FreePort(t)), fmt.Sprintf("127.0.0.1:%d", kit.FreePort(t))
	job := kit.New(t, `DECLARE STREAM told (n BIGINT) FROM TCP '`+in+`' (FORMAT csv); DECLARE SINK heard TO TCP '`+out+`'; CREATE JOB j AS SELECT n FROM told ROUTE TO heard;`, contract.Env{})
	job.Start(t)
	job.Until(t, "it is said what is waited for", func() bool {
		st, ok := job.Status()
		return ok && len(st.Splits) == 1 && st.Splits[0].Waiting != nil && strings.Contains(st.Splits[0].Waiting.Reason, "refused")
	})
	source, err := net.Listen("tcp", in)
	if err != nil {
		t.Fatal(err)
	}
	defer source.Close()
	next := 0
	send := func(many int) {
		c, err := source.Accept()
		if err != nil {
			t.Fatal(err)
		}
		for range many {
			fmt.Fprintln(c, next)
			next++
		}
		c.Close()
	}
	send(100)
	send(100)
	job.Until(t, "the sink waits", func() bool {
		st, _ := job.Status() // how much is read meanwhile depends on the pieces in which it comes
		for _, s := range st.Steps {
			if s.Kind == "output" && s.Waiting != nil {
				return true
			}
		}
		return false
	})
	sink, err := net.Listen("tcp", out)
	if err != nil {
		t.Fatal(err)
	}
	defer sink.Close()
	var got reader
	go func() {
		for {
			c, err := sink.Accept()
			if err != nil {
				return
			}
			go got.take(c)
		}
	}()
	send(50)
	job.Until(t, "all lines are sent", func() bool { return len(got.all()) == 250 })
	seen := map[string]bool{}
	for _, l := range got.all() {
		seen[l] = true
	}
	for i := range 250 {
		if !seen[fmt.Sprintf(`{"n":%d}`, i)] {
			t.Errorf("%d is missing", i)
		}
	}
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
}
