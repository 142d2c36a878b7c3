package connect_test

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
)

var record = flag.Bool("record", false, "write the outcomes of the scripts in testdata instead of comparing them")

// section is one part of a script: "=== name" and the lines behind it.
type section struct{ name, text string }

func readScript(t *testing.T, path string) []section {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var out []section
	for line := range strings.Lines(string(b)) {
		if name, ok := strings.CutPrefix(line, "=== "); ok {
			out = append(out, section{name: strings.TrimSpace(name)})
			continue
		}
		if len(out) == 0 {
			t.Fatalf("%s: text before the first section", path)
		}
		out[len(out)-1].text += line
	}
	return out
}

// setting is one way of running a script.
type setting struct{ parallelism, piece int }

// outcome is what a script gave: rows of queries, rows of sinks, the ledger, errors.
type outcome struct {
	rows   []string
	sinks  map[string][]string
	ledger string
	errors string
}

// runSQL runs a text over files in a directory; :name parameters are the files, without their
// extension, and directories for sinks.
func runSQL(t *testing.T, src, dir string, set setting) outcome {
	t.Helper()
	out := outcome{sinks: map[string][]string{}}
	params := map[string]string{}
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		params[strings.TrimSuffix(e.Name(), filepath.Ext(e.Name()))] = filepath.Join(dir, e.Name())
	}
	sinks := t.TempDir()
	for _, s := range []string{"out1", "out2", "out3"} {
		params[s] = filepath.Join(sinks, s)
	}
	fail := func(err error) outcome {
		out.errors = strings.ReplaceAll(err.Error(), dir+string(filepath.Separator), "") + "\n"
		return out
	}
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("script.sql", src, params, nil)
	if err != nil {
		return fail(err)
	}
	var ledger strings.Builder
	for _, p := range plans {
		o := &connect.Opener{Env: contract.Env{Piece: set.piece}}
		limit := int64(-1)
		if q := p.Outputs()[0]; q.Sink == nil {
			limit = q.Limit
		}
		o.Rows = &rows.Sink{Format: "json", Limit: limit, Each: func(r []byte) error {
			out.rows = append(out.rows, string(r))
			return nil
		}}
		job, err := flow.New(p, o, flow.Options{Parallelism: set.parallelism, Describe: text.Describe})
		if err != nil {
			return fail(err)
		}
		if err := job.Run(t.Context()); err != nil {
			return fail(err)
		}
		st := job.Status()
		checkLedger(t, p, st, limit >= 0)
		for _, s := range st.Steps {
			c := s.Counts
			fmt.Fprintf(&ledger, "%s %s: in %d passed %d filtered %d absorbed %d late %d rejected %d held %d made %d\n",
				s.Step, s.Kind, c.In, c.Passed, c.Filtered, c.Absorbed, c.Late, c.Rejected, c.Held, c.Made)
		}
		var samples []string
		for _, s := range job.Samples() {
			by := ""
			if s.LateBy > 0 {
				by = " by " + sql.DurationText(s.LateBy)
			}
			samples = append(samples, strings.ReplaceAll(fmt.Sprintf("%s %s%s: %s (%s) %s\n", s.Step, s.Kind, by, s.Reason, s.Origin, s.Row), dir+string(filepath.Separator), ""))
		}
		slices.Sort(samples)
		ledger.WriteString(strings.Join(samples, ""))
	}
	out.ledger = ledger.String()
	for _, s := range []string{"out1", "out2", "out3"} {
		files, _ := filepath.Glob(filepath.Join(params[s], "part-*"))
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			out.sinks[s] = append(out.sinks[s], strings.Split(strings.TrimSpace(string(b)), "\n")...)
		}
	}
	return out
}

