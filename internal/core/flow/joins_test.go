package flow

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// joined is a generated query over the streams a and b, or over the tables s and u, with the plain
// computation of its final results.
type joined struct {
	sql    string   // the body of a step called x
	more   string   // further steps, the last called out; empty: x is out
	late   bool     // ROUTE LATE x, all sides
	tables []string // among a, b, c: those that are tables
	timed  bool     // they have an event time
	model  func(of map[string][][]row) (out []string, late []row)
}

func rowsOf(splits [][]row) (out []row) {
	for _, s := range splits {
		out = append(out, s...)
	}
	return out
}

// bounds makes a bound in time as SQL and as least and greatest distance of b's time from a's.
func bounds(r *rand.Rand, a, b string) (text string, lo, hi int64) {
	d := lengths(r, 0, 1, 5, 20, 60)
	e := lengths(r, 0, 1, 5, 20)
	switch r.IntN(6) {
	case 0:
		return fmt.Sprintf("%s.at WITHIN %s OF %s.at", b, seconds(d), a), -d, d
	case 1:
		return fmt.Sprintf("%s.at WITHIN %s AFTER %s.at", b, seconds(d), a), 0, d
	case 2:
		return fmt.Sprintf("%s.at WITHIN %s BEFORE %s.at", b, seconds(d), a), -d, 0
	case 3:
		return fmt.Sprintf("%s.at BETWEEN %s.at - %s AND %s.at + %s", b, a, interval(d), a, interval(e)), -d, e
	case 4:
		return fmt.Sprintf("%s.at > %s.at + %s AND %s.at <= %s.at + %s", b, a, interval(e), b, a, interval(d+e+second)), e + 1, d + e + second
	}
	return fmt.Sprintf("%s.at - %s.at BETWEEN %s AND %s", a, b, interval(e), interval(d+e)), -d - e, -e
}

func interval(d int64) string { return fmt.Sprintf("INTERVAL '%d' SECOND", d/second) }

// conditions are further conditions of a join.
func conditions(r *rand.Rand) (text string, holds func(a, b row) bool) {
	switch r.IntN(4) {
	case 0:
		return " AND a.v < b.v", func(a, b row) bool { return a.v < b.v }
	case 1:
		return " AND b.v > 10", func(_, b row) bool { return b.v > 10 }
	case 2:
		return " AND a.v > 10", func(a, _ row) bool { return a.v > 10 }
	}
	return "", func(row, row) bool { return true }
}

func pairText(a, b *row) string {
	one := func(r *row) string {
		if r == nil {
			return "  "
		}
		return fmt.Sprint(r.key, " ", r.v, " ", stamp(r.t))
	}
	return one(a) + " " + one(b)
}

const pairColumns = "a.k AS k, a.v AS v, a.at AS at, b.k AS bk, b.v AS bv, b.at AS bat"

