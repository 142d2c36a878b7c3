package declare_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"fiume/internal/connect"
	"fiume/internal/core/sql"
	"fiume/internal/service/base"
	"fiume/internal/service/declare"
	"fiume/internal/service/servicetest"
)

func script(text string) declare.Script { return declare.Script{File: "test.sql", SQL: text} }

// did gives what statements did, as kind name done.
func did(out []declare.Outcome) (list []string) {
	for _, o := range out {
		list = append(list, strings.TrimSpace(o.Kind+" "+o.Name)+" "+o.Done)
	}
	return list
}

// TestDryRun: a dry run says of each script what applying it does then, and changes nothing.
func TestDryRun(t *testing.T) {
	p := servicetest.New(t)
	for _, text := range []string{
		servicetest.Reads,
		servicetest.Reads[strings.Index(servicetest.Reads, "DECLARE"):strings.Index(servicetest.Reads, "CREATE TOPIC strong")], // unchanged
		`CREATE TOPIC IF NOT EXISTS reads; CREATE TOPIC IF NOT EXISTS more;`,
		servicetest.Strong,
		servicetest.Strong,
		strings.Replace(servicetest.Strong, "CREATE JOB", "CREATE OR REPLACE JOB", 1),
		strings.Replace(strings.Replace(servicetest.Strong, "CREATE JOB", "CREATE OR REPLACE JOB", 1), "-60", "-70", 1),
		`CREATE VIEW near AS SELECT chip FROM reads WHERE rssi > -50; CREATE FUNCTION twice(n BIGINT) RETURNS BIGINT LANGUAGE javascript AS 'return n * 2';`,
		`CREATE OR REPLACE VIEW near AS SELECT chip, mat FROM reads WHERE rssi > -40;`,
		`DECLARE OR REPLACE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR, rssi DOUBLE, read_at TIMESTAMP NOT NULL, lap BIGINT) EVENT TIME read_at DELAY 5 SECONDS FROM TOPIC 'reads';`,
		`INSERT INTO reads VALUES ('A', 'km-05', -50, TIMESTAMP '2026-05-17 09:00:00', 1);`,
		`STOP JOB strong_reads;`, `START JOB strong_reads;`, `DROP VIEW near; DROP VIEW IF EXISTS near;`,
		`DROP JOB strong_reads; DROP SINK strong; DROP STREAM reads; DROP TOPIC strong; DROP TOPIC more;`,
	} {
		before := fmt.Sprint(p.Definitions.List(""), len(p.Topics.List()), p.Activity())
		dry, err := p.Definitions.Apply(t.Context(), "test", script(text), true)
		if err != nil {
			t.Fatalf("%s\n%v", text, err)
		}
		if after := fmt.Sprint(p.Definitions.List(""), len(p.Topics.List()), p.Activity()); after != before {
			t.Errorf("a dry run changes something:\n%s\n%s\n%s", text, before, after)
		}
		want := did(dry)
		for i := range want {
			want[i] = strings.ReplaceAll(want[i], "would be ", "")
		}
		got := did(p.Apply(text))
		if strings.Contains(text, "DROP VIEW IF EXISTS") {
			got[1] = want[1] // that it is gone by then is known when it is done
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s\ndry run: %q\ndone:    %q", text, want, got)
		}
	}
}

// TestAllOrNothing: where one statement is wrong, none is done, and all errors are given.
func TestAllOrNothing(t *testing.T) {
	p := servicetest.New(t)
	text := servicetest.Reads + `DECLARE SINK s TO TOPIC 'nowhere'; CREATE JOB j AS SELECT chip, nothing FROM reads ROUTE TO s; CREATE JOB k AS SELECT chip FROM reads ROUTE TO s;`
	p.Refused(text, "nothing", "there is no topic 'nowhere'")
	if defs, topics := p.Definitions.List(""), p.Topics.List(); len(defs) != 0 || len(topics) != 0 {
		t.Errorf("%+v %+v", defs, topics)
	}
	if log := p.Activity(); len(log) != 0 {
		t.Errorf("%q", log)
	}
}

