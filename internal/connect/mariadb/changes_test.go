package mariadb

import (
	"strings"
	"testing"

	"fiume/internal/connect/dbtable"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"

	"github.com/go-mysql-org/go-mysql/mysql"
)

// TestCells: a value of the log is written as the server writes it in an answer.
func TestCells(t *testing.T) {
	m := &tableMap{kinds: []byte{mysql.MYSQL_TYPE_LONG, mysql.MYSQL_TYPE_LONG, mysql.MYSQL_TYPE_INT24, mysql.MYSQL_TYPE_STRING, mysql.MYSQL_TYPE_STRING, mysql.MYSQL_TYPE_DOUBLE},
		unsigned: map[int]bool{1: true, 2: true}, words: map[int][]string{3: {"run", "walk"}}, sets: map[int][]string{4: {"bag", "shirt", "meal"}}}
	for _, c := range []struct {
		column int
		value  any
		want   string
	}{
		{0, int32(-5), "-5"}, {0, int8(-1), "-1"}, {0, int16(300), "300"}, {0, int64(-9), "-9"},
		{1, int32(-1), "4294967295"}, {1, int8(-1), "255"}, {1, int16(-1), "65535"}, {1, int64(-1), "18446744073709551615"},
		{2, int32(-1), "16777215"}, {3, int64(2), "walk"}, {3, int64(0), "0"}, {4, int64(5), "bag,meal"}, {4, int64(0), ""},
		{5, 0.1, "0.1"}, {5, float32(0.1), "0.1"}, {0, "2026-05-17 09:00:00.000123", "2026-05-17 09:00:00.000123"}, {0, []byte("x\x00y"), "x\x00y"},
	} {
		if got := string(m.cell(c.column, c.value)); got != c.want {
			t.Errorf("%T %v of column %d is %q, wanted %q", c.value, c.value, c.column, got, c.want)
		}
	}
	if m.cell(0, nil) != nil {
		t.Error("NULL is a text")
	}
}

func planned(t *testing.T, text string) *plan.Op {
	t.Helper()
	plans, _, err := plan.NewCatalog([]plan.Place{Connector.Place()}).Bind("t", "DECLARE ENDPOINT e MARIADB 'u@127.0.0.1:1/d';"+text, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	return plans[0].Scans()[0]
}

// TestChangePieces turns what the log tells into rows: those of a table delete by key, those of a stream say what
// they do.
func TestChangePieces(t *testing.T) {
	for _, text := range []string{
		"DECLARE TABLE fees (bib INT PRIMARY KEY, fee DECIMAL(8, 2), paid BOOLEAN) FROM MARIADB 'fees' VIA e (CHANGES true); SELECT bib, fee, paid FROM fees;",
		"DECLARE STREAM fees (_change VARCHAR, bib INT, fee DECIMAL(8, 2), paid BOOLEAN) FROM MARIADB 'fees' VIA e (CHANGES true); SELECT _change, bib, fee, paid FROM fees;",
	} {
		scan := planned(t, text)
		c := dbtable.NewChanges(server{}, nil, scan)
		var p flow.Piece
		put := func(op byte, at int64, cells ...string) {
			p.Data = dbtable.AppendHead(p.Data, op, at)
			for _, x := range cells {
				if x == "NULL" {
					p.Data = dbtable.AppendCell(p.Data, nil)
				} else {
					p.Data = dbtable.AppendCell(p.Data, []byte(x))
				}
			}
		}
		put(dbtable.Insert, 5, "1", "10.50", "1")
		put(dbtable.Replace, 6, "1", "11", "NULL")
		put(dbtable.Insert, 7, "two", "1", "0")
		put(dbtable.Withdraw, 8, "1", "11", "0")
		p.Data = dbtable.Padded(p.Data)
		if err := c.Frame(&p); err != nil || len(p.Messages) != 4 || p.Messages[3].At != 8 {
			t.Fatal(err, p.Messages)
		}
		dec, err := c.NewDecoder()
		if err != nil {
			t.Fatal(err)
		}
		var out column.Batch
		rejects := dec.Decode(p.Data, p.Messages, &out)
		if len(rejects) != 1 || rejects[0].Message != 2 || !strings.Contains(rejects[0].Reason, "bib: 'two' is no INT") {
			t.Errorf("%v", rejects)
		}
		var got []string
		for i := range out.N {
			row := ""
			if out.Change != nil {
				row = out.Change[i].String()
			}
			for _, v := range out.Cols {
				row += " " + string(types.AppendText(nil, v.Value(i)))
			}
			got = append(got, row)
		}
		want := "insert 1 10.50 true|insert 1 11.00 |withdraw 1 11.00 false"
		if scan.OfTable == nil {
			want = " insert 1 10.50 true| replace 1 11.00 | withdraw 1 11.00 false"
		}
		if strings.Join(got, "|") != want {
			t.Errorf("%q, wanted %q", strings.Join(got, "|"), want)
		}
	}
}
