package flow

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/types"
)

// row is a row of a generated stream, and its stamp: the watermark of its split just before it.
type row struct {
	split, pos int
	t, w       int64
	newest     int64 // greatest event time of the whole stream, rows that a condition leaves out too
	key        string
	v          int64
	gone       bool // of a table: the row of the key is deleted
}

func (r row) String() string { return fmt.Sprint(r.key, " ", r.v, " ", stamp(r.t)) }

func stamp(t int64) string { return string(types.AppendTimestamp(nil, t)) }

// asked is a generated query with the plain computation of its final results from the whole data.
type asked struct {
	sql  string // the body of a WITH step called x
	more string // further steps, the last called out; empty: x is out
	late bool   // late rows are those of x
	// model gives the final rows and the late rows.
	model func(rows []row) (out []string, late []row)
}

const second = int64(types.Second)

func lengths(r *rand.Rand, of ...int) int64 { return int64(of[r.IntN(len(of))]) * second }

func seconds(d int64) string { return fmt.Sprintf("%d MILLISECONDS", d/1000) }

// byKey parts rows by key, each part in event order.
func byKey(rows []row) map[string][]row {
	m := map[string][]row{}
	for _, r := range inEventOrder(rows) {
		m[r.key] = append(m[r.key], r)
	}
	return m
}

func inEventOrder(rows []row) []row {
	out := slices.Clone(rows)
	slices.SortFunc(out, func(a, b row) int {
		return cmp.Or(cmp.Compare(a.t, b.t), cmp.Compare(a.split, b.split), cmp.Compare(a.pos, b.pos))
	})
	return out
}

// punctual parts rows by whether they are late when taken up to lateness behind the stamp.
func punctual(rows []row, lateness int64) (in, late []row) {
	for _, r := range rows {
		if r.t+lateness < r.w {
			late = append(late, r)
		} else {
			in = append(in, r)
		}
	}
	return in, late
}

type total struct{ n, sum, most int64 }

func (t *total) add(r row) {
	if t.n++; t.n == 1 || r.v > t.most {
		t.most = r.v
	}
	t.sum += r.v
}

func (t *total) String() string { return fmt.Sprint(t.n, " ", t.sum, " ", t.most) }

const totals = "COUNT(*) AS n, SUM(v) AS s, MAX(v) AS m"

// windowed computes fixed windows by asking of every window whether a row is in it and still open for it.
func windowed(rows []row, of func(t int64) [][2]int64, lateness int64) (m map[string]map[[2]int64]*total, late []row) {
	m = map[string]map[[2]int64]*total{}
	for _, r := range rows {
		counted := false
		for _, w := range of(r.t) {
			if w[1]+lateness <= r.w {
				continue
			}
			counted = true
			if m[r.key] == nil {
				m[r.key] = map[[2]int64]*total{}
			}
			if m[r.key][w] == nil {
				m[r.key][w] = &total{}
			}
			m[r.key][w].add(r)
		}
		if !counted {
			late = append(late, r)
		}
	}
	return m, late
}

func fixed(length, step, offset int64) func(t int64) [][2]int64 {
	return func(t int64) (out [][2]int64) {
		for k := (t-length)/step - 2; k*step+offset <= t; k++ {
			if opens := k*step + offset; opens+length > t {
				out = append(out, [2]int64{opens, opens + length})
			}
		}
		return out
	}
}

func romeDays(days int) func(t int64) [][2]int64 {
	rome, _ := time.LoadLocation("Europe/Rome")
	return func(t int64) (out [][2]int64) {
		y, m, d := time.UnixMicro(t).In(rome).Date()
		for back := range days {
			opens, closes := time.Date(y, m, d-back, 0, 0, 0, 0, rome), time.Date(y, m, d-back+days, 0, 0, 0, 0, rome)
			out = append(out, [2]int64{opens.UnixMicro(), closes.UnixMicro()})
		}
		return out
	}
}

func report(r *rand.Rand) string {
	return []string{"", "", " REPORT ON CHANGE", " REPORT EVERY 3 SECONDS"}[r.IntN(4)]
}

func windowText(m map[string]map[[2]int64]*total) (out []string) {
	for k, ws := range m {
		for w, t := range ws {
			out = append(out, fmt.Sprint(k, " ", stamp(w[0]), " ", stamp(w[1]), " ", t))
		}
	}
	return out
}

