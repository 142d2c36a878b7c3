package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"fiume/internal/core/sql"
)

const joinDeclarations = declarations + `
DECLARE STREAM calls (call_id VARCHAR, chip VARCHAR, called_at TIMESTAMP, severity INT, marshal VARCHAR) EVENT TIME called_at DELAY 5 SECONDS FROM FILES 'x';
DECLARE TABLE mats (mat VARCHAR PRIMARY KEY, km DOUBLE, place VARCHAR) FROM FILES 'x';
DECLARE TABLE entrants (chip VARCHAR, edition INT, name VARCHAR, updated_at TIMESTAMP, PRIMARY KEY (chip, edition)) EVENT TIME updated_at FROM FILES 'x';
CREATE VIEW busy AS SELECT mat, w.opens AS opens, w.closes AS closes, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 10 MINUTES);
`

func boundJoin(t *testing.T, text string) (*Plan, error) {
	t.Helper()
	plans, _, err := NewCatalog(testPlaces).Bind("t.sql", joinDeclarations+text, nil, nil)
	if err != nil {
		return nil, err
	}
	return plans[len(plans)-1], nil
}

// TestBounds: what a condition says of two event times, in every form, is how long rows are kept.
func TestBounds(t *testing.T) {
	for on, want := range map[string]string{
		"r.read_at WITHIN 10 MINUTES OF c.called_at":                                                       "r from 10 MINUTES before to 10 MINUTES after c",
		"c.called_at WITHIN 10 MINUTES AFTER r.read_at":                                                    "r from 10 MINUTES before up to c",
		"r.read_at >= c.called_at AND r.read_at < c.called_at + INTERVAL '1' HOUR":                         "r from c to less than 1 HOUR after it",
		"c.called_at - r.read_at BETWEEN INTERVAL '1' SECOND AND INTERVAL '3' SECOND":                      "r from 3 SECONDS before to 1 SECOND before c",
		"r.read_at = c.called_at":                                                                          "r at the time of c",
		"r.read_at WITHIN 1 HOUR OF c.called_at AND r.read_at WITHIN 10 MINUTES BEFORE c.called_at":        "r from 10 MINUTES before up to c",
		"c.called_at + INTERVAL '1' MINUTE >= r.read_at AND r.read_at + INTERVAL '2' MINUTE > c.called_at": "r from less than 2 MINUTES before to 1 MINUTE after c",
	} {
		p, err := boundJoin(t, "SELECT c.call_id FROM calls c JOIN reads r ON r.chip = c.chip AND "+on+";")
		if err != nil {
			t.Error(err)
			continue
		}
		for _, s := range p.Explain(0).Steps {
			if s.Kind == "join" && s.Bound != want {
				t.Errorf("%s\nis %s, wanted %s", on, s.Bound, want)
			}
		}
	}
	// Windows are near their ends, so that a row can be bound by them.
	p, err := boundJoin(t, "SELECT r.chip, b.n FROM reads r JOIN busy b ON b.mat = r.mat AND r.read_at >= b.opens AND r.read_at < b.closes;")
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range p.Ops {
		if o.Kind == Join && (o.Join.Lo != 0 || o.Join.Hi != 10*60*1_000_000-1 || o.Join.Cond != nil) {
			t.Errorf("a window bounds its rows from %d to %d, and %v is left", o.Join.Lo, o.Join.Hi, o.Join.Cond)
		}
	}
}