// TestRecordsFail: a script during which records fail says how far it came; what is declared is what is kept.
func TestRecordsFail(t *testing.T) {
	p := servicetest.New(t)
	puts := 0
	p.Records.Fail = func(call string) error {
		if call != "PutDefinition" {
			return nil
		}
		if puts++; puts == 2 {
			return errors.New("the database is away")
		}
		return nil
	}
	out, err := p.Definitions.Apply(t.Context(), "test", script(servicetest.Reads+servicetest.Strong), false)
	p.Says(err, "the database is away")
	if got := did(out); !slices.Equal(got, []string{"topic reads created", "stream reads declared", "topic strong created"}) {
		t.Errorf("%q", got)
	}
	q := p.Restart()
	if got := q.Definitions.List(""); len(got) != 1 || got[0].Name != "reads" {
		t.Errorf("%+v", got)
	}
	// The same script, with IF NOT EXISTS, goes through then.
	again := strings.ReplaceAll(servicetest.Reads+servicetest.Strong, "CREATE TOPIC ", "CREATE TOPIC IF NOT EXISTS ")
	if got := did(q.Apply(again)); !slices.Equal(got, []string{"topic reads unchanged", "stream reads unchanged", "topic strong unchanged", "sink strong declared", "job strong_reads created"}) {
		t.Errorf("%q", got)
	}
}

// TestUsers: what is used says by whom, and cannot be dropped; dropped in the right order it can.
func TestUsers(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(servicetest.Reads + `
		CREATE FUNCTION near(rssi DOUBLE) RETURNS BOOLEAN LANGUAGE javascript AS 'return rssi > -60';
		CREATE TOPIC entrants; DECLARE TABLE entrants (chip VARCHAR PRIMARY KEY, name VARCHAR) FROM TOPIC 'entrants';
		CREATE VIEW nearby AS SELECT r.chip, r.mat, e.name FROM reads r JOIN entrants e ON e.chip = r.chip WHERE near(r.rssi);
		CREATE VIEW names AS SELECT name FROM nearby;
		CREATE JOB naming AS SELECT name FROM names ROUTE TO strong;`)
	for statement, users := range map[string][]string{
		"DROP STREAM reads;":   {`the stream "reads" is used by`, "the view nearby"},
		"DROP TABLE entrants;": {"the view nearby"},
		"DROP VIEW nearby;":    {"the view names"},
		"DROP VIEW names;":     {"the job naming"},
		"DROP SINK strong;":    {"the job naming"},
		"DROP FUNCTION near;":  {"the view nearby"},
		"DROP TOPIC strong;":   {"the job naming"},
		"DROP TOPIC reads;":    {"the job naming"},
	} {
		p.Refused(statement, users...)
	}
	p.Says(p.Definitions.DropTopic("a", "strong"), "is used by the job naming")
	p.Refused("DROP STREAM read;", `no stream is called "read"`, "did you mean", "reads")
	p.Refused("DROP JOB name;", `no job is called "name"`)
	p.Refused("DROP TOPIC entrant;", `no topic is called "entrant"`)
	p.Apply("DROP JOB naming; DROP VIEW names; DROP VIEW nearby; DROP FUNCTION near; DROP SINK strong; DROP TABLE entrants; DROP STREAM reads; DROP TOPIC reads; DROP TOPIC strong; DROP TOPIC entrants;")
	if defs, topics := p.Definitions.List(""), p.Topics.List(); len(defs) != 0 || len(topics) != 0 {
		t.Errorf("%+v %+v", defs, topics)
	}
}

