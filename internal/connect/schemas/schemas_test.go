package schemas_test

import (
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/schemas/standin"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"

	"github.com/twmb/avro"
	"github.com/twmb/franz-go/pkg/sr"
)

// served is a stand-in that can be away.
type served struct {
	*httptest.Server
	*standin.Registry
	away atomic.Bool
}

func serve(t *testing.T, user, password string, start func(h http.Handler) *httptest.Server) *served {
	t.Helper()
	s := &served{Registry: standin.New(user, password)}
	s.Server = start(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if s.away.Load() {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		s.Registry.ServeHTTP(w, req)
	}))
	t.Cleanup(s.Close)
	return s
}

// TestSchemas: a job reads messages whose schemas are in a registry, older and newer ones, and writes rows whose schema it adds. A registry that is away when a new
// schema comes holds up that split alone, by name, and no message is lost or rejected for it, through a crash, too.
func TestSchemas(t *testing.T) {
	for _, f := range []string{"avro", "protobuf", "json"} {
		t.Run(f, func(t *testing.T) {
			t.Parallel()
			reg := serve(t, "timing", "corridori", httptest.NewServer)
			at := strings.Replace(reg.URL, "http://", "http://timing@", 1)
			log, err := topiclog.Open(filepath.Join(t.TempDir(), "topics"))
			if err != nil {
				t.Fatal(err)
			}
			for _, n := range []string{"in", "mid", "out"} {
				if _, err := log.Create(n, topiclog.Settings{Partitions: 2}); err != nil {
					t.Fatal(err)
				}
			}
			env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return "corridori", nil }}}
			endpoint := "DECLARE ENDPOINT reg REGISTRY '" + at + "' SECRET 'x';\n"
			with := "(FORMAT " + f + ", SCHEMAS reg)"
			first := kit.New(t, endpoint+`DECLARE STREAM s (n BIGINT, price DECIMAL(10, 2)) FROM TOPIC 'in';
				DECLARE SINK mid TO TOPIC 'mid' `+with+`; CREATE JOB j AS SELECT n, price FROM s WHERE n < 1000 ROUTE TO mid;`, env)
			second := kit.New(t, endpoint+`DECLARE STREAM m (n BIGINT, price VARCHAR, word VARCHAR) FROM TOPIC 'mid' `+with+`;
				DECLARE SINK out TO TOPIC 'out'; CREATE JOB k AS SELECT n, price, word FROM m ROUTE TO out;`, env)
			if f != "protobuf" { // which writes decimals as text
				second = kit.New(t, endpoint+`DECLARE STREAM m (n BIGINT, price DECIMAL(10, 2), word VARCHAR) FROM TOPIC 'mid' `+with+`;
				DECLARE SINK out TO TOPIC 'out'; CREATE JOB k AS SELECT n, CAST(price AS VARCHAR) AS price, word FROM m ROUTE TO out;`, env)
			}
			third := kit.New(t, endpoint+`DECLARE STREAM s (n BIGINT, price DECIMAL(10, 2)) FROM TOPIC 'in';
				DECLARE SINK mid TO TOPIC 'mid' `+with+`; CREATE JOB l AS SELECT price, n, 'new' AS word FROM s WHERE n >= 1000 ROUTE TO mid;`, env)
			send := func(from, to int) {
				var recs []topiclog.Record
				for n := from; n < to; n++ {
					recs = append(recs, topiclog.Record{Value: fmt.Appendf(nil, `{"n":%d,"price":%d.25}`, n, n)})
				}
				if err := log.Topic("in").Append(recs); err != nil {
					t.Fatal(err)
				}
			}
			var want []string
			expect := func(from, to int, word string) {
				for n := from; n < to; n++ {
					want = append(want, fmt.Sprintf(`{"n":%d,"price":"%d.25","word":%s}`, n, n, word))
				}
				slices.Sort(want)
				for until := time.Now().Add(kit.Patience); ; {
					got := kit.Values(t, log.Topic("out"))
					if slices.Equal(got, want) {
						return
					}
					if time.Now().After(until) {
						st, _ := second.Status()
						t.Fatalf("%d rows, wanted %d: %.300s; %+v", len(got), len(want), got, st.Steps)
					}
					time.Sleep(20 * time.Millisecond)
				}
			}
			send(0, 500)
			first.Start(t)
			second.Start(t)
			expect(0, 500, "null")
			if err := second.Kill(); err != nil {
				t.Fatal(err)
			}
			send(1000, 1200)
			third.Start(t)
			third.Until(t, "the new rows are written", func() bool { return len(kit.Values(t, log.Topic("mid"))) == 700 })
			reg.away.Store(true)
			second.Start(t)
			if f == "json" { // its messages need no schema
				expect(1000, 1200, `"new"`)
			} else {
				second.Until(t, "the split waits for the registry", func() bool {
					st, _ := second.Status()
					for _, sp := range st.Splits {
						if sp.Waiting != nil && strings.Contains(sp.Waiting.Reason, "registry at") {
							return true
						}
					}
					return false
				})
				reg.away.Store(false)
				expect(1000, 1200, `"new"`)
			}
			reg.away.Store(false)
			for _, j := range []*kit.Job{first, second, third} {
				if err := j.Stop(); err != nil {
					t.Error(err)
				}
			}
		})
	}
}

