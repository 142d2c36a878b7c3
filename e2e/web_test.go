package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fiume/internal/connect/web/standin"
)

// takenBy asks a stand-in of a web service what it has taken.
func takenBy(t *testing.T, base string) (out struct {
	Total, Repeats int64
	Newest         []standin.Request
}) {
	t.Helper()
	eventually(t, "it says what it has taken", func() bool { // it fails now and then
		r, err := http.Get(base + "/taken")
		if err != nil || r.StatusCode != http.StatusOK {
			return false
		}
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		if err == nil {
			err = json.Unmarshal(b, &out)
		}
		return err == nil
	})
	return out
}

// TestWebService: rows are put beside what a web service knows of their keys and sent to it, each once, though it fails now and then and the service of the job is killed; what it gives as a
// page is read; and the console's forms, the connection test and the rows of what was declared know of it.
func TestWebService(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var things, page strings.Builder
	for i := range 20 {
		fmt.Fprintf(&things, `{"chip":"P%d","name":"runner %d"}`+"\n", i, i)
		fmt.Fprintf(&page, `{"id":%d,"wind":%d.5}`+"\n", i+1, i)
	}
	for name, text := range map[string]string{"things.ndjson": things.String(), "page.ndjson": page.String()} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	desk := start(t, "webservice", "--listen", "127.0.0.1:0", "--things", filepath.Join(dir, "things.ndjson"), "--key", "chip", "--page", filepath.Join(dir, "page.ndjson"), "--faulty", "0.02")
	state := filepath.Join(dir, "state")
	p := serve(t, state)
	p.apply(`CREATE TOPIC calls (PARTITIONS 2); CREATE TOPIC wind (PARTITIONS 1);
		DECLARE ENDPOINT desk WEB '` + desk.base + `' (AT ONCE 4);
		DECLARE STREAM calls (chip VARCHAR, n BIGINT) FROM TOPIC 'calls';
		DECLARE TABLE riders (chip VARCHAR PRIMARY KEY, name VARCHAR) FROM WEB '/things/{chip}' VIA desk (CACHE FOR 1 HOUR);
		DECLARE STREAM weather (id BIGINT, wind DOUBLE) FROM WEB '/page' VIA desk (ROWS AT 'items', NEW BY id, LOOK EVERY 100 MILLISECONDS);
		DECLARE SINK told TO WEB '/calls/{chip}' VIA desk (TEMPLATE '{"text": {words}, "n": {n}}', KEY (chip));
		DECLARE SINK wind TO TOPIC 'wind';
		CREATE JOB telling AS SELECT c.chip, c.n, COALESCE(r.name, 'nobody') || ' has called' AS words FROM calls c LEFT JOIN riders r AS OF NOW ON r.chip = c.chip ROUTE TO told SET (CHECKPOINT EVERY 200 MILLISECONDS);
		CREATE JOB winds AS SELECT id, wind FROM weather WHERE wind > 9 ROUTE TO wind SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	p.fiume("", "connections", "desk", "told", "weather").want(t, 0, "reachable")
	p.fiume("", "rows", "weather", "--limit", "3").want(t, 0, "wind")
	p.fiume("", "rows", "told").want(t, 1, "what is written to WEB cannot be read again")
	const all, kills = 600, 5
	for i := range all {
		p.send("calls", fmt.Sprintf(`{"chip":"P%d","n":%d}`, i%25, i))
		if i%(all/kills) == all/kills/2 {
			p.kill()
			p = serve(t, state)
		}
	}
	eventually(t, "all calls have been told", func() bool { return takenBy(t, desk.base).Total >= all })
	eventually(t, "the wind was read", func() bool { return len(p.all("wind")) >= 11 })
	p.fiume("", "job", "stop", "telling").want(t, 0)
	if got := takenBy(t, desk.base); got.Total != all {
		t.Errorf("%d requests were taken, wanted %d", got.Total, all)
	}
	if got := p.all("wind"); len(got) != 11 {
		t.Errorf("%q", got)
	}
	for _, r := range takenBy(t, desk.base).Newest {
		var x struct {
			Text string
			N    int
		}
		if err := json.Unmarshal([]byte(r.Body), &x); err != nil {
			t.Fatal(err)
		}
		want := "nobody has called"
		if chip := x.N % 25; chip < 20 {
			want = fmt.Sprintf("runner %d has called", chip)
		}
		if x.Text != want || r.Path != fmt.Sprintf("/calls/P%d", x.N%25) || r.Method != "POST" || r.Key == "" {
			t.Errorf("%+v, wanted %q", r, want)
		}
	}
	if out := desk.out.String(); !strings.Contains(out, `POST /calls/P`) || !strings.Contains(out, "has called") {
		t.Errorf("the stand-in printed\n%.500s", out)
	}
	fiume(t, "", "webservice", "--faulty", "2").want(t, 2, "--faulty is a share")
	fiume(t, "", "webservice", "--things", filepath.Join(dir, "things.ndjson"), "--key", "bib").want(t, 2, `line 1`, `has no "bib"`)
	fiume(t, "", "webservice", "--help").want(t, 0, "fiume webservice --things")
}
