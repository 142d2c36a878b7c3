package kit

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/topiclog"
)

// Place is a place that the suite tries: rows with a number n go in at one end and come out at the other.
type Place struct {
	// Source declares the stream s (n BIGINT, says VARCHAR) over the place, and what it needs; Sink declares the sink kept.
	Source, Sink string
	Env          contract.Env
	// Write puts messages into the source: rows of s as JSON, or what is none.
	Write func(t testing.TB, messages []string)
	// Read gives the rows of the sink as JSON, as another reader of the place sees them.
	Read func(t testing.TB) []string
	// OnlyRows says that the place has no messages that are no rows.
	OnlyRows bool
	// Grow has the source get another split; nil: it cannot.
	Grow func(t testing.TB)
	// Away has the place go away, or come again; nil: it cannot.
	Away func(t testing.TB, away bool)
	// Secret is what nobody may see; "": there is none.
	Secret string
	// Kill ends what keeps the place at once, in the middle of what it does, and starts it again; nil: there is nothing of its own. Forgets says that it then sends
	// again what it had been told was read, as if it had not sent it before: rows come at least once.
	Kill    func(t testing.TB)
	Forgets bool
}

// Suite tries what every connector promises, over the place itself: each row once through kills and while the place grows or goes away for moments, messages that are no rows, a place that is away for a while, and
// secrets that are never shown.
func Suite(t *testing.T, open func(t *testing.T) *Place) {
	job := func(t *testing.T) (*Place, *Job) {
		p := open(t)
		return p, New(t, p.Source+p.Sink+"CREATE JOB j AS SELECT n, says FROM s ROUTE TO kept;", p.Env)
	}
	t.Run("once", func(t *testing.T) { p, j := job(t); p.once(t, j) })
	t.Run("bad rows", func(t *testing.T) {
		p, j := job(t)
		if p.OnlyRows {
			return // each is one
		}
		p.bad(t, j)
	})
	t.Run("away", func(t *testing.T) {
		p, j := job(t)
		if p.Away != nil { // what is on the disk is not away
			p.away(t, j)
		}
	})
}

// Killed tries that no row is lost when what keeps a place is killed, as often as it is said, while rows go in and come out, and the job now and then, too.
func Killed(t *testing.T, p *Place, kills int) {
	j := New(t, p.Source+p.Sink+"CREATE JOB j AS SELECT n, says FROM s ROUTE TO kept;", p.Env)
	r := rand.New(rand.NewPCG(7, 8))
	begin := func() { // a life cannot begin while the place is away
		j.Start(t)
		j.Until(t, "it has begun", func() bool { st, ok := j.Status(); return ok && len(st.Splits) > 0 })
	}
	begin()
	n := 0
	for i := range kills {
		var ms []string
		for range 200 + r.IntN(200) {
			ms = append(ms, message(n))
			n++
		}
		p.Write(t, ms)
		time.Sleep(time.Duration(r.IntN(120)) * time.Millisecond) // somewhere between what is read and what has arrived
		p.Kill(t)
		if i%3 == 1 {
			_ = j.Kill() // its life may have ended by itself
			begin()
		}
	}
	p.settle(t, j, n)
}

// Gone tries that a sink whose place is away for long holds up what it is fed by, says so, needs no more memory for it, and has every row in the end. feed is the topic that
// the job reads, fed with two hundred rows a second.
func Gone(t *testing.T, p *Place, feed *topiclog.Topic, long time.Duration) {
	j := New(t, p.Source+p.Sink+"DECLARE STREAM feed (n BIGINT, says VARCHAR) FROM TOPIC 'feed'; CREATE JOB j AS SELECT n, says FROM feed ROUTE TO kept;", p.Env)
	j.Every = 500 * time.Millisecond
	n := 0
	write := func(many int) {
		var ms []topiclog.Record
		for range many {
			ms = append(ms, topiclog.Record{Value: []byte(message(n))})
			n++
		}
		if err := feed.Append(ms); err != nil {
			t.Fatal(err)
		}
	}
	j.Start(t)
	write(200)
	j.Until(t, "the first rows are in the sink", func() bool { return len(p.numbers(t)) >= 200 })
	p.Away(t, true)
	j.Until(t, "it is said what is waited for", func() bool {
		write(10)
		st, ok := j.Status()
		return ok && slices.ContainsFunc(st.Steps, func(s flow.Step) bool { return s.Waiting != nil })
	})
	held := func() int64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before, most := held(), int64(0)
	for began := time.Now(); time.Since(began) < long; {
		write(20)
		time.Sleep(100 * time.Millisecond)
		if n%200 == 0 {
			most = max(most, held()-before)
		}
	}
	most = max(most, held()-before)
	if most > 64<<20 {
		t.Errorf("%d rows that wait for a place hold %d MB", n, most>>20)
	}
	t.Logf("away for %v, %d rows written: at most %d kB more held", long, n, most>>10)
	p.Away(t, false)
	p.settle(t, j, n)
}

// message is a row of the source.
func message(n int) string { return fmt.Sprintf(`{"n":%d,"says":"row %d"}`, n, n) }

