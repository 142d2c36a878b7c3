package cli

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"fiume/internal/connect"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/samples"
)

// TestManual: the manual lists every function of the catalogue as the catalogue describes it, and the
// examples of its pages have no errors.
func TestManual(t *testing.T) {
	want := functionsPage()
	const name = "../../docs/manual/functions.md"
	page, err := os.ReadFile(name)
	if string(page) != want {
		if os.Getenv("RECORD") == "" {
			t.Fatalf("%s is not what the catalogue says (%v); RECORD=1 go test writes it", name, err)
		}
		if err := os.WriteFile(name, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"language.md", "first-steps.md", "boards.md"} {
		checkPage(t, name)
	}
	blocks := regexp.MustCompile("(?s)```sql\n(.*?)```")
	// The introduction of the README needs the demo's declarations.
	b, err := os.ReadFile("../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	race, err := os.ReadFile("../../demo/sql/race.sql")
	if err != nil {
		t.Fatal(err)
	}
	cat := plan.NewCatalog(connect.Places())
	if _, err := check(cat, "race.sql", string(race), map[string]string{"archive": "archive", "editions": "editions/*.csv", "older_editions": "editions/*.parquet", "lake": "lake"}); err != nil {
		t.Fatal(err)
	}
	if _, err := check(cat, "README.md", blocks.FindStringSubmatch(string(b))[1], nil); err != nil {
		t.Error(err)
	}
}

// functionsPage is the page of the manual that lists the functions, made from the catalogue.
func functionsPage() string {
	var b strings.Builder
	b.WriteString("# Functions\n\nMade from the catalogue of functions; `fiume functions`, `SHOW FUNCTIONS` and `DESCRIBE FUNCTION name` show the same.\n" +
		"What a function of the language is given beyond its types (a division by zero, an overflow, a text that cannot be read)\nrejects the row in its step, and the row is counted with the reason.\n")
	titles := []struct{ group, title, intro string }{
		{"text", "Text", "Lengths and positions count code points. Patterns of regular expressions are written out, in RE2 syntax."},
		{"number", "Numbers", ""}, {"condition", "Choosing a value", ""},
		{"time", "Time", "Fields and units are those of UTC; `t AT TIME ZONE 'Europe/Rome'` gives the local time to use in their place."},
		{"json", "JSON", "A document is JSON, or VARCHAR that holds one. `doc.device.serial` and `doc['tags'][1]` give parts as JSON; CAST gives a type."},
		{"nested", "Arrays and maps", ""}, {"hash", "Hashes", ""},
		{"random", "Chance", "What these give depends on their arguments alone, so that a row that is read again gets the same: the first one, the draw, is what chance begins with. In the columns of a [GENERATOR](connections.md#generator) it is left out: each call there has one of its own for each row."},
		{"aggregate", "Aggregates", "One value for each group of a query with GROUP BY. Each takes `FILTER (WHERE condition)` behind it. The examples run over a column x with the values 1, 2, 2 and NULL, in the order of event time."},
		{"over", "Over rows", "These need OVER; see [Rows in event order](language.md#rows-in-event-order)."}}
	listed := 0
	for _, g := range titles {
		fmt.Fprintf(&b, "\n## %s\n\n", g.title)
		if g.intro != "" {
			b.WriteString(g.intro + "\n\n")
		}
		b.WriteString("| form | gives | NULL | example |\n|---|---|---|---|\n")
		cell := func(s string) string { return strings.ReplaceAll(s, "|", "\\|") }
		for _, f := range eval.Functions() {
			if f.Group != g.group {
				continue
			}
			listed++
			var forms []string
			for _, s := range f.Signatures {
				forms = append(forms, "`"+cell(s)+"`")
			}
			example := ""
			if f.Example != "" {
				result := "`" + cell(f.Result) + "`"
				if f.Result == "" {
					result = "NULL"
				}
				example = "`" + cell(f.Example) + "` = " + result
			}
			fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", strings.Join(forms, "<br>"), cell(f.Doc), cell(f.Nulls), example)
		}
	}
	if listed != len(eval.Functions()) {
		panic("a group of functions has no chapter")
	}
	return b.String()
}

// checkPage checks the examples of a page in their order, with one catalogue. "sql" has no errors, "sql
// later" is refused with not-yet alone, and "sql run" gives the text block behind it; RECORD=1 writes
// those anew.
func checkPage(t *testing.T, name string) {
	t.Helper()
	before, err := os.Getwd()
	if err != nil {
		t.Fatal(err)
	}
	t.Chdir("../../docs/manual")
	defer t.Chdir(before)
	b, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	page := string(b)
	cat := plan.NewCatalog(connect.Places())
	block := regexp.MustCompile("(?s)```sql( later| run)?\n(.*?)```(\n\n```text\n(.*?)```)?")
	found := 0
	out := block.ReplaceAllStringFunc(page, func(whole string) string {
		found++
		m := block.FindStringSubmatch(whole)
		text := m[2]
		switch m[1] {
		case " later":
			for _, st := range strings.SplitAfter(text, ";\n") {
				if strings.TrimSpace(st) != "" {
					refusedLater(t, cat.Clone(), name, st)
				}
			}
		case " run":
			var buf strings.Builder
			r := &localRun{app: &app{out: &buf, err: &buf, output: "table"}, file: name, quiet: true, parallelism: 1}
			looking := cat.Clone()
			looking.Sample = samples.SampledLocally
			if err := r.bound(t.Context(), looking, text, nil); err != nil {
				t.Errorf("%s\n%v", text, err)
				return whole
			}
			got := regexp.MustCompile(` +\n`).ReplaceAllString(buf.String(), "\n")
			if os.Getenv("RECORD") != "" {
				return "```sql run\n" + text + "```\n\n```text\n" + got + "```"
			}
			if m[3] == "" || m[4] != got {
				t.Errorf("%s: the example\n%sgives\n%s", name, text, got)
			}
		default:
			if _, err := check(cat, name, text, nil); err != nil {
				t.Error(err)
			}
		}
		return whole
	})
	if found < 1 {
		t.Fatalf("%s has no examples", name)
	}
	if out != page {
		if err := os.WriteFile(name, []byte(out), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// refusedLater checks a statement that this version reads and lays out, and refuses to run.
func refusedLater(t *testing.T, cat *plan.Catalog, name, st string) {
	t.Helper()
	script, err := sql.Parse(name, st, nil)
	if err != nil {
		t.Error(err)
		return
	}
	if again, err := sql.Parse(name, sql.Format(script), nil); err != nil || len(again.Statements) != 1 {
		t.Errorf("%s is laid out as %s", st, sql.Format(script))
	}
	_, err = check(cat, name, st, nil)
	var e *sql.Errors
	if !errors.As(err, &e) {
		t.Errorf("%s is not refused", st)
		return
	}
	for _, d := range e.List {
		if d.Code != sql.NotYet {
			t.Errorf("%s: %v", st, err)
		}
	}
}
