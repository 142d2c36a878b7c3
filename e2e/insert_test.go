package e2e

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"

	"fiume/internal/api"
)

// TestInsert writes rows with INSERT: streams and tables in each format give back what was written, and where a row is
// wrong nothing is written.
func TestInsert(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC reads (PARTITIONS 1); CREATE TOPIC people (PARTITIONS 2); CREATE TOPIC lines (PARTITIONS 1); CREATE TOPIC finishes (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR NOT NULL, read_at TIMESTAMP NOT NULL, rssi DOUBLE, fee DECIMAL(6, 2), device ROW(serial VARCHAR, battery DOUBLE), tags ARRAY(VARCHAR),
			weak BOOLEAN AS (rssi < -75)) EVENT TIME read_at DELAY 5 SECONDS FROM TOPIC 'reads' (FORMAT json);
		DECLARE TABLE people (chip VARCHAR PRIMARY KEY, name VARCHAR, born DATE) FROM TOPIC 'people' (FORMAT csv, DELIMITER ';');
		DECLARE STREAM radio (line VARCHAR) FROM TOPIC 'lines' (FORMAT text);
		DECLARE STREAM finishes (chip VARCHAR, place VARCHAR) FROM TOPIC 'finishes' (FORMAT csv, NULL WORD 'DNF');
		DECLARE STREAM nowhere (a INT) FROM TOPIC 'not-there';`)
	o := p.apply(`INSERT INTO reads VALUES ('C1', TIMESTAMP '2026-05-17 09:00:00', -80, 2.5, ROW('TM-1', 0.5), ARRAY['a', 'b "c"']);
		INSERT INTO reads (read_at, chip) VALUES ('2026-05-17T09:00:01Z', 'Zürich'), (CURRENT_TIMESTAMP, 'now');
		INSERT INTO people VALUES ('C1', 'Ada; "the Quick"', DATE '1999-01-02'), ('C2', NULL, NULL);
		INSERT INTO people VALUES ('C1', 'Bea', NULL);
		INSERT INTO radio VALUES ('all quiet, "over"');`).Outcomes
	if len(o) != 5 || o[1].Done != "written" || o[1].Kind != "stream" || o[1].Note != "2 rows to the topic 'reads'" || o[2].Kind != "table" {
		t.Errorf("%+v", o)
	}
	rows := p.query("SELECT chip, read_at, rssi, fee, device.battery AS battery, tags[2] AS tag, weak FROM reads SINCE BEGINNING WHERE chip <> 'now' UNTIL NOW;")
	if want := []string{`{"chip":"C1","read_at":"2026-05-17T09:00:00.000Z","rssi":-80,"fee":2.50,"battery":0.5,"tag":"b \"c\"","weak":true}`,
		`{"chip":"Zürich","read_at":"2026-05-17T09:00:01.000Z","rssi":null,"fee":null,"battery":null,"tag":null,"weak":null}`}; !slices.Equal(rows, want) {
		t.Errorf("%q, wanted %q", rows, want)
	}
	if rows := p.query("SELECT chip FROM reads SINCE BEGINNING WHERE read_at WITHIN 10 MINUTES OF CURRENT_TIMESTAMP UNTIL NOW;"); !slices.Equal(rows, []string{`{"chip":"now"}`}) {
		t.Errorf("at the current time: %q", rows)
	}
	rows = p.query("SELECT r.chip, p.name FROM reads r SINCE BEGINNING JOIN people p ON p.chip = r.chip WHERE r.chip = 'C1' UNTIL NOW;")
	if want := []string{`{"chip":"C1","name":"Bea"}`}; !slices.Equal(rows, want) {
		t.Errorf("the latest row of a key: %q", rows)
	}
	keys := map[string]int{}
	ms, err := p.Read(t.Context(), "people", url.Values{"partition": {"-1"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range ms {
		if m.Key != nil {
			keys[*m.Key]++
		}
	}
	if len(keys) != 2 || keys["C1"] != 2 {
		t.Errorf("keys: %v", keys)
	}
	if rows := p.query("SELECT line FROM radio SINCE BEGINNING UNTIL NOW;"); !slices.Equal(rows, []string{`{"line":"all quiet, \"over\""}`}) {
		t.Errorf("%q", rows)
	}

	p.apply("INSERT INTO finishes VALUES ('C1', 'DNF'), ('C2', NULL);") // a word that stands for NULL is quoted where it does not
	rows = p.query("SELECT chip, place FROM finishes SINCE BEGINNING UNTIL NOW;")
	if want := []string{`{"chip":"C1","place":"DNF"}`, `{"chip":"C2","place":null}`}; !slices.Equal(rows, want) {
		t.Errorf("%q, wanted %q", rows, want)
	}

	// Errors come with their places, and nothing is written.
	before := len(p.values("reads"))
	for text, part := range map[string]string{
		"INSERT INTO reads (chip, read_at) VALUES ('x', CURRENT_TIMESTAMP); INSERT INTO reads (chip, read_at) VALUES ('y', 'soon');": "CAST of 'soon' to TIMESTAMP failed",
		"INSERT INTO radio VALUES (NULL);": "would not be read as it is written",
		"INSERT INTO nowhere VALUES (1);":  "CREATE TOPIC 'not-there' first",
		"INSERT INTO reads VALUES (1, 2);": "they are chip, read_at, rssi, fee, device, tags",
	} {
		r := p.fiume(text, "apply", "-")
		r.want(t, 3, part)
	}
	if r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: "INSERT INTO reads (chip, read_at) VALUES ('x', CURRENT_TIMESTAMP);", DryRun: true}); err != nil || r.Problem != nil || r.Outcomes[0].Done != "would be written" {
		t.Errorf("%+v, %v", r, err)
	}
	if after := len(p.values("reads")); after != before {
		t.Errorf("%d messages were written", after-before)
	}
	// A topic that the text makes is there by then.
	p.apply("CREATE TOPIC 'not-there'; INSERT INTO nowhere VALUES (7);")
	p.fiume("", "activity").want(t, 0, "wrote", "stream nowhere")
	p.fiume("INSERT INTO reads (chip, read_at) VALUES ('shell', CURRENT_TIMESTAMP);", "shell").want(t, 0, "stream reads written (1 row to the topic 'reads')")
}

// TestColumnsSampled declares streams and tables without their columns.
func TestColumnsSampled(t *testing.T) {
	t.Parallel()
	address, db := raceDatabase(t)
	if _, err := db.Exec("UPDATE mats SET capacity = 900 WHERE mat = 'start'"); err != nil {
		t.Fatal(err)
	}
	home, dir := t.TempDir(), t.TempDir()
	p := serve(t, home)
	writeFile(t, dir, "a.csv", "chip,bib,paid\nC1,7,2.5\nC2,8,\n")
	const declare = "DECLARE STREAM found COLUMNS SAMPLED EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads';"
	p.fiume("CREATE TOPIC reads (PARTITIONS 1);"+declare, "apply", "-").want(t, 3, "cannot be found: there is no topic 'reads'", "list them like")
	p.apply("CREATE TOPIC reads (PARTITIONS 1);")
	p.fiume(declare, "apply", "-").want(t, 3, "has no messages")
	p.send("reads", `{"chip":"C1","at":"2026-05-17T09:00:00Z","n":1,"Odd name":true,"device":{"battery":0.5}}`, `{"chip":null,"at":"2026-05-17T09:00:01Z","n":99999999999}`)
	o := p.apply(declare + p.endpoint(address) + fmt.Sprintf(`DECLARE TABLE mats FROM MARIADB 'mats' VIA race_db (REFRESH EVERY 1 MINUTE);
		DECLARE STREAM filed COLUMNS SAMPLED FROM FILES '%s/*.csv' (FORMAT csv);`, dir)).Outcomes
	if want := `columns found: chip VARCHAR, "at" TIMESTAMP, n BIGINT, "Odd name" BOOLEAN, device ROW(battery DOUBLE)`; o[0].Note != want {
		t.Errorf("%s, wanted %s", o[0].Note, want)
	}
	if rows := p.query(`SELECT chip, at, n, "Odd name" AS odd, device.battery AS b FROM found SINCE BEGINNING UNTIL NOW;`); !slices.Equal(rows, []string{
		`{"chip":"C1","at":"2026-05-17T09:00:00.000Z","n":1,"odd":true,"b":0.5}`, `{"chip":null,"at":"2026-05-17T09:00:01.000Z","n":99999999999,"odd":null,"b":null}`}) {
		t.Errorf("%q", rows)
	}
	if rows := p.query("SELECT f.bib, m.capacity FROM filed f JOIN mats m ON m.mat = 'start' WHERE f.bib = 7;"); !slices.Equal(rows, []string{`{"bib":7,"capacity":900}`}) {
		t.Errorf("%q", rows)
	}
	if rows := p.query("SELECT chip, paid FROM filed;"); !slices.Equal(rows, []string{`{"chip":"C1","paid":2.5}`, `{"chip":"C2","paid":null}`}) {
		t.Errorf("%q", rows)
	}

	// What was found stays, until it is asked for anew; a service that starts again does not look.
	p.send("reads", `{"chip":"C3","at":"2026-05-17T09:00:02Z","n":2,"new":"x"}`)
	if o := p.apply(declare).Outcomes; o[0].Done != "unchanged" {
		t.Errorf("%+v", o)
	}
	p.stop()
	p = serve(t, home)
	if d := p.fiume("DESCRIBE found;", "shell"); strings.Contains(d.out, "new") {
		t.Errorf("a column came by itself:\n%s", d.out)
	}
	if o := p.apply(strings.Replace(declare, "DECLARE", "DECLARE OR REPLACE", 1)).Outcomes; o[0].Done != "replaced" || !strings.Contains(o[0].Note, ", new VARCHAR") {
		t.Errorf("%+v", o)
	}
	d, err := p.Definition(t.Context(), "found")
	if err != nil || strings.Contains(d.SQL, "SAMPLED") || !strings.Contains(d.SQL, `"Odd name" BOOLEAN`) {
		t.Errorf("%+v, %v", d, err)
	}

	// A check looks at nothing; a run looks at files.
	path := writeFile(t, dir, "job.sql", declare+"SELECT nothing FROM found;")
	fiume(t, "", "check", path).want(t, 0, "2 statements, no errors")
	path = writeFile(t, dir, "local.sql", fmt.Sprintf("DECLARE STREAM filed COLUMNS SAMPLED FROM FILES '%s/a.csv' (FORMAT csv); SELECT bib FROM filed WHERE paid IS NULL;", dir))
	fiume(t, "", "run", path, "--quiet", "--output", "json").want(t, 0, `{"bib":8}`)
	fiume(t, declare, "run", "-").want(t, 3, "topics live in the service")
}