// numbers gives the numbers in the sink, sorted, and checks the rest of the rows.
func (p *Place) numbers(t testing.TB) (out []int) {
	t.Helper()
	for _, row := range p.Read(t) {
		var r struct {
			N    int
			Says string
		}
		if err := json.Unmarshal([]byte(row), &r); err != nil || r.Says != fmt.Sprintf("row %d", r.N) {
			t.Fatalf("the sink has %q: %v", row, err)
		}
		out = append(out, r.N)
	}
	slices.Sort(out)
	if p.Forgets {
		out = slices.Compact(out)
	}
	return out
}

// has checks that the numbers up to many are in the sink, once each.
func (p *Place) has(t testing.TB, many int) {
	t.Helper()
	got := p.numbers(t)
	for i := range many {
		if i >= len(got) || got[i] != i {
			t.Fatalf("%d rows in the sink, wanted %d; at %d: %v", len(got), many, i, got[min(i, len(got)):min(i+5, len(got))])
		}
	}
	if len(got) != many {
		t.Fatalf("%d rows in the sink, wanted %d", len(got), many)
	}
}

// settle waits until the sink has as many rows, and ends the job.
func (p *Place) settle(t testing.TB, j *Job, many int) {
	t.Helper()
	j.Until(t, fmt.Sprintf("%d rows are in the sink", many), func() bool {
		st, ok := j.Status()
		return ok && len(st.Steps) > 0 && len(p.numbers(t)) >= many
	})
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	p.has(t, many)
}

func (p *Place) once(t *testing.T, j *Job) {
	total, kills, cuts := 3000, 20, 10
	if Brief {
		total, kills, cuts = 600, 5, 3
	}
	r := rand.New(rand.NewPCG(5, 6))
	var mu sync.Mutex
	n := 0
	done := make(chan struct{})
	var away sync.WaitGroup
	if p.Away != nil { // now and then it goes away, for as long as a job may take to begin with it and longer
		away.Go(func() {
			for i := range cuts {
				time.Sleep(time.Duration(60+37*i%150) * time.Millisecond)
				p.Away(t, true)
				time.Sleep(time.Duration(10+53*i%120) * time.Millisecond)
				p.Away(t, false)
			}
		})
	}
	go func() {
		defer close(done)
		for n < total {
			var ms []string
			mu.Lock()
			for range min(1+r.IntN(60), total-n) {
				ms = append(ms, message(n))
				n++
			}
			grow := r.IntN(15) == 0
			mu.Unlock()
			p.Write(t, ms)
			if grow && p.Grow != nil {
				p.Grow(t)
			}
			time.Sleep(10 * time.Millisecond)
		}
	}()
	for i, over := 0, false; i < kills || !over; i++ {
		j.Start(t)
		mu.Lock()
		life := time.Duration(20+r.IntN(250)) * time.Millisecond
		mu.Unlock()
		select {
		case <-done:
			over = true
			time.Sleep(life)
		case <-time.After(life):
		}
		var err error
		if i%4 == 3 {
			err = j.Stop()
		} else {
			err = j.Kill()
		}
		if err != nil && p.Away == nil { // a life cannot begin while the place is away
			t.Fatal(err)
		}
	}
	away.Wait()
	j.Start(t)
	p.settle(t, j, total)
}

func (p *Place) bad(t *testing.T, j *Job) {
	var ms []string
	n, none := 0, []string{`{"n":"many"}`, `{"n":`, "\x00\xff{", `[1]`, `{"n":9223372036854775808}`}
	for i := range 200 {
		if i%20 == 7 {
			ms = append(ms, none[i/20%len(none)])
			continue
		}
		ms = append(ms, message(n))
		n++
	}
	j.Start(t)
	p.Write(t, ms)
	j.Until(t, "the bad rows are counted", func() bool {
		st, ok := j.Status()
		return ok && len(st.Steps) > 0 && st.Steps[0].Counts.Rejected == 10
	})
	p.settle(t, j, n)
}

func (p *Place) away(t *testing.T, j *Job) {
	write := func(from, to int) {
		var ms []string
		for i := from; i < to; i++ {
			ms = append(ms, message(i))
		}
		p.Write(t, ms)
	}
	j.Start(t)
	write(0, 100)
	j.Until(t, "the first rows are in the sink", func() bool { return len(p.numbers(t)) >= 100 })
	for range 2 {
		p.Away(t, true)
		j.Until(t, "it is said what is waited for", func() bool {
			st, ok := j.Status()
			waits := false
			for _, s := range st.Splits {
				waits = waits || s.Waiting != nil || s.Notice != ""
			}
			for _, s := range st.Steps {
				waits = waits || s.Waiting != nil
			}
			return ok && waits
		})
		p.Away(t, false)
	}
	write(100, 200)
	p.settle(t, j, 200)
	if p.Secret != "" {
		st, _ := j.Status()
		if all := fmt.Sprintf("%+v %q", st, j.Said()); strings.Contains(all, p.Secret) {
			t.Errorf("the secret is shown: %s", all)
		}
	}
}
