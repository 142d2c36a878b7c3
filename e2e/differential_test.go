package e2e

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// grammar generates expressions that mean the same in Fiume and in MariaDB. The two texts differ only
// where a name or a notation does.
type grammar struct {
	r *rand.Rand
}

// pair is an expression in both languages.
type pair struct{ fiume, maria string }

func same(s string) pair { return pair{s, s} }

func (g grammar) pick(ps ...func() pair) pair { return ps[g.r.IntN(len(ps))]() }

func (g grammar) join(format string, ps ...pair) pair {
	f, m := make([]any, len(ps)), make([]any, len(ps))
	for i, p := range ps {
		f[i], m[i] = p.fiume, p.maria
	}
	return pair{fmt.Sprintf(format, f...), fmt.Sprintf(format, m...)}
}

func (g grammar) whole(depth int) pair {
	leaf := func() pair {
		return same([]string{"a", "b", "a", "b", "0", "1", "-3", "7", "1000", "NULL"}[g.r.IntN(10)])
	}
	if depth == 0 {
		p := leaf()
		if p.fiume == "NULL" {
			return pair{"CAST(NULL AS BIGINT)", "CAST(NULL AS SIGNED)"}
		}
		return p
	}
	n := func() pair { return g.whole(depth - 1) }
	return g.pick(
		func() pair { return g.join("(%s + %s)", n(), n()) },
		func() pair { return g.join("(%s - %s)", n(), n()) },
		func() pair { return g.join("(%s * %s)", n(), n()) },
		func() pair { return g.join("(- %s)", n()) },
		func() pair { return g.join("ABS(%s)", n()) },
		func() pair { return g.join("SIGN(%s)", n()) },
		func() pair { return g.join("COALESCE(%s, %s)", n(), n()) },
		func() pair { return g.join("NULLIF(%s, %s)", n(), n()) },
		func() pair { return g.join("GREATEST(%s, %s)", n(), n()) },
		func() pair { return g.join("LEAST(%s, %s, %s)", n(), n(), n()) },
		func() pair {
			return g.join("CASE WHEN %s THEN %s ELSE %s END", g.truth(depth-1), n(), n())
		},
		func() pair { return g.join("CASE %s WHEN %s THEN %s END", n(), n(), n()) },
		func() pair { p := g.text(depth - 1); return g.join("CHAR_LENGTH(%s)", p) },
		func() pair {
			p, q := g.text(0), g.text(depth-1)
			return pair{fmt.Sprintf("POSITION(%s, %s)", p.fiume, q.fiume), fmt.Sprintf("LOCATE(%s, BINARY_TEXT(%s))", p.maria, q.maria)}
		},
		func() pair {
			f := []string{"YEAR", "MONTH", "DAY", "HOUR", "MINUTE", "SECOND"}[g.r.IntN(6)]
			return same("EXTRACT(" + f + " FROM t)")
		},
	)
}

func (g grammar) double(depth int) pair {
	if depth == 0 {
		return same([]string{"x", "y", "x", "0.5e0", "-2.25e0", "10e0"}[g.r.IntN(6)])
	}
	n := func() pair { return g.double(depth - 1) }
	return g.pick(
		func() pair { return g.join("(%s + %s)", n(), n()) },
		func() pair { return g.join("(%s - %s)", n(), n()) },
		func() pair { return g.join("(%s * %s)", n(), n()) },
		func() pair { return g.join("ABS(%s)", n()) },
		// FLOOR and CEIL of a DOUBLE are whole numbers in MariaDB.
		func() pair { p := n(); return pair{"FLOOR(" + p.fiume + ")", "(0e0 + FLOOR(" + p.maria + "))"} },
		func() pair { p := n(); return pair{"CEIL(" + p.fiume + ")", "(0e0 + CEIL(" + p.maria + "))"} },
		func() pair { return g.join("(%s / NULLIF(%s, 0e0))", n(), n()) },
		func() pair { return g.join("(%s + %s)", n(), g.whole(depth-1)) },
		func() pair { return g.join("CASE WHEN %s THEN %s ELSE %s END", g.truth(depth-1), n(), n()) },
		func() pair {
			p := n()
			return pair{"SQRT(ABS(" + p.fiume + "))", "SQRT(ABS(" + p.maria + "))"}
		},
	)
}

