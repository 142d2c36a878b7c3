package sql

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"fiume/internal/core/types"
)

// TestPrecedence shows how operators bind, with every operation in parentheses.
func TestPrecedence(t *testing.T) {
	for in, want := range map[string]string{
		"a OR b AND NOT c":                         "(a OR (b AND (NOT c)))",
		"NOT a = b":                                "(NOT (a = b))",
		"a + b * c - d":                            "((a + (b * c)) - d)",
		"a || b + c":                               "(a || (b + c))",
		"-a * b":                                   "((- a) * b)",
		"a - -1":                                   "(a - -1)",
		"a BETWEEN 1 AND 2 AND b":                  "((a BETWEEN 1 AND 2) AND b)",
		"a NOT BETWEEN b + 1 AND c OR d":           "((a NOT BETWEEN (b + 1) AND c) OR d)",
		"a IN (1, b + 2) = TRUE":                   "((a IN (1, (b + 2))) = true)",
		"a NOT IN ('x')":                           "(a NOT IN ('x'))",
		"a IS NOT NULL AND b IS TRUE":              "((a IS NOT NULL) AND (b IS TRUE))",
		"a LIKE 'x%' OR a NOT LIKE b || '_'":       "((a LIKE 'x%') OR (a NOT LIKE (b || '_')))",
		"a != b":                                   "(a <> b)",
		"a / b DIV c % d":                          "(((a / b) DIV c) % d)",
		"(a OR b) AND c":                           "((a OR b) AND c)",
		"x.y.z + 1":                                "(x.y.z + 1)",
		`"Mixed Case"."select"`:                    "Mixed Case.select",
		"30 SECONDS + 1 HOUR 30 MINUTES":           "(PT30S + PT1H30M)",
		"INTERVAL '90' SECOND - INTERVAL -'1' DAY": "(PT1M30S - -P1D)",
		"t + 5 MINUTES > TIMESTAMP '2026-05-17'":   "((t + PT5M) > 2026-05-17T00:00:00.000Z)",
		"DATE '2026-05-17'":                        "2026-05-17",
		"CASE WHEN a THEN 1 ELSE 2 END + 1":        "(CASE WHEN a THEN 1 ELSE 2 END + 1)",
		"CASE a WHEN 1 THEN 'x' END":               "CASE a WHEN 1 THEN 'x' END",
		"CAST(a AS DOUBLE PRECISION) * 2":          "(CAST(a AS DOUBLE) * 2)",
		"TRY_CAST(a AS ROW(b INT))":                "TRY_CAST(a AS ROW(b INT))",
		"COUNT(*) + SUM(DISTINCT a) + f()":         "((count(*) + sum(DISTINCT a)) + f())",
		"EXTRACT(YEAR FROM t)":                     "extract('year', t)",
		"1.5e3 + .5 + 2":                           "((1500 + 0.5) + 2)",
		"-9223372036854775808":                     "-9223372036854775808",
		"'it''s' || 'ü'":                           "('it's' || 'ü')",
		"second + minute":                          "(second + minute)",
	} {
		s, err := Parse("t", "SELECT "+in+" FROM r;", nil)
		if err != nil {
			t.Errorf("%s: %v", in, err)
			continue
		}
		if got := show1(s.Statements[0].(*Query).Body.Items[0].Expr); got != want {
			t.Errorf("%s is %s, wanted %s", in, got, want)
		}
	}
}

