package types

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestCivil compares the calendar with the standard library's over all its years.
func TestCivil(t *testing.T) {
	for d := FirstTimestamp / Day; d <= LastTimestamp/Day; d += 13 {
		y, m, day := CivilFromDays(d)
		want := time.Unix(d*86400, 0).UTC()
		if y != want.Year() || m != int(want.Month()) || day != want.Day() {
			t.Fatalf("day %d is %d-%d-%d, wanted %s", d, y, m, day, want.Format("2006-01-02"))
		}
		if back := DaysFromCivil(y, m, day); back != d {
			t.Fatalf("%d-%d-%d is day %d, wanted %d", y, m, day, back, d)
		}
		text := AppendDate(nil, d)
		if string(text) != want.Format("2006-01-02") {
			t.Fatalf("day %d is written %s", d, text)
		}
		if back, ok := ParseDate(text); !ok || back != d {
			t.Fatalf("%s reads as %d %v", text, back, ok)
		}
	}
}

func TestTimestamps(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var p TimeParser
	var w TimeWriter
	for range 20000 {
		us := FirstTimestamp + r.Int64N(LastTimestamp-FirstTimestamp)
		switch r.IntN(3) {
		case 0:
			us -= us % Millisecond
		case 1:
			us -= us % Second
		}
		at := time.UnixMicro(us).UTC()
		layouts := []string{"2006-01-02T15:04:05.000000Z", "2006-01-02 15:04:05.999999", "2006-01-02T15:04:05.999999999Z07:00"}
		if us%Millisecond == 0 {
			layouts = append(layouts, "2006-01-02T15:04:05.000Z", "2006-01-02T15:04:05.000")
		}
		if us%Second == 0 {
			layouts = append(layouts, "2006-01-02T15:04:05Z", "2006-01-02t15:04:05z")
		}
		zone := time.FixedZone("", (r.IntN(27)-13)*3600+r.IntN(2)*1800)
		texts := []string{at.In(zone).Format("2006-01-02T15:04:05.000000-07:00")}
		if y := at.In(zone).Year(); y < 1 || y > 9999 {
			texts = nil
		}
		for _, l := range layouts {
			texts = append(texts, at.Format(l))
		}
		for _, s := range texts {
			for _, parse := range []func([]byte) (int64, bool){ParseTimestamp, p.Parse} {
				if got, ok := parse([]byte(s)); !ok || got != us {
					t.Fatalf("%s reads as %d (%v), wanted %d", s, got, ok, us)
				}
			}
		}
		text := string(w.Append(nil, us))
		back, err := time.Parse(time.RFC3339Nano, text)
		if err != nil || back.UnixMicro() != us || text != string(AppendTimestamp(nil, us)) {
			t.Fatalf("%d is written %s (%v)", us, text, err)
		}
	}
	for _, s := range []string{"", "2026", "2026-05-17T", "2026-05-17T09", "2026-05-17T9:00:00Z", "2026-13-01", "2026-02-29", "2026-04-31T00:00:00Z", "2026-05-17T24:00:00Z",
		"2026-05-17T09:60:00Z", "2026-05-17T09:00:60Z", "2026-05-17T09:00:00.Z", "2026-05-17T09:00:00.1234567890Z", "2026-05-17T09:00:00+25:00", "2026-05-17T09:00:00+2",
		"2026-05-17X09:00:00Z", "0000-01-01", "2026-05-17T09:00:00ZZ", "2026-05-17T09:00:00.000z ", "2026-05-17T09:00:0a.000Z", "2026-05-17T2a:00:00.000Z", "x026-05-17T09:00:00.000Z"} {
		if got, ok := p.Parse([]byte(s)); ok {
			t.Errorf("%q reads as %d", s, got)
		}
		if got, ok := ParseTimestamp([]byte(s)); ok {
			t.Errorf("%q reads as %d", s, got)
		}
	}
	if got, ok := ParseTimestamp([]byte("2024-02-29")); !ok || got != time.Date(2024, 2, 29, 0, 0, 0, 0, time.UTC).UnixMicro() {
		t.Errorf("a date alone reads as %d %v", got, ok)
	}
	if got, ok := ParseTimestamp([]byte("2024-02-29T10:05")); !ok || got != time.Date(2024, 2, 29, 10, 5, 0, 0, time.UTC).UnixMicro() {
		t.Errorf("a time without seconds reads as %d %v", got, ok)
	}
}

