package boards_test

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
	"fiume/internal/service/boards"
	"fiume/internal/service/servicetest"
)

const chosenBoard = `CREATE TOPIC 'reads';
DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, n BIGINT, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'reads';
CREATE BOARD race (TITLE 'Race')
	VARIABLE mat 'Mat' (ALL 'every mat') AS (SELECT mat, COUNT(*) AS many FROM reads GROUP BY mat FORGET AFTER 365 DAYS)
	VARIABLE least (DEFAULT '2') AS (SELECT n FROM reads)
	PANEL 'at the mat' TABLE AS (SELECT chip, n FROM reads WHERE (:mat IS NULL OR mat = :mat) AND n >= :least)
	PANEL 'all' NUMBER AS (SELECT COUNT(*) AS many FROM reads GROUP BY 1 FORGET AFTER 365 DAYS);`

// TestChosen: panels show what was chosen of a board's variables, for each who looks his own, and what can be chosen is told.
func TestChosen(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(strings.Replace(chosenBoard, "GROUP BY 1 ", "GROUP BY mat ", 1))
	for i := range 6 {
		p.Write("reads", fmt.Sprintf(`{"chip":"C%d","mat":"M%d","n":%d,"at":"2026-05-17T09:0%d:00Z"}`, i, i%2, i, i))
	}
	row := func(i int) string { return fmt.Sprintf(`{"chip":"C%d","n":%d}`, i, i) }
	for _, x := range []struct {
		chosen map[string]string
		wanted []string
	}{
		{nil, []string{row(2), row(3), row(4), row(5)}},
		{map[string]string{"mat": "M1"}, []string{row(3), row(5)}},
		{map[string]string{"mat": "", "least": "5"}, []string{row(5)}},
		{map[string]string{"mat": "M0", "least": "-1"}, []string{row(0), row(2), row(4)}},
		{map[string]string{"mat": "it's :least; \"M0\""}, []string{}},
	} {
		v := look(t, p, "race", boards.View{Chosen: x.chosen}, func() {})
		p.Wait(fmt.Sprintf("%v shows %v", x.chosen, x.wanted), func() bool {
			v.mu.Lock()
			mats, ns := len(v.choices["mat"]), len(v.choices["least"])
			v.mu.Unlock()
			return slices.Equal(v.sees(0), x.wanted) && mats == 2 && ns == 6 && len(v.sees(1)) == 2
		})
		v.leave(t)
	}
	if err := p.Boards.Watch(t.Context(), "race", boards.View{Chosen: map[string]string{"least": "many"}}, func(*boards.Board) error { return nil },
		func(u boards.Update) error {
			if u.Problem == "" {
				return nil
			}
			return errors.New(u.Problem)
		}); err == nil || !strings.Contains(err.Error(), `"many" is no BIGINT, which the variable least takes`) {
		t.Error(err)
	}
	for statement, words := range map[string]string{
		"CREATE BOARD b VARIABLE v AS (SELECT mat FROM reads) PANEL 'x' TEXT 'y'":                                                                                         "what is chosen at first of v is not said",
		"CREATE BOARD b VARIABLE v (DEFAULT 'x') AS (SELECT n FROM reads) PANEL 'x' TEXT 'y'":                                                                             `"x" is no BIGINT`,
		"CREATE BOARD b VARIABLE v (ALL 'x') AS (SELECT at FROM reads) PANEL 'x' TEXT 'y'":                                                                                "takes texts or whole numbers",
		"CREATE BOARD b VARIABLE v (ALL 'x') AS (SELECT n FROM reads) VARIABLE v (ALL 'x') AS (SELECT n FROM reads) PANEL 'x' TEXT 'y'":                                   "the variable v is there twice",
		"CREATE BOARD b PANEL 'x' NUMBER AS (SELECT n FROM reads WHERE n > :v)":                                                                                           "the parameter :v has no value",
		"CREATE BOARD b VARIABLE v (ALL 'x') AS (SELECT n FROM reads) PANEL 'x' NUMBER AS (SELECT COUNT(*) AS n FROM reads GROUP BY w WINDOW w AS (TUMBLING :v MINUTES))": "stands where an expression may",
		"CREATE BOARD b VARIABLE v (ALL 'x') AS (SELECT n FROM reads) PANEL 'x' NUMBER AS (SELECT n FROM reads WHERE mat = :v)":                                           "",
		"CREATE BOARD b PANEL 'x' TEXT 'y' VARIABLE v (ALL 'x') AS (SELECT n FROM reads)":                                                                                 "variables stand before the first panel",
		"CREATE BOARD b VARIABLE v (ALL 'x') AS (SELECT m FROM reads) PANEL 'x' NUMBER AS (SELECT n FROM reads WHERE n = :v)":                                             `did you mean "n"?`,
		"CREATE BOARD b PANEL 'x' MAP AS (SELECT n FROM reads)":                                                                                                           "a panel of MAP needs",
		"CREATE BOARD b PANEL 'x' MAP (ACROSS n, UP n, OUTLINE '1 2, 3') AS (SELECT n FROM reads)":                                                                        `"3" is no point`,
		"CREATE BOARD b PANEL 'x' STATES AS (SELECT at, n FROM reads)":                                                                                                    "a panel of STATES needs a column of text",
	} {
		p.Refused(statement, words)
	}
}

