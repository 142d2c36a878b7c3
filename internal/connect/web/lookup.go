package web

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/lookups"
	"fiume/internal/connect/webclient"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
	"fiume/internal/format"

	"golang.org/x/sync/errgroup"
)

// lookup asks a service for the rows of keys, and remembers the answers for a while, also that there is none.
type lookup struct {
	client *webclient.Client
	op     *plan.Op
	names  []int // of the key's columns, one for each place in the address
	each   int   // keys in a request
	at     []string
	keep   bool // an answer that is no row is none
	layout *state.Layout
	cache  *lookups.Cache
}

func openLookup(c *webclient.Client, o *plan.Op) (*lookup, error) {
	t := o.OfTable
	l := &lookup{client: c, op: o, each: t.Options.Number("keys", 1), at: steps(t.Options.Word("rows at", "")), keep: t.Options.Word("bad rows", "stop") == "keep"}
	names, err := namesIn(t.Address)
	if err != nil {
		return nil, err
	}
	keys := t.KeyColumns()
	for _, n := range names {
		i := slices.IndexFunc(keys, func(c int) bool { return t.Columns[c].Name == n })
		if i < 0 {
			return nil, fmt.Errorf("the address names {%s}, which is no column of the key of %s", n, t.Name)
		}
		l.names = append(l.names, i)
	}
	for i, c := range keys {
		if !slices.Contains(l.names, i) {
			return nil, fmt.Errorf("the address does not say which %s is asked for: write {%s} into it", t.Columns[c].Name, t.Columns[c].Name)
		}
	}
	if l.each > 1 && len(keys) > 1 {
		return nil, errors.New("KEYS asks for keys of one column")
	}
	shown := t.Shown()
	for _, k := range o.Kept {
		if t.ColumnOf(k) < 0 {
			return nil, fmt.Errorf("the column %q of %s is computed; a table with CACHE has none", shown[k].Name, t.Name)
		}
	}
	l.layout = state.NewLayout(o.Of.Fields, o.Kept)
	l.cache = lookups.New(t)
	return l, nil
}

// Close ends the lookup.
func (l *lookup) Close() error {
	l.client.HTTP.CloseIdleConnections()
	return nil
}

// Probe implements step.Rows.
func (l *lookup) Probe(keys *state.Keys, cols []*column.Vector, n int, wanted []bool, out [][]byte) error {
	return l.cache.Probe(keys, n, wanted, out, func(ask []int) (map[string][]byte, error) {
		var mu sync.Mutex
		found := map[string][]byte{}
		g, ctx := errgroup.WithContext(context.Background())
		g.SetLimit(l.client.AtOnce)
		for part := range slices.Chunk(ask, l.each) {
			g.Go(func() error {
				rows, err := l.fetch(ctx, part, keys, cols)
				if err != nil {
					return err
				}
				mu.Lock()
				defer mu.Unlock()
				maps.Copy(found, rows)
				return nil
			})
		}
		return found, g.Wait()
	})
}

