package plan

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

var insertPlaces = []Place{
	{Kind: "topic", Insert: true, Source: []OptionSpec{}, Table: []OptionSpec{}, Sink: []OptionSpec{}},
	{Kind: "files", Source: []OptionSpec{{Name: "delimiter", Kind: WordOption}, {Name: "null word", Kind: WordOption}}, Table: []OptionSpec{}, Sink: []OptionSpec{}},
	{Kind: "base", Columns: true, Source: []OptionSpec{}, Table: []OptionSpec{}},
}

const insertDeclarations = `DECLARE STREAM reads (chip VARCHAR NOT NULL, read_at TIMESTAMP, n INT, x DOUBLE, price DECIMAL(6, 2), device ROW(serial VARCHAR, battery DOUBLE),
	tags ARRAY(VARCHAR), weak BOOLEAN AS (x < 0)) EVENT TIME read_at FROM TOPIC 'reads';
DECLARE TABLE people (wave VARCHAR, chip VARCHAR, bib BIGINT, full VARCHAR AS (wave || chip), PRIMARY KEY (chip, wave)) FROM TOPIC 'people';
DECLARE STREAM filed (a INT) FROM FILES 'x';
DECLARE SINK gone TO TOPIC 'x';
CREATE VIEW seen AS SELECT chip FROM reads;
`

