package sql_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"fiume/internal/core/sql"
)

// writing makes texts of jobs and queries of all clauses, with comments at all kinds of places.
type writing struct {
	*rand.Rand
	comments []string
}

func (w *writing) pick(xs ...string) string { return xs[w.IntN(len(xs))] }

func (w *writing) maybe(text string) string {
	if w.IntN(2) == 0 {
		return ""
	}
	return text
}

// note is a comment, at times.
func (w *writing) note() string {
	if w.IntN(9) > 0 {
		return " "
	}
	c := fmt.Sprintf("-- note %d, it's; ROUTE (", len(w.comments))
	if w.IntN(4) == 0 {
		c = fmt.Sprintf("/* note %d ; -- */", len(w.comments))
	}
	w.comments = append(w.comments, c)
	return " " + c + "\n"
}

func (w *writing) expr(depth int) string {
	if depth <= 0 {
		return w.pick("mat", "rssi", `"Odd Name"`, "r.chip", "device.battery", "12", "-1.5", "'it''s; -- x'", ":limit", "NULL", "TRUE", "TIMESTAMP '2026-05-17 09:00:00'", "INTERVAL '5' SECONDS", "tags[1]")
	}
	x, y := func() string { return w.expr(depth - 1 - w.IntN(2)) }, func() string { return w.expr(depth - 1 - w.IntN(2)) }
	switch w.IntN(14) {
	case 0:
		return "(" + x() + " OR " + y() + ")"
	case 1:
		return "(" + x() + " AND " + y() + ")"
	case 2:
		return "(NOT (" + x() + " = " + y() + "))"
	case 3:
		return "(" + x() + w.pick(" + ", " - ", " * ", " / ", " % ", " DIV ", " || ") + y() + ")"
	case 4:
		return "CASE WHEN " + x() + " > 1 THEN " + y() + w.maybe(" ELSE "+y()) + " END"
	case 5:
		return "CAST(" + x() + " AS " + w.pick("VARCHAR", "DECIMAL(10, 2)", "ROW(a BIGINT, b ARRAY(VARCHAR))") + ")"
	case 6:
		return w.pick("upper", "COUNT", "MAX", "coalesce") + "(" + x() + ")" + w.maybe(" FILTER (WHERE rssi > 1)")
	case 7:
		return "SUM(rssi) OVER (PARTITION BY chip ORDER BY read_at " + w.pick("DESC", "ROWS BETWEEN 3 PRECEDING AND CURRENT ROW", "RANGE BETWEEN INTERVAL '1' MINUTE PRECEDING AND CURRENT ROW") + ")"
	case 8:
		return "(" + x() + " IS NOT NULL)"
	case 9:
		return "(" + x() + w.pick(" IN ", " NOT IN ") + "(1, " + y() + "))"
	case 10:
		return "(mat LIKE '%;x' ESCAPE '!')"
	case 11:
		return "ARRAY[" + x() + ", " + y() + "]"
	case 12:
		return "(chip IN (SELECT chip FROM entrants WHERE " + x() + "))"
	}
	return "(rssi BETWEEN " + x() + " AND " + y() + ")"
}

func (w *writing) condition() string { return w.expr(1+w.IntN(2)) + " = " + w.expr(1) }

func (w *writing) conditions() string {
	out := w.condition()
	for range w.IntN(3) {
		out += w.note() + w.pick("AND ", "AND ", "OR ") + w.condition()
	}
	return out
}

func (w *writing) input(steps []string) string {
	name := w.pick(append([]string{"reads", "entrants", `"Odd Stream"`}, steps...)...)
	switch w.IntN(12) {
	case 0:
		return "(SELECT * FROM " + name + " WHERE " + w.condition() + ") " + w.pick("q", `"Q"`)
	case 1:
		return name + " SINCE " + w.pick("BEGINNING", "10 MINUTES", "TIMESTAMP '2026-05-17 09:00:00'")
	case 2:
		return name + " r"
	case 3:
		return w.pick(`crowding.by_mat`, `"Odd job"."Step" s`)
	}
	return name
}

