package step

import "testing"

// TestReasonClass: rows that fail alike have the same kind of reason, whatever stands in them.
func TestReasonClass(t *testing.T) {
	for _, alike := range [][]string{
		{`column rssi: "abc" is no DOUBLE`, `column rssi: "x y 7" is no DOUBLE`, `column rssi: "" is no DOUBLE`},
		{"12 is out of the range of INT", "-5.5e7 is out of the range of INT"},
		{"it came 3.5s after 2026-05-17T09:00:00Z", "it came 12s after 2026-05-18T19:00:01.5Z"},
		{"'a' is no date", "'2026' is no date"},
	} {
		for _, reason := range alike[1:] {
			if a, b := ReasonClass(alike[0]), ReasonClass(reason); a != b {
				t.Errorf("%q and %q", a, b)
			}
		}
	}
	for _, other := range [][2]string{{"column rssi is NULL", "column chip is NULL"}, {"division by zero", "an overflow"}, {"the runner's chip", "the runner's mat"}} {
		if ReasonClass(other[0]) == ReasonClass(other[1]) {
			t.Errorf("%q are taken for one", other)
		}
	}
	if c := ReasonClass("column t1 is NULL"); c != "column t1 is NULL" {
		t.Errorf("a name with a number became %q", c)
	}
}
