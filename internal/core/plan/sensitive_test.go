package plan

import (
	"strings"
	"testing"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
)

const sensitiveDeclarations = `
DECLARE STREAM reads (chip VARCHAR SENSITIVE NOT NULL, mat VARCHAR, pulse INT SENSITIVE, tags ARRAY(VARCHAR) SENSITIVE, read_at TIMESTAMP NOT NULL, short VARCHAR AS (SUBSTRING(chip, 1, 2)), place VARCHAR AS (UPPER(mat)))
	EVENT TIME read_at FROM TOPIC 'reads';
DECLARE STREAM notes (chip VARCHAR, text VARCHAR, first VARCHAR AS (SUBSTRING(text, 1, 1)) SENSITIVE, at TIMESTAMP) EVENT TIME at FROM TOPIC 'notes';
DECLARE TABLE people (chip VARCHAR PRIMARY KEY, name VARCHAR SENSITIVE, club VARCHAR) FROM TOPIC 'people';
DECLARE TABLE named (name VARCHAR PRIMARY KEY SENSITIVE, club VARCHAR) FROM TOPIC 'named';
CREATE VIEW seen AS SELECT chip AS who, mat FROM reads;
`

func sensitiveCatalog(t *testing.T) *Catalog {
	t.Helper()
	cat := NewCatalog(insertPlaces)
	if _, _, err := cat.Bind("t.sql", sensitiveDeclarations, nil, nil); err != nil {
		t.Fatal(err)
	}
	return cat
}

