package flow

import (
	"fmt"
	"testing"
)

// BenchmarkLookBack computes a count and a mean over the rows of the same key in a length of time before each
// of 200,000 rows of twelve keys, a row a second: a row costs the same however far it looks back.
func BenchmarkLookBack(b *testing.B) {
	for _, seconds := range []int{1_000, 30_000, 120_000} {
		b.Run(fmt.Sprint(seconds), func(b *testing.B) {
			over := fmt.Sprintf("OVER (PARTITION BY n %% 12 ORDER BY at RANGE INTERVAL '%d' SECOND PRECEDING)", seconds)
			p := planOf(b, "SELECT n, COUNT(*) "+over+" AS c, AVG(n) "+over+" AS a FROM s")
			perRow(b, p, 200_000)
		})
	}
}
