package connect_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// TestPostgresChanges: tables of PostgreSQL are followed.
func TestPostgresChanges(t *testing.T) {
	server := kit.StartPostgres(t)
	t.Run("each once", func(t *testing.T) { t.Parallel(); followedOnce(t, server) })
	t.Run("types", func(t *testing.T) { t.Parallel(); followedTypes(t, server) })
	t.Run("lost", func(t *testing.T) { t.Parallel(); followedLost(t, server) })
	t.Run("refused", func(t *testing.T) { t.Parallel(); followedRefused(t, server) })
	t.Run("held back", func(t *testing.T) { t.Parallel(); followedLog(t, server) })
}

// followedOnce: whatever transactions do to a table, and however often the job is killed and its way cut, a stream of its changes has each of them once, and a
// table that follows it comes to be what it is.
func followedOnce(t *testing.T, server *kit.Postgres) {
	db, proxy, endpoint, env, _ := postgresWorld(t, server, "followed")
	if _, err := db.Exec("CREATE TABLE told (k TEXT PRIMARY KEY, v BIGINT, large TEXT); ALTER TABLE told REPLICA IDENTITY FULL; CREATE TABLE other (n INT);" +
		"INSERT INTO told SELECT 'k' || i, i, repeat(md5(i::text), 200) FROM generate_series(0, 9) i"); err != nil {
		t.Fatal(err)
	}
	out, err := env.Topics.Create("out", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	stream := kit.New(t, endpoint+`DECLARE STREAM s (_change VARCHAR, k VARCHAR, v BIGINT, large VARCHAR) FROM POSTGRES 'told' VIA d (CHANGES true); DECLARE SINK o TO TOPIC 'out';
		CREATE JOB j AS SELECT _change, k, v, SUBSTRING(large FROM 1 FOR 8) AS large FROM s ROUTE TO o;`, env)
	table := kit.New(t, endpoint+`DECLARE TABLE t (k VARCHAR PRIMARY KEY, v BIGINT, large VARCHAR) FROM POSTGRES 'told' VIA d (CHANGES true); DECLARE SINK copied TO POSTGRES 'copied' VIA d (KEY (k), CREATE true);
		CREATE JOB c AS SELECT k, v, CHAR_LENGTH(large) AS length FROM t ROUTE TO copied;`, env)
	table.Env.Writer = "another job of a test"
	var want []string
	told := func(change, k string, v int64, large string) {
		want = append(want, fmt.Sprintf(`{"_change":"%s","k":"%s","v":%d,"large":"%s"}`, change, k, v, large[:8]))
	}
	type row struct {
		v     int64
		large string
	}
	is := map[string]row{}
	for i := range int64(10) {
		var large string
		if err := db.QueryRow("SELECT large FROM told WHERE v = $1", i).Scan(&large); err != nil {
			t.Fatal(err)
		}
		k := fmt.Sprintf("k%d", i)
		is[k] = row{i, large}
		told("insert", k, i, large)
	}
	stream.Start(t)
	table.Start(t)
	stream.Until(t, "the rows that are there have come", func() bool { return len(kit.Values(t, out)) >= len(want) })
	r := rand.New(rand.NewPCG(7, 8))
	next := int64(100)
	for round := range 60 {
		tx, err := db.Begin()
		if err != nil {
			t.Fatal(err)
		}
		kept := len(want)
		before := map[string]row{}
		for k, v := range is {
			before[k] = v
		}
		do := func(text string, args ...any) {
			t.Helper()
			if _, err := tx.Exec(text, args...); err != nil {
				t.Fatal(err)
			}
		}
		for range 1 + r.IntN(40) {
			k := fmt.Sprintf("k%d", r.IntN(30))
			was, there := is[k]
			next++
			large := strings.Repeat(fmt.Sprintf("%08d", next), 600)
			switch {
			case !there:
				do("INSERT INTO told VALUES ($1, $2, $3)", k, next, large)
				is[k] = row{next, large}
				told("insert", k, next, large)
			case r.IntN(4) == 0:
				do("DELETE FROM told WHERE k = $1", k)
				delete(is, k)
				told("withdraw", k, was.v, was.large)
			case r.IntN(5) == 0: // its key changes, the large value stays
				other := fmt.Sprintf("K%d", next)
				do("UPDATE told SET k = $1, v = $2 WHERE k = $3", other, next, k)
				delete(is, k)
				is[other] = row{next, was.large}
				told("replace", other, next, was.large)
			default: // the large value stays, and is not sent
				do("UPDATE told SET v = $1 WHERE k = $2", next, k)
				is[k] = row{next, was.large}
				told("replace", k, next, was.large)
			}
			if r.IntN(9) == 0 {
				do("INSERT INTO other VALUES (1)")
			}
		}
		if r.IntN(5) == 0 { // nobody saw it
			want, is = want[:kept], before
			err = tx.Rollback()
		} else {
			err = tx.Commit()
		}
		if err != nil {
			t.Fatal(err)
		}
		switch round % 6 {
		case 1:
			if err := stream.Kill(); err != nil {
				t.Fatal(err)
			}
			stream.Start(t)
		case 2:
			if err := table.Kill(); err != nil {
				t.Fatal(err)
			}
			table.Start(t)
		case 3:
			stream.Until(t, "it runs", func() bool { _, ok := stream.Status(); return ok })
			table.Until(t, "it runs", func() bool { _, ok := table.Status(); return ok })
			proxy.Cut(true)
			proxy.Cut(false)
		case 5:
			if err := stream.Stop(); err != nil {
				t.Fatal(err)
			}
			stream.Start(t)
		}
	}
	stream.Until(t, "all changes have come", func() bool { return len(kit.Values(t, out)) >= len(want) })
	var rows []string
	for k, v := range is {
		rows = append(rows, fmt.Sprintf("%s|%d|%d", k, v.v, len(v.large)))
	}
	slices.Sort(rows)
	var got []string
	table.Until(t, "the table is as it is there", func() bool {
		if db.QueryRow("SELECT to_regclass('copied')::text").Scan(new(string)) == nil {
			got = column(t, db, "SELECT k || '|' || v || '|' || length FROM copied")
			slices.Sort(got)
		}
		return slices.Equal(got, rows)
	})
	for _, j := range []*kit.Job{stream, table} {
		if err := j.Stop(); err != nil {
			t.Fatal(err)
		}
	}
	got = kit.Values(t, out)
	slices.Sort(got) // tasks do not wait for each other
	slices.Sort(want)
	if !slices.Equal(got, want) {
		for i := range want {
			if i >= len(got) || got[i] != want[i] {
				t.Fatalf("%d changes, wanted %d; at %d: %q, wanted %q", len(got), len(want), i, got[min(i, len(got)):min(i+3, len(got))], want[i])
			}
		}
		t.Fatalf("%d changes, wanted %d", len(got), len(want))
	}
	// What a job holds at the server goes with it.
	slots := func() string {
		return strings.Join(column(t, db, "SELECT count(*)::text FROM pg_replication_slots WHERE database = current_database()"), "")
	}
	if n := slots(); n != "2" {
		t.Errorf("%s slots", n)
	}
	for _, j := range []*kit.Job{stream, table} {
		if err := (&connect.Opener{Env: j.Env}).LeaveSources(j.Plan, j.Plan); err != nil || slots() == "0" {
			t.Errorf("a version that reads the same gave its slot up: %v", err)
		}
		if err := (&connect.Opener{Env: j.Env}).Leave(j.Plan); err != nil {
			t.Error(err)
		}
	}
	if n := slots(); n != "0" {
		t.Errorf("%s slots are left", n)
	}
}

// followedTypes: a change has its values as the table itself has them when it is read.
func followedTypes(t *testing.T, server *kit.Postgres) {
	db, _, endpoint, env, _ := postgresWorld(t, server, "followed_types")
	if _, err := db.Exec(`CREATE SCHEMA s; CREATE TYPE s.size AS ENUM ('small', 'large'); CREATE TABLE s.told (n BIGINT PRIMARY KEY, b BOOLEAN, i SMALLINT, d NUMERIC(12, 3), x DOUBLE PRECISION, c CHAR(6), at TIMESTAMPTZ, local TIMESTAMP,
			day DATE, clock TIME, long INTERVAL, list INT[], names TEXT[], moments TIMESTAMPTZ[], j JSONB, raw BYTEA, u UUID, size s.size); ALTER TABLE s.told REPLICA IDENTITY FULL`); err != nil {
		t.Fatal(err)
	}
	const values = `(%d, true, -7, 10.5, 0.1, 'ab', '2026-05-17 11:00:00.123456+02', '2026-05-17 09:00:00', '1900-01-01', '09:30:15', '90 seconds', '{1,NULL,3}', '{a,"b, \"c\"",NULL,""}', '{2026-05-17 09:00:00+00}', '{"a": [1, 2]}', '\x00ff41', 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', 'large'),
		(%d, false, 0, -0.5, 'NaN', '', 'epoch', 'epoch', 'epoch', '00:00', '1 day -2 hours -1.5 seconds', '{}', '{}', '{}', '"x"', '', NULL, 'small'), (%d, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)`
	if _, err := db.Exec(fmt.Sprintf("INSERT INTO s.told VALUES "+values, 1, 2, 3)); err != nil {
		t.Fatal(err)
	}
	out, err := env.Topics.Create("out", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	j := kit.New(t, endpoint+`DECLARE STREAM s (n BIGINT, b BOOLEAN, i INT, d DECIMAL(12, 3), x DOUBLE, c VARCHAR, at TIMESTAMP, local TIMESTAMP, day DATE, clock TIME, long INTERVAL, list ARRAY(INT), names ARRAY(VARCHAR), moments ARRAY(TIMESTAMP), j JSON, raw VARBINARY, u VARCHAR, size VARCHAR)
		FROM POSTGRES 's.told' VIA d (CHANGES true); DECLARE SINK o TO TOPIC 'out'; CREATE JOB j AS SELECT * FROM s ROUTE TO o;`, env)
	j.Start(t)
	j.Until(t, "the rows that are there have come", func() bool {
		st, ok := j.Status()
		if ok && len(st.Steps) > 0 && st.Steps[0].Counts.Rejected > 0 {
			t.Fatalf("%+v", st)
		}
		return len(kit.Values(t, out)) == 3
	})
	if _, err := db.Exec(fmt.Sprintf("INSERT INTO s.told VALUES "+values, 11, 12, 13)); err != nil {
		t.Fatal(err)
	}
	j.Until(t, "those that came have come", func() bool { return len(kit.Values(t, out)) == 6 })
	st, _ := j.Status()
	if st.Steps[0].Counts.Rejected != 0 {
		t.Errorf("%+v", st.Steps[0])
	}
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	got := kit.Values(t, out)
	number := func(row string) (n int) {
		_, _ = fmt.Sscanf(row, `{"n":%d`, &n)
		return n
	}
	slices.SortFunc(got, func(a, b string) int { return number(a) - number(b) })
	for i, g := range got[:3] {
		if late := strings.Replace(got[i+3], fmt.Sprintf(`"n":1%d,`, i+1), fmt.Sprintf(`"n":%d,`, i+1), 1); late != g {
			t.Errorf("read:    %s\nfollowed: %s", g, late)
		}
	}
	if !strings.Contains(got[3], `"names":["a","b, \"c\"",null,""],"moments":["2026-05-17T09:00:00`) || !strings.Contains(got[3], `"c":"ab","at":"2026-05-17T09:00:00.123456Z"`) || !strings.Contains(got[3], `"long":"PT1M30S"`) || !strings.Contains(got[4], `"long":"PT21H59M58.5S"`) {
		t.Error(got[3], got[4])
	}
	var r map[string]any
	if err := json.Unmarshal([]byte(got[5]), &r); err != nil || len(r) != 18 || r["list"] != nil {
		t.Error(got[5], err)
	}
}

// followedLost: a stream ends with an error where changes are lost, and a table is read anew.
func followedLost(t *testing.T, server *kit.Postgres) {
	db, _, endpoint, env, _ := postgresWorld(t, server, "followed_lost")
	if _, err := db.Exec("CREATE TABLE told (k TEXT PRIMARY KEY, v BIGINT); ALTER TABLE told REPLICA IDENTITY FULL; INSERT INTO told VALUES ('a', 1), ('b', 2)"); err != nil {
		t.Fatal(err)
	}
	out, err := env.Topics.Create("out", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	stream := kit.New(t, endpoint+`DECLARE STREAM s (k VARCHAR, v BIGINT) FROM POSTGRES 'told' VIA d (CHANGES true); DECLARE SINK o TO TOPIC 'out'; CREATE JOB j AS SELECT * FROM s ROUTE TO o;`, env)
	table := kit.New(t, endpoint+`DECLARE TABLE t (k VARCHAR PRIMARY KEY, v BIGINT) FROM POSTGRES 'told' VIA d (CHANGES true); DECLARE SINK copied TO POSTGRES 'copied' VIA d (KEY (k), CREATE true); CREATE JOB c AS SELECT k, v FROM t ROUTE TO copied;`, env)
	table.Env.Writer = "another job of a test"
	stand := func() string {
		if db.QueryRow("SELECT to_regclass('copied')::text").Scan(new(string)) != nil {
			return ""
		}
		return strings.Join(column(t, db, "SELECT k || v FROM copied ORDER BY k"), " ")
	}
	stream.Start(t)
	table.Start(t)
	stream.Until(t, "the rows are there", func() bool { return len(kit.Values(t, out)) == 2 })
	table.Until(t, "the copy is there", func() bool { return stand() == "a1 b2" })
	if _, err := db.Exec("TRUNCATE told; INSERT INTO told VALUES ('c', 3)"); err != nil {
		t.Fatal(err)
	}
	table.Until(t, "the copy is emptied", func() bool { return stand() == "c3" })
	stream.Until(t, "the row is there", func() bool { return len(kit.Values(t, out)) == 3 })
	for _, j := range []*kit.Job{stream, table} {
		if err := j.Stop(); err != nil {
			t.Fatal(err)
		}
	}
	for n := ""; n != "0"; n = column(t, db, "SELECT count(*)::text FROM pg_replication_slots WHERE database = current_database()")[0] {
		_, _ = db.Exec("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE database = current_database()") // where nobody reads it any more
	}
	if _, err := db.Exec("DELETE FROM told; INSERT INTO told VALUES ('d', 4)"); err != nil {
		t.Fatal(err)
	}
	stream.Start(t)
	table.Start(t)
	table.Until(t, "the copy is made anew", func() bool { return stand() == "d4" })
	var ended error
	for over := false; !over; {
		ended, over = stream.Ended()
	}
	if ended == nil || !strings.Contains(ended.Error(), "changes are lost; drop the job and begin anew: the log does not reach back: the replication slot fiume_") {
		t.Errorf("%v", ended)
	}
	if _, err := db.Exec("ALTER TABLE told RENAME COLUMN v TO w; INSERT INTO told VALUES ('e', 5)"); err != nil {
		t.Fatal(err)
	}
	for over := false; !over; {
		ended, over = table.Ended()
	}
	if ended == nil || !strings.Contains(ended.Error(), "it has no column v any more") {
		t.Errorf("%v", ended)
	}
}

// followedRefused: what keeps a table from being followed is said before anything runs, with what to do.
func followedRefused(t *testing.T, server *kit.Postgres) {
	db, _, endpoint, env, _ := postgresWorld(t, server, "followed_refused")
	if _, err := db.Exec(`CREATE TABLE plain (a INT PRIMARY KEY); CREATE VIEW seen AS SELECT a FROM plain; CREATE TABLE made (a INT, b INT GENERATED ALWAYS AS (a + 1) STORED); ALTER TABLE made REPLICA IDENTITY FULL;
		CREATE TABLE good (a INT); ALTER TABLE good REPLICA IDENTITY FULL; CREATE PUBLICATION half FOR TABLE good WITH (publish = 'insert'); CREATE PUBLICATION another FOR TABLE plain;
		CREATE ROLE reader LOGIN PASSWORD 'pl4nted-m4rker'; GRANT SELECT ON good TO reader; CREATE ROLE follower LOGIN REPLICATION PASSWORD 'pl4nted-m4rker'; GRANT SELECT ON good TO follower`); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ user, from, want string }{
		{"", "'plain' VIA d (CHANGES true)", "ALTER TABLE plain REPLICA IDENTITY FULL"},
		{"", "'seen' VIA d (CHANGES true)", "seen is no table but a view"},
		{"", "'made' VIA d (CHANGES true)", "the column b of made is generated"},
		{"", "'good' VIA d (CHANGES true, PUBLICATION 'none')", `there is no publication none; CREATE PUBLICATION "none" FOR TABLE "good"`},
		{"", "'good' VIA d (CHANGES true, PUBLICATION 'half')", "the publication half leaves changes out"},
		{"", "'good' VIA d (CHANGES true, PUBLICATION 'another')", `ALTER PUBLICATION "another" ADD TABLE "good"`},
		{"reader", "'good' VIA d (CHANGES true)", `the user reader may not follow changes; ALTER ROLE "reader" REPLICATION`},
		{"follower", "'good' VIA d (CHANGES true)", `somebody who may: CREATE PUBLICATION "fiume_good" FOR TABLE "good"`},
	} {
		columns := "a INT"
		if strings.Contains(c.from, "made") {
			columns += ", b INT"
		}
		text := endpoint
		if c.user != "" {
			text = strings.Replace(endpoint, "timing@", c.user+"@", 1)
		}
		text += "DECLARE STREAM s (" + columns + ") FROM POSTGRES " + c.from + "; CREATE TOPIC o; DECLARE SINK o TO TOPIC 'o'; CREATE JOB j AS SELECT * FROM s ROUTE TO o;"
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("j", text, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		env.Coming = map[string]bool{"o": true}
		if err := (&connect.Opener{Env: env}).Check(t.Context(), plans[0]); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s %s: %v", c.user, c.from, err)
		}
	}
	if n := column(t, db, "SELECT count(*)::text FROM pg_publication WHERE pubname LIKE 'fiume%'"); n[0] != "0" {
		t.Error("looking has made a publication")
	}
}

// followedLog: the server is not told that changes may go before a checkpoint has them, and is told so even where other tables alone are written.
func followedLog(t *testing.T, server *kit.Postgres) {
	db, _, endpoint, env, _ := postgresWorld(t, server, "followed_log")
	if _, err := db.Exec("CREATE TABLE told (k INT); ALTER TABLE told REPLICA IDENTITY FULL; CREATE TABLE other (t TEXT); INSERT INTO told VALUES (7)"); err != nil {
		t.Fatal(err)
	}
	out, err := env.Topics.Create("out", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	j := kit.New(t, endpoint+`DECLARE STREAM s (k INT) FROM POSTGRES 'told' VIA d (CHANGES true); DECLARE SINK o TO TOPIC 'out'; CREATE JOB j AS SELECT k FROM s ROUTE TO o;`, env)
	j.Every = 1 << 50 // it takes none by itself
	behind := func() (n int64) {
		if err := db.QueryRow("SELECT COALESCE(MAX(pg_current_wal_lsn() - confirmed_flush_lsn), -1)::bigint FROM pg_replication_slots WHERE database = current_database()").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	j.Start(t)
	j.Until(t, "it follows", func() bool { st, ok := j.Status(); return ok && len(st.Splits) > 0 && behind() >= 0 })
	if _, err := db.Exec("INSERT INTO told VALUES (1)"); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("INSERT INTO other SELECT repeat('x', 1000) FROM generate_series(1, 5000)"); err != nil {
		t.Fatal(err)
	}
	j.Until(t, "the change has been read", func() bool { st, ok := j.Status(); return ok && len(st.Steps) > 0 && st.Steps[0].Counts.In == 2 })
	if n := behind(); n < 5_000_000 {
		t.Errorf("the server was told that the change may go, %d bytes behind", n)
	}
	if err := j.Kill(); err != nil {
		t.Fatal(err)
	}
	if got := kit.Values(t, out); len(got) != 0 {
		t.Errorf("rows were shown that no checkpoint has: %q", got)
	}
	if _, err := db.Exec("UPDATE told SET k = 8 WHERE k = 7"); err != nil { // the next life reads the table anew
		t.Fatal(err)
	}
	j.Every = 50_000_000
	j.Start(t)
	j.Until(t, "the server may let it go", func() bool { return behind() < 1_000_000 })
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	got := kit.Values(t, out)
	if slices.Sort(got); !slices.Equal(got, []string{`{"k":1}`, `{"k":8}`}) {
		t.Errorf("%q", got)
	}
}

// BenchmarkPostgresChanges follows a table in which 200,000 rows of ten columns are changed, in transactions of a thousand.
func BenchmarkPostgresChanges(b *testing.B) {
	server := kit.StartPostgres(b)
	db := server.Database(b, "bench")
	if _, err := db.Exec(`CREATE TABLE told (k BIGINT PRIMARY KEY, a TEXT, b TEXT, c DOUBLE PRECISION, d INT, e TIMESTAMPTZ, f BOOLEAN, g TEXT, h BIGINT, i NUMERIC(10, 2)); ALTER TABLE told REPLICA IDENTITY FULL;
		INSERT INTO told SELECT n, 'name ' || n, md5(n::text), n / 7.0, n % 100, now(), n % 2 = 0, 'x', n, n / 3.0 FROM generate_series(1, 1000) n`); err != nil {
		b.Fatal(err)
	}
	log, err := topiclog.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer log.Close()
	if _, err := log.Create("out", topiclog.Settings{Partitions: 2}); err != nil {
		b.Fatal(err)
	}
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return server.Password, nil }}}
	j := kit.New(b, "DECLARE ENDPOINT d POSTGRES 'timing@"+server.Addr+"/bench' SECRET 'd'; "+`DECLARE STREAM s (k BIGINT, a VARCHAR, b VARCHAR, c DOUBLE, d INT, e TIMESTAMP, f BOOLEAN, g VARCHAR, h BIGINT, i DECIMAL(10, 2)) FROM POSTGRES 'told' VIA d (CHANGES true);
		DECLARE SINK o TO TOPIC 'out'; CREATE JOB j AS SELECT * FROM s ROUTE TO o;`, env)
	j.Start(b)
	has := func(n int64) func() bool {
		return func() bool { st, ok := j.Status(); return ok && len(st.Steps) > 0 && st.Steps[0].Counts.In >= n }
	}
	j.Until(b, "the rows are there", has(1000))
	if err := j.Stop(); err != nil {
		b.Fatal(err)
	}
	for range 200 {
		if _, err := db.Exec("UPDATE told SET h = h + 1, c = c * 1.01, e = now()"); err != nil {
			b.Fatal(err)
		}
	}
	b.ResetTimer()
	j.Start(b)
	j.Until(b, "the changes are there", has(200_000))
	b.ReportMetric(200_000/b.Elapsed().Seconds(), "rows/s")
	if err := j.Stop(); err != nil {
		b.Fatal(err)
	}
}
