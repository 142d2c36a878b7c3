package sql

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// TestSplit puts statements of pieces in which semicolons do not count behind one another, and takes them apart again.
func TestSplit(t *testing.T) {
	pieces := []string{"SELECT a", " 'it''s; here'", ` "a;b"`, " -- a; b\n", " /* ; */", " /* 'a */", " FROM b", "\n", " x", " 1 - 2", " '\n;'", " / 2", " -"}
	r := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		var want []string
		for range r.IntN(4) {
			var b strings.Builder
			b.WriteString("S")
			for range r.IntN(6) {
				b.WriteString(pieces[r.IntN(len(pieces))])
			}
			want = append(want, b.String()+"\n;")
		}
		rest := []string{"", " ", "SELECT 'open;", "x -- ;", "a /* ; "}[r.IntN(5)]
		text := strings.Join(want, "") + rest
		got, left := Split(text)
		if strings.Contains(rest, "open") || strings.Contains(rest, "/*") { // nothing is whole before the quote ends
			want, rest = nil, text
		}
		if !slices.Equal(trimmed(got), trimmed(want)) || strings.TrimSpace(left) != strings.TrimSpace(rest) {
			t.Fatalf("%q and %q, wanted %q and %q", got, left, want, rest)
		}
	}
}

func trimmed(list []string) []string {
	out := []string{}
	for _, s := range list {
		out = append(out, strings.TrimSpace(s))
	}
	return out
}

// TestPositions: positions that are asked for in order are those that are counted from the beginning.
func TestPositions(t *testing.T) {
	text := "a\nbäc\n\n🏃x\r\ny"
	for _, every := range []int{1, 2, 3, 5} {
		p, n := Positions{Text: text}, 0
		for at := range text + "  " {
			if n++; n%every > 0 {
				continue
			}
			line, column := p.Of(at)
			if l, c := Position(text, at); l != line || c != column {
				t.Errorf("every %d, %d: %d:%d, wanted %d:%d", every, at, line, column, l, c)
			}
		}
	}
}