// TestStretch: a fixed stretch of event time shows what happened in it, whenever it arrived, in panels of every kind.
func TestStretch(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(strings.Replace(chosenBoard, "GROUP BY 1 ", "GROUP BY mat ", 1))
	for i := range 10 {
		p.Write("reads", fmt.Sprintf(`{"chip":"C%d","mat":"M","n":%d,"at":"2026-05-17T09:0%d:00Z"}`, i, i, i))
	}
	at := func(minute int) int64 {
		us, _ := types.ParseTimestamp([]byte(fmt.Sprintf("2026-05-17T09:%02d:00Z", minute)))
		return us
	}
	for _, x := range []struct{ from, to int }{{3, 7}, {0, 10}, {9, 10}, {20, 30}} {
		many := 0
		var rows []string
		for i := range 10 {
			if i >= x.from && i < x.to {
				many++
				if i >= 2 {
					rows = append(rows, fmt.Sprintf(`{"chip":"C%d","n":%d}`, i, i))
				}
			}
		}
		count := []string{}
		if many > 0 {
			count = []string{fmt.Sprintf(`{"many":%d}`, many)}
		}
		v := look(t, p, "race", boards.View{From: at(x.from), To: at(x.to)}, func() {})
		p.Wait(fmt.Sprintf("the stretch %v shows %v", x, rows), func() bool { return slices.Equal(v.sees(0), rows) && slices.Equal(v.sees(1), count) })
		v.leave(t)
	}
	for words, view := range map[string]boards.View{"ends before it begins": {From: 2, To: 1}, "up to 400 days": {From: -1 << 60, To: 1}} {
		if _, err := p.Boards.Stands(t.Context(), "race", 0, view, time.Second); !errors.Is(err, base.ErrRefused) || !strings.Contains(err.Error(), words) {
			t.Errorf("%+v: %v", view, err)
		}
	}
}

// TestReplaced: whoever looks at a board hears that it has been replaced or dropped.
func TestReplaced(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(someBoard)
	v := watch(t, p, "race", func() {})
	p.Wait("it is looked at", func() bool { return p.Boards.Running() == 4 })
	p.Apply("CREATE OR REPLACE BOARD race PANEL 'x' NUMBER AS (SELECT n FROM reads);")
	if err := <-v.done; !errors.Is(err, boards.ErrReplaced) {
		t.Errorf("%v", err)
	}
	v = watch(t, p, "race", func() {})
	p.Wait("the new one is looked at", func() bool { v.mu.Lock(); defer v.mu.Unlock(); return v.board != nil && len(v.board.Panels) == 1 })
	p.Apply("DROP BOARD race;")
	if err := <-v.done; !errors.Is(err, base.ErrNotFound) {
		t.Errorf("%v", err)
	}
}