// TestJoinPlans: conditions go to the side that they speak of, and only what is read is kept.
func TestJoinPlans(t *testing.T) {
	for query, want := range map[string][]string{
		"SELECT c.call_id, r.mat FROM calls c JOIN reads r ON r.chip = c.chip AND r.read_at WITHIN 1 HOUR OF c.called_at AND r.rssi > -70 WHERE c.severity > 3 AND r.mat <> 'start' AND c.severity < r.seq;": nil,
		"SELECT c.call_id, r.mat FROM calls c JOIN reads r ON r.chip = c.chip AND r.read_at WITHIN 1 HOUR OF c.called_at AND r.rssi > -70 WHERE c.severity > 3 AND r.mat <> 'start';": {
			"filter(c.severity)", "filter(r.rssi)+filter(r.mat)", "c keeps call_id", "r keeps mat"},
		"SELECT c.call_id, r.mat FROM calls c LEFT JOIN reads r ON r.chip = c.chip AND r.read_at WITHIN 1 HOUR OF c.called_at AND c.severity > 3 WHERE r.mat <> 'start';": {
			"c keeps call_id, severity", "r keeps mat"},
		"SELECT r.chip FROM reads r JOIN mats m ON m.mat = r.mat WHERE r.rssi > -70;": {"filter(r.rssi)", "mats keeps "},
	} {
		p, err := boundJoin(t, query)
		if want == nil {
			var e *sql.Errors
			if !errors.As(err, &e) || e.List[0].Code != sql.UnknownName {
				t.Errorf("%s\n%v", query, err)
			}
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, o := range p.Ops {
			if o.Kind != Side {
				continue
			}
			filters := []string{}
			for in := o.Input; in.Kind == Filter; in = in.Input {
				filters = append(filters, "")
			}
			var kept []string
			for _, k := range o.Kept {
				kept = append(kept, o.Input.Fields[k].Name)
			}
			got = append(got, fmt.Sprintf("%s keeps %s behind %d filters", o.Alias, strings.Join(kept, ", "), len(filters)))
		}
		for _, w := range want {
			if strings.Contains(w, "keeps") && !slices.ContainsFunc(got, func(g string) bool { return strings.HasPrefix(g, w+" behind") }) {
				t.Errorf("%s\n%v, wanted %s", query, got, w)
			}
		}
		if filters := strings.Join(want, " "); strings.Contains(filters, "filter(c.severity)") && !(strings.Contains(got[0], "behind 1") && strings.Contains(got[1], "behind 1")) {
			t.Errorf("%s\n%v", query, got)
		}
		for i, o := range p.Ops {
			if o.Kind == Lookup && (p.Ops[i-1].Kind != Filter && o.Input.Kind != Filter) {
				t.Errorf("%s: the filter stays behind the lookup", query)
			}
		}
	}
}

// TestJoinRefusals: each wrong join gives one error, in its place.
func TestJoinRefusals(t *testing.T) {
	for text, want := range map[string]string{
		"SELECT c.call_id FROM calls c JOIN reads r ON r.chip = c.chip;":                                                                                              "unbounded 31: add AND r.read_at WITHIN 10 MINUTES OF c.called_at",
		"SELECT c.call_id FROM calls c JOIN reads r ON r.chip = c.chip AND r.read_at > c.called_at;":                                                                  "unbounded 31: one end only",
		"SELECT c.call_id FROM calls c JOIN reads r ON r.read_at WITHIN 1 HOUR OF c.called_at;":                                                                       "unbounded 31: needs an equality",
		"SELECT c.call_id FROM calls c JOIN reads r ON r.chip = c.chip AND r.read_at > c.called_at AND r.read_at < c.called_at;":                                      "misfit 31: contradict",
		"SELECT c.call_id FROM calls c CROSS JOIN reads r;":                                                                                                           "unbounded 31: CROSS JOIN",
		"SELECT c.call_id FROM calls c RIGHT JOIN LAST OF reads r ON r.chip = c.chip AND r.read_at WITHIN 1 HOUR OF c.called_at;":                                     "wrong-place 31: LAST OF stands in JOIN and LEFT JOIN",
		"SELECT c.call_id FROM calls c JOIN reads AS OF c.called_at ON reads.chip = c.chip;":                                                                          "wrong-place 48: neither",
		"SELECT r.chip FROM reads r RIGHT JOIN mats m ON m.mat = r.mat;":                                                                                              "wrong-place 28: which rows of a table were never met",
		"SELECT r.chip FROM reads r JOIN mats m ON m.place = r.mat;":                                                                                                  "unbounded 28: nothing says what mat is",
		"SELECT r.chip FROM reads r JOIN mats m AS OF r.read_at ON m.mat = r.mat;":                                                                                    "misfit 46: has no event time",
		"SELECT r.chip FROM reads r JOIN entrants e ON e.chip = r.chip;":                                                                                              "unbounded 28: nothing says what edition is",
		"SELECT r.chip FROM reads r JOIN entrants e AS OF TIMESTAMP '2026-05-17' ON e.chip = r.chip AND e.edition = 1;":                                               "wrong-type 50: as of the event time",
		"SELECT r.chip FROM reads r JOIN entrants e AS OF e.updated_at ON e.chip = r.chip AND e.edition = 1;":                                                         "wrong-type 50: write AS OF r.read_at",
		"SELECT DISTINCT chip FROM reads;":                                                                                                                            "unbounded 1: UNIQUE BY",
		"SELECT chip FROM reads WHERE chip NOT IN (SELECT mat FROM mats);":                                                                                            "misfit 30: NOT EXISTS",
		"SELECT chip FROM reads WHERE rssi > 3 OR EXISTS (SELECT 1 FROM mats WHERE mats.mat = reads.mat);":                                                            "wrong-place 42: joined by AND",
		"SELECT (SELECT place FROM mats) AS p FROM reads;":                                                                                                            "unbounded 9: would give all rows",
		"SELECT (SELECT chip FROM calls WHERE calls.chip = reads.chip) AS p FROM reads;":                                                                              "unbounded 26: reads a table by its key",
		"SELECT chip, read_at FROM reads UNION ALL SELECT chip, called_at FROM calls UNION ALL SELECT 'x' AS chip, called_at + INTERVAL '1' SECOND FROM calls;":       "misfit 87: event time stands at another place",
		"SELECT mat, COUNT(*) AS n FROM mats GROUP BY mat, w WINDOW w AS (TUMBLING 1 HOUR);":                                                                          "wrong-place 60: not in windows",
		"DECLARE TABLE x (a INT) FROM FILES 'x';":                                                                                                                     "wrong-place 15: needs a key",
		"DECLARE TABLE x (a INT PRIMARY KEY, b BIGINT AS (a + 1), PRIMARY KEY (b)) FROM FILES 'x';":                                                                   "duplicate-name 18: two keys",
		"CREATE JOB j AS SELECT mat, km FROM mats ROUTE TO a;":                                                                                                        "misfit 51: only adds rows",
		"CREATE JOB j AS SELECT c.call_id FROM calls c JOIN reads r ON r.chip = c.chip AND r.read_at WITHIN 1 HOUR OF c.called_at ROUTE TO a ROUTE LATE j OF x TO b;": "unknown-name 149: no input of j is called",
	} {
		_, err := boundJoin(t, text)
		code, rest, _ := strings.Cut(want, " ")
		column, words, _ := strings.Cut(rest, ": ")
		var e *sql.Errors
		switch {
		case !errors.As(err, &e) || len(e.List) != 1:
			t.Errorf("%s\n%v", text, err)
		case string(e.List[0].Code) != code || fmt.Sprint(e.List[0].Column) != column || !strings.Contains(e.List[0].Message+" "+e.List[0].Hint, words):
			t.Errorf("%s\n%s %d: %s (%s), wanted %s", text, e.List[0].Code, e.List[0].Column, e.List[0].Message, e.List[0].Hint, want)
		}
	}
}
