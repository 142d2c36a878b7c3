package boards_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/service/boards"
	"fiume/internal/service/servicetest"
)

// viewer is somebody who looks at a board, more or less slowly.
type viewer struct {
	mu      sync.Mutex
	rows    map[int]map[string]string
	last    map[int]boards.Update
	fulls   map[int]int
	told    int
	board   *boards.Board
	choices map[string]map[string]string
	end     context.CancelFunc
	done    chan error
}

func watch(t *testing.T, p *servicetest.Parts, board string, slow func()) *viewer {
	t.Helper()
	return look(t, p, board, boards.View{}, slow)
}

func look(t *testing.T, p *servicetest.Parts, board string, how boards.View, slow func()) *viewer {
	t.Helper()
	v := &viewer{choices: map[string]map[string]string{}, rows: map[int]map[string]string{}, last: map[int]boards.Update{}, fulls: map[int]int{}, done: make(chan error, 1)}
	ctx, end := context.WithCancel(t.Context())
	v.end = end
	go func() {
		v.done <- p.Boards.Watch(ctx, board, how, func(b *boards.Board) error {
			v.mu.Lock()
			defer v.mu.Unlock()
			v.board = b
			return nil
		}, func(u boards.Update) error {
			slow()
			v.mu.Lock()
			defer v.mu.Unlock()
			if u.Variable != "" {
				if u.Full || v.choices[u.Variable] == nil {
					v.choices[u.Variable] = map[string]string{}
				}
				for _, r := range u.Rows {
					v.choices[u.Variable][r.Key] = string(r.Row)
				}
				return nil
			}
			v.told++
			v.last[u.Panel] = u
			if u.Full || v.rows[u.Panel] == nil {
				v.rows[u.Panel] = map[string]string{}
				v.fulls[u.Panel]++
			}
			for _, r := range u.Rows {
				if r.Row == nil {
					delete(v.rows[u.Panel], r.Key)
				} else {
					v.rows[u.Panel][r.Key] = string(r.Row)
				}
			}
			return nil
		})
	}()
	return v
}

func (v *viewer) leave(t *testing.T) {
	t.Helper()
	v.end()
	if err := <-v.done; err != nil {
		t.Error(err)
	}
}

func (v *viewer) sees(panel int) []string {
	v.mu.Lock()
	defer v.mu.Unlock()
	out := []string{}
	for _, r := range v.rows[panel] {
		out = append(out, r)
	}
	slices.Sort(out)
	return out
}

const someBoard = `CREATE TOPIC 'reads' (PARTITIONS 2);
DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, n BIGINT, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'reads';
CREATE BOARD race (TITLE 'Race', ROWS 60)
	PANEL 'by chip' BARS (TOP 5, UNIT 'reads') AS (SELECT chip, COUNT(*) AS many, MAX(n) AS last FROM reads GROUP BY chip FORGET AFTER 365 DAYS)
	PANEL 'newest' TABLE AS (SELECT chip, n FROM reads WHERE n % 2 = 0)
	PANEL 'all' NUMBER AS (SELECT COUNT(*) AS many FROM reads GROUP BY mat FORGET AFTER 365 DAYS)
	PANEL 'odd chips' TABLE AS (SELECT chip FROM (SELECT chip, COUNT(*) AS many FROM reads GROUP BY chip FORGET AFTER 365 DAYS) WHERE many % 2 = 1)
	PANEL 'about' TEXT 'Who was read where.';`

