// Package standin is a REST catalogue of open tables for tests and trials: the part of the open protocol that readers and writers of tables use, over a catalogue in a
// directory.
package standin

import (
	"encoding/json"
	"errors"
	"net/http"
	"strings"

	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/catalog"
	"github.com/apache/iceberg-go/table"
)

// New makes the service. With a token, requests must carry it.
func New(over catalog.Catalog, token string) http.Handler {
	s := &service{over}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/config", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{"defaults": map[string]string{}, "overrides": map[string]string{}})
	})
	mux.HandleFunc("GET /v1/namespaces", s.namespaces)
	mux.HandleFunc("POST /v1/namespaces", s.makeNamespace)
	mux.HandleFunc("GET /v1/namespaces/{space}", s.namespace)
	mux.HandleFunc("GET /v1/namespaces/{space}/tables", s.tables)
	mux.HandleFunc("POST /v1/namespaces/{space}/tables", s.makeTable)
	mux.HandleFunc("GET /v1/namespaces/{space}/tables/{table}", s.table)
	mux.HandleFunc("POST /v1/namespaces/{space}/tables/{table}", s.commit)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if token != "" && r.Header.Get("Authorization") != "Bearer "+token {
			refuse(w, http.StatusUnauthorized, "NotAuthorizedException", "the token is not the right one")
			return
		}
		mux.ServeHTTP(w, r)
	})
}

type service struct{ over catalog.Catalog }

func answer(w http.ResponseWriter, x any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(x)
}

func refuse(w http.ResponseWriter, status int, kind, text string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"error": map[string]any{"message": text, "type": kind, "code": status}})
}

// failed says in the words of the protocol what went wrong.
func failed(w http.ResponseWriter, err error) {
	switch {
	case errors.Is(err, catalog.ErrNoSuchTable):
		refuse(w, http.StatusNotFound, "NoSuchTableException", err.Error())
	case errors.Is(err, catalog.ErrNoSuchNamespace):
		refuse(w, http.StatusNotFound, "NoSuchNamespaceException", err.Error())
	case errors.Is(err, catalog.ErrTableAlreadyExists), errors.Is(err, catalog.ErrNamespaceAlreadyExists):
		refuse(w, http.StatusConflict, "AlreadyExistsException", err.Error())
	case errors.Is(err, table.ErrCommitFailed), strings.Contains(err.Error(), "requirement failed"):
		refuse(w, http.StatusConflict, "CommitFailedException", err.Error())
	default:
		refuse(w, http.StatusInternalServerError, "ServerErrorException", err.Error())
	}
}

func spaceOf(r *http.Request) table.Identifier {
	return strings.Split(r.PathValue("space"), "\x1f")
}

func identOf(r *http.Request) table.Identifier { return append(spaceOf(r), r.PathValue("table")) }

func (s *service) namespaces(w http.ResponseWriter, r *http.Request) {
	var parent table.Identifier
	if p := r.URL.Query().Get("parent"); p != "" {
		parent = strings.Split(p, "\x1f")
	}
	list, err := s.over.ListNamespaces(r.Context(), parent)
	if err != nil {
		failed(w, err)
		return
	}
	answer(w, map[string]any{"namespaces": append([]table.Identifier{}, list...)})
}

func (s *service) makeNamespace(w http.ResponseWriter, r *http.Request) {
	var ask struct {
		Namespace  table.Identifier   `json:"namespace"`
		Properties iceberg.Properties `json:"properties"`
	}
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		refuse(w, http.StatusBadRequest, "BadRequestException", err.Error())
		return
	}
	if err := s.over.CreateNamespace(r.Context(), ask.Namespace, ask.Properties); err != nil {
		failed(w, err)
		return
	}
	answer(w, ask)
}

func (s *service) namespace(w http.ResponseWriter, r *http.Request) {
	props, err := s.over.LoadNamespaceProperties(r.Context(), spaceOf(r))
	if err != nil {
		failed(w, err)
		return
	}
	answer(w, map[string]any{"namespace": spaceOf(r), "properties": props})
}

func (s *service) tables(w http.ResponseWriter, r *http.Request) {
	type ident struct {
		Namespace table.Identifier `json:"namespace"`
		Name      string           `json:"name"`
	}
	list := []ident{}
	for t, err := range s.over.ListTables(r.Context(), spaceOf(r)) {
		if err != nil {
			failed(w, err)
			return
		}
		list = append(list, ident{t[:len(t)-1], t[len(t)-1]})
	}
	answer(w, map[string]any{"identifiers": list})
}

func loaded(w http.ResponseWriter, meta table.Metadata, at string) {
	answer(w, map[string]any{"metadata-location": at, "metadata": meta, "config": map[string]string{}})
}

func (s *service) table(w http.ResponseWriter, r *http.Request) {
	t, err := s.over.LoadTable(r.Context(), identOf(r))
	if err != nil {
		failed(w, err)
		return
	}
	loaded(w, t.Metadata(), t.MetadataLocation())
}

func (s *service) makeTable(w http.ResponseWriter, r *http.Request) {
	var ask struct {
		Name       string                 `json:"name"`
		Schema     *iceberg.Schema        `json:"schema"`
		Spec       *iceberg.PartitionSpec `json:"partition-spec"`
		Order      *table.SortOrder       `json:"write-order"`
		Properties iceberg.Properties     `json:"properties"`
	}
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		refuse(w, http.StatusBadRequest, "BadRequestException", err.Error())
		return
	}
	opts := []catalog.CreateTableOpt{catalog.WithProperties(ask.Properties)}
	if ask.Spec != nil {
		opts = append(opts, catalog.WithPartitionSpec(ask.Spec))
	}
	if ask.Order != nil {
		opts = append(opts, catalog.WithSortOrder(*ask.Order))
	}
	t, err := s.over.CreateTable(r.Context(), append(spaceOf(r), ask.Name), ask.Schema, opts...)
	if err != nil {
		failed(w, err)
		return
	}
	loaded(w, t.Metadata(), t.MetadataLocation())
}

func (s *service) commit(w http.ResponseWriter, r *http.Request) {
	var ask struct {
		Requirements table.Requirements `json:"requirements"`
		Updates      table.Updates      `json:"updates"`
	}
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		refuse(w, http.StatusBadRequest, "BadRequestException", err.Error())
		return
	}
	meta, at, err := s.over.CommitTable(r.Context(), identOf(r), ask.Requirements, ask.Updates)
	if err != nil {
		failed(w, err)
		return
	}
	loaded(w, meta, at)
}
