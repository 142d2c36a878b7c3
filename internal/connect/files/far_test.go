package files_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/store/standin"
	"fiume/internal/core/plan"
	"fiume/internal/trial/kit"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// bucket is an object store that can be made bad, and an ordinary client of it that nothing is in the way of.
type bucket struct {
	URL    string
	client *minio.Client
	bad    atomic.Int32 // of 1000 requests
	mu     sync.Mutex
	rnd    *rand.Rand
	wrong  atomic.Int64
	asked  atomic.Int64
}

func bucketOf(t testing.TB) *bucket {
	t.Helper()
	s, err := standin.New("timing", "s3cret", "race")
	if err != nil {
		t.Fatal(err)
	}
	b := &bucket{rnd: rand.New(rand.NewPCG(1, 2))}
	good := httptest.NewServer(s)
	t.Cleanup(good.Close)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.asked.Add(1)
		b.mu.Lock()
		x, how := int32(b.rnd.IntN(1000)), b.rnd.IntN(5)
		b.mu.Unlock()
		if x >= b.bad.Load() {
			s.ServeHTTP(w, r)
			return
		}
		b.wrong.Add(1)
		switch how {
		case 0: // busy
			w.Header().Set("Content-Type", "application/xml")
			w.WriteHeader(http.StatusServiceUnavailable)
			_, _ = io.WriteString(w, "<Error><Code>SlowDown</Code><Message>slow down</Message></Error>")
		case 1: // the answer is forgotten
			s.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		case 2: // slow
			time.Sleep(100 * time.Millisecond)
			s.ServeHTTP(w, r)
		case 3: // twice
			body, _ := io.ReadAll(r.Body)
			again := r.Clone(context.Background())
			again.Body = io.NopCloser(bytes.NewReader(body))
			s.ServeHTTP(httptest.NewRecorder(), again)
			r.Body = io.NopCloser(bytes.NewReader(body))
			s.ServeHTTP(w, r)
		case 4: // the answer is cut off
			rec := httptest.NewRecorder()
			s.ServeHTTP(rec, r)
			for k, v := range rec.Header() {
				w.Header()[k] = v
			}
			w.Header().Set("Content-Length", fmt.Sprint(rec.Body.Len()))
			w.WriteHeader(rec.Code)
			_, _ = w.Write(rec.Body.Bytes()[:rec.Body.Len()/2])
			panic(http.ErrAbortHandler)
		}
	}))
	front.Config.ErrorLog = nil
	t.Cleanup(front.Close)
	b.URL = front.URL
	b.client, err = minio.New(strings.TrimPrefix(good.URL, "http://"), &minio.Options{Creds: credentials.NewStaticV4("timing", "s3cret", ""), Region: "us-east-1"})
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// endpoint declares the object store.
func (b *bucket) endpoint() string {
	return "DECLARE ENDPOINT far FILES '" + strings.Replace(b.URL, "http://", "http://timing@", 1) + "' SECRET 'far';"
}

// env knows the secret.
func (b *bucket) env() contract.Env {
	return contract.Env{Secrets: contract.Secrets{Secret: func(name, _ string) (string, error) {
		return map[string]string{"far": "s3cret", "wrong": "guess"}[name], nil
	}}}
}

func (b *bucket) put(t testing.TB, name string, data []byte) {
	t.Helper()
	if _, err := b.client.PutObject(context.Background(), "race", name, bytes.NewReader(data), int64(len(data)), minio.PutObjectOptions{DisableContentSha256: true}); err != nil {
		t.Error(err)
	}
}

// objects gives what lies below a prefix, by name.
func (b *bucket) objects(t testing.TB, prefix string) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	for o := range b.client.ListObjects(context.Background(), "race", minio.ListObjectsOptions{Prefix: prefix, Recursive: true}) {
		if o.Err != nil {
			t.Fatal(o.Err)
		}
		r, err := b.client.GetObject(context.Background(), "race", o.Key, minio.GetObjectOptions{})
		if err != nil {
			t.Fatal(err)
		}
		if out[o.Key], err = io.ReadAll(r); err != nil {
			t.Fatal(err)
		}
	}
	return out
}