// TestKept: whoever looks at a board, quickly or slowly, from the beginning or later, comes to see what a plain computation says of all rows: the newest of each key,
// the newest of those without one, as many as are kept, and of rows that are withdrawn those that are not.
func TestKept(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(someBoard)
	r := rand.New(rand.NewPCG(1, 2))
	viewers := []*viewer{watch(t, p, "race", func() {}), watch(t, p, "race", func() { time.Sleep(150 * time.Millisecond) })}
	type sum struct{ many, last int }
	chips, mats := map[string]*sum{}, map[string]int{}
	var even []string
	n := 0
	for round := range 60 {
		var ms []string
		for range r.IntN(120) {
			chip, mat := fmt.Sprintf("P%02d", r.IntN(40)), fmt.Sprintf("M%d", r.IntN(3))
			if chips[chip] == nil {
				chips[chip] = &sum{}
			}
			chips[chip].many++
			chips[chip].last = n
			mats[mat]++
			if n%2 == 0 {
				even = append(even, fmt.Sprintf(`{"chip":"%s","n":%d}`, chip, n))
			}
			ms = append(ms, fmt.Sprintf(`{"chip":"%s","mat":"%s","n":%d,"at":"2026-05-17T09:00:00Z"}`, chip, mat, n))
			n++
		}
		p.Write("reads", ms...)
		if round%20 == 10 {
			viewers = append(viewers, watch(t, p, "race", func() {}))
		}
		time.Sleep(10 * time.Millisecond)
	}
	want := make([][]string, 4)
	for c, s := range chips {
		want[0] = append(want[0], fmt.Sprintf(`{"chip":"%s","many":%d,"last":%d}`, c, s.many, s.last))
		if s.many%2 == 1 {
			want[3] = append(want[3], fmt.Sprintf(`{"chip":"%s"}`, c))
		}
	}
	for _, k := range mats {
		want[2] = append(want[2], fmt.Sprintf(`{"many":%d}`, k))
	}
	for i := range want {
		slices.Sort(want[i])
	}
	for i, v := range viewers {
		p.Wait(fmt.Sprintf("viewer %d sees all", i), func() bool {
			v.mu.Lock()
			dropped := v.last[1].Dropped
			v.mu.Unlock()
			return slices.Equal(v.sees(0), want[0]) && slices.Equal(v.sees(2), want[2]) && slices.Equal(v.sees(3), want[3]) && dropped == int64(len(even)-60)
		})
		// Of rows without a key the newest stay; those of two partitions come as they come.
		if got := v.sees(1); len(got) != 60 || slices.ContainsFunc(got, func(r string) bool { return !slices.Contains(even, r) }) {
			t.Errorf("viewer %d sees %d of the newest rows: %v", i, len(got), got)
		}
	}
	slow, quick := viewers[1].told, viewers[0].told
	if slow >= quick {
		t.Errorf("the slow one was told %d times, the quick one %d", slow, quick)
	}
	u, err := p.Boards.Stands(t.Context(), "race", 0, boards.View{}, 10*time.Second)
	if err != nil || len(u.Rows) != len(want[0]) {
		t.Errorf("%d rows stand, wanted %d: %v", len(u.Rows), len(want[0]), err)
	}
	for _, v := range viewers {
		v.leave(t)
	}
}

// TestOnce: a query runs once for all who look, goes on for a while when nobody does, and then ends; one that looks again sees all from the beginning.
func TestOnce(t *testing.T) {
	p := servicetest.New(t)
	p.Boards.Lingers = 300 * time.Millisecond
	p.Apply(someBoard)
	p.Write("reads", `{"chip":"A","mat":"M","n":1,"at":"2026-05-17T09:00:00Z"}`)
	a, b := watch(t, p, "race", func() {}), watch(t, p, "race", func() {})
	for _, v := range []*viewer{a, b} {
		p.Wait("both see the row", func() bool { return len(v.sees(0)) == 1 })
	}
	if n := p.Boards.Running(); n != 4 {
		t.Errorf("%d queries run, wanted 4", n)
	}
	a.leave(t)
	b.leave(t)
	if n := p.Boards.Running(); n != 4 {
		t.Errorf("%d queries run on, wanted 4", n)
	}
	p.Wait("they have ended", func() bool { return p.Boards.Running() == 0 })
	c := watch(t, p, "race", func() {})
	p.Wait("the row is seen again", func() bool { return slices.Equal(c.sees(0), []string{`{"chip":"A","many":1,"last":1}`}) })
	c.leave(t)
}

