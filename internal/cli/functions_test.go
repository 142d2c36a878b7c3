package cli

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"fiume/internal/connect"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
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
	blocks := regexp.MustCompile("(?s)```sql\n(.*?)```")
	for _, name := range []string{"language.md", "first-steps.md"} {
		b, err := os.ReadFile("../../docs/manual/" + name)
		if err != nil {
			t.Fatal(err)
		}
		var text strings.Builder
		for _, m := range blocks.FindAllStringSubmatch(string(b), -1) {
			text.WriteString(m[1])
		}
		if text.Len() < 200 {
			t.Fatalf("%s has no examples", name)
		}
		if _, err := check(plan.NewCatalog(connect.Places()), name, text.String(), nil); err != nil {
			t.Error(err)
		}
	}
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
	if _, err := check(cat, "race.sql", string(race), map[string]string{"archive": "archive"}); err != nil {
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
		{"aggregate", "Aggregates", "One value for each group of a query with GROUP BY. Each takes `FILTER (WHERE condition)` behind it. The examples run over a column x with the values 1, 2, 2 and NULL, in the order of event time."},
		{"over", "Over rows", "These need OVER, which this version reads but does not run yet."}}
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