// show1 writes a tree with every operation in parentheses.
func show1(e Expr) string {
	list := func(es []Expr) string {
		var out []string
		for _, x := range es {
			out = append(out, show1(x))
		}
		return strings.Join(out, ", ")
	}
	not := func(n bool) string {
		if n {
			return "NOT "
		}
		return ""
	}
	switch e := e.(type) {
	case *Path:
		var out []string
		for _, p := range e.Parts {
			out = append(out, p.Text)
		}
		return strings.Join(out, ".")
	case *Literal:
		if e.Value.Kind == types.Varchar {
			return "'" + e.Value.S + "'"
		}
		if e.Value.IsNull() {
			return "NULL"
		}
		return string(types.AppendText(nil, e.Value))
	case *Unary:
		return "(" + e.Op + " " + show1(e.X) + ")"
	case *Binary:
		return "(" + show1(e.X) + " " + e.Op + " " + show1(e.Y) + ")"
	case *Between:
		return "(" + show1(e.X) + " " + not(e.Not) + "BETWEEN " + show1(e.Lo) + " AND " + show1(e.Hi) + ")"
	case *Like:
		return "(" + show1(e.X) + " " + not(e.Not) + "LIKE " + show1(e.Pattern) + ")"
	case *In:
		return "(" + show1(e.X) + " " + not(e.Not) + "IN (" + list(e.List) + "))"
	case *Is:
		return "(" + show1(e.X) + " IS " + not(e.Not) + e.What + ")"
	case *Case:
		out := "CASE"
		if e.X != nil {
			out += " " + show1(e.X)
		}
		for _, w := range e.Whens {
			out += " WHEN " + show1(w.Cond) + " THEN " + show1(w.Then)
		}
		if e.Else != nil {
			out += " ELSE " + show1(e.Else)
		}
		return out + " END"
	case *Cast:
		n := "CAST("
		if e.Try {
			n = "TRY_CAST("
		}
		return n + show1(e.X) + " AS " + e.To.String() + ")"
	case *Call:
		switch {
		case e.Star:
			return e.Name.Text + "(*)"
		case e.Distinct:
			return e.Name.Text + "(DISTINCT " + list(e.Args) + ")"
		}
		return e.Name.Text + "(" + list(e.Args) + ")"
	}
	return fmt.Sprintf("%T", e)
}

// TestRecovery: every wrong statement gives its own error, and the right ones between them stand.
func TestRecovery(t *testing.T) {
	const text = `SELECT a FROM r;
SELECT FROM r;
SELECT a FROM;
SELECT a b c FROM r;
SHOW STREAMS;
DROP PLANET x;
CREATE TOPIC t (PARTITIONS);
CREATE TOPIC t (PARTITIONS 2;
SELECT a FROM r LIMIT 3;
SELECT 9999999999999999999999999999999999999999 FROM r;
SELECT a = b = c FROM r;
SELECT a FROM r GROUP a;
SELECT a FROM r WINDOW w AS (TUMBLING 0 SECONDS);
SELECT a # b FROM r;
START JOB j;
DECLARE STREAM s (a INT NOT) FROM FILES 'x';
DECLARE STREAM s (a INT PRIMARY KEY) FROM FILES 'x';
CREATE JOB j AS SELECT a FROM r;
CREATE JOB j AS SELECT a FROM r ROUTE TO x ELSE TO y;
SELECT CAST(a AS NUMBR) FROM r;
SELECT a FROM r /* no end`
	s, err := Parse("t.sql", text, nil)
	var e *Errors
	if !errors.As(err, &e) {
		t.Fatal(err)
	}
	var lines []int
	for _, d := range e.List {
		lines = append(lines, d.Line)
		if d.Message == "" || d.Code == "" || d.Column < 1 {
			t.Errorf("%+v", d)
		}
	}
	if got := fmt.Sprint(lines); got != "[2 3 4 6 7 8 10 11 12 13 14 16 17 18 19 20 21]" {
		t.Errorf("errors in the lines %s:\n%v", got, err)
	}
	if len(s.Statements) < 4 {
		t.Errorf("only %d statements are left", len(s.Statements))
	}
}

