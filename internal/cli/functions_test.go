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
	b, err := os.ReadFile("../../docs/manual/language.md")
	if err != nil {
		t.Fatal(err)
	}
	page := string(b)
	for _, f := range eval.Functions() {
		if line := fmt.Sprintf("| `%s` | %s |", f.Signature, f.Doc); !strings.Contains(page, line) {
			t.Errorf("docs/manual/language.md lacks\n%s", line)
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
	b, err = os.ReadFile("../../README.md")
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