// TestFar: objects come into a bucket while a job that copies them to another place there, told apart by directories, is killed over and over, and while the object store refuses, is
// slow, repeats, forgets answers and cuts them off: each row is there once, where it belongs.
func TestFar(t *testing.T) {
	for _, how := range []string{"FORMAT json", "FORMAT json, COMPRESS zstd", "FORMAT avro", "FORMAT parquet, COMPRESS zstd"} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			b := bucketOf(t)
			b.bad.Store(200)
			job := kit.New(t, b.endpoint()+"DECLARE STREAM s (n BIGINT) FROM FILES 's3://race/in/*.json' VIA far (FOLLOW true, LOOK EVERY 50 MILLISECONDS); DECLARE SINK kept TO FILES 's3://race/out' VIA far ("+
				how+", ROLL EVERY 1 SECOND, PARTITION BY (part, at)); CREATE JOB j AS SELECT n, n % 3 AS part, FROM_UNIX_MILLIS(n * 600000) AS at FROM s ROUTE TO kept;", b.env())
			job.Env.Piece = 4096
			rnd := rand.New(rand.NewPCG(1, uint64(len(how))))
			many := 0
			read := func() (ns []int) {
				format := strings.SplitN(strings.TrimPrefix(how, "FORMAT "), ",", 2)[0]
				out, _, err := kit.Rows(t, b.endpoint()+"DECLARE STREAM s (n BIGINT, part BIGINT) FROM FILES 's3://race/out/**' VIA far (FORMAT "+format+"); SELECT n, part FROM s;", b.env(), 2)
				if err != nil && !strings.Contains(err.Error(), "there is no object") {
					t.Fatal(err)
				}
				for _, row := range out {
					var n, part int
					if _, err := fmt.Sscanf(row, `{"n":%d,"part":%d}`, &n, &part); err != nil || n%3 != part {
						t.Fatalf("%s: %v", row, err)
					}
					ns = append(ns, n)
				}
				return ns
			}
			// Each life finds the object store: what a job cannot open it says, and is started anew.
			done := make(chan struct{})
			go func() {
				defer close(done)
				for i := range 60 {
					rows := rnd.IntN(400)
					b.put(t, fmt.Sprintf("in/f%04d.json", i), lines(many, many+rows))
					many += rows
					time.Sleep(20 * time.Millisecond)
				}
			}()
			kills := rand.New(rand.NewPCG(3, 4))
			for i, over := 0, false; i < 6 || !over; i++ {
				job.Start(t)
				select {
				case <-done:
					over = true
				case <-time.After(time.Duration(50+kills.IntN(300)) * time.Millisecond):
				}
				if err := job.Kill(); err != nil && !strings.Contains(err.Error(), "endpoint far") {
					t.Fatal(err)
				}
			}
			for tries := 0; ; tries++ {
				job.Start(t)
				time.Sleep(100 * time.Millisecond)
				if err, over := job.Ended(); !over {
					break
				} else if tries > 50 {
					t.Fatal(err)
				}
			}
			wrong := b.wrong.Load()
			b.bad.Store(0)
			job.Until(t, "all rows are read", func() bool {
				st, ok := job.Status()
				return ok && len(st.Steps) > 0 && st.Steps[0].Counts.In == int64(many)
			})
			if err := job.Stop(); err != nil {
				t.Fatal(err)
			}
			once(t, read(), many)
			if wrong < 5 {
				t.Errorf("the object store was bad %d times alone", wrong)
			}
			days := map[string]bool{}
			for name := range b.objects(t, "out/") {
				parts := strings.Split(name, "/")
				if len(parts) != 4 || !strings.HasPrefix(parts[1], "part=") || !strings.HasPrefix(parts[2], "day=1970-") {
					t.Fatal(name)
				}
				days[parts[2]] = true
			}
			if len(days) < many/288 {
				t.Errorf("%d days of %d rows", len(days), many)
			}
			for u := range b.client.ListIncompleteUploads(context.Background(), "race", "", true) {
				if u.Err != nil {
					break // there is none
				}
				t.Errorf("an upload of %s is left", u.Key)
			}
		})
	}
}