func (w *writing) block(steps []string) string {
	var b strings.Builder
	put := func(text string) { b.WriteString(text + w.note()) }
	put("SELECT" + w.maybe(w.maybe(" DISTINCT")))
	if w.IntN(4) == 0 {
		put(w.pick("*", "r.*"))
	} else {
		put(w.expr(w.IntN(3)) + w.maybe(" AS "+w.pick("x", `"X y"`, `"order"`)))
	}
	for range w.IntN(3) {
		put("," + w.note() + w.expr(w.IntN(3)) + w.maybe(" AS z"))
	}
	put("FROM " + w.input(steps))
	for range w.IntN(3) {
		switch w.IntN(5) {
		case 0:
			put("CROSS JOIN UNNEST(tags) AS u(tag)")
		case 1:
			put(w.pick("LEFT ", "") + "JOIN entrants e AS OF " + w.pick("NOW", "read_at") + " ON e.chip = r.chip")
		default:
			put(w.pick("", "LEFT ", "RIGHT OUTER ", "FULL ") + "JOIN " + w.pick("", "", "LAST OF ", "FIRST OF ") + w.input(steps) + w.note() + " ON " + w.conditions() + w.maybe(" AND c.at WITHIN 30 SECONDS "+w.pick("OF", "AFTER", "BEFORE")+" r.at") + w.maybe(" LATENESS 5 SECONDS"))
		}
	}
	if w.IntN(2) == 0 {
		put("WHERE " + w.conditions())
	}
	if w.IntN(5) == 0 {
		put("UNIQUE BY (chip, " + w.expr(1) + ") WITHIN 45 SECONDS")
	}
	if w.IntN(2) == 0 {
		put("GROUP BY mat, " + w.note() + w.expr(1) + w.maybe(" FORGET AFTER 3 DAYS"))
	}
	if w.IntN(4) == 0 {
		put("HAVING " + w.conditions())
	}
	if w.IntN(2) == 0 {
		put("WINDOW w AS (" + w.pick("TUMBLING 10 MINUTES", "SLIDING 1 HOUR EVERY 90 SECONDS", "SESSION GAP 15 SECONDS MAX 1 HOUR", "TUMBLING 1 DAY OFFSET 6 HOURS AT TIME ZONE 'Europe/Rome'") +
			w.maybe(" ON called_at") + w.maybe(" LATENESS 1 MINUTE") + w.pick("", " REPORT ON CHANGE", " REPORT EVERY 10 SECONDS") + w.maybe(" EMPTY FOR 2 HOURS") + ")")
		if w.IntN(3) == 0 {
			put(", v AS (PARTITION BY chip ORDER BY read_at DESC FORGET AFTER 1 HOUR)")
		}
	}
	if w.IntN(6) == 0 {
		put("UNION ALL")
		b.WriteString(w.block(steps))
	}
	return b.String()
}

// text is a job or a query, with statements around it.
func (w *writing) text() string {
	var b strings.Builder
	b.WriteString(w.note() + w.maybe("CREATE TOPIC a; DECLARE SINK a TO TOPIC 'a' (FORMAT json);\n") + w.note())
	job, short := w.IntN(3) > 0, w.IntN(2) == 0
	if job {
		b.WriteString(w.pick("CREATE JOB j", "CREATE OR REPLACE JOB j", `CREATE JOB "J 1"`) + w.note())
		if short {
			b.WriteString(" AS" + w.note())
		}
	}
	var steps []string
	for i := range w.IntN(4) {
		name := fmt.Sprintf("s%d", i)
		if i == 0 {
			b.WriteString("WITH" + w.note())
		} else {
			b.WriteString("," + w.note())
		}
		b.WriteString(name + " AS (" + w.note() + w.block(steps) + w.note() + ")" + w.note())
		steps = append(steps, name)
	}
	if short || !job {
		b.WriteString(w.block(steps))
	}
	if !job {
		b.WriteString(w.maybe(" LIMIT 100") + w.maybe(" UNTIL NOW"))
		return b.String() + ";" + w.note() + w.maybe("SHOW JOBS;")
	}
	for range 1 + w.IntN(3) {
		b.WriteString(" ROUTE " + w.pick("", "LATE ", "REJECTED "))
		if !short || strings.HasSuffix(b.String(), "D ") || strings.HasSuffix(b.String(), "E ") {
			b.WriteString(w.pick(append([]string{"reads"}, steps...)...) + " ")
		}
		if w.IntN(2) == 0 {
			b.WriteString("WHERE " + w.conditions() + " TO a, b" + w.note() + w.maybe("ELSE WHERE "+w.condition()+" TO c ELSE TO d"))
		} else {
			b.WriteString("TO " + w.pick("a", `"Sink"`, "a, b"))
		}
		b.WriteString(w.note())
	}
	b.WriteString(w.maybe("SET (CHECKPOINT EVERY 5 SECONDS, TASKS 3)"))
	return b.String() + ";" + w.note() + w.maybe("SHOW JOBS;") + w.note()
}