// TestDescribe tells about everything that has a name.
func TestDescribe(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(servicetest.Reads + servicetest.Strong + `CREATE VIEW near AS SELECT chip FROM reads WHERE rssi > -50;
		CREATE TOPIC entrants; DECLARE TABLE entrants (chip VARCHAR PRIMARY KEY, name VARCHAR) FROM TOPIC 'entrants';
		CREATE FUNCTION twice(n BIGINT) RETURNS BIGINT LANGUAGE javascript AS 'return n * 2';`)
	for name, want := range map[string][]string{
		"reads": {"stream", "EVENT TIME read_at", "used by the job strong_reads, the view near", "event time"}, "entrants": {"table", "key"}, "near": {"view", "rssi > -50"},
		"strong": {"sink", "used by the job strong_reads"}, "strong_reads": {"job", "ROUTE TO strong"}, "twice": {"function", "return n * 2"},
	} {
		o, err := p.Definitions.Describe(name)
		if err != nil {
			t.Error(err)
		}
		all := o.Kind + " " + o.Note + " " + fmt.Sprint(o.Rows)
		for _, w := range want {
			if !strings.Contains(all, w) {
				t.Errorf("what is said of %s has no %q: %s", name, w, all)
			}
		}
	}
	d, err := p.Definitions.Get("reads")
	if err != nil || d.Place != "topic" || d.Address != "reads" || d.EventTime != "read_at" || len(d.Columns) != 4 || !slices.Equal(d.Users, []string{"the job strong_reads", "the view near"}) {
		t.Errorf("%+v %v", d, err)
	}
	if d, err := p.Definitions.Get("near"); err != nil || len(d.Columns) != 1 || d.Columns[0].Name != "chip" {
		t.Errorf("%+v %v", d, err)
	}
	if _, err := p.Definitions.Get("strong_reads"); err == nil {
		t.Error("a job is something declared")
	}
	_, err = p.Definitions.Describe("red")
	p.Says(err, `nothing is called "red"`)
	_, err = p.Definitions.DescribeFunction("twicee")
	p.Says(err, `did you mean "twice"?`)
	for kind, rows := range map[string]int{"STREAMS": 1, "TABLES": 1, "SINKS": 1, "VIEWS": 1, "JOBS": 1, "TOPICS": 3, "PLACES": len(connect.Places())} {
		out := p.Apply("SHOW " + kind + ";")
		if len(out) != 1 || len(out[0].Rows) != rows || len(out[0].Columns) == 0 {
			t.Errorf("SHOW %s: %+v", kind, out)
		}
	}
	if out := p.Apply("EXPLAIN JOB strong_reads; EXPLAIN SELECT chip FROM reads; DESCRIBE FUNCTION twice;"); out[0].Plan == nil || out[1].Plan == nil || !strings.Contains(out[2].Note, "twice") {
		t.Errorf("%+v", out)
	}
	o := p.Apply("DESCRIBE PLACE Topic;")[0]
	key := slices.IndexFunc(o.Rows, func(r []string) bool { return r[0] == "KEY" })
	format := slices.IndexFunc(o.Rows, func(r []string) bool { return r[0] == "FORMAT" })
	if key < 0 || o.Rows[key][1] != "sink" || o.Rows[key][2] != "(name, …)" || format < 0 || !strings.Contains(o.Rows[format][1], "stream, table") || !strings.Contains(o.Note, "built-in topic") {
		t.Errorf("%+v", o)
	}
	for _, row := range append(slices.Clone(o.Rows), append(p.Apply("DESCRIBE PLACE files;")[0].Rows, p.Apply("DESCRIBE PLACE mariadb;")[0].Rows...)...) {
		if row[3] == "" {
			t.Errorf("of the option %s nothing is said", row[0])
		}
	}
	_, err = p.Definitions.DescribePlace("topc")
	p.Says(err, "TOPC is no place", "topic")
	if f := p.Definitions.Functions(); len(f) < 50 || f[0].Name != "twice" {
		t.Errorf("%d functions, the first %+v", len(f), f[0])
	}
	words := p.Definitions.Words(t.Context())
	var names []string
	for _, n := range words.Names {
		names = append(names, n.Kind+" "+n.Name)
	}
	for _, w := range []string{"stream reads", "table entrants", "view near", "sink strong", "job strong_reads", "topic reads"} {
		if !slices.Contains(names, w) {
			t.Errorf("completion has no %q: %q", w, names)
		}
	}
	if len(words.Keywords) < 50 || len(words.Patterns) == 0 || !strings.Contains(words.Patterns[0].SQL, "reads") {
		t.Errorf("%+v", words.Patterns)
	}
}