func (g grammar) text(depth int) pair {
	if depth == 0 {
		return same([]string{"s", "s", "u", "'a'", "''", "'größe'", "'北'"}[g.r.IntN(7)])
	}
	n := func() pair { return g.text(depth - 1) }
	return g.pick(
		func() pair { return g.join("CONCAT(%s, %s)", n(), n()) },
		func() pair { return g.join("UPPER(%s)", same("u")) },
		func() pair { return g.join("LOWER(%s)", same("u")) },
		func() pair { return g.join("TRIM(%s)", n()) },
		// A NULL as the new text makes the result NULL in Fiume even where nothing is replaced.
		func() pair { return g.join("REPLACE(%s, 'a', COALESCE(%s, '-'))", n(), n()) },
		func() pair {
			from, l := 1+g.r.IntN(4), g.r.IntN(4)
			return g.join(fmt.Sprintf("SUBSTRING(%%s, %d, %d)", from, l), n())
		},
		func() pair { return g.join("COALESCE(%s, %s)", n(), n()) },
		func() pair { return g.join("NULLIF(%s, %s)", n(), n()) },
		func() pair { return g.join("CASE WHEN %s THEN %s ELSE %s END", g.truth(depth-1), n(), n()) },
		func() pair {
			p := g.whole(depth - 1)
			return pair{"CAST(" + p.fiume + " AS VARCHAR)", "CAST(" + p.maria + " AS CHAR)"}
		},
	)
}

func (g grammar) truth(depth int) pair {
	if depth == 0 {
		return same([]string{"k", "k", "TRUE", "FALSE"}[g.r.IntN(4)])
	}
	compare := func(f func(int) pair) func() pair {
		return func() pair {
			op := []string{"=", "<>", "<", "<=", ">", ">="}[g.r.IntN(6)]
			return g.join("(%s "+op+" %s)", f(depth-1), f(depth-1))
		}
	}
	b := func() pair { return g.truth(depth - 1) }
	return g.pick(compare(g.whole), compare(g.text), compare(g.whole), compare(g.text),
		func() pair { return g.join("(%s AND %s)", b(), b()) },
		func() pair { return g.join("(%s OR %s)", b(), b()) },
		func() pair { return g.join("(NOT %s)", b()) },
		func() pair { return g.join("(%s BETWEEN %s AND %s)", g.whole(depth-1), g.whole(0), g.whole(depth-1)) },
		func() pair { return g.join("(%s IN (%s, %s, 1))", g.whole(depth-1), g.whole(0), g.whole(depth-1)) },
		func() pair { return g.join("(%s NOT IN ('a', %s))", g.text(depth-1), g.text(0)) },
		func() pair { return g.join("(%s IS NULL)", g.whole(depth-1)) },
		func() pair { return g.join("(%s IS NOT NULL)", g.text(depth-1)) },
		func() pair { return g.join("(%s IS TRUE)", b()) },
		func() pair { return g.join("(%s IS NOT FALSE)", b()) },
		func() pair {
			return g.join("(s LIKE %s)", same([]string{"'%a%'", "'_'", "'a_%'", "'%ß_'", "'%'"}[g.r.IntN(5)]))
		},
		func() pair { return same("(t > TIMESTAMP '2026-05-17 09:00:00')") },
	)
}

// maria prepares an expression for the server: LOCATE must compare by code point, like all else does
// by the connection's collation.
func maria(s string) string { return strings.ReplaceAll(s, "BINARY_TEXT(", "(") }