var joinGenerators = []func(r *rand.Rand) joined{
	func(r *rand.Rand) joined { // a stream with a stream, or with itself; all kinds
		kind := r.IntN(6)
		other := "b"
		if r.IntN(5) == 0 {
			other = "a"
		}
		bound, lo, hi := bounds(r, "a", "b")
		cond, holds := conditions(r)
		late := lengths(r, 0, 0, 3, 20)
		lateText := ""
		if late > 0 && kind < 4 {
			lateText = " LATENESS " + seconds(late)
		} else {
			late = 0
		}
		text := fmt.Sprintf("SELECT %s FROM a %s JOIN %s b ON a.k = b.k AND %s%s%s", pairColumns, []string{"INNER", "LEFT", "RIGHT", "FULL"}[min(kind, 3)], other, bound, cond, lateText)
		if kind >= 4 {
			text = fmt.Sprintf("SELECT a.k AS k, a.v AS v, a.at AS at FROM a WHERE %s (SELECT 1 FROM %s b WHERE b.k = a.k AND %s%s)", []string{"EXISTS", "NOT EXISTS"}[kind-4], other, bound, cond)
		}
		return joined{late: other != "a" && kind < 4 && cond == "", sql: text, model: func(of map[string][][]row) (out []string, gone []row) {
			as, l1 := punctual(rowsOf(of["a"]), late)
			bs, l2 := punctual(rowsOf(of[other]), late)
			met := make([]bool, len(bs))
			for _, a := range as {
				any := false
				for i, b := range bs {
					if d := b.t - a.t; a.key != "" && a.key == b.key && d >= lo && d <= hi && holds(a, b) {
						any, met[i] = true, true
						if kind < 4 {
							out = append(out, pairText(&a, &b))
						}
					}
				}
				switch {
				case !any && (kind == 1 || kind == 3):
					out = append(out, pairText(&a, nil))
				case kind >= 4 && any == (kind == 4):
					out = append(out, a.String())
				}
			}
			for i, b := range bs {
				if !met[i] && (kind == 2 || kind == 3) {
					out = append(out, pairText(nil, &b))
				}
			}
			return out, append(l1, l2...)
		}}
	},
	func(r *rand.Rand) joined { // the last or the first match
		bound, lo, hi := bounds(r, "a", "b")
		cond, holds := conditions(r)
		pick, kind := []string{"LAST", "FIRST"}[r.IntN(2)], []string{"", "LEFT "}[r.IntN(2)]
		return joined{late: cond == "", sql: fmt.Sprintf("SELECT %s FROM a %sJOIN %s OF b ON a.k = b.k AND %s%s", pairColumns, kind, pick, bound, cond),
			model: func(of map[string][][]row) (out []string, late []row) {
				as, l1 := punctual(rowsOf(of["a"]), 0)
				bs, l2 := punctual(rowsOf(of["b"]), 0)
				bs = inEventOrder(bs)
				for _, a := range as {
					var match *row
					for i, b := range bs {
						if d := b.t - a.t; a.key != "" && a.key == b.key && d >= lo && d <= hi && holds(a, b) && (match == nil || pick == "LAST") {
							match = &bs[i]
						}
					}
					if match != nil || kind != "" {
						out = append(out, pairText(&a, match))
					}
				}
				return out, append(l1, l2...)
			}}
	},
	func(r *rand.Rand) joined { // three streams
		bound, lo, hi := bounds(r, "a", "b")
		of := []string{"a", "b"}[r.IntN(2)]
		second, lo2, hi2 := bounds(r, of, "c")
		left := []string{"", "LEFT "}[r.IntN(2)]
		if left != "" {
			of = "a"
			second, lo2, hi2 = bounds(r, of, "c")
		}
		return joined{sql: fmt.Sprintf("SELECT %s, c.v AS cv, c.at AS cat FROM a %sJOIN b ON a.k = b.k AND %s JOIN c ON c.k = %s.k AND %s", pairColumns, left, bound, of, second),
			model: func(rows map[string][][]row) (out []string, late []row) {
				as, _ := punctual(rowsOf(rows["a"]), 0)
				bs, _ := punctual(rowsOf(rows["b"]), 0)
				cs, _ := punctual(rowsOf(rows["c"]), 0)
				third := func(a row, b *row) {
					for _, c := range cs {
						from := a
						if of == "b" {
							from = *b
						}
						if d := c.t - from.t; c.key == from.key && c.key != "" && d >= lo2 && d <= hi2 {
							out = append(out, pairText(&a, b)+fmt.Sprint(" ", c.v, " ", stamp(c.t)))
						}
					}
				}
				for _, a := range as {
					any := false
					for i, b := range bs {
						if d := b.t - a.t; a.key != "" && a.key == b.key && d >= lo && d <= hi {
							any = true
							third(a, &bs[i])
						}
					}
					if !any && left != "" {
						third(a, nil)
					}
				}
				return out, nil
			}}
	},
	func(r *rand.Rand) joined { // pairs in windows, by the later time or by that of one side
		bound, lo, hi := bounds(r, "a", "b")
		d := lengths(r, 1, 10, 60)
		on := r.IntN(3)
		return joined{sql: fmt.Sprintf("SELECT a.k AS k, w.opens AS o, COUNT(*) AS n, SUM(a.v + b.v) AS s FROM a JOIN b ON a.k = b.k AND %s GROUP BY a.k, w WINDOW w AS (TUMBLING %s%s)",
			bound, seconds(d), []string{"", " ON a.at", " ON b.at"}[on]), model: func(of map[string][][]row) (out []string, late []row) {
			as, _ := punctual(rowsOf(of["a"]), 0)
			bs, _ := punctual(rowsOf(of["b"]), 0)
			sums := map[string][2]int64{}
			for _, a := range as {
				for _, b := range bs {
					if x := b.t - a.t; a.key != "" && a.key == b.key && x >= lo && x <= hi {
						t := []int64{max(a.t, b.t), a.t, b.t}[on]
						k := fmt.Sprint(a.key, " ", stamp(plan.FloorDiv(t, d)*d))
						s := sums[k]
						sums[k] = [2]int64{s[0] + 1, s[1] + a.v + b.v}
					}
				}
			}
			for k, s := range sums {
				out = append(out, fmt.Sprint(k, " ", s[0], " ", s[1]))
			}
			return out, nil
		}}
	},
	func(r *rand.Rand) joined { // windowed results that are corrected, joined by their windows
		d, late := lengths(r, 5, 20), lengths(r, 0, 5, 20)
		kind := r.IntN(4)
		window := func(s string) string {
			return fmt.Sprintf("(SELECT k, w.opens AS o, w.closes AS c, SUM(v) AS s FROM %s WHERE k IS NOT NULL GROUP BY k, w WINDOW w AS (TUMBLING %s LATENESS %s)) %s", s, seconds(d), seconds(late), s)
		}
		return joined{sql: fmt.Sprintf("SELECT a.k AS k, a.o AS o, b.k AS bk, b.o AS bo, a.s AS s, b.s AS bs FROM %s %s JOIN %s ON a.k = b.k AND a.o = b.o AND a.c = b.c",
			window("a"), []string{"INNER", "LEFT", "RIGHT", "FULL"}[kind], window("b")), model: func(of map[string][][]row) (out []string, _ []row) {
			sums := func(name string) map[string]int64 {
				rows := slices.DeleteFunc(rowsOf(of[name]), func(x row) bool { return x.key == "" })
				m, _ := windowed(rows, fixed(d, d, 0), late)
				flat := map[string]int64{}
				for k, ws := range m {
					for w, t := range ws {
						flat[fmt.Sprint(k, " ", stamp(w[0]))] = t.sum
					}
				}
				return flat
			}
			as, bs := sums("a"), sums("b")
			for k, s := range as {
				if t, ok := bs[k]; ok {
					out = append(out, fmt.Sprint(k, " ", k, " ", s, " ", t))
				} else if kind == 1 || kind == 3 {
					out = append(out, fmt.Sprint(k, "   ", s, " "))
				}
			}
			for k, t := range bs {
				if _, ok := as[k]; !ok && kind >= 2 {
					out = append(out, fmt.Sprint("  ", k, "  ", t))
				}
			}
			return out, nil
		}}
	},
	func(r *rand.Rand) joined { // a table as it was
		kind, cond, holds := r.IntN(2), "", func(row, row) bool { return true }
		if r.IntN(2) == 0 {
			cond, holds = " AND a.v < b.v", func(a, b row) bool { return a.v < b.v }
		}
		late := lengths(r, 1, 5, 3600)
		return joined{late: true, timed: true, tables: []string{"b"}, sql: fmt.Sprintf("SELECT %s FROM a %s JOIN b AS OF a.at ON b.k = a.k%s LATENESS %s", pairColumns, []string{"INNER", "LEFT"}[kind], cond, seconds(late)),
			model: func(of map[string][][]row) (out []string, gone []row) {
				as, l := punctual(rowsOf(of["a"]), late)
				for _, a := range as {
					b := asOf(of["b"], a.key, a.t)
					if b != nil && !holds(a, *b) {
						b = nil
					}
					if b != nil || kind == 1 {
						out = append(out, pairText(&a, b))
					}
				}
				return out, l
			}}
	},
	func(r *rand.Rand) joined { // a table as it was, then a window: rows are judged by their own stamps
		d := lengths(r, 1, 10, 60)
		return joined{late: false, timed: true, tables: []string{"b"}, more: fmt.Sprintf(", out AS (SELECT k, w.opens AS o, COUNT(*) AS n, SUM(v) AS s FROM x GROUP BY k, w WINDOW w AS (TUMBLING %s))", seconds(d)),
			sql: "SELECT a.k AS k, a.v + b.v AS v, a.at AS at FROM a JOIN b AS OF a.at ON b.k = a.k",
			model: func(of map[string][][]row) (out []string, _ []row) {
				var rows []row
				for _, a := range rowsOf(of["a"]) {
					if b := asOf(of["b"], a.key, a.t); b != nil && a.t+types.Hour >= a.w {
						a.v += b.v
						rows = append(rows, a)
					}
				}
				m, _ := windowed(rows, fixed(d, d, 0), 0)
				for k, ws := range m {
					for w, t := range ws {
						out = append(out, fmt.Sprint(k, " ", stamp(w[0]), " ", t.n, " ", t.sum))
					}
				}
				return out, nil
			}}
	},
	func(r *rand.Rand) joined { // the last window that had closed
		step := lengths(r, 1, 5, 20)
		d, kind := step*int64(1+r.IntN(4)), r.IntN(2)
		other := []string{"a", "b"}[r.IntN(2)]
		return joined{sql: fmt.Sprintf("SELECT a.k AS k, a.v AS v, a.at AS at, h.c AS c, h.s AS s FROM a %s JOIN (SELECT k, w.closes AS c, SUM(v) AS s FROM %s GROUP BY k, w WINDOW w AS (SLIDING %s EVERY %s)) h AS OF a.at ON h.k = a.k",
			[]string{"INNER", "LEFT"}[kind], other, seconds(d), seconds(step)), model: func(of map[string][][]row) (out []string, _ []row) {
			m, _ := windowed(rowsOf(of[other]), fixed(d, step, 0), 0)
			as, _ := punctual(rowsOf(of["a"]), types.Hour)
			for _, a := range as {
				closed := plan.FloorDiv(a.t, step) * step
				if t := m[a.key][[2]int64{closed - d, closed}]; t != nil && a.key != "" {
					out = append(out, fmt.Sprint(a.key, " ", a.v, " ", stamp(a.t), " ", stamp(closed), " ", t.sum))
				} else if kind == 1 {
					out = append(out, fmt.Sprint(a.key, " ", a.v, " ", stamp(a.t), "  "))
				}
			}
			return out, nil
		}}
	},
	func(r *rand.Rand) joined { // tables with tables
		kind := r.IntN(6)
		cond, holds := conditions(r)
		text := fmt.Sprintf("SELECT %s FROM a %s JOIN b ON a.v %% 7 = b.v %% 7%s", strings.ReplaceAll(pairColumns, ", a.at AS at", ""), []string{"INNER", "LEFT", "RIGHT", "FULL"}[min(kind, 3)], cond)
		text = strings.ReplaceAll(text, ", b.at AS bat", "")
		if kind >= 4 {
			text = fmt.Sprintf("SELECT a.k AS k, a.v AS v FROM a WHERE %s (SELECT 1 FROM b WHERE a.v %% 7 = b.v %% 7%s)", []string{"EXISTS", "NOT EXISTS"}[kind-4], cond)
		}
		short := func(a, b *row) string {
			one := func(r *row) string {
				if r == nil {
					return " "
				}
				return fmt.Sprint(r.key, " ", r.v)
			}
			return one(a) + " " + one(b)
		}
		return joined{tables: []string{"a", "b"}, sql: text, model: func(of map[string][][]row) (out []string, _ []row) {
			as, bs := latest(of["a"]), latest(of["b"])
			met := map[string]bool{}
			for _, a := range as {
				any := false
				for _, b := range bs {
					if a.v%7 == b.v%7 && holds(a, b) {
						any, met[b.key] = true, true
						if kind < 4 {
							out = append(out, short(&a, &b))
						}
					}
				}
				switch {
				case !any && (kind == 1 || kind == 3):
					out = append(out, short(&a, nil))
				case kind >= 4 && any == (kind == 4):
					out = append(out, fmt.Sprint(a.key, " ", a.v))
				}
			}
			for _, b := range bs {
				if !met[b.key] && (kind == 2 || kind == 3) {
					out = append(out, short(nil, &b))
				}
			}
			return out, nil
		}}
	},
	func(r *rand.Rand) joined { // a table grouped, and its distinct values
		if r.IntN(2) == 0 {
			return joined{tables: []string{"a"}, sql: "SELECT DISTINCT v % 5 AS m FROM a", model: func(of map[string][][]row) (out []string, _ []row) {
				for _, a := range latest(of["a"]) {
					out = append(out, fmt.Sprint(a.v%5))
				}
				slices.Sort(out)
				return slices.Compact(out), nil
			}}
		}
		return joined{tables: []string{"a"}, sql: "SELECT v % 5 AS m, COUNT(*) AS n, SUM(v) AS s, MAX(v) AS x FROM a GROUP BY v % 5", model: func(of map[string][][]row) (out []string, _ []row) {
			totals := map[int64]*total{}
			for _, a := range latest(of["a"]) {
				if totals[a.v%5] == nil {
					totals[a.v%5] = &total{}
				}
				totals[a.v%5].add(a)
			}
			for m, t := range totals {
				out = append(out, fmt.Sprint(m, " ", t))
			}
			return out, nil
		}}
	},
	func(r *rand.Rand) joined { // several streams as one
		d := lengths(r, 5, 30)
		return joined{more: fmt.Sprintf(", out AS (SELECT k, w.opens AS o, COUNT(*) AS n, SUM(v) AS s FROM x GROUP BY k, w WINDOW w AS (TUMBLING %s))", seconds(d)),
			sql: "SELECT k, v, at FROM a WHERE k IS NOT NULL UNION ALL SELECT k, v + 1, at FROM b WHERE k IS NOT NULL UNION ALL SELECT k, v, at FROM a WHERE v > 3 AND k IS NOT NULL",
			model: func(of map[string][][]row) (out []string, _ []row) {
				var rows []row
				for _, a := range rowsOf(of["a"]) {
					rows = append(rows, a)
					if a.v > 3 {
						rows = append(rows, a)
					}
				}
				for _, b := range rowsOf(of["b"]) {
					b.v++
					rows = append(rows, b)
				}
				m, _ := windowed(slices.DeleteFunc(rows, func(x row) bool { return x.key == "" }), fixed(d, d, 0), 0)
				for k, ws := range m {
					for w, t := range ws {
						out = append(out, fmt.Sprint(k, " ", stamp(w[0]), " ", t.n, " ", t.sum))
					}
				}
				return out, nil
			}}
	},
}

