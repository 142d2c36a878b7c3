// Package standin is a search store for tests and the demo: it takes documents in bulk, refuses those that do not fit what it has, finds them again, and can be slow, busy, at fault or away.
package standin

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Store is the stand-in. Its fields are set before it serves; the zero value works.
type Store struct {
	User, Password string        // whoever does not have them is sent away; "": nobody is
	Slow           time.Duration // before each answer
	Faulty         float64       // the share of requests that fail: half of them before they are taken, half of them behind it
	Crowded        float64       // the share of documents that it has no time for just now
	Most           int           // bytes of a request; 0: any

	mu      sync.Mutex
	away    bool
	indices map[string]*index
	bulks   int64
	stale   int64
}

// index is the documents of one name, and what it has learnt of their fields.
type index struct {
	docs   map[string]document
	kinds  map[string]string
	newest int64
}

type document struct {
	Source  json.RawMessage
	Version int64
	Gone    bool // versions of what was removed are remembered
	seq     int64
}

// Away has it break all connections, or not any more.
func (s *Store) Away(away bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.away = away
}

// Documents gives those of an index, by their ids.
func (s *Store) Documents(name string) map[string]json.RawMessage {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]json.RawMessage{}
	if x := s.indices[name]; x != nil {
		for id, d := range x.docs {
			if !d.Gone {
				out[id] = d.Source
			}
		}
	}
	return out
}

// Indices gives the names of the indices.
func (s *Store) Indices() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Sorted(maps.Keys(s.indices))
}

// Counts says how many requests with documents were taken, and how many documents came that were older than what was there.
func (s *Store) Counts() (bulks, stale int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.bulks, s.stale
}

// ServeHTTP implements http.Handler.
func (s *Store) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	away := s.away
	s.mu.Unlock()
	if away {
		panic(http.ErrAbortHandler)
	}
	if s.Slow > 0 {
		time.Sleep(s.Slow)
	}
	if user, password, _ := r.BasicAuth(); s.User != "" && (user != s.User || password != s.Password) {
		fault(w, http.StatusUnauthorized, "security_exception", "nobody is let in with "+base64.StdEncoding.EncodeToString([]byte(password)))
		return
	}
	fails := rand.Float64() < s.Faulty
	if fails && rand.IntN(2) == 0 {
		fault(w, http.StatusInternalServerError, "exception", "at fault")
		return
	}
	path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	switch {
	case path[0] == "":
		answer(w, http.StatusOK, map[string]any{"name": "stand-in", "version": map[string]string{"number": "1"}, "tagline": "a stand-in of a search store"})
	case path[0] == "_bulk" && r.Method == http.MethodPost:
		s.bulk(w, r)
	case len(path) == 1 && (r.Method == http.MethodHead || r.Method == http.MethodGet):
		s.describe(w, path[0])
	case len(path) == 3 && path[1] == "_doc":
		s.get(w, path[0], path[2])
	case len(path) == 2 && path[1] == "_search":
		s.search(w, r, path[0])
	case len(path) == 2 && path[1] == "_count":
		answer(w, http.StatusOK, map[string]any{"count": len(s.Documents(path[0]))})
	default:
		fault(w, http.StatusBadRequest, "illegal_argument_exception", "the stand-in does not know "+r.Method+" "+r.URL.Path)
	}
	if fails {
		panic(http.ErrAbortHandler)
	}
}

func answer(w http.ResponseWriter, code int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(v) // who asked has gone
}

func problem(kind, reason string) map[string]any {
	return map[string]any{"type": kind, "reason": reason}
}

func fault(w http.ResponseWriter, code int, kind, reason string) {
	answer(w, code, map[string]any{"status": code, "error": problem(kind, reason)})
}