func TestParameters(t *testing.T) {
	const text = `-- :not_here
SELECT a, ':nor here' AS x FROM r SINCE :since WHERE b > :n AND c = :text AND d = :flag LIMIT :n;
DECLARE STREAM s (a INT) EVENT TIME a DELAY :n SECONDS FROM FILES :path;`
	s, err := Parse("t.sql", text, map[string]string{"n": "5", "text": "it's", "flag": "true", "path": "a b.json", "since": "2026-05-17"})
	if err != nil {
		t.Fatal(err)
	}
	if got := s.Source(s.Statements[0]); got != `SELECT a, ':nor here' AS x FROM r SINCE '2026-05-17' WHERE b > 5 AND c = 'it''s' AND d = TRUE LIMIT 5` {
		t.Error(got)
	}
	if got := s.Source(s.Statements[1]); got != `DECLARE STREAM s (a INT) EVENT TIME a DELAY 5 SECONDS FROM FILES 'a b.json'` {
		t.Error(got)
	}
	if d := s.Statements[1].(*DeclareStream); d.Time.Delay.Micros != 5*types.Second || d.From.Address.Value != "a b.json" {
		t.Errorf("%+v", d)
	}
	close, err := Parse("t.sql", "SELECT:n,a-:n,:text||'x' FROM r;", map[string]string{"n": "-1", "text": "y"})
	if err != nil {
		t.Fatal(err)
	}
	if got := close.Source(close.Statements[0]); got != "SELECT -1,a- -1,'y' ||'x' FROM r" {
		t.Error(got)
	}
	again, err := Parse("t.sql", s.Source(s.Statements[0])+";", nil)
	if err != nil || len(again.Statements) != 1 {
		t.Errorf("what is kept does not parse again: %v", err)
	}
}

// TestBounds: no text, however deep or long, gets further than an error.
func TestBounds(t *testing.T) {
	many := func(s string) string { return strings.Repeat(s, 1_000_000/len(s)) }
	for name, text := range map[string]string{
		"parentheses": "SELECT " + many("(") + "1", "signs": "SELECT " + many("- ") + "1 FROM r;", "NOT": "SELECT " + many("NOT ") + "a FROM r;",
		"sums": "SELECT 1" + many("+1") + " FROM r;", "ANDs": "SELECT a" + many(" AND a") + " FROM r;", "queries": "SELECT a FROM " + many("(SELECT a FROM "),
		"CASE": "SELECT " + many("CASE WHEN "), "types": "DECLARE STREAM s (a " + many("ROW(a "), "functions": "SELECT " + many("f("),
	} {
		_, err := Parse("t", text, nil)
		var e *Errors
		if !errors.As(err, &e) || len(e.List) != 1 || !strings.Contains(e.List[0].Message, "too") {
			t.Errorf("%s: %.200v", name, err)
		}
	}
	var e *Errors
	if _, err := Parse("t", strings.Repeat("SELECT a FROM r;", 1<<20), nil); !errors.As(err, &e) || len(e.List) != 1 || !strings.Contains(e.Error(), "16777216 bytes, and one may have 1048576") {
		t.Errorf("a text of 16 MB: %.200v", err)
	}
	if _, err := Parse("t", strings.Repeat("SELECT;", 100_000), nil); !errors.As(err, &e) || len(e.List) != mostErrors || !strings.Contains(e.List[mostErrors-1].Hint, "more errors follow") {
		t.Errorf("many errors: %.200v", err)
	}
	if _, err := Parse("t", "SELECT "+strings.Repeat("(", 100)+"1"+strings.Repeat(")", 100)+strings.Repeat("+1", 4000)+" FROM r;", nil); err != nil {
		t.Error(err)
	}
}

func TestSuggestions(t *testing.T) {
	names := []string{"read_at", "rssi", "device", "mat"}
	for in, want := range map[string]string{"rsi": "rssi", "raed_at": "read_at", "DEVICE": "device", "quite_else": "", "x": "", "mta": "mat"} {
		if got := Suggest(in, names); got != want {
			t.Errorf("for %s: %q, wanted %q", in, got, want)
		}
	}
}