// TestEvolve: a stream that is used changes with its jobs, or not at all.
func TestEvolve(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(servicetest.Reads + servicetest.Strong)
	p.Write("reads", `{"chip":"A","mat":"m","rssi":-50,"read_at":"2026-05-17T09:00:00Z","lap":1}`)
	p.Wait("a row", func() bool { return len(p.Values("strong")) == 1 })
	wide := `DECLARE OR REPLACE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR, rssi DOUBLE, read_at TIMESTAMP NOT NULL, lap BIGINT%s) EVENT TIME read_at DELAY 5 SECONDS FROM TOPIC 'reads';`
	out := p.Apply(fmt.Sprintf(wide, ""))
	if len(out[0].Jobs) != 1 || out[0].Jobs[0].Job != "strong_reads" || len(out[0].Jobs[0].Changes) == 0 {
		t.Errorf("%+v", out)
	}
	for text, why := range map[string]string{
		fmt.Sprintf(wide, " NOT NULL"):                                                                                   "lap",
		strings.Replace(fmt.Sprintf(wide, ""), "rssi DOUBLE, ", "", 1):                                                   "rssi",
		strings.Replace(fmt.Sprintf(wide, ""), "rssi DOUBLE", "rssi VARCHAR", 1):                                         "rssi",
		strings.Replace(fmt.Sprintf(wide, ""), "FROM TOPIC 'reads'", "FROM TOPIC 'strong'", 1):                           "strong",
		`CREATE OR REPLACE JOB strong_reads AS SELECT chip, lap2 FROM reads ROUTE TO strong;`:                            "lap2",
		`CREATE JOB strong_reads AS SELECT chip, lap FROM reads ROUTE TO strong;`:                                        "CREATE OR REPLACE JOB",
		`DECLARE OR REPLACE SINK strong TO TOPIC 'strong' (FORMAT csv);`:                                                 "is used by the job strong_reads",
		`CREATE JOB a AS SELECT chip FROM reads ROUTE TO strong; CREATE JOB a AS SELECT mat FROM reads ROUTE TO strong;`: "there twice",
	} {
		p.Refused(text, why)
	}
	p.Apply(`CREATE OR REPLACE JOB strong_reads AS SELECT chip, lap FROM reads WHERE rssi > -60 ROUTE TO strong SET (CHECKPOINT EVERY 100 MILLISECONDS);`)
	p.Write("reads", `{"chip":"B","mat":"m","rssi":-50,"read_at":"2026-05-17T09:00:01Z","lap":2}`)
	p.Wait("a row of the new version", func() bool { return slices.Contains(p.Values("strong"), `{"chip":"B","lap":2}`) })
	if got := p.Values("strong"); len(got) != 2 {
		t.Errorf("%q", got)
	}
	vs, err := p.Jobs.Versions("strong_reads")
	if err != nil || len(vs) < 2 {
		t.Fatal(vs, err)
	}
	if _, err := p.Definitions.Revert(t.Context(), "ada", "strong_reads", 0); err != nil {
		t.Fatal(err)
	}
	p.Write("reads", `{"chip":"C","mat":"m","rssi":-50,"read_at":"2026-05-17T09:00:02Z"}`)
	p.Wait("a row of the version before", func() bool { return slices.Contains(p.Values("strong"), `{"chip":"C","mat":"m"}`) })
	_, err = p.Definitions.Revert(t.Context(), "ada", "strong_reads", 99)
	p.Says(err, "has no version 99")
	_, err = p.Definitions.Revert(t.Context(), "ada", "strong", 0)
	p.Says(err, `no job is called "strong"`)
}