// TestBoardsRefused: what is wrong with a board is said, with the place and the way out.
func TestBoardsRefused(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(someBoard)
	for statement, words := range map[string]string{
		"CREATE BOARD b": "a board has a panel at least",
		"CREATE BOARD b PANEL 'x' PIE AS (SELECT 1 AS n FROM reads)":              "no kind of panel is called PIE",
		"CREATE BOARD b PANEL 'x' BAR AS (SELECT 1 AS n FROM reads)":              `did you mean "bars"?`,
		"CREATE BOARD b PANEL 'x' NUMBER AS (SELECT chip FROM reads)":             "a panel of NUMBER needs a column of numbers",
		"CREATE BOARD b PANEL 'x' SERIES (VALUE nn) AS (SELECT at, n FROM reads)": `the query has no column "nn"`,
		"CREATE BOARD b PANEL 'x' SERIES (TIME n) AS (SELECT at, n FROM reads)":   "TIME takes a column of time, and n is BIGINT",
		"CREATE BOARD b PANEL 'x' NUMBER (STACKED true) AS (SELECT n FROM reads)": "a panel of NUMBER has no option STACKED",
		"CREATE BOARD b PANEL 'x' NUMBER AS (SELECT n FROM nobody)":               `no stream, table, view or step is called "nobody"`,
		"CREATE BOARD b PANEL 'x' NUMBER AS (SELECT n FROM reads UNTIL NOW)":      "leave UNTIL out",
		"CREATE BOARD b (ROWS 1000000) PANEL 'x' NUMBER AS (SELECT n FROM reads)": "a panel keeps up to 50000 rows",
		"CREATE BOARD race PANEL 'x' NUMBER AS (SELECT n FROM reads)":             `"race" is already a board`,
		"DROP STREAM reads": "is used by the board race",
		"CREATE BOARD b PANEL 'x' NUMBER AS (SELECT n FROM reads)" + strings.Repeat(" PANEL 'y' TEXT 'z'", 60): "a board has up to 60 panels",
	} {
		p.Refused(statement, words)
	}
	if _, err := p.Boards.Get("rase"); err == nil || !strings.Contains(err.Error(), `did you mean "race"?`) {
		t.Errorf("%v", err)
	}
	// A board whose stream gets columns goes on.
	p.Apply("DECLARE OR REPLACE STREAM reads (chip VARCHAR, mat VARCHAR, n BIGINT, at TIMESTAMP, more BIGINT) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'reads';")
	p.Apply("CREATE OR REPLACE BOARD race PANEL 'x' NUMBER AS (SELECT more FROM reads);")
	b, err := p.Boards.Get("race")
	if err != nil || len(b.Panels) != 1 || b.Title != "race" {
		t.Errorf("%+v %v", b, err)
	}
	text, err := json.Marshal(b)
	if err != nil || !strings.Contains(string(text), `"value":"more"`) {
		t.Errorf("%s %v", text, err)
	}
	p.Apply("DROP BOARD race; DROP STREAM reads;")
	if l := p.Boards.List(); len(l) != 0 {
		t.Errorf("%+v", l)
	}
}

// TestUpdateAsJSON: what is told of a board is written as encoding/json writes it.
func TestUpdateAsJSON(t *testing.T) {
	for _, u := range []boards.Update{
		{Rows: []boards.Row{}},
		{Panel: -1, Variable: "mat", Full: true, Rows: []boards.Row{{Key: "a", Row: []byte(`{"x":1}`)}, {Key: "b"}}},
		{Panel: 3, Rows: []boards.Row{{Key: "odd \"\\\x00\n\u2028é<&>", Row: []byte(`{"x":"\u003c"}`)}}, Dropped: 7, Late: -1, Reject: 1 << 60, Problem: "it says \"no\"\n"},
		{Rows: []boards.Row{{Key: "\xff no text"}}, Problem: "💧"},
	} {
		want, err := json.Marshal(u)
		if got := u.AppendJSON(nil); err != nil || string(got) != string(want) {
			t.Errorf("%s\nwanted %s %v", got, want, err)
		}
	}
}
