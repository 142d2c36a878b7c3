package e2e

import (
	"fmt"
	"strings"
	"testing"

	"fiume/internal/api"
	"fiume/internal/service/questions"
)

// TestRowsAsTheyStand: a running job is asked for rows of its steps, in the terminal, by the API and in the console: all, or those of a key.
func TestRowsAsTheyStand(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC reads (PARTITIONS 2); CREATE TOPIC counts;
		DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'reads';
		DECLARE SINK told TO TOPIC 'counts' (CHANGES full);
		CREATE JOB counting
			WITH strong AS (SELECT chip, mat FROM reads WHERE mat <> 'none'),
			counts AS (SELECT chip, mat, COUNT(*) AS n FROM strong GROUP BY chip, mat FORGET AFTER 30 DAYS)
			ROUTE counts TO told;`)
	var ms []string
	for i := range 600 {
		ms = append(ms, fmt.Sprintf(`{"chip":"P%03d","mat":"it's %d","at":"2026-05-17T09:00:00Z"}`, i%200, i%2))
	}
	p.send("reads", ms...)
	eventually(t, "all are counted", func() bool {
		return strings.Count(p.fiume("", "rows", "counting.counts", "--limit", "1000", "-o", "json").out, `"n":3`) == 200
	})
	p.fiume("", "rows", "counting.counts", "--where", "chip=P007", "--where", "mat=it's 1").want(t, 0, "P007", "3")
	said := p.fiume("", "rows", "counting.counts", "--limit", "5").want(t, 0, "chip")
	if !strings.Contains(said.err, "there are more rows") {
		t.Error(said.err)
	}
	p.fiume("", "rows", "counting.strong").want(t, 1, "pass through and are not kept")
	p.fiume("", "rows", "counting.counts", "--where", "n=many").want(t, 1, "n is BIGINT")
	p.fiume("", "rows", "reads", "--where", "n=1").want(t, 2, "--where finds rows of a job's step")
	// In SQL: as a table, with all that can be done with one.
	p.fiume("", "query", "SELECT mat, COUNT(*) AS chips, SUM(n) AS reads FROM counting.counts GROUP BY mat UNTIL NOW").want(t, 0, "it's 0", "100", "300")
	p.fiume("", "query", "SELECT chip, n FROM counting.counts WHERE chip = 'P007' AND n > 1 UNTIL NOW").want(t, 0, "P007", "3", "(1 row)")
	p.fiume("", "query", "WITH few AS (SELECT c.chip FROM counting.counts c WHERE c.chip < 'P003') SELECT * FROM few UNTIL NOW").want(t, 0, "P000", "P001", "P002", "(3 rows)")
	p.fiume("", "query", "SELECT * FROM counting.counts LIMIT 2 UNTIL NOW").want(t, 0, "chip  mat", "(2 rows)")
	p.fiume("", "query", "SELECT n FROM counting.counts").want(t, 3, "as it stands", "write UNTIL NOW")
	p.fiume("", "query", "SELECT n FROM counting.strong UNTIL NOW").want(t, 1, "pass through and are not kept")
	p.fiume("", "query", "SELECT n FROM nobody.counts UNTIL NOW").want(t, 4, "nobody")
	p.fiume("", "query", "SELECT m FROM counting.counts UNTIL NOW").want(t, 3, `unknown column "m"`)
	p.fiume("", "query", "SELECT n FROM counting.counts c JOIN reads r ON r.chip = c.chip UNTIL NOW").want(t, 3, "put the table on the right")
	if r, err := p.Check(t.Context(), api.ScriptRequest{SQL: "SELECT n, chip FROM counting.counts UNTIL NOW;"}); err != nil || !r.OK || len(r.Statements[0].Fields) != 2 {
		t.Errorf("%+v %v", r, err)
	}
	if r, err := p.Check(t.Context(), api.ScriptRequest{SQL: "SELECT n FROM counting.counts; CREATE JOB j AS SELECT n FROM counting.counts ROUTE TO told;"}); err != nil || len(r.Errors) != 2 {
		t.Errorf("%+v %v", r, err)
	}
	// And it can be tried, where the rows that stand are those that are shown.
	rowsOf := "SELECT mat, COUNT(*) AS chips FROM counting.counts GROUP BY mat UNTIL NOW;"
	tried, err := p.Try(t.Context(), questions.TryRequest{SQL: rowsOf})
	if err != nil || len(tried.Results) != 1 || len(tried.Results[0].Rows) != 2 || !strings.Contains(string(tried.Results[0].Rows[1]), `"chips":100`) {
		t.Errorf("%+v %v", tried, err)
	}
	if cs, err := p.Connections(t.Context(), rowsOf, nil, nil); err != nil || len(cs) != 0 {
		t.Errorf("%+v %v", cs, err)
	}
	if _, err := p.KeepTry(t.Context(), api.KeepTryRequest{TryRequest: questions.TryRequest{SQL: rowsOf}, Name: "kept"}); err == nil || !strings.Contains(err.Error(), "are those of this moment") {
		t.Error(err)
	}
	b := browse(t, p.base)
	b.open("/jobs/counting")
	b.do("the state", jobTab("State"))
	b.do("the rows", press("present-counts"))
	b.shows("counts, as it stands", "P000")
	b.accessible("rows as they stand")
	b.fill(named("key-chip"), "P042")
	b.do("find", press("find"))
	eventually(t, "only that row is there", func() bool {
		text := b.text()
		return strings.Contains(text, "P042") && !strings.Contains(text, "P041")
	})
	b.fill(named("key-chip"), "nobody")
	b.do("find", press("find"))
	b.shows("There is no such row.")
	b.clean()
}