// TestSensitive: which columns of a result may have a value of a sensitive column in them.
func TestSensitive(t *testing.T) {
	cat := sensitiveCatalog(t)
	for query, want := range map[string]string{
		"SELECT chip, mat, pulse, short, place FROM reads":                                       "chip pulse short",
		"SELECT who AS x, mat FROM seen":                                                         "x",
		"SELECT CASE WHEN chip = 'P1' THEN mat ELSE 'no' END AS a, mat || place AS b FROM reads": "a",
		"SELECT mat FROM reads WHERE chip = 'P1'":                                                "",
		"SELECT chip, mat, COUNT(*) AS n, COUNT(DISTINCT pulse) AS m, MAX(pulse) AS p, APPROX_COUNT_DISTINCT(chip) AS a, w.closes AS closes FROM reads GROUP BY chip, mat, w WINDOW w AS (TUMBLING 1 MINUTE)": "chip p",
		"SELECT mat, COUNT(*) FILTER (WHERE pulse > 100) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE)":                                                                                     "n",
		"SELECT mat, LAG(chip) OVER (PARTITION BY mat ORDER BY read_at FORGET AFTER 1 HOUR) AS before, ROW_NUMBER() OVER (PARTITION BY mat ORDER BY read_at FORGET AFTER 1 HOUR) AS n FROM reads":             "before",
		"SELECT r.mat, t.tag FROM reads r CROSS JOIN UNNEST(r.tags) AS t (tag)":                                                                                                                               "tag",
		"SELECT r.mat, p.chip, p.club FROM reads r LEFT JOIN people p ON p.chip = r.chip":                                                                                                                     "chip",
		"SELECT r.mat, p.chip, p.club FROM reads r LEFT JOIN people p AS OF NOW ON p.chip = r.chip":                                                                                                           "chip",
		"SELECT n.chip, n.at, r.mat FROM reads r JOIN notes n ON n.chip = r.chip AND n.at BETWEEN r.read_at AND r.read_at + 1 MINUTE":                                                                         "chip",
		"SELECT n.chip, n.at, r.mat FROM notes n JOIN reads r ON LOWER(n.chip) = r.chip AND r.read_at BETWEEN n.at AND n.at + 1 MINUTE":                                                                       "chip",
		"SELECT r.mat, p.club, p.name FROM reads r LEFT JOIN people p ON p.chip = r.chip":                                                                                                                     "name",
		"SELECT a.mat, b.mat AS other, b.chip FROM reads a JOIN reads b ON a.chip = b.chip AND b.read_at BETWEEN a.read_at AND a.read_at + 1 MINUTE":                                                          "chip",
		"SELECT mat AS x FROM reads UNION ALL SELECT chip AS x FROM reads":                                                                                                                                    "x",
		"SELECT chip, text, first FROM notes":                         "text first",
		"SELECT q.y FROM (SELECT LOWER(chip) AS y, mat FROM reads) q": "y",
	} {
		var p *Plan
		script, err := sql.Read("q.sql", query+";")
		if err != nil {
			t.Fatal(err)
		}
		errs := &sql.Errors{File: "q.sql", Text: query}
		if p = cat.Query(script.Statements[0].(*sql.Query), errs); errs.Err() != nil {
			t.Errorf("%s: %v", query, errs.Err())
			continue
		}
		out := p.Outputs()[0]
		var got []string
		for i, s := range p.Sensitive()[out] {
			if len(s) > 0 {
				got = append(got, out.Fields[i].Name)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: sensitive are %q, wanted %q", query, strings.Join(got, " "), want)
		}
		// Masked, nothing of it reads a sensitive column but through its mask.
		masked := cat.Masked(func(string) bool { return true }, eval.NewMask([]byte("k")))
		if p = masked.Query(script.Statements[0].(*sql.Query), errs); errs.Err() != nil {
			t.Errorf("masked: %s: %v", query, errs.Err())
			continue
		}
		for _, o := range p.Ops {
			var exprs []*eval.Expr
			exprs = append(append(exprs, o.Exprs...), o.Cond, o.Array)
			if o.Agg != nil {
				exprs = append(exprs, o.Agg.Keys...)
				for _, a := range o.Agg.Aggregates {
					exprs = append(exprs, a.Arg, a.By, a.Filter)
				}
			}
			if o.Order != nil {
				exprs = append(exprs, o.Order.Keys...)
			}
			if o.Input == nil || o.Input.Kind != Scan {
				continue
			}
			var look func(e *eval.Expr)
			look = func(e *eval.Expr) {
				if e == nil || e.Name == "masked" {
					return
				}
				if e.Op == eval.OpColumn && e.Index < len(o.Input.Stream.Columns) && o.Input.Stream.Columns[e.Index].Sensitive {
					t.Errorf("masked: %s: %s %s reads %s as it is", query, o.Kind, o.Detail, o.Input.Fields[e.Index].Name)
				}
				for _, a := range e.Args {
					look(a)
				}
			}
			for _, e := range exprs {
				look(e)
			}
		}
	}
}

// TestSensitiveDeclared: what SENSITIVE cannot stand behind, and what a replaced declaration makes of it.
func TestSensitiveDeclared(t *testing.T) {
	for text, want := range map[string]string{
		"DECLARE STREAM x (a VARCHAR, at TIMESTAMP SENSITIVE) EVENT TIME at FROM TOPIC 'x';":                           "the event time \"at\": it cannot be sensitive",
		"DECLARE STREAM x (a VARCHAR SENSITIVE, at TIMESTAMP AS (CAST(a AS TIMESTAMP))) EVENT TIME at FROM TOPIC 'x';": "it cannot be sensitive",
		"DECLARE TABLE x (a BIGINT PRIMARY KEY SENSITIVE, b INT) FROM TOPIC 'x';":                                      "a sensitive key is VARCHAR",
		"DECLARE TABLE x (a BIGINT, b INT, PRIMARY KEY (a) SENSITIVE) FROM TOPIC 'x';":                                 "after",
	} {
		cat := NewCatalog(insertPlaces)
		_, _, err := cat.Bind("t.sql", text, nil, nil)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, wanted %q", text, err, want)
		}
	}
	script, err := sql.Read("t.sql", "DECLARE STREAM x (a VARCHAR SENSITIVE NOT NULL, b INT SENSITIVE) FROM TOPIC 'x';")
	if err != nil {
		t.Fatal(err)
	}
	if got := sql.Print(script.Statements[0]); !strings.Contains(got, "NOT NULL SENSITIVE") {
		t.Errorf("written anew it is %s", got)
	}
}