func TestJobTree(t *testing.T) {
	s, err := Parse("t", `CREATE OR REPLACE JOB j WITH a AS (SELECT x FROM r), b AS (SELECT y FROM (SELECT x AS y FROM a) q)
		ROUTE a WHERE x > 1 TO k, l ELSE WHERE x > 0 TO m ELSE TO n ROUTE b TO o SET (PARALLELISM 3, CHECKPOINT EVERY 2 SECONDS);`, nil)
	if err != nil {
		t.Fatal(err)
	}
	j := s.Statements[0].(*CreateJob)
	if !j.Replace || len(j.Steps) != 2 || len(j.Routes) != 2 || len(j.Routes[0].Branches) != 3 || len(j.Routes[0].Branches[0].Sinks) != 2 || j.Routes[0].Branches[2].Where != nil {
		t.Errorf("%+v", j)
	}
	if len(j.Set) != 2 || j.Set[1].Name != "checkpoint every" || *j.Set[1].Duration != 2*types.Second {
		t.Errorf("%+v", j.Set)
	}
}

// FuzzParse: no text makes the parser fail in another way than with a list of errors that stand in the
// text, and what parses can be cut out and parsed again.
func FuzzParse(f *testing.F) {
	f.Add("SELECT a, b.c FROM r WHERE a > 1 GROUP BY a, w WINDOW w AS (TUMBLING 1 MINUTE) LIMIT 1;")
	f.Add("DECLARE STREAM s (a ROW(b INT), c BOOLEAN AS (a.b > 1)) EVENT TIME a DELAY 1 HOUR FROM TOPIC 'x' (FORMAT json, BAD ROWS keep);")
	f.Add("CREATE JOB j WITH a AS (SELECT x FROM r) ROUTE a WHERE x > 1 TO k ELSE TO n SET (PARALLELISM 3);")
	f.Add("SELECT CASE WHEN a THEN 'x' ELSE CAST(b AS DATE) END || :p FROM r -- c\n/* d */;")
	f.Add("DROP STREAM IF EXISTS s; SHOW JOBS; DESCRIBE x; EXPLAIN SELECT 1 FROM r; START JOB j; CREATE VIEW v AS SELECT 1 FROM r;")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse("f", text, map[string]string{"p": "5"})
		var e *Errors
		if err != nil {
			if !errors.As(err, &e) || len(e.List) == 0 {
				t.Fatal(err)
			}
			for _, d := range e.List {
				if d.Span.From < 0 || d.Span.To > len(text) || d.Span.From > d.Span.To {
					t.Fatalf("%+v in %d bytes", d, len(text))
				}
			}
			_ = err.Error()
			return
		}
		for _, st := range s.Statements {
			src := s.Source(st)
			again, err := Parse("f", src, nil)
			if err != nil || len(again.Statements) != 1 {
				t.Fatalf("%q was kept as %q, which does not parse: %v", text, src, err)
			}
		}
	})
}

// TestLongLines: of a long line the part around an error is shown, with what it points at below it.
func TestLongLines(t *testing.T) {
	for _, x := range []struct{ before, after int }{{0, 5000}, {30, 5000}, {2500, 2500}, {5000, 30}, {5000, 0}, {100, 100}} {
		text := strings.Repeat("é", x.before) + "HERE" + strings.Repeat("z", x.after)
		errs := &Errors{Text: text}
		at := 2 * x.before
		errs.Add(Syntax, Span{From: at, To: at + 4}, "", "wrong")
		said := strings.Split(errs.Error(), "\n")
		if len(said) != 3 || len([]rune(said[1])) > 260 {
			t.Fatalf("%+v: %q", x, said)
		}
		line, marks := []rune(said[1]), []rune(said[2])
		if got := string(line[len(marks)-4 : len(marks)]); got != "HERE" || !strings.HasSuffix(said[2], " ^^^^") && x.before > 0 {
			t.Errorf("%+v points at %q:\n%s\n%s", x, got, said[1], said[2])
		}
		if whole := x.before+x.after < 240; whole == strings.Contains(said[1], "…") {
			t.Errorf("%+v: %s", x, said[1])
		}
	}
	errs := &Errors{Text: strings.Repeat("(", 5000)} // what is wrong is longer than what is shown
	errs.Add(Syntax, Span{From: 0, To: 5000}, "", "wrong")
	if n := len(errs.Error()); n > 700 {
		t.Errorf("%d letters are said of it", n)
	}
}