// TestInsert: rows of INSERT are read as they are written, or are refused.
func TestInsert(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(`CREATE TOPIC a (PARTITIONS 1); DECLARE STREAM a (s VARCHAR, n BIGINT, d DECIMAL(6, 2), l ARRAY(VARCHAR), x JSON) FROM TOPIC 'a';
		DECLARE STREAM lines (line VARCHAR) FROM TOPIC 'a' (FORMAT text); DECLARE STREAM gone (n BIGINT) FROM TOPIC 'gone'; DECLARE SINK out TO TOPIC 'a';`)
	p.Apply(`INSERT INTO a VALUES ('größe "q"', 9223372036854775807, 12.30, ARRAY['x', NULL], NULL), (NULL, NULL, NULL, NULL, NULL);`)
	if got := p.Values("a"); len(got) != 2 || !strings.Contains(strings.Join(got, "\n"), `"n":9223372036854775807`) {
		t.Errorf("%q", got)
	}
	p.Refused(`INSERT INTO gone VALUES (1);`, "'gone', which is not there", "CREATE TOPIC")
	p.Refused("INSERT INTO lines VALUES ('two\nlines');", "line")
	p.Refused(`INSERT INTO a VALUES (1, 2);`, "column")
	p.Refused(`INSERT INTO out VALUES (1);`, "out")
	if got := p.Values("a"); len(got) != 2 {
		t.Errorf("a refused INSERT wrote: %q", got)
	}
	// A topic that comes with the script may be written to.
	if out := p.Apply(`CREATE TOPIC gone; INSERT INTO gone VALUES (1), (2);`); out[1].Note != "2 rows to the topic 'gone'" {
		t.Errorf("%+v", out)
	}
}

// TestDirectories: a directory of part files has one writer.
func TestDirectories(t *testing.T) {
	p := servicetest.New(t)
	if err := os.MkdirAll(filepath.Join(p.Base.Dir, "files"), 0o755); err != nil {
		t.Fatal(err)
	}
	p.Apply(servicetest.Reads + `DECLARE SINK f TO FILES 'out'; DECLARE SINK g TO FILES './out/'; DECLARE SINK h TO FILES 'other';
		CREATE JOB a AS SELECT chip FROM reads ROUTE TO f;`)
	p.Refused(`CREATE JOB b AS SELECT chip FROM reads ROUTE TO g;`, `the job "a" writes into the directory`)
	p.Refused(`CREATE JOB b AS SELECT chip FROM reads ROUTE TO h, g;`, `the job "a" writes into the directory`)
	p.Refused(`CREATE JOB a AS SELECT chip FROM reads ROUTE TO f;
		CREATE JOB c AS SELECT mat FROM reads ROUTE TO f, g;`, `both write into the directory`)
	p.Apply(`CREATE JOB b AS SELECT chip FROM reads ROUTE TO h; DROP JOB a; CREATE JOB c AS SELECT chip FROM reads ROUTE TO g;`)
}