// asOf computes what a table's row was at an instant. A change counts from its own time on, or from the
// watermark that its split had when it came; a deletion has the newest time of its split.
func asOf(splits [][]row, key string, at int64) (best *row) {
	for _, rows := range splits {
		for i := range rows {
			x := &rows[i]
			if x.key != key || key == "" || max(x.t, x.w) > at {
				continue
			}
			if best == nil || cmp.Or(cmp.Compare(x.t, best.t), cmp.Compare(x.split, best.split), cmp.Compare(x.pos, best.pos)) > 0 {
				best = x
			}
		}
	}
	if best != nil && best.gone {
		return nil
	}
	return best
}

// latest gives the rows of a table at its end. The changes of a key are in one split.
func latest(splits [][]row) (out []row) {
	m := map[string]row{}
	for _, rows := range splits {
		for _, x := range rows {
			switch {
			case x.key == "":
			case x.gone:
				delete(m, x.key)
			default:
				m[x.key] = x
			}
		}
	}
	for _, x := range m {
		out = append(out, x)
	}
	return out
}

// asTable makes a generated stream the changes of a table: many keys, each in one split, and deletions. A
// deletion gets the newest time of its split.
func asTable(r *rand.Rand, splits [][]row, delay int64) {
	for s, rows := range splits {
		newest := types.MinTime
		for i := range rows {
			x := &rows[i]
			x.key = fmt.Sprint(s, string(rune('a'+r.IntN(9))))
			if r.IntN(3) == 0 && len(splits) > 1 {
				x.key = string(rune('a' + s))
			}
			x.gone = r.IntN(6) == 0
			x.w = types.MinTime
			if newest > types.MinTime {
				x.w = newest - delay
			}
			if x.gone {
				x.t = newest
			}
			newest = max(newest, x.t)
		}
	}
}

