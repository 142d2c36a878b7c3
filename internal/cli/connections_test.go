package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"fiume/internal/connect"
	"fiume/internal/core/plan"
)

// TestConnectionsPage: the page of the manual is what the connectors say of themselves, and the example of each can be declared. RECORD=1 writes
// the page anew.
func TestConnectionsPage(t *testing.T) {
	const name = "../../docs/manual/connections.md"
	want := connectionsPage()
	if page, err := os.ReadFile(name); string(page) != want {
		if os.Getenv("RECORD") == "" {
			t.Errorf("%s is not what the connectors say (%v); RECORD=1 go test writes it", name, err)
		} else if err := os.WriteFile(name, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, p := range connect.Places() {
		if p.Example == "" || p.About == "" {
			t.Errorf("%s has no example or says nothing of itself", p.Kind)
		}
		cat := plan.NewCatalog(connect.Places())
		if _, err := check(cat, p.Kind+".sql", p.Example, nil); err != nil {
			t.Errorf("the example of %s: %v", p.Kind, err)
		}
		for role, specs := range map[string][]plan.OptionSpec{"endpoint": p.Options, "stream": p.Source, "table": p.Table, "sink": p.Sink} {
			for _, s := range specs {
				if s.Doc == "" {
					t.Errorf("the option %s of a %s of %s says nothing of itself", s.Name, role, p.Kind)
				}
			}
		}
	}
}

func connectionsPage() string {
	var b strings.Builder
	b.WriteString("# Connections\n\nMade from what the connectors say of themselves; `SHOW PLACES` and `DESCRIBE PLACE name` show the same.\n\n" +
		"A stream, a table or a sink is declared over a place: its kind, an address and options. Places behind a server need an endpoint, which says where the\n" +
		"server is and who asks; its password is a secret of the service (`fiume secret set NAME`), which is sent to that address alone. `fiume connections`, and\n" +
		"Test on the console's page of a declaration, look whether it can be used now, step by step. While a place is away a job waits and says so: in\n" +
		"`fiume job show` and on its page stands what it waits for, since when and why; the other splits and sinks go on. What has come meanwhile is read then.\n\n" +
		"Where partitions are added to a topic while a job runs, the job finds them and reads them from their beginning. They join with a checkpoint, at the event time\n" +
		"that the stream has reached: a row in them that is older is late, as it would be in a partition that was there before.\n\n" +
		"| place | stream | table | sink | behind an endpoint | |\n|---|---|---|---|---|---|\n")
	cat := plan.NewCatalog(connect.Places())
	for _, r := range cat.PlaceRows() {
		fmt.Fprintf(&b, "| [%s](#%s) | %s | %s | %s | %s | %s |\n", r[0], strings.ToLower(r[0]), r[1], r[2], r[3], r[4], r[5])
	}
	cell := func(s string) string { return strings.ReplaceAll(s, "|", "\\|") }
	places := connect.Places()
	slices.SortFunc(places, func(x, y plan.Place) int { return strings.Compare(x.Kind, y.Kind) })
	for _, p := range places {
		fmt.Fprintf(&b, "\n## %s\n\n%s.\n\n```sql\n%s\n```\n\n", strings.ToUpper(p.Kind), strings.ToUpper(p.About[:1])+p.About[1:], p.Example)
		if p.Promise != nil {
			for _, x := range promises(p) {
				fmt.Fprintf(&b, "A sink promises: %s.\n\n", x)
			}
		}
		_, rows, _ := cat.OptionRows(p.Kind)
		b.WriteString("| option | of a | takes | default | |\n|---|---|---|---|---|\n")
		for _, r := range rows {
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", r[0], r[1], cell(r[2]), cell(r[3]), cell(r[4]))
		}
	}
	return b.String()
}

// promises are what a kind of sink promises a plain output.
func promises(p plan.Place) []string {
	return []string{p.Promise(&plan.Op{Kind: plan.Output, Sink: &plan.Sink{Place: p.Kind, Traits: p.Traits, Options: plan.Options{}}})}
}