// TestFarReads: objects are read as files are: each a split, patterns and directories, packed, csv with headers of their own, rows of Parquet in ranges; larger ones than a
// piece; many small ones; and as tables.
func TestFarReads(t *testing.T) {
	b := bucketOf(t)
	rows := func(src string) []string {
		t.Helper()
		out, _, err := kit.Rows(t, b.endpoint()+src, b.env(), 2)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	var big bytes.Buffer
	for i := range 400_000 {
		fmt.Fprintf(&big, "{\"n\":%d,\"says\":\"row %d\"}\n", i, i)
	}
	b.put(t, "big.json", big.Bytes()) // of several pieces
	b.put(t, "big.json.gz", packedWith(t, "gzip", big.Bytes()))
	for _, name := range []string{"big.json", "big.json.gz"} {
		if got := rows("DECLARE STREAM s (n BIGINT) FROM FILES 's3://race/" + name + "' VIA far; SELECT SUM(n) AS n FROM s GROUP BY 1 = 1 FORGET AFTER 1 HOUR;"); !slices.Contains(got, `{"_change":"replace","n":79999800000}`) {
			t.Errorf("%s: %v", name, got)
		}
	}
	for i := range 300 {
		b.put(t, fmt.Sprintf("small/d%d/%03d.csv", i%3, i), []byte(fmt.Sprintf("says,n\nrow,%d\n", i)))
		if i%2 == 0 {
			b.put(t, fmt.Sprintf("small/d%d/%03d.csv", i%3, i), []byte(fmt.Sprintf("n,says\n%d,row\n", i)))
		}
	}
	for address, want := range map[string]int{"small/**": 300, "small/d1": 100, "small/d[01]/*.csv": 200, "small/d2/002.csv": 1} {
		for _, order := range []string{"", ", ORDER name", ", ORDER time"} {
			if got := rows("DECLARE STREAM s (n BIGINT, says VARCHAR) FROM FILES 's3://race/" + address + "' VIA far (FORMAT csv" + order + "); SELECT n FROM s WHERE says = 'row';"); len(got) != want {
				t.Errorf("%s%s: %d rows, wanted %d", address, order, len(got), want)
			}
		}
	}
	b.put(t, "bibs.csv", []byte("chip,bib\na,1\nb,2\n"))
	b.put(t, "in.json", []byte("{\"chip\":\"a\"}\n{\"chip\":\"b\"}\n{\"chip\":\"c\"}\n"))
	got := rows(`DECLARE TABLE bibs (chip VARCHAR PRIMARY KEY, bib INT) FROM FILES 's3://race/bibs.csv' VIA far (FORMAT csv); DECLARE STREAM s (chip VARCHAR) FROM FILES 's3://race/in.json' VIA far;
		SELECT s.chip, b.bib FROM s LEFT JOIN bibs AS b ON s.chip = b.chip;`)
	if want := []string{`{"chip":"a","bib":1}`, `{"chip":"b","bib":2}`, `{"chip":"c","bib":null}`}; !slices.Equal(got, want) {
		t.Errorf("%v", got)
	}
}

// TestFarWords: what is wrong with an object store is one clear message with the place and the way out.
func TestFarWords(t *testing.T) {
	b := bucketOf(t)
	b.put(t, "in.json", []byte("{\"n\":1}\n"))
	away := strings.Replace(b.URL, "http://", "http://timing@", 1)
	for _, c := range []struct{ endpoint, address, want string }{
		{"'http://timing@127.0.0.1:1' SECRET 'far'", "s3://race/in.json", "nobody listens there"},
		{"'" + away + "' SECRET 'wrong'", "s3://race/in.json", "does not let the key timing in with this secret"},
		{"'" + strings.Replace(away, "timing@", "other@", 1) + "' SECRET 'far'", "s3://race/in.json", "does not know the key other"},
		{"'" + b.URL + "'", "s3://race/in.json", "whoever names no key may not do that in the bucket race"},
		{"'" + away + "' SECRET 'far'", "s3://racing/in.json", "there is no bucket racing"},
		{"'" + away + "' SECRET 'far'", "s3://race/none*.json", "there is no object s3://race/none*.json"},
		{"'" + away + "' SECRET 'far'", "in.json", "files have addresses like s3://bucket/reads/*.json"},
		{"'" + away + "' SECRET 'far'", "s3://ra*ce/in.json", "names no bucket"},
		{"'" + strings.Replace(away, "http:", "https:", 1) + "' SECRET 'far'", "s3://race/in.json", "gave HTTP response to HTTPS client"},
		{"'http://timing:pw@127.0.0.1:1'", "s3://race/in.json", "does not belong into the address"},
		{"'http://127.0.0.1:1/race'", "s3://race/in.json", "buckets stand in the addresses of FILES"},
		{"'127.0.0.1:1'", "s3://race/in.json", "not of the form https://host:port"},
	} {
		src := "DECLARE ENDPOINT far FILES " + c.endpoint + "; DECLARE STREAM s (n BIGINT) FROM FILES '" + c.address + "' VIA far; SELECT n FROM s;"
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", src, nil, nil)
		if err == nil {
			o := &connect.Opener{Env: b.env()}
			if err = o.Check(context.Background(), plans[0]); err == nil {
				_, err = o.OpenSource(plans[0].Scans()[0])
			}
		}
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s, %s: %v", c.endpoint, c.address, err)
		}
	}
	for src, want := range map[string]string{
		"(FOLLOW lines, FORMAT avro)":               "do not grow by lines",
		"(DONE delete)":                             "write FOLLOW true",
		"(FOLLOW true, DONE 'moves x')":             "DONE takes keep, delete",
		"(FOLLOW true, DONE 'move s3://race/done')": "files are moved to where they lie",
		"(FOLLOW lines, ORDER name)":                "leave ORDER out",
		"(REST 1 SECOND)":                           "are for files as they come",
		"(FOLLOW true, DONE 'move in')":             "would be read again",
	} {
		if _, _, err := plan.NewCatalog(connect.Places()).Bind("q", "DECLARE STREAM s (n BIGINT) FROM FILES 'in' "+src+";", nil, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", src, err)
		}
	}
	if _, _, err := plan.NewCatalog(connect.Places()).Bind("q", "DECLARE STREAM s (n BIGINT) FROM FILES 's3://race/in';", nil, nil); err == nil || !strings.Contains(err.Error(), "add VIA and its name") {
		t.Error(err)
	}
}