// generators make a query each.
var generators = []func(r *rand.Rand) asked{
	func(r *rand.Rand) asked { // what a key did in a length of time before each row
		d, e := lengths(r, 1, 5, 30, 7200), lengths(r, 1, 5, 30)
		over := func(d int64) string {
			return fmt.Sprintf("OVER (PARTITION BY k ORDER BY at RANGE INTERVAL '%d' SECOND PRECEDING)", d/second)
		}
		return asked{late: true, sql: fmt.Sprintf("SELECT k, v, at, COUNT(*) %s AS n, SUM(v) %s AS s, MAX(v) %s AS m, COUNT(DISTINCT v) %s AS c, LISTAGG(CAST(v AS VARCHAR), '+') FILTER (WHERE v > 0) %s AS l FROM s %%s", over(d), over(d), over(d), over(e), over(d)),
			model: func(rows []row) (out []string, late []row) {
				in, late := punctual(rows, 0)
				for _, list := range byKey(in) {
					for _, x := range list {
						n, sum, most, texts := 0, int64(0), int64(-1<<62), []string{}
						different := map[int64]bool{}
						for _, y := range list {
							if y.t <= x.t && y.t >= x.t-d {
								n++
								sum += y.v
								most = max(most, y.v)
								if y.v > 0 {
									texts = append(texts, fmt.Sprint(y.v))
								}
							}
							if y.t <= x.t && y.t >= x.t-e {
								different[y.v] = true
							}
						}
						out = append(out, fmt.Sprint(x, " ", n, " ", sum, " ", most, " ", len(different), " ", strings.Join(texts, "+")))
					}
				}
				return out, late
			}}
	},
	func(r *rand.Rand) asked { // tumbling
		d, off, late := lengths(r, 1, 5, 10, 60), lengths(r, 0, 0, 2), lengths(r, 0, 0, 5, 30)
		spec := fmt.Sprintf("TUMBLING %s OFFSET %s LATENESS %s%s", seconds(d), seconds(off), seconds(late), report(r))
		return asked{late: true, sql: "SELECT k, w.opens AS o, w.closes AS c, " + totals + " FROM s %s GROUP BY k, w WINDOW w AS (" + spec + ")",
			model: func(rows []row) ([]string, []row) {
				m, l := windowed(rows, fixed(d, d, off%d), late)
				return windowText(m), l
			}}
	},
	func(r *rand.Rand) asked { // sliding; steps that divide the length, and others
		step := lengths(r, 1, 2, 3, 5, 7)
		d, late := step*int64(1+r.IntN(9))+lengths(r, 0, 0, 1), lengths(r, 0, 0, 5, 30)
		spec := fmt.Sprintf("SLIDING %s EVERY %s LATENESS %s%s", seconds(d), seconds(step), seconds(late), report(r))
		return asked{late: true, sql: "SELECT k, w.opens AS o, w.closes AS c, " + totals + " FROM s %s GROUP BY k, w WINDOW w AS (" + spec + ")",
			model: func(rows []row) ([]string, []row) {
				m, l := windowed(rows, fixed(d, step, 0), late)
				return windowText(m), l
			}}
	},
	func(r *rand.Rand) asked { // days of a town
		days := 1 + r.IntN(2)
		spec := fmt.Sprintf("SLIDING %d DAYS EVERY 1 DAY AT TIME ZONE 'Europe/Rome'", days)
		return asked{late: true, sql: "SELECT k, w.opens AS o, w.closes AS c, " + totals + " FROM s %s GROUP BY k, w WINDOW w AS (" + spec + ")",
			model: func(rows []row) ([]string, []row) {
				m, l := windowed(rows, romeDays(days), 0)
				return windowText(m), l
			}}
	},
	func(r *rand.Rand) asked { // sessions
		gap, late := lengths(r, 1, 3, 10), lengths(r, 0, 0, 5, 20)
		most, spec := int64(0), fmt.Sprintf("SESSION GAP %s", seconds(gap))
		if r.IntN(2) == 0 {
			most = gap + lengths(r, 1, 5, 20)
			spec += " MAX " + seconds(most)
		}
		spec += fmt.Sprintf(" LATENESS %s%s", seconds(late), report(r))
		return asked{late: true, sql: "SELECT k, w.opens AS o, w.closes AS c, " + totals + " FROM s %s GROUP BY k, w WINDOW w AS (" + spec + ")",
			model: func(rows []row) (out []string, l []row) {
				in, l := punctual(rows, late)
				for k, list := range byKey(in) {
					for i := 0; i < len(list); {
						opens, last := list[i].t, list[i].t
						var sum total
						for ; i < len(list) && list[i].t-last < gap && (most == 0 || list[i].t < opens+most); i++ {
							last = list[i].t
							sum.add(list[i])
						}
						closes := last + gap
						if most > 0 {
							closes = min(closes, opens+most)
						}
						out = append(out, fmt.Sprint(k, " ", stamp(opens), " ", stamp(closes), " ", &sum))
					}
				}
				return out, l
			}}
	},
	func(r *rand.Rand) asked { // unique
		d := lengths(r, 1, 5, 30)
		return asked{late: true, sql: "SELECT k, v, at FROM s %s UNIQUE BY (k) WITHIN " + seconds(d),
			model: func(rows []row) (out []string, l []row) {
				in, l := punctual(rows, 0)
				for _, list := range byKey(in) {
					kept := int64(types.MinTime)
					for _, x := range list {
						if kept == types.MinTime || x.t > kept+d {
							kept = x.t
							out = append(out, x.String())
						}
					}
				}
				return out, l
			}}
	},
	func(r *rand.Rand) asked { // rows before and behind
		forget, span := lengths(r, 2, 10, 60), lengths(r, 0, 1, 5)
		n := int64(r.IntN(3))
		w := "(PARTITION BY k ORDER BY at %s FORGET AFTER " + seconds(forget) + ")"
		over := func(frame string) string { return strings.Replace(w, "%s", frame, 1) }
		return asked{late: true, sql: "SELECT k, v, at, ROW_NUMBER() OVER " + over("") + " AS a, RANK() OVER " + over("") + " AS b, DENSE_RANK() OVER " + over("") + " AS c, " +
			fmt.Sprintf("LAG(v, %d, -1) OVER %s AS d, LEAD(v, %d, -1) OVER %s AS e, ", n, over(""), n, over("")) +
			fmt.Sprintf("SUM(v) OVER %s AS f, COUNT(*) OVER %s AS g, ", over("ROWS "+fmt.Sprint(n)+" PRECEDING"), over("")) +
			fmt.Sprintf("MAX(v) OVER (PARTITION BY k ORDER BY at RANGE BETWEEN INTERVAL '%d' SECOND PRECEDING AND CURRENT ROW) AS h, ", span/second) +
			fmt.Sprintf("MIN(v) OVER (PARTITION BY k ORDER BY at RANGE BETWEEN INTERVAL '%d' SECOND PRECEDING AND INTERVAL '%d' SECOND FOLLOWING) AS i FROM s %%s", span/second, n),
			model: func(rows []row) (out []string, l []row) {
				in, l := punctual(rows, 0)
				for _, all := range byKey(in) {
					from := 0
					for i := range all {
						if i > 0 && all[i].t > all[i-1].t+forget {
							from = i
						}
						to := i + 1
						for to < len(all) && all[to].t <= all[to-1].t+forget {
							to++
						}
						at := func(j int) int64 {
							if j < from || j >= to {
								return -1
							}
							return all[j].v
						}
						x := all[i]
						rank, dense, peers := int64(i-from)+1, int64(1), int64(0)
						sum, most, least := int64(0), x.v, x.v
						for j := from; j < to; j++ {
							if all[j].t < x.t && (j == from || all[j].t != all[j-1].t) {
								dense++
							}
							if all[j].t == x.t && j < i {
								rank--
							}
							if all[j].t <= x.t {
								peers++
							}
							if j >= i-int(n) && j <= i {
								sum += all[j].v
							}
						}
						for _, y := range all {
							if y.t >= x.t-span && y.t <= x.t {
								most = max(most, y.v)
							}
							if y.t >= x.t-span && y.t <= x.t+n*second {
								least = min(least, y.v)
							}
						}
						out = append(out, fmt.Sprint(x, " ", i-from+1, " ", rank, " ", dense, " ", at(i-int(n)), " ", at(i+int(n)), " ", sum, " ", peers, " ", most, " ", least))
					}
				}
				return out, l
			}}
	},
	func(r *rand.Rand) asked { // frames that begin and end anywhere
		forget := lengths(r, 2, 10, 60)
		bounds := func() (from, to int64) {
			from, to = r.Int64N(7)-3, r.Int64N(7)-3
			return min(from, to), max(from, to)
		}
		bound := func(n int64, unit string) string {
			word := "FOLLOWING"
			switch {
			case n == 0:
				return "CURRENT ROW"
			case n < 0:
				n, word = -n, "PRECEDING"
			}
			if unit == "RANGE" {
				return fmt.Sprintf("INTERVAL '%d' SECOND %s", n, word)
			}
			return fmt.Sprint(n, " ", word)
		}
		rowsFrom, rowsTo := bounds()
		from, to := bounds()
		_, openRows := bounds()
		_, open := bounds()
		over := func(unit, from, to string) string {
			return fmt.Sprintf("OVER (PARTITION BY k ORDER BY at %s BETWEEN %s AND %s FORGET AFTER %s)", unit, from, to, seconds(forget))
		}
		return asked{late: true, sql: "SELECT k, v, at, SUM(v) " + over("ROWS", bound(rowsFrom, "ROWS"), bound(rowsTo, "ROWS")) + " AS a, " +
			"COUNT(*) " + over("RANGE", bound(from, "RANGE"), bound(to, "RANGE")) + " AS b, " +
			"SUM(v) " + over("ROWS", "UNBOUNDED PRECEDING", bound(openRows, "ROWS")) + " AS c, " +
			"COUNT(*) " + over("RANGE", "UNBOUNDED PRECEDING", bound(open, "RANGE")) + " AS d FROM s %s",
			model: func(rows []row) (out []string, l []row) {
				in, l := punctual(rows, 0)
				for _, all := range byKey(in) {
					first := 0
					for i, x := range all {
						if i > 0 && x.t > all[i-1].t+forget {
							first = i
						}
						var a, c, b, d int64
						any, anyOpen := false, false
						for j := first; j < len(all) && (j <= first || all[j].t <= all[j-1].t+forget); j++ {
							n, dt := int64(j-i), all[j].t-x.t
							if n >= rowsFrom && n <= rowsTo {
								a, any = a+all[j].v, true
							}
							if dt >= from*second && dt <= to*second {
								b++
							}
							if n <= openRows {
								c, anyOpen = c+all[j].v, true
							}
							if dt <= open*second {
								d++
							}
						}
						text := func(n int64, is bool) string {
							if !is {
								return ""
							}
							return fmt.Sprint(n)
						}
						out = append(out, fmt.Sprint(x, " ", text(a, any), " ", b, " ", text(c, anyOpen), " ", d))
					}
				}
				return out, l
			}}
	},
	func(r *rand.Rand) asked { // without a window
		d := lengths(r, 1, 5, 20, 100)
		return asked{late: true, sql: "SELECT k, " + totals + " FROM s %s GROUP BY k FORGET AFTER " + seconds(d),
			model: func(rows []row) (out []string, l []row) {
				in, l := punctual(rows, d)
				for k, list := range byKey(in) {
					var sum total
					for i, x := range list {
						if i > 0 && x.t > list[i-1].t+d {
							sum = total{} // forgotten: it begins afresh
						}
						sum.add(x)
					}
					out = append(out, fmt.Sprint(k, " ", &sum))
				}
				return out, l
			}}
	},
	func(r *rand.Rand) asked { // a window over a window whose rows change, with a condition between them
		d, times := lengths(r, 2, 5), int64(1+r.IntN(4))
		late := lengths(r, 0, 5, 20)
		outer := late + lengths(r, 0, 5)
		least := int64(r.IntN(3))
		return asked{sql: "SELECT k, w.opens AS o, w.closes AS c, COUNT(*) AS n, SUM(v) AS s FROM s %s GROUP BY k, w WINDOW w AS (" +
			fmt.Sprintf("TUMBLING %s LATENESS %s%s)", seconds(d), seconds(late), report(r)),
			more: fmt.Sprintf(", out AS (SELECT u.opens AS o, u.closes AS c, COUNT(*) AS n, SUM(n) AS m, SUM(s) AS s, AVG(n) AS a, MAX(n) AS y, MIN(s) FILTER (WHERE n > 1) AS z, COUNT(DISTINCT n) AS d FROM x WHERE n > %d GROUP BY u WINDOW u AS (SLIDING %s EVERY %s LATENESS %s%s))",
				least, seconds(d*times), seconds(d), seconds(outer), report(r)),
			model: func(rows []row) (out []string, l []row) {
				m, _ := windowed(rows, fixed(d, d, 0), late)
				type sums struct {
					n, m, s, most int64
					least         *int64
					different     map[int64]bool
				}
				got := map[[2]int64]*sums{}
				for _, ws := range m {
					for w, t := range ws {
						if t.n <= least {
							continue
						}
						for _, u := range fixed(d*times, d, 0)(w[1] - 1) {
							if got[u] == nil {
								got[u] = &sums{different: map[int64]bool{}}
							}
							got[u].n++
							got[u].m += t.n
							got[u].s += t.sum
							got[u].most = max(got[u].most, t.n)
							got[u].different[t.n] = true
							if t.n > 1 && (got[u].least == nil || t.sum < *got[u].least) {
								got[u].least = &t.sum
							}
						}
					}
				}
				for u, x := range got {
					least := ""
					if x.least != nil {
						least = fmt.Sprint(*x.least)
					}
					out = append(out, fmt.Sprint(stamp(u[0]), " ", stamp(u[1]), " ", x.n, " ", x.m, " ", x.s, " ", string(types.AppendDouble(nil, float64(x.m)/float64(x.n))), " ", x.most, " ", least, " ", len(x.different)))
				}
				return out, nil
			}}
	},
	func(r *rand.Rand) asked { // the rows of one window counted, with or without corrections
		d, late := lengths(r, 2, 5, 10), lengths(r, 0, 0, 10)
		return asked{sql: "SELECT k, w.opens AS o, w.closes AS c, COUNT(*) AS n FROM s %s GROUP BY k, w WINDOW w AS (" + fmt.Sprintf("TUMBLING %s LATENESS %s)", seconds(d), seconds(late)),
			more: ", out AS (SELECT o, c, COUNT(*) AS keys, SUM(n) AS n FROM x GROUP BY o, c)",
			model: func(rows []row) (out []string, l []row) {
				m, _ := windowed(rows, fixed(d, d, 0), late)
				got := map[[2]int64][2]int64{}
				for _, ws := range m {
					for w, t := range ws {
						got[w] = [2]int64{got[w][0] + 1, got[w][1] + t.n}
					}
				}
				for w, x := range got {
					out = append(out, fmt.Sprint(stamp(w[0]), " ", stamp(w[1]), " ", x[0], " ", x[1]))
				}
				return out, nil
			}}
	},
	func(r *rand.Rand) asked { // the first few of each window
		step := lengths(r, 2, 5)
		d := step * int64(1+r.IntN(3))
		return asked{sql: "SELECT k, w.opens AS o, w.closes AS c, COUNT(*) AS n, ROW_NUMBER() OVER (PARTITION BY w.opens, w.closes ORDER BY COUNT(*) DESC, k) AS p FROM s %s GROUP BY k, w WINDOW w AS (" +
			fmt.Sprintf("SLIDING %s EVERY %s)", seconds(d), seconds(step)),
			more: ", out AS (SELECT k, o, n, p FROM x WHERE p <= 2)",
			model: func(rows []row) (out []string, l []row) {
				m, _ := windowed(rows, fixed(d, step, 0), 0)
				type one struct {
					k string
					n int64
				}
				by := map[[2]int64][]one{}
				for k, ws := range m {
					for w, t := range ws {
						by[w] = append(by[w], one{k, t.n})
					}
				}
				for w, list := range by {
					slices.SortFunc(list, func(a, b one) int { return cmp.Or(cmp.Compare(b.n, a.n), cmp.Compare(a.k, b.k)) })
					for i, x := range list[:min(2, len(list))] {
						out = append(out, fmt.Sprint(x.k, " ", stamp(w[0]), " ", x.n, " ", i+1))
					}
				}
				return out, nil
			}}
	},
	func(r *rand.Rand) asked { // windows without rows
		step := lengths(r, 2, 5)
		d, empty := step*int64(1+r.IntN(3)), lengths(r, 1, 10, 30)
		return asked{late: true, sql: "SELECT k, w.opens AS o, COUNT(*) AS n FROM s %s GROUP BY k, w WINDOW w AS (" + fmt.Sprintf("SLIDING %s EVERY %s EMPTY FOR %s)", seconds(d), seconds(step), seconds(empty)),
			model: func(rows []row) (out []string, l []row) {
				newest := int64(types.MinTime)
				if len(rows) > 0 {
					newest = rows[0].newest
				}
				m, l := windowed(rows, fixed(d, step, 0), 0)
				for k, ws := range m {
					seen := map[int64]int64{} // by window, its last row
					first, last := int64(types.MaxTime), int64(types.MinTime)
					for _, x := range rows {
						if x.key != k {
							continue
						}
						for _, w := range fixed(d, step, 0)(x.t) {
							if w[1] > x.w {
								if s, ok := seen[w[0]]; !ok || x.t > s {
									seen[w[0]] = x.t
								}
								first, last = min(first, w[0]), max(last, w[0])
							}
						}
					}
					before := int64(types.MinTime)
					for o := first; o <= last+d+empty+step; o += step {
						if t, ok := ws[[2]int64{o, o + d}]; ok {
							out = append(out, fmt.Sprint(k, " ", stamp(o), " ", t.n))
							before = max(before, seen[o])
						} else if c := o + d; c <= before+empty && c <= newest {
							out = append(out, fmt.Sprint(k, " ", stamp(o), " 0"))
						}
					}
				}
				return out, l
			}}
	},
}