// bulk takes documents.
func (s *Store) bulk(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	if s.Most > 0 && len(body) > s.Most {
		fault(w, http.StatusRequestEntityTooLarge, "", "")
		return
	}
	if len(body) == 0 || body[len(body)-1] != '\n' {
		fault(w, http.StatusBadRequest, "illegal_argument_exception", "the request does not end with a newline")
		return
	}
	type meta struct {
		Index   string `json:"_index"`
		ID      string `json:"_id"`
		Version int64  `json:"version"`
		Type    string `json:"version_type"`
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.bulks++
	var items []map[string]any
	failed := false
	for lines := bytes.Split(body[:len(body)-1], []byte{'\n'}); len(lines) > 0; {
		var do map[string]meta
		if err := json.Unmarshal(lines[0], &do); err != nil || len(do) != 1 {
			fault(w, http.StatusBadRequest, "illegal_argument_exception", fmt.Sprintf("no action: %.80s", lines[0]))
			return
		}
		lines = lines[1:]
		for what, m := range do {
			var source []byte
			if what != "delete" {
				if len(lines) == 0 {
					fault(w, http.StatusBadRequest, "illegal_argument_exception", "an action has no document")
					return
				}
				source, lines = bytes.Clone(lines[0]), lines[1:]
			}
			code, why := s.put(what, m.Index, m.ID, m.Version, source)
			item := map[string]any{"_index": m.Index, "_id": m.ID, "status": code}
			if why != nil {
				item["error"] = why
			}
			failed = failed || code >= 300
			items = append(items, map[string]any{what: item})
		}
	}
	answer(w, http.StatusOK, map[string]any{"took": 1, "errors": failed, "items": items})
}

// put takes one document, or says why not. The caller holds the lock.
func (s *Store) put(what, name, id string, version int64, source []byte) (code int, why map[string]any) {
	if rand.Float64() < s.Crowded {
		return http.StatusTooManyRequests, problem("rejected_execution_exception", "there is no time for it")
	}
	x := s.indices[name]
	if x == nil {
		if s.indices == nil {
			s.indices = map[string]*index{}
		}
		x = &index{docs: map[string]document{}, kinds: map[string]string{}}
		s.indices[name] = x
	}
	old, known := x.docs[id]
	if known && version < old.Version {
		s.stale++
		return http.StatusConflict, problem("version_conflict_engine_exception", fmt.Sprintf("[%s]: version conflict, current version [%d] is higher than the one provided [%d]", id, old.Version, version))
	}
	x.newest++
	if what == "delete" {
		x.docs[id] = document{Version: version, Gone: true, seq: x.newest}
		if !known || old.Gone {
			return http.StatusNotFound, nil
		}
		return http.StatusOK, nil
	}
	var fields map[string]any
	if err := json.Unmarshal(source, &fields); err != nil {
		return http.StatusBadRequest, problem("document_parsing_exception", err.Error())
	}
	for _, f := range slices.Sorted(maps.Keys(fields)) { // the first document tells what the fields are
		kind := kindOf(fields[f])
		if had := x.kinds[f]; had == "long" && kind == "text" {
			return http.StatusBadRequest, problem("document_parsing_exception", fmt.Sprintf("failed to parse field [%s] of type [long]: '%v'", f, fields[f]))
		} else if had == "" && kind != "" {
			x.kinds[f] = kind
		}
	}
	x.docs[id] = document{Source: source, Version: version, seq: x.newest}
	if known && !old.Gone {
		return http.StatusOK, nil
	}
	return http.StatusCreated, nil
}

func kindOf(v any) string {
	switch v.(type) {
	case nil:
		return ""
	case float64:
		return "long"
	case bool:
		return "boolean"
	case string:
		return "text"
	}
	return "object"
}

func (s *Store) describe(w http.ResponseWriter, name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	x := s.indices[name]
	if x == nil {
		fault(w, http.StatusNotFound, "index_not_found_exception", "no such index ["+name+"]")
		return
	}
	fields := map[string]any{}
	for f, k := range x.kinds {
		fields[f] = map[string]string{"type": k}
	}
	answer(w, http.StatusOK, map[string]any{name: map[string]any{"mappings": map[string]any{"properties": fields}}})
}

func (s *Store) get(w http.ResponseWriter, name, id string) {
	d, ok := s.Documents(name)[id]
	if !ok {
		answer(w, http.StatusNotFound, map[string]any{"_index": name, "_id": id, "found": false})
		return
	}
	answer(w, http.StatusOK, map[string]any{"_index": name, "_id": id, "found": true, "_source": d})
}

// search finds documents that have a text in them, newest first; q is the text, or field:text.
func (s *Store) search(w http.ResponseWriter, r *http.Request, name string) {
	size, err := strconv.Atoi(cmp.Or(r.URL.Query().Get("size"), "10"))
	if err != nil || size < 0 {
		fault(w, http.StatusBadRequest, "illegal_argument_exception", "size is a number")
		return
	}
	field, text, ok := strings.Cut(r.URL.Query().Get("q"), ":")
	if !ok {
		field, text = "", field
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	x := s.indices[name]
	if x == nil {
		fault(w, http.StatusNotFound, "index_not_found_exception", "no such index ["+name+"]")
		return
	}
	hits := []map[string]any{}
	total := 0
	for _, id := range slices.SortedFunc(maps.Keys(x.docs), func(a, b string) int { return cmp.Compare(x.docs[b].seq, x.docs[a].seq) }) {
		d := x.docs[id]
		if d.Gone || !fits(d.Source, field, strings.Trim(text, `"`)) {
			continue
		}
		if total++; len(hits) < size {
			hits = append(hits, map[string]any{"_index": name, "_id": id, "_source": d.Source})
		}
	}
	answer(w, http.StatusOK, map[string]any{"hits": map[string]any{"total": map[string]any{"value": total, "relation": "eq"}, "hits": hits}})
}

func fits(source []byte, field, text string) bool {
	if text == "" || text == "*" {
		return true
	}
	if field == "" {
		return bytes.Contains(bytes.ToLower(source), []byte(strings.ToLower(text)))
	}
	var fields map[string]any
	return json.Unmarshal(source, &fields) == nil && strings.Contains(strings.ToLower(fmt.Sprint(fields[field])), strings.ToLower(text))
}