// TestOthersRead: what a sink writes is read by another program with the schema that the registry gives it.
func TestOthersRead(t *testing.T) {
	reg := serve(t, "", "", httptest.NewServer)
	log, err := topiclog.Open(filepath.Join(t.TempDir(), "topics"))
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range []string{"in", "out"} {
		if _, err := log.Create(n, topiclog.Settings{Partitions: 1}); err != nil {
			t.Fatal(err)
		}
	}
	if err := log.Topic("in").Append([]topiclog.Record{{Value: []byte(`{"chip":"C1","at":"2026-05-17T09:00:00Z"}`)}}); err != nil {
		t.Fatal(err)
	}
	c, err := sr.NewClient(sr.URLs(reg.URL))
	if err != nil {
		t.Fatal(err)
	}
	// The subject has a schema with a name of its own already.
	if _, err := c.CreateSchema(t.Context(), "reads", sr.Schema{Schema: `{"type":"record","name":"read","namespace":"timing","fields":[{"name":"chip","type":["null","string"],"default":null}]}`}); err != nil {
		t.Fatal(err)
	}
	job := kit.New(t, "DECLARE ENDPOINT reg REGISTRY '"+reg.URL+`'; DECLARE STREAM s (chip VARCHAR, at TIMESTAMP) FROM TOPIC 'in';
		DECLARE SINK out TO TOPIC 'out' (FORMAT avro, SCHEMAS reg, SUBJECT 'reads'); CREATE JOB j AS SELECT chip, at FROM s ROUTE TO out;`, contract.Env{Topics: log})
	job.Start(t)
	job.Until(t, "a row is there", func() bool { return len(kit.Values(t, log.Topic("out"))) == 1 })
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	m := []byte(kit.Values(t, log.Topic("out"))[0])
	s, err := c.SchemaByID(t.Context(), int(binary.BigEndian.Uint32(m[1:5])))
	if err != nil {
		t.Fatal(err)
	}
	var row map[string]any
	schema := avro.MustParse(s.Schema)
	if _, err := schema.Decode(m[5:], &row); err != nil {
		t.Fatal(err)
	}
	if root := schema.Root(); row["chip"] != "C1" || row["at"].(time.Time).Unix() != 1779008400 || root.Name != "read" || root.Namespace != "timing" {
		t.Errorf("%v %s", row, s.Schema)
	}
}

