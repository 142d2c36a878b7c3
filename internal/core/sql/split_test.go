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
