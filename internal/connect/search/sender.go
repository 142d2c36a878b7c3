package search

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"fiume/internal/connect/outbox"
	"fiume/internal/connect/webclient"
)

const (
	mostBytes = 8 << 20 // of a request; a document that is larger goes by itself
	mostID    = 512     // bytes of an id; of a longer one the hash is taken
	busyTries = 3       // where the store has no time for single documents
	ndjson    = "application/x-ndjson"
)

// sender implements outbox.Sender: the documents of a delivery are sent in their order, a request behind the other.
type sender struct {
	c     *webclient.Client
	rows  int
	keyed bool
}

// greet asks the store who it is.
func (s *sender) greet(ctx context.Context) error {
	got, err := s.c.Do(ctx, webclient.Request{Method: http.MethodGet, Path: "/"})
	if err != nil {
		return err
	}
	var is struct {
		Version json.RawMessage `json:"version"`
	}
	if json.Unmarshal(got.Body, &is) != nil || is.Version == nil {
		return fmt.Errorf("%s answers, but not as a search store does", s.c.Base.Host)
	}
	return nil
}

// action is the line before a document.
type action struct {
	Index string `json:"_index"`
	ID    string `json:"_id"`
	// Versions are ours: what was thought lost, and comes to the store late, does not replace what was sent behind it.
	Version int64  `json:"version,omitempty"`
	Type    string `json:"version_type,omitempty"`
}

// result is what became of a document.
type result struct {
	Status int `json:"status"`
	Error  *struct {
		Type   string `json:"type"`
		Reason string `json:"reason"`
		Cause  *struct {
			Reason string `json:"reason"`
		} `json:"caused_by"`
	} `json:"error"`
}

// busy is why a document was not taken that may be later.
type busy struct{ words string }

func (b *busy) Error() string { return b.words }

// Send implements outbox.Sender.
func (s *sender) Send(ctx context.Context, messages []outbox.Message) (done int, refused map[int]string, err error) {
	refused = map[int]string{}
	var body bytes.Buffer
	for done < len(messages) && err == nil {
		if err := ctx.Err(); err != nil {
			return done, refused, err
		}
		body.Reset()
		var places []int // of the documents in the request
		next := done
		for ; next < len(messages) && len(places) < s.rows; next++ {
			m := messages[next]
			if body.Len() > 0 && body.Len()+len(m.Body) > mostBytes {
				break
			}
			if why := s.put(&body, m); why != "" {
				refused[next] = why
				continue
			}
			places = append(places, next)
		}
		if len(places) == 0 {
			done = next
			continue
		}
		var n int
		n, err = s.bulk(ctx, body.Bytes(), places, refused)
		if done = next; n < len(places) {
			done = places[n]
		}
	}
	return done, refused, err
}

// put writes the lines of a document, or says why it is none.
func (s *sender) put(to *bytes.Buffer, m outbox.Message) string {
	if why := indexFault(m.Address); why != "" {
		return fmt.Sprintf("%q is no name of an index: %s", m.Address, why)
	}
	a, gone := action{Index: m.Address, ID: m.ID}, false
	if m.At > 0 {
		a.Version, a.Type = m.At, "external_gte"
	}
	if s.keyed {
		a.ID, gone = m.Key()
	}
	switch {
	case a.ID == "":
		return "the KEY is empty, and an id is not"
	case len(a.ID) > mostID:
		h := sha256.Sum256([]byte(a.ID))
		a.ID = "sha256:" + hex.EncodeToString(h[:])
	}
	what := "index"
	if gone {
		what = "delete"
	}
	line, err := json.Marshal(map[string]action{what: a})
	if err != nil {
		return err.Error()
	}
	var doc []byte
	if !gone {
		if !json.Valid(m.Body) {
			return fmt.Sprintf("the document is no JSON: %.80q", m.Body)
		}
		if doc = bytes.TrimSpace(m.Body); doc[0] != '{' {
			return fmt.Sprintf("the document is no JSON object: %.80q", doc)
		}
		if bytes.IndexByte(doc, '\n') >= 0 { // a template of several lines
			var one bytes.Buffer
			_ = json.Compact(&one, doc)
			doc = one.Bytes()
		}
	}
	to.Write(line)
	to.WriteByte('\n')
	if !gone {
		to.Write(doc)
		to.WriteByte('\n')
	}
	return ""
}

