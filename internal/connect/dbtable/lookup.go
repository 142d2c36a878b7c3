package dbtable

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/lookups"
	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// lookup asks a table for the rows of keys, many at a time, and remembers the answers for a while, also that
// there is no such row.
type lookup struct {
	db     *sql.DB
	server Server
	op     *plan.Op
	cols   []int // of the declared ones that are asked for: those of the key first
	key    []Column
	query  string
	layout *state.Layout
	cache  *lookups.Cache
}

const keysAQuery = 500

// OpenLookup opens a table that is asked for the rows of keys.
func OpenLookup(server Server, env *contract.Env, o *plan.Op) (step.Rows, error) {
	t := o.OfTable
	db, schema, err := server.Connect(t.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	have, err := CheckSource(context.Background(), server, db, schema, t.Stream)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	l := &lookup{db: db, server: server, op: o, cols: t.KeyColumns()}
	shown := t.Shown()
	for _, k := range o.Kept {
		c := t.ColumnOf(k)
		if c < 0 {
			return nil, errors.Join(fmt.Errorf("the column %q of %s is computed; a table with CACHE has none", shown[k].Name, t.Name), db.Close())
		}
		l.cols = append(l.cols, c)
	}
	for _, c := range t.KeyColumns() {
		i := slices.IndexFunc(have, func(x Column) bool { return strings.EqualFold(x.Name, t.Columns[c].Name) })
		l.key = append(l.key, have[i])
	}
	l.query = "SELECT " + Columns(server, t.Stream, l.cols) + " FROM " + server.Table(t.Address) + " WHERE "
	l.layout = state.NewLayout(o.Of.Fields, o.Kept)
	l.cache = lookups.New(t)
	return l, nil
}

// Close ends the lookup.
func (l *lookup) Close() error { return l.db.Close() }

// Probe implements step.Rows.
func (l *lookup) Probe(keys *state.Keys, cols []*column.Vector, n int, wanted []bool, out [][]byte) error {
	return l.cache.Probe(keys, n, wanted, out, func(ask []int) (map[string][]byte, error) {
		found := map[string][]byte{}
		for part := range slices.Chunk(ask, keysAQuery) {
			if err := l.fetch(part, cols, found); err != nil {
				return nil, err
			}
		}
		return found, nil
	})
}

// Tries is how often a question is asked anew when the server does not answer.
const tries = 5

func (l *lookup) fetch(ask []int, cols []*column.Vector, found map[string][]byte) (err error) {
	for try := range tries {
		if try > 0 {
			time.Sleep(time.Duration(50<<try) * time.Millisecond)
		}
		if err = l.query1(ask, cols, found); err == nil {
			return nil
		}
	}
	return err
}

func (l *lookup) query1(ask []int, cols []*column.Vector, found map[string][]byte) error {
	var args []any
	for _, i := range ask {
		for _, v := range cols {
			args = append(args, valueOf(v, i))
		}
	}
	of, args := l.server.Keyed(l.key, args)
	rows, err := l.db.Query(l.query+of, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	t := l.op.OfTable
	cells, dest := make([]sql.RawBytes, len(l.cols)), make([]any, len(l.cols))
	for i := range cells {
		dest[i] = &cells[i]
	}
	nkey := len(t.Key)
	var enc state.Keys
	for rows.Next() {
		if err := rows.Scan(dest...); err != nil {
			return err
		}
		b := &column.Batch{N: 1, Cols: make([]*column.Vector, len(l.op.Of.Fields))}
		var key []*column.Vector
		for i, c := range l.cols {
			f := t.Columns[c]
			var v types.Value
			if cells[i] != nil {
				var ok bool
				if v, ok = l.server.Value(cells[i], f.Type); !ok {
					return fmt.Errorf("%s: '%.50s' is no %s", f.Name, cells[i], f.Type)
				}
			}
			vec := column.New(f.Type)
			vec.Append(v)
			if i < nkey {
				key = append(key, vec)
			} else {
				b.Cols[l.op.Kept[i-nkey]] = vec
			}
		}
		k, _ := enc.EncodeRow(key, 0)
		found[string(k)] = l.layout.Append([]byte{}, b, 0)
	}
	return rows.Err()
}
