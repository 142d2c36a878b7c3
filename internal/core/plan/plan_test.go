package plan

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

var testPlaces = []Place{
	{Kind: "files", Traits: Traits{Ends: true, Again: true, LaterSplit: true, Appends: true}, Source: []OptionSpec{{Name: "format", Kind: WordOption, Words: []string{"json"}}}, Table: []OptionSpec{}, Sink: []OptionSpec{
		{Name: "roll every", Kind: DurationOption}, {Name: "key", Kind: NamesOption}, {Name: "parts", Kind: NumberOption, Least: 1}, {Name: "header", Kind: FlagOption}}},
	{Kind: "mariadb", Traits: Traits{OfChanges: true, Replaces: true}, Sink: []OptionSpec{}, Endpoint: true},
}

const declarations = `DECLARE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR, read_at TIMESTAMP, rssi DOUBLE,
	device ROW(serial VARCHAR, battery DOUBLE), position ROW(lat DOUBLE, lon DOUBLE), weak BOOLEAN AS (rssi < -75))
	EVENT TIME read_at DELAY 20 SECONDS FROM FILES 'x';
DECLARE SINK a TO FILES 'a';
DECLARE SINK b TO FILES 'b';
CREATE VIEW strong AS SELECT chip, mat, read_at, rssi FROM reads WHERE rssi > -60;
`

func bind(t *testing.T, text string) ([]*Plan, error) {
	t.Helper()
	plans, _, err := NewCatalog(testPlaces).Bind("t.sql", declarations+text, nil, nil)
	return plans, err
}

func bound(t *testing.T, text string) *Plan {
	t.Helper()
	plans, err := bind(t, text)
	if err != nil {
		t.Fatal(err)
	}
	return plans[len(plans)-1]
}

// TestDecodesWhatIsUsed: the plan tells the decoder the columns and fields it needs, and no more.
func TestDecodesWhatIsUsed(t *testing.T) {
	for query, want := range map[string]string{
		"SELECT mat FROM reads;":                            "chip, mat, read_at", // NOT NULL and the event time are always read
		"SELECT device.battery AS b FROM reads WHERE weak;": "chip, read_at, rssi, device.battery",
		"SELECT device FROM reads;":                         "chip, read_at, device",
		"SELECT * FROM reads;":                              "chip, mat, read_at, rssi, device, position",
		"SELECT COUNT(*) AS n FROM reads GROUP BY w WINDOW w AS (TUMBLING 1 MINUTE);":                                   "chip, read_at",
		"SELECT MAX(position.lat) AS l FROM reads GROUP BY mat, w HAVING COUNT(*) > 1 WINDOW w AS (TUMBLING 1 MINUTE);": "chip, mat, read_at, position.lat",
		"SELECT n FROM (SELECT rssi AS n, mat FROM strong) q WHERE q.mat = 'x';":                                        "chip, mat, read_at, rssi",
	} {
		p := bound(t, query)
		scans := p.Scans()
		if len(scans) != 1 {
			t.Fatalf("%s: %d scans", query, len(scans))
		}
		if got := strings.Join(scans[0].Used.describe(scans[0].Stream.Columns), ", "); got != want {
			t.Errorf("%s decodes %s, wanted %s", query, got, want)
		}
	}
}