// TestDoubles: what is written reads back as the same number, and is no longer than it need be.
func TestDoubles(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	check := func(x float64) {
		t.Helper()
		s := string(AppendDouble(nil, x))
		back, err := strconv.ParseFloat(s, 64)
		if err != nil || back != x {
			t.Fatalf("%v is written %s", x, s)
		}
		if shortest := strconv.FormatFloat(x, 'f', -1, 64); math.Abs(x) < 1e20 && math.Abs(x) > 1e-5 && len(s) > len(shortest) {
			t.Fatalf("%v is written %s, shorter is %s", x, s, shortest)
		}
		if !json.Valid([]byte(s)) {
			t.Fatalf("%s is no JSON number", s)
		}
	}
	for range 200000 {
		check(float64(r.IntN(2_000_000)-1_000_000) / []float64{1, 10, 100, 1000, 3, 7, 1e5, 1e6, 64}[r.IntN(9)])
		if x := math.Float64frombits(r.Uint64()); !math.IsNaN(x) && !math.IsInf(x, 0) {
			check(x)
		}
	}
	for _, x := range []float64{0, 1, -1, 0.1, 0.2, 0.30000000000000004, 1e-5, 1e-6, 1e-7, 999999999.99999, 1e9, 1e15, 1e21, 1e22, 5e-324, math.MaxFloat64, 123456.789} {
		check(x)
		check(-x)
	}
	for x, want := range map[float64]string{-81.5: "-81.5", 100: "100", 0.05: "0.05", -0.00001: "-0.00001", 1e21: "1e+21"} {
		if got := string(AppendDouble(nil, x)); got != want {
			t.Errorf("%v is written %s, wanted %s", x, got, want)
		}
	}
	if got := string(AppendDouble(nil, math.Inf(-1))) + string(AppendDouble(nil, math.NaN())); got != "-InfinityNaN" {
		t.Errorf("got %s", got)
	}
}

func TestIntervals(t *testing.T) {
	for d, want := range map[int64]string{0: "PT0S", Second: "PT1S", 90 * Minute: "PT1H30M", Day: "P1D", Week + Hour + 5*Millisecond: "P7DT1H0.005S",
		-90 * Second: "-PT1M30S", 1500 * Millisecond: "PT1.5S", 1: "PT0.000001S", Day + Second: "P1DT1S"} {
		if got := string(AppendInterval(nil, d)); got != want {
			t.Errorf("%d is written %s, wanted %s", d, got, want)
		}
	}
}

func TestJSONStrings(t *testing.T) {
	for _, s := range []string{"", "plain", "größe €  🏃", "a\"b\\c", "\n\r\t\x00\x1f", "bad \xff utf-8", "\xed\xa0\x80", strings.Repeat("x", 300) + "\x01"} {
		b := AppendJSONString(nil, []byte(s))
		var back string
		if err := json.Unmarshal(b, &back); err != nil {
			t.Fatalf("%q is written %s: %v", s, b, err)
		}
		if want := strings.ToValidUTF8(s, "\ufffd"); back != want && !strings.Contains(s, "\xed") {
			t.Errorf("%q reads back as %q", s, back)
		}
	}
}

func TestTypeNames(t *testing.T) {
	row := Type{Kind: Row, Fields: []Field{{Name: "serial", Type: Of(Varchar)}, {Name: "at", Type: Type{Kind: Row, Fields: []Field{{Name: "lat", Type: Of(Double)}}}}}}
	if got := row.String(); got != "ROW(serial VARCHAR, at ROW(lat DOUBLE))" {
		t.Error(got)
	}
	if row.FieldIndex("at") != 1 || row.FieldIndex("lat") != -1 || !row.Equal(row) || row.Equal(Of(Row)) {
		t.Error("fields are not found or compared as they should")
	}
}

// TestDoubleWriter: what a writer has written before changes nothing.
func TestDoubleWriter(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	var w DoubleWriter
	for i := range 400_000 {
		x := r.NormFloat64() * math.Pow10(r.IntN(14)-6)
		if i%3 > 0 {
			x = math.Round(x*pow10[r.IntN(6)]) / pow10[r.IntN(6)]
		}
		if got, want := string(w.Append(nil, x)), string(AppendDouble(nil, x)); got != want {
			t.Fatalf("%v: %s, wanted %s", x, got, want)
		}
	}
	for _, x := range []float64{0, math.Copysign(0, -1), 1e9, -1e9, 1e-5, 999999999.5, math.MaxFloat64, 5e-324, math.Inf(1), math.NaN()} {
		if got, want := string(w.Append(nil, x)), string(AppendDouble(nil, x)); got != want {
			t.Errorf("%v: %s, wanted %s", x, got, want)
		}
	}
}
