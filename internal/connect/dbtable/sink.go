package dbtable

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/spool"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// Sink writes rows. With a KEY a row replaces the one of its key. In a run that takes checkpoints, rows are
// spooled, and written when a checkpoint counts: the rows between two checkpoints in one transaction together
// with their number in the table fiume_deliveries, so that it is known whether they are there. Without
// checkpoints each payload is a transaction.
type Sink struct {
	*spool.Sink
	db     *sql.DB
	server Server
	to     Statements
	name   string
	fields []types.Field
	takes  bool  // rows are taken back, by their key
	key    []int // columns of the key
	exact  bool  // the key is that of the step: a replacement has the key of what it replaces
	keep   bool  // rows that the server refuses are set aside
	spools bool
	made   bool // the tables are there

	mu      sync.Mutex
	refused []flow.Refused // that were not asked for
}

// OpenSink connects and checks the table once more.
func OpenSink(server Server, env *contract.Env, out *plan.Op) (flow.Sink, error) {
	db, name, err := server.Connect(out.Sink.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	cols, err := made(context.Background(), server, db, name, out)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	s := &Sink{db: db, server: server, to: server.Statements(cols, out), name: out.Sink.Name, fields: out.Fields, keep: out.Sink.Options.Word("bad rows", "stop") == "keep"}
	s.Sink = &spool.Sink{FS: env.FS(), Dir: env.Spool(out), Target: s}
	if out.Changes && !out.Full {
		var names []string
		for _, k := range out.Keys {
			names = append(names, out.Fields[k].Name)
		}
		s.exact, s.takes = true, true
		for _, k := range out.Sink.Options.Names("key") {
			s.key = append(s.key, slices.IndexFunc(out.Fields, func(f types.Field) bool { return f.Name == k }))
			s.exact = s.exact && slices.Contains(names, k)
		}
	}
	return s, nil
}

// Resume implements flow.Exact.
func (s *Sink) Resume(handle []byte) error {
	s.spools = true
	return s.Sink.Resume(handle)
}

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	if s.spools {
		return s.Sink.Write(p.Bytes)
	}
	return s.transaction(func(tx *sql.Tx) error { return s.write(tx, p.Bytes, nil) })
}

func (s *Sink) transaction(do func(tx *sql.Tx) error) error {
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// write writes the rows of a payload. Rows that the server refuses go to aside, where it is set.
func (s *Sink) write(tx *sql.Tx, payload []byte, aside func(row []any, why error) error) error {
	values, removes, rows, err := rowsOf(payload, len(s.fields))
	if err != nil {
		return err
	}
	width := len(s.fields)
	var put func(from, n int) error
	put = func(from, n int) error {
		args := values[from*width : (from+n)*width]
		do := func() error { return s.to.Put(tx, args) }
		var err error
		if aside == nil {
			err = do()
		} else {
			err = s.to.Guarded(tx, do)
		}
		switch {
		case err == nil || aside == nil || !s.server.OfTheRow(err):
			return err
		case n == 1:
			return aside(args, err)
		}
		// A statement that fails leaves nothing: the rows are tried in halves, until the one stands alone.
		if err := put(from, n/2); err != nil {
			return err
		}
		return put(from+n/2, n-n/2)
	}
	for at := 0; at < rows; {
		if len(removes) > 0 && removes[0] == at {
			var key []any
			for _, k := range s.key {
				key = append(key, values[at*width+k])
			}
			if err := s.to.Remove(tx, key); err != nil {
				return err
			}
			removes = removes[1:]
			at++
			continue
		}
		n := min(rows-at, s.server.RowsAStatement())
		if len(removes) > 0 {
			n = min(n, removes[0]-at)
		}
		if err := put(at, n); err != nil {
			return err
		}
		at += n
	}
	return nil
}

// Place implements spool.Target: the deliveries that are there are counted in the database.
func (s *Sink) Place() ([]byte, error) { return nil, nil }

// Has implements spool.Target.
func (s *Sink) Has(writer string, number int64, _ []byte) (bool, error) {
	if err := s.makeTables(); err != nil {
		return false, err
	}
	var newest int64
	err := s.db.QueryRow(s.server.Bind("SELECT number FROM fiume_deliveries WHERE writer=?"), writer).Scan(&newest)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return newest >= number, err
}

// makeTables makes the tables of the sink's own, outside of transactions, which they would end.
func (s *Sink) makeTables() error {
	if s.made {
		return nil
	}
	for _, q := range s.server.OwnTables(s.keep) {
		_, err := s.db.Exec(q)
		if err != nil { // two that make it at once are in each other's way
			_, err = s.db.Exec(q)
		}
		if err != nil {
			return fmt.Errorf("a table of the sink's own cannot be made; grant CREATE, or make it with: %s: %w", q, err)
		}
	}
	s.made = true
	return nil
}

// Deliver implements spool.Target.
func (s *Sink) Deliver(writer string, number int64, _ []byte, payloads [][]byte) error {
	if err := s.makeTables(); err != nil {
		return err
	}
	var refused []flow.Refused
	err := s.transaction(func(tx *sql.Tx) error {
		refused = nil
		now := time.Now().UTC()
		behind, end := s.server.Unless()
		if _, err := tx.Exec(s.server.Bind("INSERT"+behind+" INTO fiume_deliveries (writer, sink, number, at) VALUES (?, ?, 0, ?)"+end), writer, s.name, now); err != nil {
			return err
		}
		var newest int64
		if err := tx.QueryRow(s.server.Bind("SELECT number FROM fiume_deliveries WHERE writer=? FOR UPDATE"), writer).Scan(&newest); err != nil {
			return err
		}
		if newest >= number {
			return nil // it is there: what failed was to hear of it
		}
		var aside func(row []any, why error) error
		if s.keep {
			aside = func(row []any, why error) error {
				text := s.rowText(row)
				refused = append(refused, flow.Refused{Reason: why.Error(), Row: text})
				_, err := tx.Exec(s.server.Bind("INSERT INTO fiume_set_aside (sink, reason, content, at) VALUES (?, ?, ?, ?)"), s.name, why.Error(), text, now)
				return err
			}
		}
		for _, p := range payloads {
			if err := s.write(tx, p, aside); err != nil {
				return err
			}
		}
		_, err := tx.Exec(s.server.Bind("UPDATE fiume_deliveries SET number=?, at=? WHERE writer=?"), number, now, writer)
		return err
	})
	if err == nil && refused != nil {
		s.mu.Lock()
		s.refused = append(s.refused, refused...)
		s.mu.Unlock()
	}
	return err
}

func (s *Sink) rowText(row []any) string {
	m := make(map[string]any, len(row))
	for i, f := range s.fields {
		m[f.Name] = row[i]
	}
	b, _ := json.Marshal(m)
	return string(b)
}

// Refused implements flow.Refuser.
func (s *Sink) Refused() []flow.Refused {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.refused
	s.refused = nil
	return out
}

// Passing implements spool.Target.
func (s *Sink) Passing(err error) bool { return s.server.Passing(err) }

// Retry implements flow.Retrier. Without checkpoints, where the connection breaks while a payload is committed, it
// is not known whether it was: it can be written twice.
func (s *Sink) Retry(err error) bool { return s.Sink.Retry(err) }

// Close implements flow.Sink.
func (s *Sink) Close(bool) error { return s.db.Close() }
