// Package standin is a registry of schemas in memory, for tests and for trying: the usual HTTP interface, with a check of compatibility.
package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"fiume/internal/format"

	"github.com/twmb/franz-go/pkg/sr"
	"github.com/twmb/franz-go/pkg/sr/srfake"
)

// Registry is a registry in memory. The package that keeps the schemas takes any; what comes before it judges them.
type Registry struct {
	kept  *srfake.Registry
	key   string // what those who are let in show
	mu    sync.Mutex
	level map[string]sr.CompatibilityLevel // by subject; "": of all
}

// New makes an empty registry. user and password are asked for where user is not "".
func New(user, password string) *Registry {
	var opts []srfake.Option
	key := ""
	if user != "" {
		r := &http.Request{Header: http.Header{}}
		r.SetBasicAuth(user, password)
		key = r.Header.Get("Authorization")
		opts = append(opts, srfake.WithAuth(key))
	}
	r := &Registry{key: key, level: map[string]sr.CompatibilityLevel{"": sr.CompatBackward}}
	r.kept = srfake.NewRegistry(opts...)
	r.kept.Intercept(r.judge)
	return r
}

// ServeHTTP implements http.Handler.
func (r *Registry) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	r.kept.Handler().ServeHTTP(w, req)
}

// SetLevel says what schemas of a subject, or of all, "", must be compatible with.
func (r *Registry) SetLevel(subject string, level sr.CompatibilityLevel) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.level[subject] = level
}

// judge answers what is about compatibility, and refuses schemas that are not compatible.
func (r *Registry) judge(w http.ResponseWriter, req *http.Request) bool {
	parts := strings.Split(strings.Trim(req.URL.EscapedPath(), "/"), "/")
	for i := range parts {
		parts[i], _ = url.PathUnescape(parts[i])
	}
	if req.Method == http.MethodPut && parts[0] == "config" {
		var c struct {
			Level sr.CompatibilityLevel `json:"compatibility"`
		}
		if err := json.Unmarshal(r.body(req), &c); err == nil {
			r.SetLevel(strings.Join(parts[1:], "/"), c.Level)
		}
		return false
	}
	if req.Method != http.MethodPost {
		return false
	}
	check := len(parts) >= 5 && parts[0] == "compatibility" && parts[1] == "subjects"
	adds := len(parts) == 3 && parts[0] == "subjects" && parts[2] == "versions"
	if !check && !adds {
		return false
	}
	subject := parts[1]
	if check {
		subject = parts[2]
	}
	var s sr.Schema
	if err := json.Unmarshal(r.body(req), &s); err != nil {
		return false // the rest says so
	}
	why := r.misfit(subject, s)
	switch {
	case check:
		answer(w, http.StatusOK, map[string]any{"is_compatible": why == nil, "messages": why})
	case why != nil:
		answer(w, http.StatusConflict, map[string]any{"error_code": http.StatusConflict, "message": strings.Join(why, "; ")})
	default:
		return false
	}
	return true
}

// body reads what a request says, and leaves it to be read again.
func (r *Registry) body(req *http.Request) []byte {
	b, _ := io.ReadAll(io.LimitReader(req.Body, 1<<20)) // what is missing is no JSON
	req.Body = io.NopCloser(bytes.NewReader(b))
	return b
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/vnd.schemaregistry.v1+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // who asks may be gone
}

// misfit says why a schema is not compatible with those of a subject.
func (r *Registry) misfit(subject string, s sr.Schema) []string {
	r.mu.Lock()
	level, ok := r.level[subject]
	if !ok {
		level = r.level[""]
	}
	r.mu.Unlock()
	var older []sr.Schema
	for v := 1; ; v++ {
		req, _ := http.NewRequest(http.MethodGet, fmt.Sprintf("/subjects/%s/versions/%d", url.PathEscape(subject), v), nil)
		var got sr.SubjectSchema
		if !r.ask(req, &got) {
			break
		}
		older = append(older, got.Schema)
	}
	if len(older) == 0 || level == sr.CompatNone {
		return nil
	}
	switch level {
	case sr.CompatBackward, sr.CompatForward, sr.CompatFull:
		older = older[len(older)-1:]
	}
	backward := slices.Contains([]sr.CompatibilityLevel{sr.CompatBackward, sr.CompatBackwardTransitive, sr.CompatFull, sr.CompatFullTransitive}, level)
	forward := slices.Contains([]sr.CompatibilityLevel{sr.CompatForward, sr.CompatForwardTransitive, sr.CompatFull, sr.CompatFullTransitive}, level)
	var why []string
	for _, o := range older {
		if o.Type != s.Type {
			return []string{fmt.Sprintf("the subject's schemas are of %s", o.Type)}
		}
		if backward {
			why = append(why, unreadable(s.Type, o.Schema, s.Schema)...)
		}
		if forward {
			why = append(why, unreadable(s.Type, s.Schema, o.Schema)...)
		}
	}
	return why
}

// ask answers a question of its own, beside those who are let in.
func (r *Registry) ask(req *http.Request, into any) bool {
	w := &kept{header: http.Header{}}
	req.Header.Set("Authorization", r.key)
	r.kept.Handler().ServeHTTP(w, req)
	return w.status == http.StatusOK && json.Unmarshal(w.Bytes(), into) == nil
}

// kept takes an answer.
type kept struct {
	bytes.Buffer
	header http.Header
	status int
}

// Header implements http.ResponseWriter.
func (k *kept) Header() http.Header { return k.header }

// WriteHeader implements http.ResponseWriter.
func (k *kept) WriteHeader(status int) { k.status = status }

// unreadable says why what is written by one schema cannot be read by another.
func unreadable(kind sr.SchemaType, written, read string) []string {
	w, r := &format.Schema{Format: "avro", Text: written}, &format.Schema{Format: "avro", Text: read}
	var err error
	switch kind {
	case sr.TypeAvro:
		err = format.AvroFits(w, r)
	case sr.TypeProtobuf:
		err = format.ProtobufFits(w, r)
	case sr.TypeJSON:
		err = format.JSONFits(w, r)
	}
	if err != nil {
		return []string{err.Error()}
	}
	return nil
}