// printed are the statements of a text without comments.
func printed(t *testing.T, text string) string {
	t.Helper()
	script, err := sql.Read("", text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	var out []string
	for _, st := range script.Statements {
		out = append(out, sql.Print(st))
	}
	return strings.Join(out, ";\n")
}

// redrawn checks what a drawing promises of a text: text to drawing to text is the same statements with all comments, again it is the same text,
// and it is the same when the queries are made of their parts.
func redrawn(t *testing.T, text string, comments []string) {
	t.Helper()
	want := printed(t, text)
	drawing, err := sql.Draw(text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	whole := func(d *sql.Drawing, how string) string {
		t.Helper()
		var sent sql.Drawing // as it comes back from whoever draws
		b, err := json.Marshal(d)
		if err == nil {
			err = json.Unmarshal(b, &sent)
		}
		if err != nil {
			t.Fatal(err)
		}
		out, err := sent.SQL()
		if err != nil {
			t.Fatalf("%s: %v\n%s\n%s", how, err, text, b)
		}
		if got := printed(t, out); got != want {
			t.Fatalf("%s, it is another text\n%s\n%s", how, want, got)
		}
		for _, c := range comments {
			if strings.Count(out, c) != 1 {
				t.Fatalf("%s, %q is there %d times\n%s\n%s", how, c, strings.Count(out, c), text, out)
			}
		}
		return out
	}
	first := whole(drawing, "put together")
	again, err := sql.Draw(first)
	if err != nil {
		t.Fatalf("%v\n%s", err, first)
	}
	if second := whole(again, "once more"); second != first {
		t.Fatalf("once more it is not the same\n%s\n%s", first, second)
	}
	for i, s := range drawing.Steps {
		if got := printed(t, s.Preview+";"); !strings.Contains(got, "SELECT") {
			t.Fatalf("the preview of %s is %s", s.Name, s.Preview)
		}
		drawing.Steps[i].Query = ""
	}
	parts := whole(drawing, "made of parts")
	back, err := sql.Draw(parts)
	if err != nil {
		t.Fatal(err)
	}
	if second := whole(back, "made of parts once more"); second != parts {
		t.Fatalf("made of parts, and once more, it is not the same\n%s\n%s", parts, second)
	}
}

// TestDrawing draws generated texts. TEXTS says how many (300).
func TestDrawing(t *testing.T) {
	texts := uint64(300)
	if n, err := strconv.ParseUint(os.Getenv("TEXTS"), 10, 32); err == nil {
		texts = n
	}
	routes := uint64(0)
	for seed := range texts {
		w := &writing{Rand: rand.New(rand.NewPCG(seed, 3))}
		text := w.text()
		if _, err := sql.Read("", text); err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		redrawn(t, text, w.comments)
		if strings.Contains(text, "ROUTE") {
			routes++
		}
	}
	if routes < texts/2 {
		t.Errorf("only %d are jobs", routes)
	}
}

// TestDrawingBad: parts that are more, or less, than they are to be are refused, with the place.
func TestDrawingBad(t *testing.T) {
	good := func() *sql.Drawing {
		d, err := sql.Draw("CREATE JOB j WITH a AS (SELECT x, y FROM r JOIN q ON q.x = r.x WHERE x > 1 GROUP BY x, w WINDOW w AS (TUMBLING 1 MINUTE)) ROUTE a WHERE x > 2 TO s;")
		if err != nil {
			t.Fatal(err)
		}
		d.Steps[0].Query = ""
		return d
	}
	if text, err := good().SQL(); err != nil || !strings.Contains(text, "TUMBLING 1 MINUTE") {
		t.Fatal(text, err)
	}
	for words, change := range map[string]func(d *sql.Drawing, b *sql.BlockParts){
		"the step a: the condition 1: in":       func(d *sql.Drawing, b *sql.BlockParts) { b.Where[0].Expr = "x > 1) OR (y" },
		"is not one expression":                 func(d *sql.Drawing, b *sql.BlockParts) { b.Where[0].Expr = "x, y" },
		"the condition 1: it is empty":          func(d *sql.Drawing, b *sql.BlockParts) { b.Where[0].Expr = " " },
		"the condition 1: in \"1 FROM":          func(d *sql.Drawing, b *sql.BlockParts) { b.Where[0].Expr = "1 FROM z; SELECT 1" },
		"the column 2: in":                      func(d *sql.Drawing, b *sql.BlockParts) { b.Columns[1].Expr = "x AS" },
		"it has no columns":                     func(d *sql.Drawing, b *sql.BlockParts) { b.Columns = nil },
		"it reads nothing":                      func(d *sql.Drawing, b *sql.BlockParts) { b.From = sql.InputParts{} },
		"what it reads, ":                       func(d *sql.Drawing, b *sql.BlockParts) { b.From.Since = "NOW JOIN z ON TRUE" },
		"it is not one clause":                  func(d *sql.Drawing, b *sql.BlockParts) { b.Joins[0].Lateness = "5 SECONDS WHERE x" },
		"what the two sides have in common":     func(d *sql.Drawing, b *sql.BlockParts) { b.Joins[0].On = nil },
		"in \"WINDOW w AS (TUMBLING 1 MINUTE) ": func(d *sql.Drawing, b *sql.BlockParts) { b.Windows[0].Length = "1 MINUTE) UNION ALL SELECT (x" },
		"the step a has no query":               func(d *sql.Drawing, b *sql.BlockParts) { d.Steps[0].Blocks = nil },
		"a step is one SELECT":                  func(d *sql.Drawing, b *sql.BlockParts) { d.Steps[0].Query = "SELECT x FROM r LIMIT 5" },
		"it is not one SELECT":                  func(d *sql.Drawing, b *sql.BlockParts) { d.Steps[0].Query = "SELECT x FROM r; SELECT y FROM r" },
		"the step 1 has no name": func(d *sql.Drawing, b *sql.BlockParts) {
			d.Steps = append([]sql.StepParts{{Query: "SELECT x FROM r"}}, d.Steps...)
		},
		"the route 1, of a: an arm of it leads": func(d *sql.Drawing, b *sql.BlockParts) { d.Routes[0].Branches[0].Sinks = nil },
		"the route 1, of a: it leads nowhere":   func(d *sql.Drawing, b *sql.BlockParts) { d.Routes[0].Branches = nil },
		"the route 1, of a: in":                 func(d *sql.Drawing, b *sql.BlockParts) { d.Routes[0].Branches[0].Where = "x TO t ELSE" },
		"a job has no LIMIT":                    func(d *sql.Drawing, b *sql.BlockParts) { d.Limit = "5" },
		"expected ROUTE":                        func(d *sql.Drawing, b *sql.BlockParts) { d.Routes = nil },
		"more than one statement": func(d *sql.Drawing, b *sql.BlockParts) {
			d.Job, d.Routes, d.Limit = false, nil, "5; DROP JOB x"
		},
		"has no end": func(d *sql.Drawing, b *sql.BlockParts) { d.Steps[0].Comment = "/* open" },
	} {
		d := good()
		change(d, &d.Steps[0].Blocks[0])
		if text, err := d.SQL(); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("wanted %q: %v\n%s", words, err, text)
		}
	}
	for _, d := range []sql.Drawing{{}, {Job: true}, {Job: true, Name: "j", Steps: []sql.StepParts{{Name: "a"}}}, {Steps: []sql.StepParts{{Blocks: []sql.BlockParts{{}}}}}, {Before: "SELECT"}} {
		_, _ = d.SQL() // whatever is missing, it does not break
	}
	if d, err := sql.Draw("CREATE TOPIC a;"); err != nil || len(d.Steps) != 0 {
		t.Error(d, err)
	}
}

// TestDrawingLong: what previews take does not grow with the square of a text.
func TestDrawingLong(t *testing.T) {
	chain := func(n int, pad string) string {
		var b strings.Builder
		b.WriteString("WITH s0 AS (SELECT * FROM r)")
		for i := range n {
			fmt.Fprintf(&b, ", s%d AS (SELECT *%s FROM s%d)", i+1, pad, i)
		}
		fmt.Fprintf(&b, " SELECT * FROM s%d;", n)
		return b.String()
	}
	if _, err := sql.Draw(chain(20_000, "")); err == nil || !strings.Contains(err.Error(), "20002 steps, and up to 1000 are drawn") {
		t.Error(err)
	}
	d, err := sql.Draw(chain(900, ", '"+strings.Repeat("x", 1000)+"' AS a"))
	if err != nil {
		t.Fatal(err)
	}
	total, without := 0, 0
	for _, s := range d.Steps {
		total += len(s.Preview)
		if s.Preview == "" {
			without++
		}
	}
	if total > 6<<20 || without < 500 || d.Steps[10].Preview == "" {
		t.Errorf("%d bytes of previews, %d steps without", total, without)
	}
	if text, err := d.SQL(); err != nil || strings.Count(text, " AS (") != 901 {
		t.Error(err)
	}
}

// TestQuotedWords: the console quotes the names that have to be. RECORD=1 writes its list anew.
func TestQuotedWords(t *testing.T) {
	const file = "../../../console/src/words.json"
	want, err := json.MarshalIndent(sql.QuotedWords(), "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	want = append(want, '\n')
	if os.Getenv("RECORD") != "" {
		if err := os.WriteFile(file, want, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(file); err != nil || !bytes.Equal(got, want) {
		t.Errorf("%s is not what the language says; RECORD=1 writes it anew: %v", file, err)
	}
	for _, w := range sql.QuotedWords() {
		if sql.Quoted(w) != `"`+w+`"` {
			t.Errorf("%s is not quoted", w)
		}
	}
}

var fenced = regexp.MustCompile("(?s)```sql\n(.*?)```")

// TestDrawingOfAll draws every job and every query that stands in the tests, the manual and the demo.
func TestDrawingOfAll(t *testing.T) {
	n := 0
	try := func(text string) {
		for _, text := range []string{text, text + ";"} {
			script, err := sql.Read("", text)
			if err != nil || len(script.Statements) == 0 {
				continue
			}
			if d, err := sql.Draw(text); err != nil {
				t.Fatalf("%v\n%s", err, text)
			} else if len(d.Steps)+len(d.Routes) > 0 {
				redrawn(t, text, nil)
				n++
			}
			return
		}
	}
	err := filepath.WalkDir("../../..", func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if e.IsDir() {
			if slices.Contains([]string{"node_modules", ".git", "dist", ".cluster", "bin"}, e.Name()) {
				return filepath.SkipDir
			}
			return nil
		}
		switch filepath.Ext(path) {
		case ".sql", ".md", ".txt":
			b, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			if filepath.Ext(path) == ".md" {
				for _, m := range fenced.FindAllSubmatch(b, -1) {
					try(string(m[1]))
				}
			} else {
				try(string(b))
			}
		case ".go":
			if !strings.HasSuffix(path, "_test.go") {
				return nil
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(x ast.Node) bool {
				if lit, ok := x.(*ast.BasicLit); ok && lit.Kind == token.STRING {
					if text, err := strconv.Unquote(lit.Value); err == nil {
						try(text)
					}
				}
				return true
			})
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%d texts", n)
	if n < 300 {
		t.Errorf("only %d texts were found", n)
	}
}