// TestJoins holds joins of streams and tables against plain computations from the whole data, as
// TestEventTime does for windows: at several degrees of parallelism, batch sizes and interleavings, with
// crashes, results and late rows are the same, the ledger balances, and nothing is held in the end.
func TestJoins(t *testing.T) {
	forSeeds(t, 60, oneJoin)
}

// generatedJoin makes a query, its declarations and the rows of its streams and tables.
func generatedJoin(r *rand.Rand, seed uint64) (text string, q joined, of map[string][][]row) {
	q = joinGenerators[seed%uint64(len(joinGenerators))](r)
	base, pace := someTime(r)
	of = map[string][][]row{}
	text = "DECLARE SINK results TO MEMORY 'x' (CHANGES full); DECLARE SINK late TO MEMORY 'x';\n"
	for _, name := range []string{"a", "b", "c"} {
		delay := lengths(r, 0, 2, 10, 30)
		of[name] = streamsAt(r, delay, base+r.Int64N(20*second), pace)
		isTable := slices.Contains(q.tables, name)
		if isTable {
			asTable(r, of[name], delay)
		} else {
			for _, rows := range of[name] {
				for i := range rows {
					if len(q.tables) > 0 && q.timed { // the keys of the table
						rows[i].key = fmt.Sprint(r.IntN(4), string(rune('a'+r.IntN(9))))
					}
					if r.IntN(20) == 0 {
						rows[i].key = ""
					}
				}
			}
		}
		switch {
		case isTable && q.timed:
			text += fmt.Sprintf("DECLARE TABLE %s (k VARCHAR PRIMARY KEY, v BIGINT, at TIMESTAMP) EVENT TIME at DELAY %s FROM MEMORY 'x';\n", name, seconds(delay))
		case isTable:
			text += fmt.Sprintf("DECLARE TABLE %s (k VARCHAR PRIMARY KEY, v BIGINT, at TIMESTAMP) FROM MEMORY 'x' (CHANGES true);\n", name)
		default:
			text += fmt.Sprintf("DECLARE STREAM %s (k VARCHAR, v BIGINT, at TIMESTAMP) EVENT TIME at DELAY %s FROM MEMORY 'x';\n", name, seconds(delay))
		}
	}
	out := "x"
	if q.more != "" {
		out = "out"
	}
	text += "CREATE JOB j WITH x AS (" + q.sql + ")" + q.more + " ROUTE " + out + " TO results"
	if q.late {
		text += " ROUTE LATE x TO late"
	}
	return text + ";", q, of
}