// fetch asks for the rows of some keys.
func (l *lookup) fetch(ctx context.Context, part []int, keys *state.Keys, cols []*column.Vector) (map[string][]byte, error) {
	values := make([]string, len(cols)) // of each column of the key, with commas between
	for k, v := range cols {
		var all []string
		for _, i := range part {
			if v.Null(i) {
				return nil, nil // there is no row without a key
			}
			all = append(all, string(types.AppendText(nil, v.Value(i))))
		}
		values[k] = strings.Join(all, ",")
	}
	at := 0
	path := filled(l.op.OfTable.Address, func(string) string {
		at++
		return values[l.names[at-1]]
	})
	got, err := l.client.Insist(ctx, webclient.Request{Method: http.MethodGet, Path: path, Header: http.Header{"Accept": {"application/json"}}})
	var no *webclient.Refusal
	if errors.As(err, &no) && (no.Code == http.StatusNotFound || no.Code == http.StatusGone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	rows, err := l.rows(got.Body, part, keys, cols)
	if err != nil && l.keep {
		return nil, nil
	}
	return rows, err
}

// rows makes out the rows of an answer. Where one key was asked for, the answer need not repeat it.
func (l *lookup) rows(body []byte, part []int, keys *state.Keys, cols []*column.Vector) (map[string][]byte, error) {
	t := l.op.OfTable
	body = bytes.TrimSpace(body)
	if len(body) == 0 || string(body) == "null" {
		return nil, nil
	}
	var values [][]byte
	if t.Options.Word("format", "json") == "json" {
		body, err := inner(body, l.at)
		if err != nil {
			return nil, err
		}
		if values, err = elements(body); err != nil {
			return nil, err
		}
		if len(part) == 1 {
			for i := range values {
				if values[i], err = withKey(values[i], t, cols, part[0]); err != nil {
					return nil, err
				}
			}
		}
	} else {
		for line := range bytes.Lines(body) {
			values = append(values, bytes.TrimRight(line, "\r\n"))
		}
	}
	if len(part) == 1 && len(values) > 1 {
		return nil, fmt.Errorf("%d rows came for one key", len(values))
	}
	dec, err := (&format.Reading{Stream: t.Stream, Used: &plan.Use{All: true}}).NewDecoder(nil)
	if err != nil {
		return nil, err
	}
	data, msgs := messages(values)
	var b column.Batch
	if bad := dec.Decode(data, msgs, &b); len(bad) > 0 {
		return nil, fmt.Errorf("the answer is no row: %s", bad[0].Reason)
	}
	out := map[string][]byte{}
	view := &column.Batch{N: b.N, Cols: make([]*column.Vector, len(l.op.Of.Fields))}
	for _, k := range l.op.Kept {
		view.Cols[k] = b.Cols[t.ColumnOf(k)]
	}
	var key []*column.Vector
	for _, c := range t.KeyColumns() {
		key = append(key, b.Cols[c])
	}
	var enc state.Keys
	for i := range b.N {
		name := ""
		if len(part) == 1 {
			name = string(keys.Key(part[0]))
		} else {
			k, _ := enc.EncodeRow(key, i)
			name = string(k)
		}
		out[name] = l.layout.Append([]byte{}, view, i)
	}
	return out, nil
}

// messages puts values behind each other, as decoders want them.
func messages(values [][]byte) (data []byte, msgs []flow.Message) {
	now := time.Now().UnixMicro()
	for i, v := range values {
		msgs = append(msgs, flow.Message{Off: uint32(len(data)), Len: uint32(len(v)), Pos: int64(i), At: now})
		data = append(data, v...)
	}
	return slices.Grow(data, flow.Pad), msgs
}

// withKey puts the key that was asked for into an answer that does not have it.
func withKey(value []byte, t *plan.Table, cols []*column.Vector, i int) ([]byte, error) {
	var has map[string]json.RawMessage
	if err := json.Unmarshal(value, &has); err != nil || has == nil {
		return nil, fmt.Errorf("the answer is no JSON object: %.60q", value)
	}
	for k, c := range t.KeyColumns() {
		f := t.Columns[c]
		if _, ok := has[f.Name]; ok {
			continue
		}
		b := format.NewJSONEncoder([]types.Field{f}).Append(nil, &column.Batch{Cols: []*column.Vector{cols[k]}}, i)
		if rest := bytes.TrimLeft(value[1:], " \t\r\n"); rest[0] != '}' {
			b[len(b)-1] = ','
			value = append(b, rest...)
		} else {
			value = b
		}
	}
	return value, nil
}

// steps are the names of a path such as data.items.
func steps(path string) []string {
	if path == "" {
		return nil
	}
	return strings.Split(path, ".")
}

// inner gives what stands at a path in a JSON text.
func inner(body []byte, path []string) ([]byte, error) {
	for i, name := range path {
		var o map[string]json.RawMessage
		if err := json.Unmarshal(body, &o); err != nil {
			return nil, fmt.Errorf("the answer is no JSON object at '%s'", strings.Join(path[:i], "."))
		}
		if body = o[name]; body == nil {
			return nil, fmt.Errorf("the answer has no '%s'", strings.Join(path[:i+1], "."))
		}
	}
	return bytes.TrimSpace(body), nil
}

// elements gives those of a JSON array, or the one value that is none.
func elements(body []byte) ([][]byte, error) {
	if len(body) == 0 || body[0] != '[' {
		if !json.Valid(body) {
			return nil, fmt.Errorf("the answer is no JSON: %.60q", body)
		}
		return [][]byte{body}, nil
	}
	var list []json.RawMessage
	if err := json.Unmarshal(body, &list); err != nil {
		return nil, fmt.Errorf("the answer is no JSON: %w", err)
	}
	var out [][]byte
	for _, x := range list {
		out = append(out, x)
	}
	return out, nil
}
