// Package lookups remembers what places answer that are asked for rows by key, also that there is no such row.
package lookups

import (
	"fmt"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/state"

	"github.com/hashicorp/golang-lru/v2/expirable"
)

// Cache remembers the answers of a table for a while, by key: the row as its layout writes it, nil where there is none.
type Cache struct {
	table *plan.Table
	lru   *expirable.LRU[string, []byte]
}

// New makes a cache as the options CACHE ROWS and CACHE FOR say.
func New(t *plan.Table) *Cache {
	return &Cache{t, expirable.NewLRU[string, []byte](t.Options.Number("cache rows", plan.DefaultCacheRows), nil, time.Duration(t.Options.Duration("cache for", time.Minute.Microseconds()))*time.Microsecond)}
}

// Probe is step.Rows.Probe: ask is given a row for each key that is not known, and gives what was found by key.
func (c *Cache) Probe(keys *state.Keys, n int, wanted []bool, out [][]byte, ask func(rows []int) (map[string][]byte, error)) error {
	var rows []int
	asked := map[string]bool{}
	for i := range n {
		out[i] = nil
		if wanted != nil && !wanted[i] {
			continue
		}
		key := string(keys.Key(i))
		if row, ok := c.lru.Get(key); ok {
			out[i] = row
		} else if !asked[key] {
			asked[key] = true
			rows = append(rows, i)
		}
	}
	if len(rows) == 0 {
		return nil
	}
	found, err := ask(rows)
	if err != nil {
		return fmt.Errorf("the table %s cannot be asked: %w", c.table.Name, err)
	}
	for key := range asked {
		c.lru.Add(key, found[key])
	}
	for i := range n {
		if out[i] == nil && (wanted == nil || wanted[i]) {
			out[i] = found[string(keys.Key(i))]
		}
	}
	return nil
}