// TestShared: a stream and a step that several use are read and computed once; what nothing is routed
// from is left out.
func TestShared(t *testing.T) {
	p := bound(t, `CREATE JOB j WITH
		unused AS (SELECT mat FROM reads WHERE mat = 'x'),
		one AS (SELECT chip, mat, read_at FROM reads),
		two AS (SELECT chip FROM one WHERE mat = 'a'),
		three AS (SELECT chip FROM one WHERE mat = 'b')
		ROUTE two TO a ROUTE three TO a, b ROUTE two WHERE chip = 'P1' TO b SET (PARALLELISM 3);`)
	var got []string
	for _, o := range p.Ops {
		got = append(got, o.Kind.String()+" "+o.Step)
	}
	want := "scan reads|project one|filter two|project two|filter three|project three|route two|output a|route three|output b|route two"
	if s := strings.Join(got, "|"); s != want {
		t.Errorf("%s, wanted\n%s", s, want)
	}
	for i, o := range p.Ops {
		if o.ID != i || o.Input != nil && o.Input.ID >= i {
			t.Errorf("operator %d has the number %d behind %v", i, o.ID, o.Input)
		}
	}
	if p.Parallelism != 3 {
		t.Errorf("parallelism %d", p.Parallelism)
	}
	text := p.Explain(0).String()
	for _, part := range []string{"scan  reads: FILES 'x', event time read_at, delay 20 SECONDS", "decodes chip, mat, read_at", "filter  two: where mat = 'a'", "route  two: where chip = 'P1' to b", "output  b: FILES 'b'"} {
		if !strings.Contains(text, part) {
			t.Errorf("EXPLAIN lacks %q:\n%s", part, text)
		}
	}
}

// TestEventTimeFollows: the event time stays with the rows through steps, under another name too, and
// WINDOW … ON names it or is refused.
func TestEventTimeFollows(t *testing.T) {
	bound(t, "SELECT COUNT(*) AS n FROM (SELECT read_at AS at, mat FROM reads) q GROUP BY w WINDOW w AS (TUMBLING 1 MINUTE ON q.at);")
	bound(t, "SELECT COUNT(*) AS n FROM (SELECT mat FROM reads) q GROUP BY w WINDOW w AS (TUMBLING 1 MINUTE);")
	for _, query := range []string{
		"SELECT COUNT(*) AS n FROM (SELECT read_at + 1 HOUR AS at FROM reads) q GROUP BY w WINDOW w AS (TUMBLING 1 MINUTE ON q.at);",
		"SELECT COUNT(*) AS n FROM reads GROUP BY w WINDOW w AS (TUMBLING 1 MINUTE ON mat);",
	} {
		if _, err := bind(t, query); err == nil || !strings.Contains(err.Error(), "this is not the event time") {
			t.Errorf("%s: %v", query, err)
		}
	}
}