// TestCheck finds errors without a look at what is outside, and lays texts out.
func TestCheck(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(servicetest.Reads)
	c := p.Definitions.Check(t.Context(), script("SELECT chip, COUNT(*) AS n FROM reads GROUP BY chip FORGET AFTER 1 HOUR;\nCREATE JOB j AS SELECT chip FROM reads ROUTE TO strong;\nCREATE TOPIC new_one;"))
	if !c.OK || len(c.Statements) != 3 || c.Statements[0].Plan == nil || len(c.Statements[0].Fields) != 3 || c.Statements[1].Name != "j" || c.Statements[1].Line != 2 || c.Statements[1].Plan == nil {
		t.Errorf("%+v", c)
	}
	c = p.Definitions.Check(t.Context(), script("SELECT nothing FROM reads;\nSELEC;\nDROP STREAM x;"))
	if c.OK || len(c.Errors) != 3 {
		t.Errorf("%+v", c.Errors)
	}
	if text, err := p.Definitions.Formatted(script("select   chip from reads where rssi>-60;")); err != nil || !strings.HasPrefix(text, "SELECT chip") {
		t.Errorf("%q %v", text, err)
	}
	if _, err := p.Definitions.Formatted(script("select from;")); err == nil {
		t.Error("a text that cannot be read is laid out")
	}
	for _, c := range []base.Column{{Name: "a", Type: "ARRAY(ROW(x BIGINT))"}, {Name: "b", Type: "DECIMAL(9, 2)"}} {
		if f, err := declare.FieldsOf([]base.Column{c}); err != nil || f[0].Type.String() != c.Type {
			t.Errorf("%+v: %+v %v", c, f, err)
		}
	}
	if _, err := declare.FieldsOf([]base.Column{{Name: "a", Type: "NUMBER"}}); !errors.Is(err, base.ErrRefused) {
		t.Error(err)
	}
	p.Refused("SELECT chip FROM reads;", "a bare SELECT is a live query")
	p.Refused("START JOB j FROM 5;", "expected BEGINNING, CHECKPOINT n or TIMESTAMP")
	p.Refused("DECLARE SINK "+strings.Repeat("x", 200)+" TO TOPIC 'strong';", "a name has up to 190 letters")
	_, err := p.Definitions.Apply(t.Context(), "a", declare.Script{SQL: servicetest.Strong, Begin: "yesterday"}, true)
	p.Says(err, "begin: ")
}

// TestAtOnce has many declare, replace and drop at the same time: in the end what is declared is what is kept, in a new
// process, too.
func TestAtOnce(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(servicetest.Reads)
	var wg sync.WaitGroup
	for k := range 6 {
		wg.Go(func() {
			for i := range 15 {
				n := (k + i) % 4
				for _, text := range []string{
					fmt.Sprintf("CREATE OR REPLACE VIEW v%d AS SELECT chip, %d AS n FROM reads;", n, 100*k+i),
					fmt.Sprintf("DROP VIEW IF EXISTS v%d;", (n+1)%4),
				} {
					if _, err := p.Definitions.Apply(t.Context(), "a", script(text), false); err != nil {
						t.Error(err)
					}
					p.Definitions.Words(t.Context())
					p.Definitions.Check(t.Context(), script("SELECT * FROM reads;"))
				}
			}
		})
	}
	wg.Wait()
	now := fmt.Sprint(p.Definitions.Words(t.Context()).Names)
	texts := map[string]string{}
	for _, d := range p.Definitions.List("view") {
		texts[d.Name] = d.SQL
	}
	q := p.Restart()
	if then := fmt.Sprint(q.Definitions.Words(t.Context()).Names); then != now {
		t.Errorf("before a restart: %s\nbehind: %s", now, then)
	}
	for _, d := range q.Definitions.List("view") {
		if texts[d.Name] != d.SQL {
			t.Errorf("%s was %s, and is %s", d.Name, texts[d.Name], d.SQL)
		}
	}
}

// TestAlterTopic: a topic gets partitions, never fewer, and what would be done is said before.
func TestAlterTopic(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(`CREATE TOPIC reads (PARTITIONS 2);`)
	for _, x := range []struct{ text, done, would string }{
		{"ALTER TOPIC reads (PARTITIONS 5);", "altered", "would be altered"}, {"ALTER TOPIC reads (PARTITIONS 5);", "unchanged", "unchanged"},
		{"CREATE TOPIC late; ALTER TOPIC late (PARTITIONS 6);", "altered", "would be altered"},
	} {
		out, err := p.Definitions.Apply(t.Context(), "test", declare.Script{File: "x", SQL: x.text}, true)
		if err != nil || out[len(out)-1].Done != x.would {
			t.Errorf("%s: %+v %v", x.text, out, err)
		}
		if out := p.Apply(x.text); out[len(out)-1].Done != x.done {
			t.Errorf("%s: %+v", x.text, out)
		}
	}
	for name, n := range map[string]int{"reads": 5, "late": 6} {
		if got := len(p.Base.TopicLog.Topic(name).Partitions()); got != n {
			t.Errorf("%s has %d partitions", name, got)
		}
	}
	p.Refused("ALTER TOPIC reads (PARTITIONS 3);", "their messages would be gone")
	p.Refused("ALTER TOPIC reeds (PARTITIONS 9);", "did you mean 'reads'")
	p.Refused("ALTER TOPIC reads (RETAIN 1 DAY);", "has no option RETAIN")
	p.Refused("DECLARE ENDPOINT pond LAKE '/tmp/pond'; DECLARE SINK k TO LAKE 'a.b' VIA pond (FORMAT delta);", "LAKE has no option FORMAT", "it stands in DECLARE ENDPOINT … LAKE")
	p.Refused("ALTER TOPIC reads (PARTITIONS 1001);", "1 to 1000")
	p.Refused("ALTER STREAM reads;", "expected TOPIC")
}

