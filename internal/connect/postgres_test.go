package connect_test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// postgresWorld is a database, a way to it that can be cut, and a log with the topic in.
func postgresWorld(t *testing.T, server *kit.Postgres, name string) (db *sql.DB, proxy *kit.Proxy, endpoint string, env contract.Env, in *topiclog.Topic) {
	t.Helper()
	db, proxy = server.Database(t, name), kit.NewProxy(t, server.Addr)
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { log.Close() })
	if in, err = log.Create("in", topiclog.Settings{Partitions: 2}); err != nil {
		t.Fatal(err)
	}
	env = contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return server.Password, nil }}}
	return db, proxy, "DECLARE ENDPOINT d POSTGRES 'timing@" + proxy.Addr + "/" + name + "' SECRET 'd'; ", env, in
}

func writeTo(t *testing.T, topic *topiclog.Topic, rows ...string) {
	t.Helper()
	var recs []topiclog.Record
	for _, r := range rows {
		recs = append(recs, topiclog.Record{Value: []byte(r)})
	}
	if err := topic.Append(recs); err != nil {
		t.Fatal(err)
	}
}

// column gives the values of a query of one text.
func column(t *testing.T, db *sql.DB, query string) (out []string) {
	t.Helper()
	rows, err := db.Query(query)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var s sql.NullString
		if err := rows.Scan(&s); err != nil {
			t.Fatal(err)
		}
		if !s.Valid {
			s.String = "NULL"
		}
		out = append(out, s.String)
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	return out
}

// TestPostgres: what goes into tables of PostgreSQL is there, once, as its types say, and comes out again.
func TestPostgres(t *testing.T) {
	server := kit.StartPostgres(t)
	t.Run("types", func(t *testing.T) { t.Parallel(); postgresTypes(t, server) })
	t.Run("changes", func(t *testing.T) { t.Parallel(); postgresChanges(t, server) })
	t.Run("refused", func(t *testing.T) { t.Parallel(); postgresRefused(t, server) })
	t.Run("lookups", func(t *testing.T) { t.Parallel(); postgresLookups(t, server) })
	t.Run("declared", func(t *testing.T) { t.Parallel(); postgresDeclared(t, server) })
}

