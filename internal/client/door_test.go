package client_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"fiume/internal/api"
	"fiume/internal/service/topics"
	"fiume/internal/topiclog"
)

// TestFrontDoor: messages come as they are, of each kind of body, and are there as they came, under their keys; a body that comes again under its name is
// written once; what is wrong is said with its place, and what was before it is there.
func TestFrontDoor(t *testing.T) {
	w := open(t)
	send := func(topic, kind, query string, body io.Reader, headers ...string) (api.Written, *api.Problem) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), "POST", w.server.URL+"/api/topics/"+topic+"/messages?"+query, body)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", kind)
		for i := 0; i < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		var done api.Written
		if resp.StatusCode == http.StatusOK {
			if err := json.Unmarshal(b, &done); err != nil {
				t.Fatalf("%s: %v", b, err)
			}
			return done, nil
		}
		p := &api.Problem{}
		if err := json.Unmarshal(b, p); err != nil || p.Status != resp.StatusCode {
			t.Fatalf("%d %s: %v", resp.StatusCode, b, err)
		}
		return done, p
	}
	fresh := 0
	topic := func() string {
		fresh++
		name := fmt.Sprint("t", fresh)
		if err := w.Parts.Topics.Create("test", name, topiclog.Settings{Partitions: 1}); err != nil {
			t.Fatal(err)
		}
		return name
	}
	stands := func(name string) (out []string) {
		t.Helper()
		ms, err := w.Parts.Topics.Recorded(name, topics.Reading{Partition: -1, From: -1, Limit: 1_000_000})
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range ms {
			if m.Key != nil {
				out = append(out, string(m.Key)+"="+string(m.Value))
			} else {
				out = append(out, string(m.Value))
			}
		}
		return out
	}
	for what, x := range map[string]struct {
		kind, query, body string
		headers           []string
		want              []string
	}{
		"lines":          {"application/x-ndjson", "key=chip", "{\"chip\":\"A\",\"n\":1}\n\n  {\"chip\":7}\r\n{\"n\":2}", nil, []string{`A={"chip":"A","n":1}`, `7=  {"chip":7}`, `{"n":2}`}},
		"an array":       {"application/json", "rows=true&key=chip", ` [ {"chip": "A"}, 3 , "x" ] `, nil, []string{`A={"chip": "A"}`, "3", `"x"`}},
		"one object":     {"application/json; charset=utf-8", "rows=true", `{"chip":"A"}`, nil, []string{`{"chip":"A"}`}},
		"CSV":            {"text/csv", "header=true", "chip,says\nA,\"one\nline, two\"\n\nB,x", nil, []string{"A,\"one\nline, two\"", "B,x"}},
		"bytes":          {"application/octet-stream", "key=k", "\xff\x00\n", nil, []string{"k=\xff\x00\n"}},
		"nothing":        {"application/x-ndjson", "", "\n\n", nil, nil},
		"an event":       {"application/cloudevents+json", "", `{"specversion":"1.0","id":"1","source":"/mats","type":"read","subject":"M1","data":{"n":1}}`, nil, []string{`M1={"specversion":"1.0","id":"1","source":"/mats","type":"read","subject":"M1","data":{"n":1}}`}},
		"events":         {"application/cloudevents-batch+json", "", `[{"specversion":"1.0","id":"1","source":"s","type":"t","partitionkey":"k","subject":"no"}]`, nil, []string{`k={"specversion":"1.0","id":"1","source":"s","type":"t","partitionkey":"k","subject":"no"}`}},
		"a binary event": {"application/json", "", `{"n":1}`, []string{"ce-specversion", "1.0", "ce-id", "9", "ce-source", "s", "ce-type", "t", "ce-subject", "M2"}, []string{`M2={"n":1}`}},
	} {
		name := topic()
		done, p := send(name, x.kind, x.query, strings.NewReader(x.body), x.headers...)
		if p != nil || done.Written != len(x.want) || !slices.Equal(stands(name), x.want) {
			t.Errorf("%s: %+v %+v %q", what, done, p, stands(name))
		}
	}
	// A body of any length, packed, that comes three times under a name, once broken off in the middle.
	name := topic()
	var packed, plain bytes.Buffer
	z := gzip.NewWriter(&packed)
	const many = 12_345
	for i := range many {
		fmt.Fprintf(io.MultiWriter(z, &plain), "{\"n\":%d}\n", i)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	if _, p := send(name, "application/x-ndjson", "batch=day", io.MultiReader(bytes.NewReader(plain.Bytes()[:plain.Len()*2/3]), strings.NewReader("\noops\n"))); p == nil || !strings.Contains(p.Detail, "is no JSON; the 5000 messages before are written") || strings.Contains(p.Detail, "twice") {
		t.Errorf("%+v", p)
	}
	for round := range 2 {
		done, p := send(name, "application/x-ndjson", "batch=day", bytes.NewReader(packed.Bytes()), "Content-Encoding", "gzip")
		if p != nil || done.Written != many || done.Again != (round == 1) {
			t.Errorf("round %d: %+v %+v", round, done, p)
		}
	}
	if all := stands(name); len(all) != many || all[many-1] != fmt.Sprintf(`{"n":%d}`, many-1) {
		t.Errorf("%d messages", len(all))
	}
	name = topic()
	for range 3 { // an event is the same wherever it comes from
		if _, p := send(name, "application/cloudevents+json", "", strings.NewReader(`{"specversion":"1.0","id":"7","source":"s","type":"t"}`)); p != nil {
			t.Error(p)
		}
		if _, p := send(name, "application/json", "", strings.NewReader("1"), "ce-specversion", "1.0", "ce-id", "8", "ce-source", "s", "ce-type", "t"); p != nil {
			t.Error(p)
		}
	}
	if all := stands(name); len(all) != 2 {
		t.Errorf("%q", all)
	}
	for what, x := range map[string]struct {
		topic, kind, query, body string
		headers                  []string
		status                   int
		says                     string
	}{
		"no topic":       {"none", "application/x-ndjson", "", "{}", nil, 404, "there is no topic 'none'"},
		"no JSON":        {"t1", "application/x-ndjson", "", "{}\n{]\n", nil, 422, "line 2 is no JSON"},
		"no UTF-8":       {"t1", "text/csv", "", "a,\xff\n", nil, 422, "line 1 is no UTF-8"},
		"half an array":  {"t1", "application/json", "rows=true", `[{"a":1},`, nil, 422, "message 2 is no JSON"},
		"more behind":    {"t1", "application/json", "rows=true", `[1] 2`, nil, 422, "something stands behind"},
		"no event":       {"t1", "application/cloudevents+json", "", `{"id":"1"}`, nil, 422, "is no event"},
		"many as one":    {"t1", "application/cloudevents+json", "", `[]`, nil, 422, "cloudevents-batch+json"},
		"no id":          {"t1", "application/json", "", "1", []string{"ce-specversion", "1.0"}, 422, "ce-id, ce-source and ce-type"},
		"no gzip":        {"t1", "application/x-ndjson", "", "{}", []string{"Content-Encoding", "gzip"}, 422, "not packed with gzip"},
		"other packing":  {"t1", "application/x-ndjson", "", "{}", []string{"Content-Encoding", "br"}, 415, "gzip"},
		"a page's event": {"t1", "text/plain", "", "1", []string{"ce-specversion", "1.0", "ce-id", "8", "ce-source", "s", "ce-type", "t"}, 415, "application/json"},
		"too long":       {"t1", "application/x-ndjson", "", `"` + strings.Repeat("x", 33<<20) + `"`, nil, 422, "longer than 32 MB"},
		"too long in it": {"t1", "application/json", "rows=true", `["` + strings.Repeat("x", 33<<20) + `"]`, nil, 422, "longer than 32 MB"},
	} {
		if _, p := send(x.topic, x.kind, x.query, strings.NewReader(x.body), x.headers...); p == nil || p.Status != x.status || !strings.Contains(p.Detail, x.says) {
			t.Errorf("%s: %+v", what, p)
		}
	}
}