// TestDraw: a text and its drawing come with what is known of each step, also of what the text itself declares; what is wrong with one is said of it, and of those behind it in
// other words.
func TestDraw(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(`CREATE TOPIC reads; DECLARE STREAM reads (chip VARCHAR, rssi DOUBLE, device ROW(serial VARCHAR), at TIMESTAMP) EVENT TIME at FROM TOPIC 'reads';`)
	d, err := p.Definitions.Draw(t.Context(), `DECLARE TABLE people (chip VARCHAR PRIMARY KEY, name VARCHAR) FROM TOPIC 'reads'; DECLARE SINK out TO TOPIC 'reads';
		create job j with a as (select r.chip, p.name, r.rssi from reads r left join people p on p.chip = r.chip), b as (select nme from a), c as (select chip, rssi as power from a) route c to out;`, nil)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(d.SQL, "CREATE JOB j\n") || len(d.Steps) != 3 || len(d.Sources) != 2 || fmt.Sprint(d.Sinks) != "[out]" {
		t.Fatalf("%+v", d)
	}
	if c := d.Steps[0].Columns; fmt.Sprint(c) != "[{chip VARCHAR false} {name VARCHAR false} {rssi DOUBLE false}]" {
		t.Errorf("%v", c)
	}
	if x := d.Steps[1]; !strings.Contains(x.Problem, `unknown column "nme"`) || !strings.Contains(x.Problem, "did you mean") || len(x.Columns) != 0 {
		t.Errorf("%+v", x)
	}
	if c := d.Steps[2].Columns; fmt.Sprint(c) != "[{chip VARCHAR false} {power DOUBLE false}]" {
		t.Errorf("%v", c)
	}
	// The drawing, changed and sent back.
	d.Drawing.Steps[0].Query, d.Drawing.Steps[0].Blocks[0].Where = "", []sql.Condition{{Expr: "r.rssi > 'x'"}}
	if d, err = p.Definitions.Draw(t.Context(), "", d.Drawing); err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(d.SQL, "WHERE r.rssi > 'x'") || d.Steps[0].Problem == "" || d.Steps[2].Problem != "the step a before it is not right yet" {
		t.Errorf("%s\n%+v", d.SQL, d.Steps)
	}
	d.Drawing.Steps[0].Query, d.Drawing.Steps[0].Blocks[0].Where = "", []sql.Condition{{Expr: "r.rssi >"}}
	if _, err = p.Definitions.Draw(t.Context(), "", d.Drawing); !errors.Is(err, base.ErrRefused) || !strings.Contains(err.Error(), "the step a: the condition 1") {
		t.Error(err)
	}
	if _, err = p.Definitions.Draw(t.Context(), "WITH a AS (SELECT chip FROM reads)"+strings.Repeat(", a AS (SELECT chip FROM reads)", 1000)+" SELECT * FROM a;", nil); !errors.Is(err, base.ErrRefused) {
		t.Error(err)
	}
	if _, err = p.Definitions.Draw(t.Context(), "SELECT chip FROM", nil); err == nil {
		t.Error("half a text was drawn")
	}
	if d, err = p.Definitions.Draw(t.Context(), "", nil); err != nil || len(d.Steps) != 0 || d.Sources[0].Name != "reads" {
		t.Errorf("%+v %v", d, err)
	}
	if c := d.Sources[0].Columns; fmt.Sprint(c[2:4]) != "[{device ROW(serial VARCHAR) false} {device.serial VARCHAR false}]" {
		t.Errorf("%v", c)
	}
}

