package flow

import (
	"context"
	"errors"
	"os"
	"runtime"
	"strconv"
	"testing"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// nowhere is a sink that drops its rows.
type nowhere struct{ rows int }

type nowhereEncoder struct{ rows int }

func (s *nowhere) NewEncoder([]types.Field) (Encoder, error) { return &nowhereEncoder{}, nil }
func (s *nowhere) Write(p Payload) error                     { s.rows += p.Rows; return nil }
func (s *nowhere) Close(bool) error                          { return nil }
func (e *nowhereEncoder) Add(b *column.Batch)                { e.rows += b.N }
func (e *nowhereEncoder) Take() Payload {
	p := Payload{Rows: e.rows}
	e.rows = 0
	return p
}

// TestMemoryReturns runs many short-lived keys through every kind of step that remembers keys: what it
// holds at the end is what it held after the first of them. KEYS in the environment says how many.
func TestMemoryReturns(t *testing.T) {
	total := int64(30_000)
	if s := os.Getenv("KEYS"); s != "" {
		total, _ = strconv.ParseInt(s, 10, 64)
	}
	for _, query := range []string{
		"SELECT n DIV 3 AS k, COUNT(*) AS c FROM s GROUP BY n DIV 3, w WINDOW w AS (TUMBLING 1 HOUR)",
		"SELECT n DIV 3 AS k, COUNT(*) AS c FROM s GROUP BY n DIV 3, w WINDOW w AS (SLIDING 1 HOUR EVERY 5 MINUTES)",
		"SELECT n DIV 3 AS k, w.opens AS o, COUNT(*) AS c FROM s GROUP BY n DIV 3, w WINDOW w AS (TUMBLING 1 HOUR LATENESS 1 HOUR REPORT ON CHANGE)",
		"SELECT n DIV 3 AS k, w.opens AS o, COUNT(*) AS c, LISTAGG(CAST(n AS VARCHAR)) AS l FROM s GROUP BY n DIV 3, w WINDOW w AS (SESSION GAP 1 HOUR REPORT ON CHANGE)",
		"SELECT n DIV 3 AS k, w.opens AS o, COUNT(*) AS c FROM s GROUP BY n DIV 3, w WINDOW w AS (SESSION GAP 20 MINUTES MAX 1 HOUR)",
		"SELECT n DIV 3 AS k, COUNT(*) AS c FROM s GROUP BY n DIV 3 FORGET AFTER 1 HOUR",
		"SELECT n DIV 3 AS k FROM s UNIQUE BY (n DIV 3) WITHIN 1 HOUR",
		"SELECT n, SUM(n) OVER (PARTITION BY n DIV 3 ORDER BY at RANGE INTERVAL '1' HOUR PRECEDING) AS x, LAG(n) OVER (PARTITION BY n DIV 3 ORDER BY at FORGET AFTER 1 HOUR) AS b FROM s",
	} {
		held := func(keys int64) (bytes int, heap uint64) {
			sp := &memorySplit{name: "a", n: 3 * keys, piece: 1000, fail: -1, live: true}
			j, err := New(planOf(t, query), opener{&memory{splits: []Split{sp}}, &nowhere{}}, Options{Parallelism: 2, Describe: describe,
				Now: func() time.Time { return time.Unix(1<<33, 0) }})
			if err != nil {
				t.Fatal(err)
			}
			ctx, cancel := context.WithCancelCause(t.Context())
			done := make(chan error, 1)
			go func() { done <- j.Run(ctx) }()
			for {
				s := j.Status()
				bytes = 0
				open := int64(0)
				for _, x := range s.Steps {
					bytes += x.Bytes
					open += x.Open
				}
				if s.Steps[0].Counts.In == 3*keys && open == 0 {
					break
				}
				time.Sleep(5 * time.Millisecond)
			}
			var m runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&m)
			stop := errors.New("enough")
			cancel(stop)
			if err := <-done; !errors.Is(err, stop) {
				t.Fatal(err)
			}
			return bytes, m.HeapAlloc
		}
		bytes, heap := held(total / 10)
		bytesEnd, heapEnd := held(total)
		t.Logf("%d keys: %d kB and a heap of %d kB, after a tenth of them %d and %d", total, bytesEnd>>10, heapEnd>>10, bytes>>10, heap>>10)
		if bytesEnd > bytes+bytes/2+1<<20 || heapEnd > heap+heap/2+4<<20 {
			t.Errorf("%s\n%d bytes are held after %d keys, %d after a tenth of them; the heap has %d and %d", query, bytesEnd, total, bytes, heapEnd, heap)
		}
	}
}