// TestRefusals: each wrong text has one error of its code, in its place.
func TestRefusals(t *testing.T) {
	for text, want := range map[string]string{
		"DECLARE SINK reads TO FILES 'x';":                                         "duplicate-name 14",
		"DECLARE STREAM s (a INT, a INT) FROM FILES 'x';":                          "duplicate-name 26",
		"DECLARE STREAM s (a INT AS (1)) FROM FILES 'x';":                          "wrong-place 16",
		"DECLARE STREAM s (a INT, b INT AS (a || 'x')) FROM FILES 'x';":            "wrong-type 36",
		"DECLARE STREAM s (a INT) EVENT TIME b FROM FILES 'x';":                    "unknown-name 37",
		"DECLARE STREAM s (a INT) FROM FILES '';":                                  "bad-option 37",
		"DECLARE STREAM s (a INT) FROM MARIADB 'x';":                               "unknown-name 31",
		"DECLARE STREAM s (a INT) FROM FILS 'x';":                                  "unknown-name 31",
		"DECLARE STREAM s (a INT) FROM FILES 'x' VIA e;":                           "wrong-place 45",
		"DECLARE SINK s TO MARIADB 'x' VIA e;":                                     "unknown-name 35",
		"DECLARE ENDPOINT e FILES 'x';":                                            "unknown-name 20",
		"DECLARE SINK s TO FILES 'x' (PARTS 1.5);":                                 "bad-option 30",
		"DECLARE SINK s TO FILES 'x' (PARTS 0);":                                   "bad-option 30",
		"DECLARE SINK s TO FILES 'x' (ROLL EVERY 5);":                              "bad-option 30",
		"DECLARE SINK s TO FILES 'x' (KEY chip);":                                  "bad-option 30",
		"DECLARE SINK s TO FILES 'x' (HEADER maybe);":                              "bad-option 30",
		"CREATE VIEW v AS SELECT chip FROM reads LIMIT 1;":                         "wrong-place 18",
		"CREATE VIEW v AS SELECT chip FROM v;":                                     "unknown-name 35",
		"SELECT chip FROM a;":                                                      "unknown-name 18",
		"WITH s AS (SELECT chip FROM reads) SELECT chip FROM s SINCE NOW;":         "wrong-place 61",
		"SELECT chip FROM (SELECT chip FROM reads) SINCE NOW;":                     "wrong-place 49",
		"SELECT chip FROM reads SINCE 'soon';":                                     "wrong-type 30",
		"SELECT chip FROM reads UNTIL 5 MINUTES;":                                  "wrong-type 30",
		"SELECT chip FROM reads LIMIT -1;":                                         "wrong-type 30",
		"SELECT reads.chp FROM reads;":                                             "unknown-name 14",
		"SELECT chip.x FROM reads;":                                                "wrong-type 13",
		"SELECT CASE WHEN weak THEN 1 ELSE 'x' END AS c FROM reads;":               "wrong-type 8",
		"SELECT CASE chip WHEN 1 THEN 2 END AS c FROM reads;":                      "wrong-type 23",
		"SELECT NOT chip FROM reads;":                                              "wrong-type 12",
		"SELECT chip IS TRUE FROM reads;":                                          "wrong-type 8",
		"SELECT rssi BETWEEN 'a' AND 2 FROM reads;":                                "wrong-type 21",
		"SELECT chip IN ('a', 2) FROM reads;":                                      "wrong-type 22",
		"SELECT CAST(device AS INT) FROM reads;":                                   "wrong-type 8",
		"SELECT read_at > 'soon' FROM reads;":                                      "wrong-type 8",
		"SELECT -chip FROM reads;":                                                 "wrong-type 8",
		"SELECT ROUND(chip) FROM reads;":                                           "wrong-type 8",
		"SELECT EXTRACT(CENTURY FROM read_at) FROM reads;":                         "wrong-type 8",
		"SELECT ROW_NUMBER() OVER (PARTITION BY mat ORDER BY read_at) FROM reads;": "unbounded 8",
		"SELECT chip FROM reads UNIQUE BY (device) WITHIN 1 MINUTE;":               "wrong-type 35",
		"SELECT SUM(rssi) OVER (PARTITION BY mat ORDER BY rssi RANGE INTERVAL '1' MINUTE PRECEDING) FROM reads;":                                     "unbounded 50",
		"SELECT SUM(rssi) OVER (PARTITION BY mat ORDER BY read_at RANGE 5 PRECEDING) FROM reads;":                                                    "wrong-type 64",
		"SELECT SUM(rssi) OVER (PARTITION BY mat ORDER BY read_at ROWS 5 PRECEDING) FROM reads;":                                                     "unbounded 8",
		"SELECT SUM(rssi) OVER (PARTITION BY mat ORDER BY read_at ROWS BETWEEN 1 FOLLOWING AND 1 PRECEDING FORGET AFTER 1 HOUR) FROM reads;":         "wrong-place 8",
		"SELECT SUM(rssi) OVER (PARTITION BY mat ORDER BY read_at ROWS 1 FOLLOWING FORGET AFTER 1 HOUR) FROM reads;":                                 "wrong-place 8",
		"SELECT SUM(rssi) OVER (PARTITION BY mat ORDER BY read_at ROWS BETWEEN CURRENT ROW AND UNBOUNDED PRECEDING FORGET AFTER 1 HOUR) FROM reads;": "wrong-place 8",
		"SELECT SUM(rssi) OVER (PARTITION BY mat ORDER BY read_at ROWS BETWEEN 2 PRECEDING AND UNBOUNDED FOLLOWING FORGET AFTER 1 HOUR) FROM reads;": "unbounded 8",
		"SELECT SUM(rssi) OVER (PARTITION BY mat ORDER BY read_at RANGE BETWEEN UNBOUNDED PRECEDING AND INTERVAL '1' SECOND PRECEDING) FROM reads;":  "unbounded 8",
		"SELECT LAG(rssi, -1) OVER (PARTITION BY mat ORDER BY read_at FORGET AFTER 1 HOUR) FROM reads;":                                              "wrong-place 8",
		"SELECT UPPER(mat) OVER (PARTITION BY mat ORDER BY read_at FORGET AFTER 1 HOUR) FROM reads;":                                                 "wrong-place 8",
		"SELECT SUM(rssi) OVER v FROM reads;": "unknown-name 23",
		"SELECT mat FROM reads WHERE ROW_NUMBER() OVER (PARTITION BY mat ORDER BY read_at FORGET AFTER 1 HOUR) = 1;":                         "wrong-place 29",
		"SELECT mat FROM reads GROUP BY mat, w WINDOW w AS (SLIDING 1 MINUTE EVERY 2 MINUTES);":                                              "bad-option 46",
		"SELECT mat FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 HOUR AT TIME ZONE 'Europe/Rome');":                                    "bad-option 81",
		"SELECT mat FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 DAY AT TIME ZONE 'Nowhere');":                                         "bad-option 80",
		"SELECT mat FROM reads GROUP BY mat, w WINDOW w AS (SESSION GAP 1 HOUR MAX 1 MINUTE);":                                               "bad-option 46",
		"SELECT mat FROM reads GROUP BY mat, w FORGET AFTER 1 HOUR WINDOW w AS (TUMBLING 1 DAY);":                                            "wrong-place 32",
		"SELECT u FROM reads CROSS JOIN UNNEST(mat) AS u(x);":                                                                                "wrong-type 39",
		"SELECT u.x FROM reads LEFT JOIN UNNEST(SPLIT(mat, ' ')) AS u(x) ON TRUE;":                                                           "wrong-place 23",
		"CREATE JOB j AS SELECT mat, COUNT(*) AS n FROM reads GROUP BY mat FORGET AFTER 1 HOUR ROUTE TO a;":                                  "misfit 96",
		"CREATE JOB j AS SELECT mat, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE LATENESS 1 MINUTE) ROUTE TO a;": "misfit 129",
		"CREATE JOB j WITH x AS (SELECT mat, w.opens AS o, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE LATENESS 1 MINUTE)), y AS (SELECT o, LAST_VALUE(n) AS n FROM x GROUP BY o, v WINDOW v AS (TUMBLING 1 HOUR LATENESS 1 MINUTE)) ROUTE y TO a;": "misfit 207",
		"CREATE JOB j WITH x AS (SELECT mat, w.opens AS o, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE LATENESS 1 MINUTE)), y AS (SELECT o, SUM(n) AS n FROM x GROUP BY o, v WINDOW v AS (TUMBLING 1 HOUR)) ROUTE y TO a;":                          "misfit 200",
		"CREATE JOB j AS SELECT chip FROM reads ROUTE TO a ROUTE LATE j TO a;":                                     "wrong-place 62",
		"CREATE JOB j AS SELECT chip FROM reads ROUTE TO a ROUTE REJECTED read TO a;":                              "unknown-name 66",
		"SELECT chip FROM reads UNION ALL SELECT mat, chip FROM reads;":                                            "misfit 34",
		"SELECT LISTAGG(mat, chip) FROM reads GROUP BY w WINDOW w AS (TUMBLING 1 DAY);":                            "wrong-type 8",
		"SELECT FIRST_VALUE(DISTINCT mat) FROM reads GROUP BY w WINDOW w AS (TUMBLING 1 DAY);":                     "wrong-type 8",
		"SELECT COUNT(*) FILTER (WHERE chip) FROM reads GROUP BY w WINDOW w AS (TUMBLING 1 DAY);":                  "wrong-type 31",
		"SELECT UPPER(chip) FILTER (WHERE weak) FROM reads;":                                                       "wrong-place 8",
		"SELECT JSON_VALUE(chip, 'a.b') FROM reads;":                                                               "wrong-type 8",
		"SELECT chip LIKE_REGEX '(' FROM reads;":                                                                   "wrong-type 24",
		"SELECT chip LIKE 'x' ESCAPE 'ab' FROM reads;":                                                             "wrong-type 29",
		"SELECT read_at AT TIME ZONE 'Nowhere' FROM reads;":                                                        "wrong-type 8",
		"SELECT chip[1] FROM reads;":                                                                               "wrong-type 8",
		"SELECT q.* FROM reads;":                                                                                   "unknown-name 8",
		"SELECT chip WITHIN 1 HOUR OF read_at FROM reads;":                                                         "wrong-type 8",
		"CREATE FUNCTION upper(x INT) RETURNS INT LANGUAGE javascript AS 'return x';":                              "duplicate-name 17",
		"CREATE FUNCTION f(x INT) RETURNS INT LANGUAGE javascript AS 'return (';":                                  "syntax 61",
		"CREATE FUNCTION f(x INT) RETURNS INT LANGUAGE cobol AS 'x';":                                              "unknown-name 47",
		"DECLARE TABLE tb (a INT) FROM FILES 'x';":                                                                 "wrong-place 15",
		"DECLARE STREAM z FROM FILES 'x';":                                                                         "wrong-place 16",
		"DECLARE TABLE z COLUMNS SAMPLED FROM FILES 'x';":                                                          "wrong-place 15",
		"SELECT * FROM reads GROUP BY w WINDOW w AS (TUMBLING 1 DAY);":                                             "not-grouped 8",
		"SELECT device FROM reads GROUP BY device, w WINDOW w AS (TUMBLING 1 DAY);":                                "wrong-type 35",
		"SELECT w.middle FROM reads GROUP BY w WINDOW w AS (TUMBLING 1 DAY);":                                      "unknown-name 10",
		"SELECT mat FROM reads GROUP BY mat WINDOW w AS (TUMBLING 1 DAY);":                                         "unbounded 32",
		"SELECT mat FROM reads HAVING COUNT(*) > 1;":                                                               "unbounded 8",
		"CREATE JOB j WITH reads AS (SELECT chip FROM reads) ROUTE reads TO a;":                                    "duplicate-name 19",
		"CREATE JOB j WITH s AS (SELECT chip FROM reads), s AS (SELECT mat FROM reads) ROUTE s TO a;":              "duplicate-name 50",
		"CREATE JOB j WITH s AS (SELECT chip FROM reads), u AS (SELECT mat FROM reads) ROUTE s TO a ROUTE u TO a;": "misfit 103",
		"CREATE JOB j AS SELECT chip FROM reads ROUTE WHERE chip TO a;":                                            "wrong-type 52",
		"CREATE JOB j AS SELECT chip FROM reads ROUTE TO a SET (PARALLELISM 0);":                                   "bad-option 56",
		"CREATE JOB j AS SELECT chip FROM reads ROUTE TO a SET (CHECKPOINT EVERY 5 MILLISECONDS);":                 "bad-option 56",
		"CREATE JOB j WITH s AS (SELECT chip FROM reads) ROUTE reads TO a;":                                        "unknown-name 55",
	} {
		_, err := bind(t, text)
		var e *sql.Errors
		switch {
		case !errors.As(err, &e) || len(e.List) != 1:
			t.Errorf("%s\n%v", text, err)
		default:
			if got := string(e.List[0].Code) + " " + strconv.Itoa(e.List[0].Column); got != want {
				t.Errorf("%s\n%s, wanted %s: %s", text, got, want, e.List[0].Message)
			}
		}
	}
}