// bulk sends a request, and gives how many of its first documents are done with.
func (s *sender) bulk(ctx context.Context, body []byte, places []int, refused map[int]string) (int, error) {
	for try := 0; ; try++ {
		got, err := s.c.Insist(ctx, webclient.Request{Method: http.MethodPost, Path: "/_bulk", Kind: ndjson, Body: body})
		if err != nil {
			var no *webclient.Refusal
			if errors.As(err, &no) && no.Code == http.StatusRequestEntityTooLarge {
				return s.halves(ctx, body, places, refused, err)
			}
			return 0, err
		}
		n, err := s.results(got.Body, places, refused)
		var b *busy
		if !errors.As(err, &b) || try == busyTries || !webclient.Wait(ctx, time.Duration(100<<try)*time.Millisecond) {
			return n, err
		}
		// All of them again: what was taken replaces itself, in the same order.
		for _, p := range places {
			delete(refused, p)
		}
	}
}

// halves sends a request that is too large in two; one document that is, is refused.
func (s *sender) halves(ctx context.Context, body []byte, places []int, refused map[int]string, why error) (int, error) {
	if len(places) == 1 {
		refused[places[0]] = "the document is larger than the store takes: " + why.Error()
		return 1, nil
	}
	half, at := len(places)/2, 0
	for range half {
		line := bytes.IndexByte(body[at:], '\n') + 1
		if bytes.HasPrefix(body[at:], []byte(`{"index"`)) {
			line += bytes.IndexByte(body[at+line:], '\n') + 1
		}
		at += line
	}
	n, err := s.bulk(ctx, body[:at], places[:half], refused)
	if err != nil || n < half {
		return n, err
	}
	n, err = s.bulk(ctx, body[at:], places[half:], refused)
	return half + n, err
}

// results reads what became of the documents: those that are refused for what they are, and how many are before the first that may be taken later.
func (s *sender) results(answer []byte, places []int, refused map[int]string) (int, error) {
	var all struct {
		Errors bool                `json:"errors"`
		Items  []map[string]result `json:"items"`
	}
	if err := json.Unmarshal(answer, &all); err != nil {
		return 0, fmt.Errorf("%s: the answer is not that of a search store: %w", s.c.Base.Host, err)
	}
	if len(all.Items) != len(places) {
		return 0, fmt.Errorf("%s: the answer tells of %d documents, and %d were sent", s.c.Base.Host, len(all.Items), len(places))
	}
	if !all.Errors {
		return len(places), nil
	}
	for i, item := range all.Items {
		for what, r := range item {
			if r.Status < 300 || what == "delete" && r.Status == http.StatusNotFound {
				continue
			}
			why := fmt.Sprintf("status %d", r.Status)
			if r.Error != nil {
				why = r.Error.Type + ": " + r.Error.Reason
				if r.Error.Cause != nil && r.Error.Cause.Reason != "" {
					why += ": " + r.Error.Cause.Reason
				}
			}
			why = s.c.Quote(why)
			switch {
			case r.Status == http.StatusTooManyRequests || r.Status >= 500:
				return i, &busy{fmt.Sprintf("%s has not taken a document: %s", s.c.Base.Host, why)}
			case r.Status == http.StatusUnauthorized || r.Status == http.StatusForbidden: // not for what the row is
				return i, fmt.Errorf("%s: %s", s.c.Base.Host, why)
			}
			refused[places[i]] = why
		}
	}
	return len(places), nil
}

// Close implements outbox.Sender.
func (s *sender) Close() error {
	s.c.HTTP.CloseIdleConnections()
	return nil
}