// TestDraft: a board that is being changed is drawn as it stands, with what is wrong with each of its panels, and is kept only when it is applied.
func TestDraft(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(someBoard)
	p.Write("reads", `{"chip":"A","mat":"M","n":1,"at":"2026-05-17T09:00:00Z"}`)
	d, err := p.Boards.Draft(t.Context(), "mine", "-- about\nCREATE BOARD race PANEL 'good' NUMBER AS (SELECT n FROM reads) PANEL 'bad' NUMBER AS (SELECT m FROM reads);", nil)
	if err != nil || !strings.Contains(d.Problem, `"m"`) || len(d.Parts.Panels) != 2 || !strings.HasPrefix(d.SQL, "-- about\n") {
		t.Fatalf("%+v %v", d, err)
	}
	v := look(t, p, "race", boards.View{Draft: "mine"}, func() {})
	p.Wait("the good panel shows its row", func() bool { return slices.Equal(v.sees(0), []string{`{"n":1}`}) })
	if v.board.Panels[1].Problem == "" {
		t.Errorf("%+v", v.board.Panels)
	}
	d.Parts.Panels = append(d.Parts.Panels[:1], sql.PanelParts{Title: "it's", Kind: "text", Words: "words"})
	if d, err = p.Boards.Draft(t.Context(), "mine", "", d.Parts); err != nil || d.Problem != "" || !strings.Contains(d.SQL, "PANEL 'it''s' TEXT 'words'") {
		t.Fatalf("%+v %v", d, err)
	}
	if err := <-v.done; !errors.Is(err, boards.ErrReplaced) {
		t.Errorf("%v", err)
	}
	if b, err := p.Boards.Get("race"); err != nil || len(b.Panels) != 5 {
		t.Errorf("%+v %v", b, err)
	}
	d.Parts.Panels[0].Query = "SELECT n FROM reads) PANEL"
	if _, err := p.Boards.Draft(t.Context(), "mine", "", d.Parts); !errors.Is(err, base.ErrRefused) || !strings.Contains(err.Error(), "the panel 1, good") {
		t.Errorf("%v", err)
	}
	for _, text := range []string{"", "SELECT 1 FROM reads", "CREATE BOARD"} {
		if _, err := p.Boards.Draft(t.Context(), "mine", text, nil); !errors.Is(err, base.ErrRefused) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := p.Boards.Stands(t.Context(), "race", 0, boards.View{Draft: "yours"}, time.Second); !errors.Is(err, base.ErrNotFound) {
		t.Errorf("%v", err)
	}
}

// TestLargeRows: rows that are large, and many of one message, are kept and told up to the bytes that a panel has, and what is dropped is counted.
func TestLargeRows(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(`CREATE TOPIC 'notes'; DECLARE STREAM notes (s VARCHAR) FROM TOPIC 'notes';
		CREATE BOARD large (ROWS 20000) PANEL 'large' TABLE AS (SELECT REPEAT(s, 500000) AS s FROM notes) PANEL 'many' TABLE AS (SELECT n.s FROM notes n CROSS JOIN UNNEST(SPLIT(REPEAT(s, 500), 'a')) AS x (y));`)
	var ms []string
	for range 80 {
		ms = append(ms, `{"s":"ab"}`)
	}
	p.Write("notes", ms...)
	v := watch(t, p, "large", func() {})
	p.Wait("all rows were kept or dropped", func() bool {
		v.mu.Lock()
		defer v.mu.Unlock()
		large, many := int64(len(v.rows[0])), int64(len(v.rows[1]))
		return v.last[0].Dropped+large == 80 && large > 0 && large <= 17 && v.last[1].Dropped+many == 80*501 && many == 20000
	})
	v.leave(t)
}

// TestHistogram: every value is counted once, in a stretch that holds it, and stretches begin at round numbers.
func TestHistogram(t *testing.T) {
	for i, values := range [][]float64{{5}, {0, 0, 0}, {1, 2, 3, 4, 100}, {-3.5, 2.25, 7}, {1e-9, 2e-9}, {-1.7e308, 1.7e308}, {5e-324, 1e-323}, {1e15, 1e15 + 1}} {
		for _, bins := range []int{0, 2, 10, 200} {
			low, step, counts := boards.Histogram(values, bins)
			sum := 0
			for _, n := range counts {
				sum += n
			}
			if sum != len(values) || !(step > 0) || math.IsInf(step, 0) || len(counts) > 402 {
				t.Errorf("%d, %d bins: %g %g %v", i, bins, low, step, counts)
			}
		}
	}
	low, step, counts := boards.Histogram([]float64{0, 1, 1.5, 9.9, 10, 19}, 10)
	if low != 0 || step != 2 || !slices.Equal(counts, []int{3, 0, 0, 0, 1, 1, 0, 0, 0, 1}) {
		t.Errorf("%g %g %v", low, step, counts)
	}
}