func TestDurations(t *testing.T) {
	for d, want := range map[int64]string{0: "0 SECONDS", types.Second: "1 SECOND", 90 * types.Minute: "1 HOUR 30 MINUTES", 2*types.Day + 5*types.Millisecond: "2 DAYS 5 MILLISECONDS"} {
		if got := sql.DurationText(d); got != want {
			t.Errorf("%d: %s, wanted %s", d, got, want)
		}
	}
}

// TestDiffers: which outputs may get other rows when input is read again, and why.
func TestDiffers(t *testing.T) {
	const declared = `DECLARE STREAM s (k VARCHAR, n BIGINT, at TIMESTAMP) EVENT TIME at DELAY 5 SECONDS AHEAD 0 SECONDS FROM TOPIC 's';
		DECLARE STREAM i (k VARCHAR, n BIGINT, at TIMESTAMP) EVENT TIME at DELAY 5 SECONDS IDLE AFTER 5 SECONDS FROM TOPIC 's';
		DECLARE ENDPOINT db MARIADB 'u@h:1/d'; DECLARE STREAM c (k VARCHAR, n BIGINT) FROM MARIADB 'c' VIA db (CHANGES true);
		DECLARE TABLE e (k VARCHAR PRIMARY KEY, v BIGINT) FROM TOPIC 'e';
		DECLARE TABLE t (k VARCHAR PRIMARY KEY, v BIGINT, at TIMESTAMP) EVENT TIME at FROM TOPIC 't'; DECLARE SINK o TO TOPIC 'o' (KEY (k, opens), CHANGES full); DECLARE SINK o2 TO TOPIC 'o2';`
	const window = "SELECT k, w.opens AS opens, COUNT(*) AS c FROM %s GROUP BY k, w WINDOW w AS (TUMBLING 10 SECONDS%s)"
	for _, c := range []struct{ query, route, want string }{
		{"SELECT k, n AS opens FROM s WHERE n > 1", "", ""},
		{"SELECT k, n AS opens FROM i WHERE n > 1", "", ""},
		{"SELECT k, n AS opens FROM c WHERE n > 1", "", "what c gave before a checkpoint may not come again as it was"},
		{"SELECT k, CURRENT_TIMESTAMP AS opens FROM s", "", "depends on the clock"},
		{fmt.Sprintf(window, "s", ""), "", ""},
		{fmt.Sprintf(window, "i", ""), "", "a part of i counts as idle"},
		{fmt.Sprintf(window, "s", " REPORT ON CHANGE"), "", "are replaced by and by"},
		{fmt.Sprintf(window, "s", " LATENESS 5 SECONDS"), "ROUTE LATE x TO o2", ""},
		{"SELECT s.k, e.v AS opens FROM s JOIN e ON e.k = s.k", "", "asks the table e as it is at the moment"},
		{"SELECT s.k, t.v AS opens FROM s LEFT JOIN t AS OF s.at ON t.k = s.k", "", "when the table t counts as quiet"},
		{"SELECT a.k, b.n AS opens FROM s a JOIN s b ON b.k = a.k AND b.at WITHIN 5 SECONDS OF a.at", "", ""},
	} {
		p, err := bindJob(declared + "CREATE JOB j WITH x AS (" + c.query + ") ROUTE x TO o " + c.route + ";")
		if err != nil {
			t.Fatalf("%s: %v", c.query, err)
		}
		outs := p.Outputs()
		if got := outs[len(outs)-1].Differs; (c.want == "") != (got == "") || !strings.Contains(got, c.want) {
			t.Errorf("%s: %q, wanted %q", c.query, got, c.want)
		}
	}
}