// TestWords: what can be wrong with a registry is said in one clear message with the place and the way out, before anything runs.
func TestWords(t *testing.T) {
	open := serve(t, "", "", httptest.NewServer)
	guarded := serve(t, "timing", "corridori", httptest.NewServer)
	sealed := serve(t, "", "", httptest.NewTLSServer)
	silent := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { <-r.Context().Done() }))
	t.Cleanup(silent.Close)
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	ca := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: sealed.Certificate().Raw}))
	c, err := sr.NewClient(sr.URLs(open.URL))
	if err != nil {
		t.Fatal(err)
	}
	for subject, s := range map[string]string{"reads": `{"type":"record","name":"r","fields":[{"name":"n","type":"string"}]}`, "old": `{"type":"record","name":"r","fields":[{"name":"n","type":["null","string"]}]}`} {
		if _, err := c.CreateSchema(t.Context(), subject, sr.Schema{Schema: s}); err != nil {
			t.Fatal(err)
		}
	}
	log, err := topiclog.Open(filepath.Join(t.TempDir(), "topics"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := log.Create("in", topiclog.Settings{Partitions: 1}); err != nil {
		t.Fatal(err)
	}
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(name, _ string) (string, error) {
		if s, ok := map[string]string{"right": "corridori", "wrong": "geheimnis", "ca": ca}[name]; ok {
			return s, nil
		}
		return "", fmt.Errorf("there is no secret '%s'", name)
	}}}
	user := func(s *served) string { return strings.Replace(s.URL, "://", "://timing@", 1) }
	for what, x := range map[string]struct{ endpoint, options, says string }{
		"well":              {"'" + open.URL + "'", "", ""},
		"right password":    {"'" + user(guarded) + "' SECRET 'right'", "", ""},
		"wrong password":    {"'" + user(guarded) + "' SECRET 'wrong'", "", "does not allow that to the user"},
		"no password":       {"'" + guarded.URL + "'", "", "lets nobody in without the right user and password"},
		"no secret":         {"'" + user(guarded) + "' SECRET 'none'", "", "there is no secret 'none'"},
		"user alone":        {"'" + user(guarded) + "'", "", "has a user and no SECRET"},
		"nobody there":      {"'" + gone.URL + "'", "", "cannot be reached"},
		"silent":            {"'" + silent.URL + "'", "", "has not answered for 5 seconds"},
		"not trusted":       {"'" + sealed.URL + "'", "", "shows a certificate that is not trusted"},
		"trusted":           {"'" + sealed.URL + "' (CA 'ca')", "", ""},
		"unknown subject":   {"'" + open.URL + "'", ", SUBJECT 'reeds'", "has no schema of the subject 'reeds'"},
		"does not fit":      {"'" + open.URL + "'", ", SUBJECT 'reads'", "n is"},
		"no such message":   {"'" + open.URL + "'", ", SUBJECT 'reads'", "n is"},
		"sink incompatible": {"'" + open.URL + "'", "sink", "does not fit the subject 'old' of the registry reg"},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			src := "DECLARE ENDPOINT reg REGISTRY " + x.endpoint + "; "
			if x.options == "sink" {
				src += "DECLARE STREAM s (n BIGINT) FROM TOPIC 'in'; DECLARE SINK k TO TOPIC 'in' (FORMAT avro, SCHEMAS reg, SUBJECT 'old'); CREATE JOB j AS SELECT n FROM s ROUTE TO k;"
			} else {
				column := "n BIGINT"
				if strings.HasPrefix(x.says, "n is") {
					column, x.says = "n ARRAY(BIGINT)", "the column n is ARRAY(BIGINT), and the schema's field is string"
				}
				src += "DECLARE STREAM s (" + column + ") FROM TOPIC 'in' (FORMAT avro, SCHEMAS reg" + x.options + "); SELECT n FROM s;"
			}
			cat := plan.NewCatalog(connect.Places())
			plans, _, err := cat.Bind("q", src, nil, nil)
			if err != nil {
				t.Fatal(err)
			}
			o := &connect.Opener{Env: env}
			err = o.Check(t.Context(), plans[0])
			if x.says == "" && err != nil || x.says != "" && (err == nil || !strings.Contains(err.Error(), x.says)) {
				t.Errorf("check: %v", err)
			}
			if x.options == "" {
				var r contract.Report
				connect.Of("registry").(contract.Tester).Test(t.Context(), &o.Env, contract.Tested{Endpoint: cat.Endpoints["reg"]}, &r)
				if last := r.Looks[0]; x.says == "" && last.Err != nil || x.says != "" && (last.Err == nil || !strings.Contains(last.Err.Error(), x.says)) {
					t.Errorf("test: %+v", r.Looks)
				}
			}
			if strings.Contains(fmt.Sprint(err), "geheimnis") {
				t.Errorf("a secret is told: %v", err)
			}
		})
	}
	for _, bad := range []string{"host", "ftp://host", "http://a:b@host", "http://host?x=1", "://"} {
		if err := connect.Of("registry").Place().Address(bad); err == nil {
			t.Errorf("the address %q is taken", bad)
		}
	}
	for src, says := range map[string]string{
		"DECLARE STREAM s (n INT) FROM TOPIC 'in' (FORMAT avro, SCHEMAS reg);":                                                        "no endpoint is called \"reg\"",
		"DECLARE STREAM s (n INT) FROM TOPIC 'in' (SUBJECT 'x');":                                                                     "none is named",
		"DECLARE STREAM s (n INT) FROM TOPIC 'in' (SCHEMA '{}');":                                                                     "FORMAT json takes no SCHEMA",
		"DECLARE STREAM s (n INT) FROM TOPIC 'in' (FORMAT avro, MESSAGE 'm');":                                                        "FORMAT avro has no MESSAGE",
		"DECLARE ENDPOINT reg REGISTRY 'http://x'; DECLARE STREAM s (n INT) FROM TOPIC 'in' (FORMAT csv, SCHEMAS reg);":               "FORMAT csv has no schemas",
		"DECLARE ENDPOINT b BROKER 'h:1'; DECLARE SINK s TO TOPIC 'in' (FORMAT avro, SCHEMAS b);":                                     "has no schemas",
		"DECLARE ENDPOINT reg REGISTRY 'http://x'; DECLARE STREAM s (n INT) FROM TOPIC 'in' (FORMAT avro, SCHEMA '{}', SCHEMAS reg);": "SCHEMA says that all messages are of one schema",
		"DECLARE ENDPOINT reg REGISTRY 'http://x'; DECLARE STREAM s (n INT) FROM BROKER 'in' VIA reg;":                                "is an endpoint of REGISTRY, not of BROKER",
		"DECLARE STREAM s (n INT) FROM TOPIC 'in' (FORMAT avro, SCHEMA '{');":                                                         "cannot be read",
	} {
		if _, _, err := plan.NewCatalog(connect.Places()).Bind("q", src, nil, nil); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", src, err)
		}
	}
}