// boundMemory binds a job over streams and tables in memory.
func boundMemory(t *testing.T, text string) *plan.Plan {
	t.Helper()
	flag := []plan.OptionSpec{{Name: "changes", Kind: plan.FlagOption}}
	cat := plan.NewCatalog([]plan.Place{{Kind: "memory", Source: []plan.OptionSpec{}, Table: flag, Sink: []plan.OptionSpec{{Name: "changes", Kind: plan.WordOption}}}})
	plans, _, err := cat.Bind("q", text, nil, func(sql.Statement, *sql.Errors) {})
	if err != nil {
		t.Fatalf("%s\n%v", text, err)
	}
	return plans[0]
}

func oneJoin(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 78))
	text, q, of := generatedJoin(r, seed)
	p := boundMemory(t, text)
	want, late := q.model(of)
	slices.Sort(want)
	wantLate := texts(late)
	for round := range 3 {
		parallelism, piece := 1+r.IntN(8), []int{1, 7, 100, 4096}[r.IntN(4)]
		w := &world{of: of, r: r, piece: piece, sinks: map[string]*list{}}
		w.tight(r)
		crashes := 0
		if round > 0 {
			crashes = r.IntN(3)
		}
		where := fmt.Sprintf("seed %d, round %d, parallelism %d, pieces of %d, %d crashes\n%s", seed, round, parallelism, piece, crashes, text)
		status := w.run(t, p, r, parallelism, crashes)
		var got []string
		if o := p.Outputs()[0]; o.Changes {
			got = changed(t, where, w.sinks["results"].got, keysOf(p))
		} else {
			got = final(t, where, w.sinks["results"].got, -1, false)
		}
		if !slices.Equal(got, want) {
			t.Fatalf("cell %d memory %d %s\n%s", w.cell, w.memory, where, difference(got, want))
		}
		if q.late {
			gotLate := w.late()
			if !slices.Equal(gotLate, wantLate) {
				t.Fatalf("late rows, %s\n%s", where, difference(gotLate, wantLate))
			}
		}
		for _, s := range status.Steps {
			held := s.Counts.Held != 0 || s.Kind == "side" && s.Rows != 0
			if table := len(q.tables) > 0 && !q.timed; s.Open != 0 || held && !table {
				t.Fatalf("%s\nthe ledger of %s %s does not balance, or rows are still held: %d, %+v", where, s.Kind, s.Step, s.Rows, s.Counts)
			}
		}
	}
}