// TestKeys: which changes of a text leave the state of its steps what it is.
func TestKeys(t *testing.T) {
	const declared = `DECLARE STREAM s (k VARCHAR, n BIGINT, m BIGINT, at TIMESTAMP) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 's';
		DECLARE SINK o TO TOPIC 'o'; DECLARE SINK p TO TOPIC 'p';`
	job := func(text string) *Plan {
		t.Helper()
		p, err := bindJob(declared + "CREATE JOB j WITH " + text + ";")
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	const a = "a AS (SELECT k, n + 1 AS more, at FROM s WHERE n > 3), "
	const b = "b AS (SELECT k, w.opens AS o, SUM(more) AS t FROM a GROUP BY k, w WINDOW w AS (TUMBLING 10 SECONDS)) "
	old := job(a + b + "ROUTE b TO o")
	for _, c := range []struct{ text, want string }{
		{a + b + "ROUTE b TO o, p", "kept stream s; kept window b; kept sink o; new sink p"},
		{a + b + "ROUTE b WHERE t > 5 TO p", "kept stream s; kept window b; new sink p; gone sink o"},
		{strings.Replace(a, "k, n + 1", "n + 2 AS other, k, n + 1", 1) + b + "ROUTE b TO o", "kept stream s; kept window b; kept sink o"},
		{strings.ReplaceAll(a+b, "more", "further") + "ROUTE b TO o", "kept stream s; kept window b; kept sink o"},
		{strings.Replace(a, "> 3", "> 4", 1) + b + "ROUTE b TO o", "kept stream s; afresh window b; kept sink o"},
		{strings.Replace(a, "n + 1", "n + 2", 1) + b + "ROUTE b TO o", "kept stream s; afresh window b; kept sink o"},
		{a + strings.Replace(b, "10 SECONDS", "20 SECONDS", 1) + "ROUTE b TO o", "kept stream s; afresh window b; kept sink o"},
		{a + strings.Replace(b, "SUM(more) AS t", "SUM(more) AS t, COUNT(*) AS c", 1) + "ROUTE b TO o", "kept stream s; afresh window b; kept sink o"},
		{"c AS (SELECT k FROM s) ROUTE c TO p", "kept stream s; new sink p; gone window b; gone sink o"},
	} {
		var got []string
		for _, x := range job(c.text).Changes(old) {
			got = append(got, x.What+" "+x.Kind+" "+x.Step)
		}
		if s := strings.Join(got, "; "); s != c.want {
			t.Errorf("%s\n%s\nwanted %s", c.text, s, c.want)
		}
	}
}

// bindJob binds a job over topics.
func bindJob(text string) (*Plan, error) {
	places := []Place{{Kind: "topic", Traits: Traits{Times: true, Again: true, Latest: true, WholeKey: true}, Source: []OptionSpec{}, Table: []OptionSpec{}, Sink: []OptionSpec{{Name: "key", Kind: NamesOption}, {Name: "changes", Kind: WordOption}}},
		{Kind: "mariadb", Traits: Traits{OfChanges: true}, Source: []OptionSpec{{Name: "changes", Kind: FlagOption}}, Endpoint: true}}
	plans, _, err := NewCatalog(places).Bind("t.sql", text, nil, nil)
	if err != nil {
		return nil, err
	}
	return plans[0], nil
}

// TestJoinBehindOver: a join keeps rows for as long as pairs may come, however far an OVER before it looks back.
func TestJoinBehindOver(t *testing.T) {
	cat := NewCatalog([]Place{{Kind: "memory", Source: []OptionSpec{}}})
	for frame, want := range map[string]string{
		"RANGE BETWEEN INTERVAL '90' DAYS PRECEDING AND CURRENT ROW":                    "the rows of o for 10 MINUTES 10 SECONDS of event time",
		"RANGE BETWEEN INTERVAL '90' DAYS PRECEDING AND INTERVAL '2' MINUTES FOLLOWING": "the rows of b for 12 MINUTES 10 SECONDS of event time",
	} {
		plans, _, err := cat.Clone().Bind("q", `DECLARE STREAM a (k VARCHAR, at TIMESTAMP, n BIGINT) EVENT TIME at DELAY 5 SECONDS FROM MEMORY 'x';
			DECLARE STREAM b (k VARCHAR, at TIMESTAMP, m BIGINT) EVENT TIME at DELAY 5 SECONDS FROM MEMORY 'y';
			WITH o AS (SELECT k, at, SUM(n) OVER (PARTITION BY k ORDER BY at `+frame+`) AS s FROM a)
			SELECT o.k, o.s, b.m FROM o JOIN b ON b.k = o.k AND b.at WITHIN 10 MINUTES OF o.at;`, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		if s := plans[0].Explain(0).String(); !strings.Contains(s, want) {
			t.Errorf("%s: lacks %q:\n%s", frame, want, s)
		}
	}
}