// postgresTypes sends values of every type to a table that the job makes, and to one of other types, and reads both back.
func postgresTypes(t *testing.T, server *kit.Postgres) {
	db, _, endpoint, env, in := postgresWorld(t, server, "types")
	if _, err := db.Exec(`CREATE SCHEMA "Odd one"; CREATE TABLE "Odd one"."a table" ("B" TEXT, i SMALLINT, l NUMERIC, d NUMERIC(12,3), x REAL, s VARCHAR(40), at TIMESTAMP, day TIMESTAMPTZ, clock TEXT, long BIGINT, list INT[], j TEXT, r JSON)`); err != nil {
		t.Fatal(err)
	}
	const cols = `"B" BOOLEAN, i INT, l BIGINT, d DECIMAL(12, 3), x DOUBLE, s VARCHAR, at TIMESTAMP, day DATE, clock TIME, list ARRAY(INT), j JSON, r ROW(a INT, b VARCHAR)`
	writeTo(t, in,
		`{"B":true,"i":-7,"l":9007199254740993,"d":123456789.125,"x":0.25,"s":"it's \"ä\" \\ 🚀","at":"2026-05-17T09:00:00.123456Z","day":"2026-05-17","clock":"09:30:15","list":[1,null,3],"j":{"a":[1,2]},"r":{"a":1,"b":"x"}}`,
		`{"B":false,"i":0,"l":0,"d":-0.5,"x":-1.5e10,"s":"","at":"1969-12-31T23:59:59.999999Z","day":"1900-01-01","clock":"00:00:00","list":[],"j":"t","r":{"a":null,"b":null}}`,
		`{}`)
	const sinks = `DECLARE SINK made TO POSTGRES 'made' VIA d (CREATE true); DECLARE SINK odd TO POSTGRES 'Odd one.a table' VIA d; `
	j := kit.New(t, endpoint+"DECLARE STREAM s ("+cols+") FROM TOPIC 'in'; "+sinks+`CREATE JOB j WITH a AS (SELECT "B", i, l, d, x, s, at, day, clock, INTERVAL '90' SECOND AS long, list, j, r FROM s) ROUTE a TO made, odd;`, env)
	j.Start(t)
	there := func() bool {
		n := 0
		return db.QueryRow(`SELECT (SELECT COUNT(*) FROM made) + (SELECT COUNT(*) FROM "Odd one"."a table")`).Scan(&n) == nil && n == 6
	}
	j.Until(t, "all are there", there)
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	got := column(t, db, `SELECT row_to_json(m)::text FROM made m ORDER BY l`)
	want := []string{
		`{"B":false,"i":0,"l":0,"d":-0.500,"x":-15000000000,"s":"","at":"1969-12-31T23:59:59.999999+00:00","day":"1900-01-01","clock":"00:00:00","long":"00:01:30","list":[],"j":"t","r":{"a": null, "b": null}}`,
		`{"B":true,"i":-7,"l":9007199254740993,"d":123456789.125,"x":0.25,"s":"it's \"ä\" \\ 🚀","at":"2026-05-17T09:00:00.123456+00:00","day":"2026-05-17","clock":"09:30:15","long":"00:01:30","list":[1, null, 3],"j":{"a": [1, 2]},"r":{"a": 1, "b": "x"}}`,
		`{"B":null,"i":null,"l":null,"d":null,"x":null,"s":null,"at":null,"day":null,"clock":null,"long":"00:01:30","list":null,"j":null,"r":null}`}
	if !slices.Equal(got, want) {
		t.Errorf("%s\nwanted %s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	got = column(t, db, `SELECT concat_ws('|', "B", i, l, d, x, s, at, day, clock, long, list::text, j, r::text) FROM "Odd one"."a table" ORDER BY l`)
	if !strings.HasPrefix(got[1], `true|-7|9007199254740993|123456789.125|0.25|it's "ä" \ 🚀|2026-05-17 09:00:00.123456|2026-05-17 00:00:00+00|09:30:15|90000000|{1,NULL,3}|{"a":[1,2]}|{"a":1,"b":"x"}`) {
		t.Errorf("%q", got)
	}
	for table, x := range map[string][2]string{
		"made":            {strings.Replace(cols, "l BIGINT", "l BIGINT PRIMARY KEY", 1), `"B":true,"i":-7,"l":9007199254740993,"d":123456789.125,"x":0.25,"s":"it's \"ä\" \\ 🚀","at":"2026-05-17T09:00:00.123456Z","day":"2026-05-17","clock":"09:30:15","list":[1,null,3],"j":{"a":[1,2]},"r":{"a":1,"b":"x"}`},
		"Odd one.a table": {`"B" VARCHAR, i BIGINT, l DECIMAL(20, 0) PRIMARY KEY, s VARCHAR, at TIMESTAMP, day TIMESTAMP, list ARRAY(BIGINT), r JSON`, `"B":"true","i":-7,"l":9007199254740993,"s":"it's \"ä\" \\ 🚀","at":"2026-05-17T09:00:00.123456Z","day":"2026-05-17T00:00:00.000Z","list":[1,null,3],"r":{"a":1,"b":"x"}`},
	} {
		rows, st, err := kit.Rows(t, endpoint+"DECLARE TABLE back ("+x[0]+") FROM POSTGRES '"+table+"' VIA d; SELECT * FROM back UNTIL NOW;", env, 1)
		if err != nil {
			t.Fatal(err)
		}
		if len(rows) != 2 || !strings.Contains(rows[1], x[1]) { // NULL is no key
			t.Errorf("%s: %s\n%+v", table, strings.Join(rows, "\n"), st.Steps[0])
		}
	}
	// What an endpoint has is shown.
	via := &plan.Endpoint{Name: "d", Place: "postgres", Address: "timing@" + server.Addr + "/types", Secret: "d"}
	list, err := connect.Of("postgres").(contract.Lister).List(t.Context(), &env, via)
	if err != nil || !slices.Contains(list, "made") || !slices.Contains(list, "Odd one.a table") || !slices.Contains(list, "fiume_deliveries") {
		t.Errorf("%v %v", list, err)
	}
	sample, err := connect.Of("postgres").(contract.Sampler).Sample(t.Context(), &env, contract.Wanted{Via: via, Address: "made", Limit: 2})
	if err != nil || len(sample.Messages) != 2 || len(sample.Columns) != 13 || sample.Columns[6].Type != "TIMESTAMP" || sample.Columns[10].Type != "JSON" {
		t.Errorf("%+v %v", sample, err)
	}
	ran, err := connect.Of("postgres").(contract.Commander).Run(t.Context(), &env, via, "SELECT 1 AS one, NULL AS nothing; CREATE TABLE x (n INT); SELECT generate_series(1, 10); SELECT nonsense", 3)
	if err == nil || !strings.Contains(err.Error(), "nonsense") || len(ran) != 2 || *ran[0].Rows[0][0] != "1" || ran[0].Rows[0][1] != nil || len(ran[1].Rows) != 3 || !ran[1].More {
		t.Errorf("%+v %v", ran, err)
	}
}

// postgresChanges: the results of a step that changes stand in a table with a KEY, through kills and a way that is cut.
func postgresChanges(t *testing.T, server *kit.Postgres) {
	db, proxy, endpoint, env, in := postgresWorld(t, server, "changing")
	j := kit.New(t, endpoint+`DECLARE STREAM s (chip VARCHAR, mat INT, n BIGINT) FROM TOPIC 'in'; DECLARE SINK sums TO POSTGRES 'sums' VIA d (KEY (chip, mat), CREATE true); DECLARE SINK large TO POSTGRES 'large' VIA d (KEY (chip, mat), CREATE true);
		CREATE JOB j WITH all_sums AS (SELECT chip, mat, SUM(n) AS total, COUNT(*) AS many FROM s GROUP BY chip, mat FORGET AFTER 365 DAYS), above AS (SELECT chip, mat, total FROM all_sums WHERE total > 0) ROUTE all_sums TO sums ROUTE above TO large;`, env)
	r := rand.New(rand.NewPCG(3, 4))
	type key struct {
		chip string
		mat  int
	}
	totals, many := map[key]int64{}, map[key]int64{}
	j.Start(t)
	for round := range 30 {
		var rows []string
		for range 200 {
			k, n := key{fmt.Sprintf("P'%d", r.IntN(30)), r.IntN(3)}, r.Int64N(41)-20
			totals[k] += n
			many[k]++
			rows = append(rows, fmt.Sprintf(`{"chip":"%s","mat":%d,"n":%d}`, k.chip, k.mat, n))
		}
		writeTo(t, in, rows...)
		switch round % 5 {
		case 1:
			if err := j.Kill(); err != nil {
				t.Fatal(err)
			}
			j.Start(t)
		case 3:
			j.Until(t, "it runs", func() bool { _, ok := j.Status(); return ok })
			proxy.Cut(true)
			if round == 3 {
				j.Until(t, "it is said that the server is away", func() bool {
					st, ok := j.Status()
					return ok && slices.ContainsFunc(st.Steps, func(s flow.Step) bool { return s.Waiting != nil })
				})
			}
			proxy.Cut(false)
		}
	}
	var want, above []string
	for _, k := range slices.SortedFunc(maps.Keys(totals), func(a, b key) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) }) {
		want = append(want, fmt.Sprintf("%s|%d|%d|%d", k.chip, k.mat, totals[k], many[k]))
		if totals[k] > 0 {
			above = append(above, fmt.Sprintf("%s|%d|%d", k.chip, k.mat, totals[k]))
		}
	}
	slices.Sort(want)
	slices.Sort(above)
	stand := func(table, cols string) []string {
		var n int
		if db.QueryRow("SELECT COUNT(*) FROM "+table).Scan(&n) != nil {
			return nil
		}
		out := column(t, db, "SELECT concat_ws('|', "+cols+") FROM "+table)
		slices.Sort(out)
		return out
	}
	j.Until(t, "the results stand", func() bool {
		return slices.Equal(stand("sums", "chip, mat, total, many"), want) && slices.Equal(stand("large", "chip, mat, total"), above)
	})
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
}