// insert binds one INSERT. Errors come as code and column.
func insert(t *testing.T, text string) (*Insertion, string) {
	t.Helper()
	var in *Insertion
	_, _, err := NewCatalog(insertPlaces).Bind("t.sql", insertDeclarations+text, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	cat := NewCatalog(insertPlaces)
	_, _, err = cat.Bind("t.sql", insertDeclarations+text, nil, func(st sql.Statement, errs *sql.Errors) {
		if i, ok := st.(*sql.Insert); ok {
			in = cat.Insert(i, errs)
		}
	})
	var errs *sql.Errors
	if !errors.As(err, &errs) {
		return in, ""
	}
	var out []string
	for _, d := range errs.List {
		out = append(out, fmt.Sprintf("%s %d", d.Code, d.Column))
	}
	return in, strings.Join(out, ", ")
}

func TestInsert(t *testing.T) {
	row := func(in *Insertion, i int) string {
		var out []string
		for c, v := range in.Rows.Cols {
			out = append(out, string(types.AppendJSON(nil, v.Value(i), in.Stream.Columns[c].Type)))
		}
		return strings.Join(out, " ")
	}
	for text, want := range map[string]string{
		"INSERT INTO reads VALUES ('a', TIMESTAMP '2026-05-17 09:00:00', 1, -60.5, 1.5, ROW('s', 1), ARRAY['p', 'q']), ('b', '2026-05-17T09:00:01Z', NULL, 2, NULL, NULL, NULL);": `"a" "2026-05-17T09:00:00.000Z" 1 -60.5 1.50 {"serial":"s","battery":1} ["p","q"]` + "\n" +
			`"b" "2026-05-17T09:00:01.000Z" null 2 null null null`,
		"INSERT INTO reads (read_at, chip, n) VALUES (TIMESTAMP '2026-05-17 09:00:00' + INTERVAL '1' HOUR, UPPER('c') || 'x', 2 * 3 + 0.0);": `"Cx" "2026-05-17T10:00:00.000Z" 6 null null null null`,
		"INSERT INTO people VALUES ('w', 'c', 5.0);": `"w" "c" 5`,
	} {
		in, errs := insert(t, text)
		if in == nil {
			t.Errorf("%s: %s", text, errs)
			continue
		}
		var got []string
		for i := range in.Rows.N {
			got = append(got, row(in, i))
		}
		if strings.Join(got, "\n") != want {
			t.Errorf("%s gives\n%s\nwanted\n%s", text, strings.Join(got, "\n"), want)
		}
	}
	if in, _ := insert(t, "INSERT INTO people VALUES ('w', 'c', 5);"); in == nil || fmt.Sprint(in.Key) != "[1 0]" || in.Kind != sql.KindTable {
		t.Errorf("a table's key: %+v", in)
	}
	for text, want := range map[string]string{
		"INSERT INTO reads (chip, read_at) VALUES ('a');":                                          "wrong-type 43",
		"INSERT INTO reads (chip, read_at) VALUES ('a', CURRENT_TIMESTAMP, 3);":                    "wrong-type 67",
		"INSERT INTO reads (chip, read_at) VALUES (NULL, NULL);":                                   "no-value 43, no-value 49",
		"INSERT INTO reads (chip, n) VALUES ('a', 1);":                                             "no-value 13",
		"INSERT INTO reads (chpi, weak, n, n, chip, read_at) VALUES (1);":                          "unknown-name 20, wrong-place 26, duplicate-name 35",
		"INSERT INTO reads (chip, read_at, n) VALUES ('a', CURRENT_TIMESTAMP, 3.7);":               "wrong-type 70",
		"INSERT INTO reads (chip, read_at, n) VALUES ('a', CURRENT_TIMESTAMP, 99999999999);":       "wrong-type 70",
		"INSERT INTO reads (chip, read_at, price) VALUES ('a', CURRENT_TIMESTAMP, 1.005);":         "wrong-type 74",
		"INSERT INTO reads (chip, read_at, n) VALUES ('a', 'yesterday', TRUE);":                    "wrong-type 51, wrong-type 64",
		"INSERT INTO reads (chip, read_at, x) VALUES (chip, CURRENT_TIMESTAMP, 1 / 0);":            "unknown-name 46, wrong-type 71",
		"INSERT INTO reads (chip, read_at, device) VALUES ('a', CURRENT_TIMESTAMP, ROW('s'));":     "wrong-type 75",
		"INSERT INTO raeds VALUES (1);":                                                            "unknown-name 13",
		"INSERT INTO filed VALUES (1);":                                                            "wrong-place 13",
		"INSERT INTO gone VALUES (1);":                                                             "wrong-place 13",
		"INSERT INTO gone SELECT chip FROM reads;":                                                 "wrong-place 13",
		"INSERT INTO reads SELECT * FROM filed;":                                                   "wrong-place 13",
		"INSERT INTO seen VALUES ('a');":                                                           "wrong-place 13",
		"INSERT INTO people VALUES ('w', 'c', (SELECT n FROM reads)); SELECT 1 AS x FROM reads x;": "wrong-place 38",
	} {
		in, errs := insert(t, text)
		if errs != want || in != nil {
			t.Errorf("%s: %s, wanted %s", text, errs, want)
		}
	}
}

// TestSampled: what looks at data is asked for the columns of declarations that list none, and says what is wrong.
func TestSampled(t *testing.T) {
	columns := func(text string) []sql.Column {
		script, err := sql.Parse("", "DECLARE STREAM x ("+text+") FROM FILES 'x';", nil)
		if err != nil {
			t.Fatal(err)
		}
		return script.Statements[0].(*sql.DeclareStream).Columns
	}
	look := func(d Sampled) ([]sql.Column, []sql.Name, error) {
		switch d.Address {
		case "empty":
			return nil, nil, errors.New("it is empty")
		case "kept":
			return columns("k BIGINT NOT NULL, v VARCHAR"), []sql.Name{{Text: "k"}}, nil
		}
		return columns("at TIMESTAMP, v ROW(a INT)"), nil, nil
	}
	for text, want := range map[string]string{
		"DECLARE STREAM s COLUMNS SAMPLED EVENT TIME at FROM TOPIC 's'; SELECT v.a AS a FROM s;": "",
		"DECLARE STREAM s COLUMNS SAMPLED EVENT TIME ta FROM TOPIC 's'; SELECT v.a AS a FROM s;": "unknown-name 45",
		"DECLARE STREAM s COLUMNS SAMPLED FROM TOPIC 's'; SELECT v.b AS a FROM s;":               "unknown-name 59",
		"DECLARE STREAM s COLUMNS SAMPLED FROM TOPIC 'empty'; SELECT v.b AS a FROM s;":           "no-value 45",
		"DECLARE STREAM s FROM TOPIC 's';":                                                       "wrong-place 16",
		"DECLARE STREAM s FROM BASE 's'; SELECT v.a AS a FROM s;":                                "",
		"DECLARE TABLE t FROM BASE 'kept'; SELECT v FROM t;":                                     "",
		"DECLARE TABLE t COLUMNS SAMPLED FROM TOPIC 'kept';":                                     "wrong-place 15",
		"DECLARE STREAM s COLUMNS SAMPLED FROM FILES 's' (DELIMITER ';');":                       "wrong-place 16",
		"DECLARE STREAM s COLUMNS SAMPLED FROM FILES 's' (NULL WORD 'x');":                       "wrong-place 16",
		"DECLARE STREAM s COLUMNS SAMPLED FROM FILES 's' (DELIMTER ';');":                        "unknown-option 50",
	} {
		for _, looks := range []bool{true, false} {
			cat := NewCatalog(insertPlaces)
			if looks {
				cat.Sample = look
			} else if strings.HasPrefix(want, "unknown-name") || strings.HasPrefix(want, "no-value") {
				want = "" // nobody looks, so that nothing is called wrong
			}
			_, _, err := cat.Bind("t.sql", text, nil, nil)
			var errs *sql.Errors
			got := ""
			if errors.As(err, &errs) {
				got = fmt.Sprintf("%s %d", errs.List[0].Code, errs.List[0].Column)
			}
			if got != want {
				t.Errorf("%s (looking: %v): %v, wanted %s", text, looks, err, want)
			}
		}
	}
}
