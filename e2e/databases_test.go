package e2e

import (
	"encoding/json"
	"net"
	"strings"
	"testing"

	"fiume/internal/service/databases"
)

// TestDatabases goes the way from nothing to a job that writes a table of the private server, and back, by the command line
// alone.
func TestDatabases(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.fiume("", "database", "list").want(t, 0, "no databases; make one with: fiume database create NAME")
	p.apply(`CREATE TOPIC reads (PARTITIONS 1); DECLARE STREAM reads (chip VARCHAR, n BIGINT, read_at TIMESTAMP) FROM TOPIC 'reads';
		DECLARE ENDPOINT early MARIADB 'pilot@private/harbour' SECRET 'harbour';`)
	p.fiume("", "connections", "early").want(t, 1, "there is no secret 'harbour'")
	out := p.fiume("", "database", "create", "harbour", "--user", "pilot")
	out.want(t, 0, "database harbour made; pilot may do everything in it, with the secret 'harbour'", "DECLARE ENDPOINT harbour MARIADB 'pilot@private/harbour' SECRET 'harbour';")
	p.fiume("", "connections", "early").want(t, 0, "it lets us in")
	p.fiume("", "database", "create", "harbour").want(t, 1, `there is already a database "harbour"; its user is pilot`)
	p.fiume("", "database", "create", "Harbour").want(t, 1, `there is already a database "harbour"`)
	p.fiume("", "database", "create", "other", "--user", "pilot").want(t, 1, `there is already a user "pilot", of the database harbour`)
	for _, bad := range []string{"fiume", "mysql", "a b", "x;DROP DATABASE fiume", "root", strings.Repeat("x", 61)} {
		r := p.fiume("", "database", "create", bad)
		if r.code == 0 {
			t.Errorf("a database is called %q", bad)
		}
	}
	// Its user sees nothing else.
	p.fiume("", "database", "run", "early", "--execute", "SELECT * FROM fiume.secrets").want(t, 1, "the server refuses a statement", "denied")
	p.fiume("", "database", "run", "early", "--execute", "SHOW DATABASES").want(t, 0, "harbour")

	p.fiume("", "database", "create", "f_ume", "--declare").want(t, 0, "made")
	p.fiume("", "database", "run", "f_ume", "--execute", "SELECT * FROM fiume.secrets").want(t, 1, "denied") // an underscore is no pattern
	p.fiume("", "database", "run", "f_ume", "--execute", "CREATE TABLE x (a INT); SELECT COUNT(*) AS n FROM x").want(t, 0, "n")
	p.fiume("", "database", "list").want(t, 0, "f_ume")
	p.apply("DROP ENDPOINT f_ume;")
	p.fiume("", "database", "drop", "f_ume").want(t, 0, "deleted")
	// What is shown is bounded in rows, bytes and results.
	wide := "SELECT " + strings.TrimSuffix(strings.Repeat("REPEAT('x', 20000),", 12), ",") + " FROM seq_1_to_2000"
	if r := p.fiume("", "database", "run", "early", "--execute", wide, "--output", "json"); r.code != 0 || len(r.out) > 20<<20 || !strings.Contains(r.out, `"more": true`) {
		t.Errorf("code %d, %d bytes, %.300s", r.code, len(r.out), r.err)
	}
	if r := p.fiume(strings.Repeat("SELECT 1 AS a;", 5000), "database", "run", "early", "-"); r.code != 0 || strings.Count(r.out, "a\n") != 200 {
		t.Errorf("code %d, %d results, %.300s", r.code, strings.Count(r.out, "a\n"), r.err)
	}
	// A server that takes calls and says nothing is given up.
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	p.apply("DECLARE ENDPOINT silent MARIADB 'a@" + silent.Addr().String() + "/b';")
	p.fiume("", "database", "run", "silent", "--execute", "SELECT 1").want(t, 1, "does not answer")

	// A sink whose table is missing says which one fits; it can be made.
	p.apply(`DECLARE SINK reads_table TO MARIADB 'reads' VIA early (KEY (chip));`)
	job := writeFile(t, t.TempDir(), "job.sql", `CREATE JOB storing AS SELECT chip, n, read_at FROM reads ROUTE TO reads_table SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	said := p.fiume("", "apply", job)
	said.want(t, 3, "one that fits is: CREATE TABLE `reads` (`chip` VARCHAR(190), `n` BIGINT")
	_, create, _ := strings.Cut(said.err+said.out, "one that fits is: ")
	create, _, _ = strings.Cut(create, "\n")
	create = strings.TrimSuffix(strings.TrimSpace(create), "[misfit]")
	p.fiume(create+"; INSERT INTO "+"`reads`"+" (chip, n) VALUES ('old', NULL); CREATE VIEW reads_view AS SELECT * FROM "+"`reads`;", "database", "run", "early", "-").want(t, 0, "done")
	p.fiume("", "apply", job).want(t, 0, "job storing created")
	p.send("reads", `{"chip":"A","n":1,"read_at":"2026-05-17T09:00:00Z"}`)
	eventually(t, "the row is in the table", func() bool {
		r := p.fiume("", "database", "run", "early", "--execute", "SELECT chip, n FROM reads_view ORDER BY chip")
		return r.code == 0 && strings.Contains(r.out, "A    ") && strings.Contains(r.out, "old") && strings.Contains(r.out, "NULL")
	})
	p.fiume("", "rows", "reads_table").want(t, 0, "chip", "old", "A ", "NULL", "(2 rows)")
	p.fiume("", "rows", "reads_tabel").want(t, 3, "reads_tabel")
	var ran struct {
		Results []struct {
			Columns []string
			Rows    [][]*string
		}
	}
	r := p.fiume("", "database", "run", "early", "--execute", "SELECT 1 AS one; SELECT chip FROM reads_view WHERE n IS NULL; UPDATE reads_view SET n = 5 WHERE chip = 'old'", "--output", "json")
	if err := json.Unmarshal([]byte(r.out), &ran); err != nil || len(ran.Results) != 2 || *ran.Results[0].Rows[0][0] != "1" || *ran.Results[1].Rows[0][0] != "old" {
		t.Errorf("%s %v", r.out, err)
	}
	p.fiume("", "database", "run", "early", "--execute", "SELECT 1 AS one; SELECT nonsense; SELECT 2").want(t, 1, "one", "the server refuses a statement", "nonsense")
	p.fiume("", "database", "run", "earl", "--execute", "SELECT 1").want(t, 4, `did you mean "early"?`)
	p.fiume("", "database", "run", "early").want(t, 2, "give a file")
	p.fiume("", "database", "run", "early", "nothing.sql").want(t, 2, "there is no file nothing.sql")
	p.fiume(" \n", "database", "run", "early", "-").want(t, 2, "there are no statements to run")
	p.fiume("", "database", "list").want(t, 0, "harbour", "pilot")
	p.fiume("", "explain", "storing").want(t, 0, "job storing", "MARIADB 'reads'")
	p.fiume("", "explain", "storin").want(t, 4, "there is no file storin, and no job is called", `did you mean "storing"?`)

	// Secrets: listed without values, and forgotten where none needs them.
	p.fiume("", "secret", "list").want(t, 0, "harbour", "pilot@private", "early")
	p.fiume("", "secret", "drop", "harbour").want(t, 1, "is used by the endpoint early")
	p.fiume("", "database", "drop", "harbour").want(t, 1, "the endpoint early leads to the database harbour")
	p.apply("DROP JOB storing; DROP SINK reads_table; DROP ENDPOINT early;")
	p.fiume("", "database", "drop", "harbor").want(t, 4, `did you mean "harbour"?`)
	p.fiume("", "database", "drop", "harbour").want(t, 0, "database harbour deleted")
	p.fiume("", "secret", "list").want(t, 0, "no secrets")

	r = p.fiume("", "database", "create", "again", "--declare", "--output", "json")
	var made databases.Made
	if err := json.Unmarshal([]byte(r.out), &made); err != nil || made.User != "again" {
		t.Errorf("%s %v", r.out, err)
	}
	p.fiume("", "connections", "again").want(t, 0, "it lets us in")
}