// postgresRefused: rows that the server does not take are set aside, each with why, and those beside them are taken.
func postgresRefused(t *testing.T, server *kit.Postgres) {
	db, _, endpoint, env, in := postgresWorld(t, server, "refusing")
	if _, err := db.Exec("CREATE TABLE kept (n INT PRIMARY KEY CHECK (n <> 13), says VARCHAR(5), day DATE)"); err != nil {
		t.Fatal(err)
	}
	for i := range 300 {
		says := "ok"
		switch i {
		case 20:
			says = "too long"
		case 40:
			says = `a\u0000b`
		}
		writeTo(t, in, fmt.Sprintf(`{"n":%d,"says":"%s"}`, i, says))
	}
	writeTo(t, in, `{"n":99999999999}`, `{"n":7,"says":"again"}`)
	j := kit.New(t, endpoint+"DECLARE STREAM s (n BIGINT, says VARCHAR) FROM TOPIC 'in'; DECLARE SINK kept TO POSTGRES 'kept' VIA d (BAD ROWS keep); CREATE JOB j AS SELECT n, says FROM s ROUTE TO kept;", env)
	j.Start(t)
	j.Until(t, "all are there, or aside", func() bool {
		var n, aside int
		return db.QueryRow("SELECT COUNT(*) FROM kept").Scan(&n) == nil && db.QueryRow("SELECT COUNT(*) FROM fiume_set_aside").Scan(&aside) == nil && n == 297 && aside == 5
	})
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	for _, words := range []string{"too long", "value too long", "out of range", "duplicate key", "check constraint", "invalid byte sequence"} {
		if got := column(t, db, "SELECT reason || ' ' || content FROM fiume_set_aside"); !strings.Contains(strings.Join(got, "\n"), words) {
			t.Errorf("%q is not in %q", words, got)
		}
	}
}