// keysOf gives the columns that tell the rows of a plan's result apart.
func keysOf(p *plan.Plan) []int {
	for _, o := range p.Ops {
		if o.Kind == plan.Project && len(o.Next) > 0 && o.Next[0].Kind == plan.Route {
			return o.Keys
		}
	}
	return nil
}

func texts(rows []row) (out []string) {
	for _, x := range rows {
		out = append(out, x.String())
	}
	slices.Sort(out)
	return out
}

// changed applies changes and gives the rows that remain. Every change must fit what is there under its key.
func changed(t *testing.T, where string, got []string, keys []int) (out []string) {
	t.Helper()
	rows := map[string]string{}
	for _, g := range got {
		change, rest, _ := strings.Cut(g, " ")
		cells := strings.Split(rest, " ")
		var key []string
		for _, k := range keys {
			key = append(key, cells[k])
		}
		k := strings.Join(key, " ")
		old, there := rows[k]
		if there == (change == "insert") || change == "withdraw" && old != rest {
			t.Fatalf("%s\n%s of %q, where there is %q", where, change, rest, old)
		}
		if rows[k] = rest; change == "withdraw" {
			delete(rows, k)
		}
	}
	for _, row := range rows {
		out = append(out, row)
	}
	slices.Sort(out)
	return out
}

