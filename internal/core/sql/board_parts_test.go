package sql_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fiume/internal/core/sql"
)

// someBoard makes the text of a board with comments at all kinds of places, and gives them.
func someBoard(r *rand.Rand) (text string, comments []string) {
	n := 0
	note := func() string {
		if r.IntN(3) > 0 {
			return ""
		}
		n++
		c := fmt.Sprintf("-- note %d; with 'a quote'", n)
		if r.IntN(4) == 0 {
			c = fmt.Sprintf("/* note %d, PANEL 'x' */", n)
		}
		comments = append(comments, c)
		return c + "\n"
	}
	pick := func(xs ...string) string { return xs[r.IntN(len(xs))] }
	var w strings.Builder
	fmt.Fprintf(&w, "%sCREATE %sBOARD %s%s\n", note(), pick("", "OR REPLACE "), pick("race", `"Odd Name"`, `"time"`), pick("", " (TITLE 'It''s on', SINCE 90 MINUTES, ROWS 40)"))
	for i := range r.IntN(3) {
		fmt.Fprintf(&w, "%sVARIABLE v%d%s (ALL %s) %sAS (%sSELECT wave%s FROM runners WHERE wave <> ';' %s) %s\n", note(), i, pick("", " 'A wave'"), pick("'all'", "'every; one'"), note(), note(), pick("", ", name"), note(), note())
	}
	for i := range 1 + r.IntN(4) {
		if r.IntN(5) == 0 {
			fmt.Fprintf(&w, "%sPANEL 'words %d' TEXT %s'Some; words: it''s so.\nTwo lines.'%s\n", note(), i, pick("", "(WIDE 3) "), note())
			continue
		}
		fmt.Fprintf(&w, "%sPANEL 'panel %d' %s%s %sAS (%sWITH s AS (SELECT n, place FROM reads %sWHERE wave = :v0 OR :v0 IS NULL)\nSELECT %splace, SUM(n) AS n FROM s%s GROUP BY place FORGET AFTER 3 DAYS %s) %s\n",
			note(), i, pick("bars", "number", "histogram"), pick("", " (VALUE n, ABOVE 2.5, UNIT 'm/s')", " (VALUE 'n', WIDE 12)"), note(), note(), note(), note(), " "+note(), note(), note())
	}
	return w.String() + ";\n" + note(), comments
}

// TestBoardParts: the text of a board that was cut into parts and put together again is its canonical text, with all comments, and panels
// that were moved take theirs along.
func TestBoardParts(t *testing.T) {
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 7))
		text, comments := someBoard(r)
		parts, err := sql.Cut(text)
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		first, err := parts.SQL()
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		for _, c := range comments {
			if strings.Count(first, c) != 1 {
				t.Fatalf("seed %d: %q is there %d times\n%s\n%s", seed, c, strings.Count(first, c), text, first)
			}
		}
		parts, err = sql.Cut(first)
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, first)
		}
		again, err := parts.SQL()
		if err != nil || again != first {
			t.Fatalf("seed %d: %v\n%s\n%s", seed, err, first, again)
		}
		script, err := sql.Read("", first)
		if err != nil || sql.Format(script) != first {
			t.Fatalf("seed %d: %v\n%s", seed, err, first)
		}
		tree, err := sql.Read("", text)
		if err != nil || sql.Print(tree.Statements[0]) != sql.Print(script.Statements[0]) {
			t.Fatalf("seed %d: %v: another statement\n%s\n%s", seed, err, sql.Print(tree.Statements[0]), sql.Print(script.Statements[0]))
		}
		// Moved, a panel is what it was.
		moved := slices.Clone(parts.Panels)
		r.Shuffle(len(moved), func(i, k int) { moved[i], moved[k] = moved[k], moved[i] })
		other := *parts
		other.Panels = moved
		text, err = other.SQL()
		if err != nil {
			t.Fatal(err)
		}
		back, err := sql.Cut(text)
		if err != nil {
			t.Fatal(err)
		}
		for i := range moved {
			if fmt.Sprint(back.Panels[i]) != fmt.Sprint(moved[i]) {
				t.Fatalf("seed %d: %+v became %+v\n%s", seed, moved[i], back.Panels[i], text)
			}
		}
	}
}

// TestBoardPartsBad: parts that are no board are refused, with the panel that is wrong.
func TestBoardPartsBad(t *testing.T) {
	good := func() *sql.BoardParts {
		return &sql.BoardParts{Name: "b", Panels: []sql.PanelParts{{Title: "one", Kind: "number", Query: "SELECT n FROM r"}, {Title: "two", Kind: "text", Words: "it's"}}}
	}
	if text, err := good().SQL(); err != nil || !strings.Contains(text, "TEXT 'it''s'") {
		t.Errorf("%s %v", text, err)
	}
	for words, change := range map[string]func(*sql.BoardParts){
		"the panel 1, one: ":   func(b *sql.BoardParts) { b.Panels[0].Query = "SELECT" },
		"it is not one SELECT": func(b *sql.BoardParts) { b.Panels[0].Query = "DROP JOB x" },
		"expected":             func(b *sql.BoardParts) { b.Panels[0].Query = "SELECT n FROM r) PANEL 'x' NUMBER AS (SELECT 1 FROM r" },
		"a panel at least":     func(b *sql.BoardParts) { b.Panels = nil },
		"the option UNIT is": func(b *sql.BoardParts) {
			b.Panels[0].Options = []sql.OptionPart{{"unit", "a", true}, {"unit", "b", true}}
		},
		"WIDE has no value":   func(b *sql.BoardParts) { b.Panels[0].Options = []sql.OptionPart{{"wide", "", false}} },
		"the variable 1, v: ": func(b *sql.BoardParts) { b.Variables = []sql.VariableParts{{Name: "v"}} },
		"has no end":          func(b *sql.BoardParts) { b.Comment = "/* open" },
	} {
		b := good()
		change(b)
		if text, err := b.SQL(); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("wanted %q: %v\n%s", words, err, text)
		}
	}
	for _, text := range []string{"", "SELECT 1 FROM r", "CREATE BOARD b PANEL 'x' TEXT 'a'; CREATE BOARD c PANEL 'x' TEXT 'a';", "CREATE BOARD"} {
		if _, err := sql.Cut(text); err == nil {
			t.Errorf("%q was cut", text)
		}
	}
}