// postgresLookups: rows are found by keys of every kind.
func postgresLookups(t *testing.T, server *kit.Postgres) {
	db, _, endpoint, env, in := postgresWorld(t, server, "looking")
	if _, err := db.Exec(`CREATE TABLE r (id UUID, n SMALLINT, code VARCHAR(9), at TIMESTAMP, tz TIMESTAMPTZ, name TEXT, PRIMARY KEY (id));
		INSERT INTO r SELECT ('00000000-0000-0000-0000-' || lpad(i::text, 12, '0'))::uuid, i, 'c' || i, TIMESTAMP '2026-05-17 09:00' + i * INTERVAL '1 minute', TIMESTAMPTZ '2026-05-17 09:00+00' + i * INTERVAL '1 minute', 'name ' || i FROM generate_series(0, 39) i`); err != nil {
		t.Fatal(err)
	}
	for i := range 60 {
		writeTo(t, in, fmt.Sprintf(`{"i":%d,"id":"00000000-0000-0000-0000-%012d","n":%d,"code":"c%d","at":"2026-05-17T09:%02d:00Z","tz":"2026-05-17T09:%02d:00Z"}`, i, i, i, i, i%60, i%60))
	}
	for column, kind := range map[string]string{"id": "VARCHAR", "n": "BIGINT", "code": "VARCHAR", "at": "TIMESTAMP", "tz": "TIMESTAMP"} {
		for _, how := range []string{" (CACHE FOR 1 HOUR)", ""} {
			rows, _, err := kit.Rows(t, endpoint+"DECLARE STREAM s (i BIGINT, id VARCHAR, n BIGINT, code VARCHAR, at TIMESTAMP, tz TIMESTAMP) FROM TOPIC 'in'; DECLARE TABLE r ("+column+" "+kind+" PRIMARY KEY, name VARCHAR) FROM POSTGRES 'r' VIA d"+how+"; SELECT s.i, r.name FROM s SINCE BEGINNING LEFT JOIN r AS OF NOW ON r."+column+" = s."+column+" UNTIL NOW;", env, 2)
			if err != nil {
				t.Errorf("%s%s: %v", column, how, err)
				continue
			}
			found := 0
			for _, row := range rows {
				var x struct {
					I    int
					Name *string
				}
				if err := json.Unmarshal([]byte(row), &x); err != nil {
					t.Fatal(err)
				}
				if x.Name != nil && *x.Name != fmt.Sprintf("name %d", x.I) {
					t.Errorf("%s%s: %s", column, how, row)
				}
				if x.Name != nil {
					found++
				}
			}
			if len(rows) != 60 || found != 40 {
				t.Errorf("%s%s: %d rows, %d found", column, how, len(rows), found)
			}
		}
	}
}