// TestCompatibility: the stand-in judges as a registry does.
func TestCompatibility(t *testing.T) {
	reg := serve(t, "", "", httptest.NewServer)
	c, err := sr.NewClient(sr.URLs(reg.URL))
	if err != nil {
		t.Fatal(err)
	}
	record := func(fields string) sr.Schema {
		return sr.Schema{Schema: `{"type":"record","name":"r","fields":[` + fields + `]}`}
	}
	message := func(fields string) sr.Schema {
		return sr.Schema{Type: sr.TypeProtobuf, Schema: `syntax = "proto3"; message R { ` + fields + ` }`}
	}
	object := func(props, required string) sr.Schema {
		return sr.Schema{Type: sr.TypeJSON, Schema: `{"type":"object","properties":{` + props + `},"required":[` + required + `]}`}
	}
	a, withB, withDefault := record(`{"name":"a","type":"int"}`), record(`{"name":"a","type":"int"},{"name":"b","type":"int"}`), record(`{"name":"a","type":"int"},{"name":"b","type":"int","default":0}`)
	for i, x := range []struct {
		level  sr.CompatibilityLevel
		before []sr.Schema
		next   sr.Schema
		fits   bool
	}{
		{sr.CompatBackward, []sr.Schema{a}, withDefault, true},
		{sr.CompatBackward, []sr.Schema{a}, withB, false},
		{sr.CompatBackward, []sr.Schema{withB}, a, true},
		{sr.CompatForward, []sr.Schema{a}, withB, true},
		{sr.CompatForward, []sr.Schema{withB}, a, false},
		{sr.CompatFull, []sr.Schema{a}, withDefault, true},
		{sr.CompatFull, []sr.Schema{a}, withB, false},
		{sr.CompatNone, []sr.Schema{a}, record(`{"name":"a","type":"string"}`), true},
		{sr.CompatBackward, []sr.Schema{a}, record(`{"name":"a","type":"string"}`), false},
		{sr.CompatBackward, []sr.Schema{a}, record(`{"name":"a","type":"long"}`), true},
		{sr.CompatBackwardTransitive, []sr.Schema{record(""), withDefault}, withB, false},
		{sr.CompatBackward, []sr.Schema{record(""), withDefault}, withB, true},
		{sr.CompatBackward, []sr.Schema{a}, message("int32 a = 1;"), false},
		{sr.CompatBackward, []sr.Schema{message("int32 a = 1;")}, message("int32 a = 1; string b = 2;"), true},
		{sr.CompatBackward, []sr.Schema{message("int32 a = 1;")}, message("string a = 1;"), false},
		{sr.CompatBackward, []sr.Schema{message("int32 a = 1;")}, message("string a = 2;"), true},
		{sr.CompatBackward, []sr.Schema{object(`"a":{"type":"string"}`, "")}, object(`"a":{"type":"string"},"b":{"type":"integer"}`, ""), true},
		{sr.CompatBackward, []sr.Schema{object(`"a":{"type":"string"}`, "")}, object(`"a":{"type":"string"},"b":{"type":"integer"}`, `"b"`), false},
		{sr.CompatBackward, []sr.Schema{object(`"a":{"type":"string"}`, "")}, object(`"a":{"type":"integer"}`, ""), false},
	} {
		subject := fmt.Sprint("s", i)
		for _, s := range x.before {
			reg.SetLevel(subject, sr.CompatNone)
			if _, err := c.CreateSchema(t.Context(), subject, s); err != nil {
				t.Fatal(err)
			}
		}
		c.SetCompatibility(t.Context(), sr.SetCompatibility{Level: x.level}, subject)
		got, err := c.CheckCompatibility(t.Context(), subject, -1, x.next)
		if err != nil || got.Is != x.fits || !x.fits && len(got.Messages) == 0 {
			t.Errorf("%d: %+v %v", i, got, err)
		}
		if _, err := c.CreateSchema(t.Context(), subject, x.next); (err == nil) != x.fits {
			t.Errorf("%d: %v", i, err)
		}
	}
}