// TestAgainstMariaDB runs generated expressions and aggregates over the same rows in Fiume and in
// MariaDB, and compares every value.
func TestAgainstMariaDB(t *testing.T) {
	_, db := raceDatabase(t)
	db.SetMaxOpenConns(1)
	for _, q := range []string{"SET NAMES utf8mb4 COLLATE utf8mb4_nopad_bin", "SET time_zone='+00:00'",
		"CREATE TABLE r (id BIGINT PRIMARY KEY, a BIGINT, b BIGINT, x DOUBLE, y DOUBLE, s VARCHAR(50), u VARCHAR(50), k BOOLEAN, t DATETIME(3)) COLLATE utf8mb4_nopad_bin"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	r := rand.New(rand.NewPCG(11, 11))
	dir := t.TempDir()
	var lines strings.Builder
	const rows = 60
	opt := func(v any) any {
		if r.IntN(5) == 0 {
			return nil
		}
		return v
	}
	words := []string{"a", "", "ab", "A b", "größe", "Öl", "北京", "%", "aß_", "banana", "éa"}
	ascii := []string{"a", "Ab", "", "xYz", "Ponte 3"}
	for id := range rows {
		row := map[string]any{"id": id, "a": opt(r.IntN(9) - 4), "b": opt(r.IntN(2000) - 1000), "x": opt(float64(r.IntN(800)-400) / 16), "y": opt(float64(r.IntN(100)) / 4),
			"s": opt(words[r.IntN(len(words))]), "u": opt(ascii[r.IntN(len(ascii))]), "k": opt(r.IntN(2) == 0),
			"t": opt(fmt.Sprintf("2026-05-%02d %02d:%02d:%02d.%03d", 1+r.IntN(28), r.IntN(24), r.IntN(60), r.IntN(60), r.IntN(1000)))}
		b, err := json.Marshal(row)
		if err != nil {
			t.Fatal(err)
		}
		lines.Write(append(b, '\n'))
		if _, err := db.Exec("INSERT INTO r VALUES (?,?,?,?,?,?,?,?,?)", row["id"], row["a"], row["b"], row["x"], row["y"], row["s"], row["u"], row["k"], row["t"]); err != nil {
			t.Fatal(err)
		}
	}
	data := writeFile(t, dir, "r.ndjson", lines.String())
	const stream = "DECLARE STREAM r (id BIGINT, a BIGINT, b BIGINT, x DOUBLE, y DOUBLE, s VARCHAR, u VARCHAR, k BOOLEAN, t TIMESTAMP) FROM FILES :r;\n"
	g := grammar{r}
	const queries, width = 120, 20 // 2,400 expressions over 60 rows
	wrong := 0
	for q := range queries {
		var f, m []string
		aggregate := q%4 == 3
		for c := range width {
			depth := 1 + r.IntN(4)
			var p pair
			switch c % 4 {
			case 0:
				p = g.whole(depth)
			case 1:
				p = g.double(min(depth, 3))
			case 2:
				p = g.text(min(depth, 3))
			default:
				p = g.truth(depth)
			}
			if aggregate {
				name := []string{"COUNT", "MIN", "MAX", "SUM", "AVG"}[r.IntN(5)]
				if c%4 == 2 {
					name = []string{"COUNT", "MIN", "MAX"}[r.IntN(3)]
				}
				if c%4 == 3 {
					name = "COUNT"
				}
				if name == "AVG" { // of whole numbers it is a DOUBLE here, a DECIMAL with four more digits there
					p.maria = "1e0 * (" + p.maria + ")"
				}
				p = pair{name + "(" + p.fiume + ")", name + "(" + p.maria + ")"}
			}
			f, m = append(f, fmt.Sprintf("%s AS c%d", p.fiume, c)), append(m, maria(p.maria))
		}
		cond := g.truth(2)
		fs := "SELECT id, " + strings.Join(f, ", ") + " FROM r WHERE " + cond.fiume + ";"
		ms := "SELECT id, " + strings.Join(m, ", ") + " FROM r WHERE " + maria(cond.maria)
		if aggregate {
			fs = "SELECT COALESCE(a, 99) AS id, " + strings.Join(f, ", ") + " FROM r WHERE " + cond.fiume + " GROUP BY COALESCE(a, 99), w WINDOW w AS (TUMBLING 30000 DAYS);"
			ms = "SELECT COALESCE(a, 99) AS g, " + strings.Join(m, ", ") + " FROM r WHERE " + maria(cond.maria) + " GROUP BY g"
		}
		res := fiume(t, stream+fs, "run", "-", "-q", "-o", "json", "--set", "r="+data)
		if res.code != 0 {
			t.Fatalf("%s\n%s", fs, res.err)
		}
		got := map[string]map[string]any{}
		for _, l := range strings.Split(strings.TrimSpace(res.out), "\n") {
			if l == "" {
				continue
			}
			d := json.NewDecoder(strings.NewReader(l))
			d.UseNumber()
			var row map[string]any
			if err := d.Decode(&row); err != nil {
				t.Fatal(err)
			}
			got[fmt.Sprint(row["id"])] = row
		}
		want := mariaRows(t, db, ms)
		if len(got) != len(want) {
			t.Errorf("%d rows, MariaDB has %d:\n%s\n%s", len(got), len(want), fs, ms)
			wrong++
			continue
		}
		for id, w := range want {
			for c := range width {
				a := got[id][fmt.Sprintf("c%d", c)]
				if !equal(a, w[c+1]) {
					wrong++
					t.Errorf("row %s, %s = %v; MariaDB: %s = %v", id, f[c], a, m[c], show(w[c+1]))
				}
			}
			if wrong > 10 {
				t.FailNow()
			}
		}
	}
	if slices.Contains(os.Args, "-test.v=true") {
		t.Logf("%d values compared in %s", queries*width*rows, filepath.Base(data))
	}
}

func show(b sql.RawBytes) string {
	if b == nil {
		return "NULL"
	}
	return strconv.Quote(string(b))
}

func mariaRows(t *testing.T, db *sql.DB, q string) map[string][]sql.RawBytes {
	t.Helper()
	rs, err := db.Query(q)
	if err != nil {
		t.Fatalf("%s\n%v", q, err)
	}
	defer rs.Close()
	cols, err := rs.Columns()
	if err != nil {
		t.Fatal(err)
	}
	out := map[string][]sql.RawBytes{}
	for rs.Next() {
		vals := make([]sql.RawBytes, len(cols))
		ptrs := make([]any, len(cols))
		for i := range vals {
			ptrs[i] = &vals[i]
		}
		if err := rs.Scan(ptrs...); err != nil {
			t.Fatal(err)
		}
		for i, v := range vals {
			if v != nil {
				vals[i] = slices.Clone(v)
			}
		}
		out[string(vals[0])] = vals
	}
	if err := rs.Err(); err != nil {
		t.Fatal(err)
	}
	return out
}

// equal compares a JSON value with the server's text: numbers by value, to the last digits.
func equal(a any, b sql.RawBytes) bool {
	switch a := a.(type) {
	case nil:
		return b == nil
	case bool:
		return b != nil && string(b) == map[bool]string{true: "1", false: "0"}[a]
	case string:
		return b != nil && a == string(b)
	case json.Number:
		if b == nil {
			return false
		}
		if string(a) == string(b) {
			return true
		}
		x, err1 := strconv.ParseFloat(string(a), 64)
		y, err2 := strconv.ParseFloat(string(b), 64)
		return err1 == nil && err2 == nil && math.Abs(x-y) <= 1e-9*math.Max(1, math.Max(math.Abs(x), math.Abs(y)))
	}
	return false
}