// postgresDeclared: what does not fit is said before anything runs, with the way out.
func postgresDeclared(t *testing.T, server *kit.Postgres) {
	db, _, _, env, _ := postgresWorld(t, server, "declaring")
	if _, err := db.Exec("CREATE TABLE kept (n TEXT, must INT NOT NULL); CREATE TABLE other (n BIGINT, at UUID)"); err != nil {
		t.Fatal(err)
	}
	at := "timing@" + server.Addr + "/declaring"
	for src, words := range map[string]string{
		"'timing:x@h:1/d'|'kept'":              "a password does not belong into the address",
		"'timing@h/d'|'kept'":                  "user@host:port/database",
		"'" + at + "' SECRET 'd'|'nothing'":    `CREATE TABLE "nothing" ("n" BIGINT, "at" TIMESTAMPTZ)`,
		"'" + at + "' SECRET 'd'|'kept'":       "the table kept has no column at",
		"'" + at + "' SECRET 'd'|'other'":      "the column at is uuid, the rows have TIMESTAMP",
		"'" + at + "' SECRET 'd'|'.x'":         "not of the form table, or schema.table",
		"'" + at + "'|'kept'":                  "password",
		"'timing@127.0.0.1:1/d'|'kept'":        "cannot be reached",
		"'" + at + "' SECRET 'd' (TLS on)|'n'": "TLS",
	} {
		endpoint, table, _ := strings.Cut(src, "|")
		_, _, err := plan.NewCatalog(connect.Places()).Bind("q", "DECLARE ENDPOINT d POSTGRES "+endpoint+";", nil, nil)
		if err == nil {
			plans, _, bound := plan.NewCatalog(connect.Places()).Bind("q", "DECLARE ENDPOINT d POSTGRES "+endpoint+"; DECLARE STREAM s (n BIGINT, at TIMESTAMP) FROM TOPIC 'in'; DECLARE SINK k TO POSTGRES "+table+" VIA d; CREATE JOB j AS SELECT n, at FROM s ROUTE TO k;", nil, nil)
			if err = bound; err == nil {
				err = (&connect.Opener{Env: env}).Check(t.Context(), plans[0])
			}
		}
		if err == nil || !strings.Contains(err.Error(), words) || strings.Contains(err.Error(), server.Password) {
			t.Errorf("%s: %v", src, err)
		}
	}
	if _, err := db.Exec("CREATE TABLE free (n BIGINT, at TIMESTAMPTZ)"); err != nil {
		t.Fatal(err)
	}
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", "DECLARE ENDPOINT d POSTGRES '"+at+"' SECRET 'd'; DECLARE STREAM s (n BIGINT, at TIMESTAMP) FROM TOPIC 'in'; DECLARE SINK k TO POSTGRES 'free' VIA d (KEY (n)); CREATE JOB j AS SELECT n, at FROM s ROUTE TO k;", nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err = (&connect.Opener{Env: env}).Check(t.Context(), plans[0]); err == nil || !strings.Contains(err.Error(), "ADD UNIQUE (n)") {
		t.Errorf("%v", err)
	}
	var r contract.Report
	connect.Of("postgres").(contract.Tester).Test(t.Context(), &env, contract.Tested{Endpoint: &plan.Endpoint{Name: "d", Address: at, Secret: "d"}}, &r)
	if len(r.Looks) != 2 || r.Looks[1].Err != nil {
		t.Errorf("%+v", r)
	}
}

// BenchmarkPostgres writes rows of ten columns to a table with a key: an iteration is 300,000 rows, of as many keys or of 20,000.
func BenchmarkPostgres(b *testing.B) {
	for _, keys := range []int{20_000, 300_000} {
		b.Run(fmt.Sprintf("%d-keys", keys), func(b *testing.B) { upserts(b, keys) })
	}
}

func upserts(b *testing.B, keys int) {
	server := kit.StartPostgres(b)
	db := server.Database(b, "bench")
	log, err := topiclog.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer log.Close()
	in, err := log.Create("in", topiclog.Settings{Partitions: 2})
	if err != nil {
		b.Fatal(err)
	}
	const many = 300_000
	for from := 0; from < many; from += 10_000 {
		var recs []topiclog.Record
		for i := range 10_000 {
			n := from + i
			recs = append(recs, topiclog.Record{Value: fmt.Appendf(nil, `{"k":%d,"a":"chip %d","b":"mat %d","c":%d,"d":%d,"e":%d.5,"f":true,"at":"2026-05-17T09:00:00.%06dZ","g":"x","h":%d}`, n%keys, n, n%8, n, n, n, n%1_000_000, n)})
		}
		if err := in.Append(recs); err != nil {
			b.Fatal(err)
		}
	}
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return server.Password, nil }}}
	for round := 0; b.Loop(); round++ {
		j := kit.New(b, fmt.Sprintf(`DECLARE ENDPOINT d POSTGRES 'timing@%s/bench' SECRET 'd'; DECLARE STREAM s (k BIGINT, a VARCHAR, b VARCHAR, c BIGINT, d BIGINT, e DOUBLE, f BOOLEAN, at TIMESTAMP, g VARCHAR, h BIGINT) FROM TOPIC 'in';
			DECLARE SINK kept TO POSTGRES 'kept%d' VIA d (KEY (k), CREATE true); CREATE JOB j AS SELECT k, a, b, c, d, e, f, at, g, h FROM s ROUTE TO kept;`, server.Addr, round), env)
		began := time.Now()
		j.Start(b)
		j.Until(b, "all are there", func() bool {
			var n int64
			return db.QueryRow(fmt.Sprintf("SELECT SUM(h) FROM (SELECT DISTINCT ON (k) k, h FROM kept%d) x", round)).Scan(&n) == nil && n == int64(keys)*int64(many-keys)+int64(keys)*int64(keys-1)/2
		})
		b.ReportMetric(many/time.Since(began).Seconds(), "rows/s")
		if err := j.Stop(); err != nil {
			b.Fatal(err)
		}
	}
}