// checkLedger holds the promise that every row is in exactly one place, and that what a step gives is
// what the next one takes. A query cut off by LIMIT leaves rows on their way.
func checkLedger(t *testing.T, p *plan.Plan, s flow.Status, cut bool) {
	t.Helper()
	if cut {
		return
	}
	for i, st := range s.Steps {
		if st.Open != 0 || st.Counts.Held != 0 {
			t.Errorf("%s %s: %d rows are nowhere, %d still held: %+v", st.Step, st.Kind, st.Open, st.Counts.Held, st.Counts)
		}
		in := p.Ops[i].Input
		if in != nil && s.Steps[in.ID].Out != st.Counts.In {
			t.Errorf("%s %s gave %d rows, %s %s took %d", s.Steps[in.ID].Step, s.Steps[in.ID].Kind, s.Steps[in.ID].Out, st.Step, st.Kind, st.Counts.In)
		}
	}
}

// TestScripts runs the scripts of testdata. Each is a text file: SQL, arrivals in files, and the rows,
// ledger or errors that come of it. It is run with one task, and then with other numbers of tasks and
// sizes of pieces, which must give the same rows.
func TestScripts(t *testing.T) {
	paths, err := filepath.Glob("testdata/*.txt")
	if err != nil || len(paths) == 0 {
		t.Fatalf("no scripts: %v", err)
	}
	for _, path := range paths {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".txt"), func(t *testing.T) {
			sections := readScript(t, path)
			dir := t.TempDir()
			var b bytes.Buffer
			src := ""
			var got outcome
			check := func(name, want, have string) {
				if *record {
					fmt.Fprintf(&b, "=== %s\n%s", name, have)
					return
				}
				if want != have {
					t.Errorf("%s differ(s).\nwanted:\n%s\ngot:\n%s", name, want, have)
				}
			}
			join := func(rows []string) string {
				if len(rows) == 0 {
					return ""
				}
				return strings.Join(rows, "\n") + "\n"
			}
			ran := false
			for _, s := range sections {
				kind, arg, _ := strings.Cut(s.name, " ")
				if !ran && (kind == "rows" || kind == "sink" || kind == "ledger" || kind == "errors") {
					ran = true
					got = runSQL(t, src, dir, setting{1, 1 << 20})
					if got.errors != "" && kind != "errors" {
						t.Fatal(got.errors)
					}
				}
				switch kind {
				case "about":
					fmt.Fprintf(&b, "=== %s\n%s", s.name, s.text)
				case "sql":
					src = s.text
					fmt.Fprintf(&b, "=== %s\n%s", s.name, s.text)
				case "file":
					if err := os.WriteFile(filepath.Join(dir, arg), []byte(s.text), 0o644); err != nil {
						t.Fatal(err)
					}
					fmt.Fprintf(&b, "=== %s\n%s", s.name, s.text)
				case "rows":
					check(s.name, s.text, join(got.rows))
				case "sink":
					check(s.name, s.text, join(got.sinks[arg]))
				case "ledger":
					check(s.name, s.text, got.ledger)
				case "errors":
					check(s.name, s.text, got.errors)
				default:
					t.Fatalf("%s: unknown section %q", path, s.name)
				}
			}
			if *record {
				if err := os.WriteFile(path, b.Bytes(), 0o644); err != nil {
					t.Fatal(err)
				}
				return
			}
			if got.errors != "" || strings.Contains(src, "LIMIT") {
				return
			}
			for _, set := range []setting{{1, 64}, {2, 300}, {3, 64}, {8, 1000}} {
				again := runSQL(t, src, dir, set)
				if again.errors != "" {
					t.Fatalf("%+v: %s", set, again.errors)
				}
				sorted := func(rows []string) string { r := slices.Clone(rows); slices.Sort(r); return join(r) }
				if sorted(again.rows) != sorted(got.rows) {
					t.Errorf("%+v gives other rows:\n%s", set, join(again.rows))
				}
				for k, rows := range got.sinks {
					if sorted(again.sinks[k]) != sorted(rows) {
						t.Errorf("%+v gives other rows at %s:\n%s", set, k, join(again.sinks[k]))
					}
				}
				if again.ledger != got.ledger {
					t.Errorf("%+v gives another ledger:\n%s\ninstead of\n%s", set, again.ledger, got.ledger)
				}
			}
		})
	}
}