// TestPartitions: rows are told apart by directories, whatever texts they have; NULL has one of its own; a part is closed by rows, size, and by the event time behind its hour; no directory is made for nothing.
func TestPartitions(t *testing.T) {
	dir, in := t.TempDir(), filepath.Join(t.TempDir(), "in.json")
	if err := os.WriteFile(in, []byte(`{"mat":"km-05","n":1,"at":"2026-05-17T08:59:59Z"}
{"mat":"a/b=c%..","n":2,"at":"2026-05-17T09:00:00Z"}
{"mat":"../../x","n":3,"at":"2026-05-17T09:30:00Z"}
{"mat":"","n":4,"at":"2026-05-18T00:00:00Z"}
{"n":5,"at":"2026-05-18T00:00:01Z"}
{"mat":"..","n":6,"at":"2026-05-18T00:00:01Z"}
{"mat":"`+strings.Repeat("long", 100)+`","n":7,"at":"2026-05-18T00:00:01Z"}
{"mat":"km-05","n":8,"at":null}
`), 0o600); err != nil {
		t.Fatal(err)
	}
	job := kit.New(t, "DECLARE STREAM s (mat VARCHAR, n BIGINT, at TIMESTAMP) FROM FILES '"+in+"'; DECLARE SINK k TO FILES '"+dir+"' (PARTITION BY (mat, at), EACH hour); CREATE JOB j AS SELECT mat, n, at FROM s ROUTE TO k;", contract.Env{})
	job.Start(t)
	for {
		if err, over := job.Ended(); over {
			if err != nil {
				t.Fatal(err)
			}
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	var dirs []string
	_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.HasPrefix(d.Name(), ".") && d.Name() != "manifest" {
			dirs = append(dirs, strings.TrimPrefix(filepath.Dir(path), dir+"/"))
		}
		return nil
	})
	want := []string{"mat=%2E./day=2026-05-18/hour=00", "mat=%2E.%2F..%2Fx/day=2026-05-17/hour=09", "mat=_empty_/day=2026-05-18/hour=00", "mat=_null_/day=2026-05-18/hour=00",
		"mat=a%2Fb%3Dc%25../day=2026-05-17/hour=09", "mat=km-05/day=2026-05-17/hour=08", "mat=km-05/hour=_null_", "mat=" + strings.Repeat("long", 50) + ".../day=2026-05-18/hour=00"}
	slices.Sort(dirs)
	slices.Sort(want)
	if !slices.Equal(dirs, want) {
		t.Errorf("%q", dirs)
	}
	for by, want := range map[string]string{
		"PARTITION BY (none)":                              "which the rows do not have",
		"PARTITION BY (at, later)":                         "are two",
		"PARTITION BY (mat), EACH day":                     "is for a column of time",
		"PARTITION BY (mat), ROLL BEHIND 1 HOUR":           "for parts of a time",
		"PARTITION BY (share)":                             "share is DOUBLE",
		"PARTITION BY (mat, at), EACH week":                "one of hour, day, month, year",
		"PARTITION BY (mat, at), ROLL MEGABYTES 0":         "from 1 up",
		"PARTITION BY (mat, at), ROLL BEHIND 1, EACH hour": "a duration",
	} {
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", "DECLARE STREAM s (mat VARCHAR, n BIGINT, share DOUBLE, at TIMESTAMP, later TIMESTAMP) FROM FILES '"+in+"'; DECLARE SINK k TO FILES '"+
			t.TempDir()+"' ("+by+"); CREATE JOB j AS SELECT mat, n, share, at, later FROM s ROUTE TO k;", nil, nil)
		if err == nil {
			o := &connect.Opener{}
			if err = o.Check(context.Background(), plans[0]); err == nil {
				_, err = o.OpenSink(plans[0].Outputs()[0])
			}
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", by, err)
		}
	}
}

// TestFarEnds: a job over objects, each a split, is killed over and over, and comes to its end with each row once: also where it is killed when an object has been read and its split has not ended.
func TestFarEnds(t *testing.T) {
	b, many := bucketOf(t), 0
	for i := range 40 {
		b.put(t, fmt.Sprintf("in/f%04d.json", i), lines(many, many+250))
		many += 250
	}
	job, got := followed(t, "'s3://race/in/*' VIA far", b.env(), b.endpoint())
	job.Every = 2 * time.Millisecond
	rnd := rand.New(rand.NewPCG(8, 8))
	for life := 0; ; life++ {
		job.Start(t)
		time.Sleep(time.Duration(5+rnd.IntN(60)+life) * time.Millisecond) // on a slow machine, too, a life is long enough in the end
		if err, over := job.Ended(); over {
			if err != nil {
				t.Fatal(err)
			}
			break
		}
		if err := job.Kill(); err != nil {
			t.Fatal(err)
		}
	}
	once(t, got(), many)
}