// TestPatterns: texts to begin from are right as they stand, whatever they are made over, and nothing is in them that is not there.
func TestPatterns(t *testing.T) {
	p := servicetest.New(t)
	over := func(c declare.PatternChoice) *declare.Patterns {
		t.Helper()
		out, err := p.Definitions.Patterns(t.Context(), c)
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		return out
	}
	if x := over(declare.PatternChoice{}); x.Stream != "" || len(x.Patterns) != 1 || !strings.Contains(x.Patterns[0].SQL, "CREATE TOPIC") {
		t.Errorf("with nothing declared: %+v", x)
	}
	p.Apply(`CREATE TOPIC a (PARTITIONS 1); CREATE TOPIC b (PARTITIONS 1); CREATE TOPIC c (PARTITIONS 1);
		DECLARE STREAM "Odd names" ("the chip" VARCHAR, mat VARCHAR, rssi DOUBLE, lap INT, "read at" TIMESTAMP) EVENT TIME "read at" FROM TOPIC 'a';
		DECLARE STREAM weather (mat VARCHAR, celsius DOUBLE, at TIMESTAMP) EVENT TIME at FROM TOPIC 'b';
		DECLARE STREAM bare (flag BOOLEAN) FROM TOPIC 'c';
		DECLARE TABLE mats (mat VARCHAR PRIMARY KEY, km DOUBLE) FROM TOPIC 'b';
		DECLARE TABLE timing.chips ("the chip" VARCHAR PRIMARY KEY, bib INT) FROM TOPIC 'c';`)
	first := over(declare.PatternChoice{})
	if first.Stream != "Odd names" || !slices.Equal(first.Withs, []string{"weather", "mats", "timing.chips"}) || !slices.Equal(first.Keys, []string{`"the chip"`, "mat"}) {
		t.Errorf("%+v", first)
	}
	for _, stream := range first.Streams {
		keys, numbers := append([]string{""}, over(declare.PatternChoice{Stream: stream}).Keys...), append([]string{""}, over(declare.PatternChoice{Stream: stream}).Numbers...)
		for _, key := range keys {
			for _, number := range numbers {
				for _, with := range append([]string{""}, over(declare.PatternChoice{Stream: stream, Key: key}).Withs...) {
					x := over(declare.PatternChoice{Stream: stream, Key: key, Number: number, With: with})
					if len(x.Patterns) < 4 || x.Stream != stream || key != "" && x.Key != key || number != "" && x.Number != number || with != "" && x.With != with {
						t.Errorf("%s %s %s %s: %+v", stream, key, number, with, x)
					}
					joined := false
					for _, one := range x.Patterns {
						if _, err := p.Definitions.Apply(t.Context(), "test", declare.Script{File: one.Name, SQL: "EXPLAIN " + strings.TrimSpace(one.SQL)}, false); err != nil && strings.HasPrefix(one.SQL, "SELECT") {
							t.Errorf("%s\n%v", one.SQL, err)
						}
						if strings.Contains(one.SQL, "JOIN") {
							joined = joined || strings.Contains(one.SQL, with)
						}
						if number != "" && strings.Contains(one.SQL, "AVG(") && !strings.Contains(one.SQL, "AVG("+number+")") {
							t.Errorf("%s was chosen:\n%s", number, one.SQL)
						}
					}
					if with != "" && !joined {
						t.Errorf("%s by %s is joined with nothing in place of %s", stream, key, with)
					}
				}
			}
		}
	}
	_, err := p.Definitions.Patterns(t.Context(), declare.PatternChoice{Stream: "nothing"})
	p.Says(err, `no stream and no table is called "nothing"`)
}