// TestDamagedState cuts the state of every kind of keyed step: a restart says so and does not break down. (State
// with other bytes is found by its checksum before it comes here.)
func TestDamagedState(t *testing.T) {
	kinds := map[string]bool{}
	for seed := uint64(1); seed <= 60; seed++ {
		r := rand.New(rand.NewPCG(seed, 79))
		text, _, of := generatedJoin(r, seed)
		p := boundMemory(t, text)
		var snap *Snapshot
		w := &world{of: of, r: r, piece: 5, sinks: map[string]*list{}}
		j, err := New(p, w, w.options(2, nil))
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan error, 1)
		go func() { done <- j.Run(ctx) }()
		time.Sleep(time.Duration(r.IntN(1500)) * time.Microsecond)
		snap, err = j.Checkpoint(ctx)
		cancel()
		<-done
		if err != nil {
			continue // it had ended
		}
		kindOf := func(key string) string {
			return p.Ops[slices.IndexFunc(p.Ops, func(o *plan.Op) bool { return o.Key == key })].Kind.String()
		}
		for id, pieces := range snap.State {
			for k, piece := range pieces {
				for range 20 {
					bad := slices.Clone(piece)[:r.IntN(len(piece)+1)]
					kinds[kindOf(id)] = true
					other := *snap
					other.State = maps.Clone(snap.State)
					other.State[id] = slices.Clone(pieces)
					other.State[id][k] = bad
					if j, err := New(p, w, w.options(1+r.IntN(3), &other)); err == nil {
						if _ = j.Close(false); len(bad) < len(piece) {
							t.Fatalf("the state of a %s, cut to %d of %d bytes, is read", kindOf(id), len(bad), len(piece))
						}
					}
				}
			}
		}
	}
	for _, kind := range []string{"join", "as of", "table", "settle", "window"} {
		if !kinds[kind] {
			t.Errorf("no state of a %s was damaged", kind)
		}
	}
}
