package plan

import (
	"math/rand/v2"
	"testing"
	"time"

	"fiume/internal/core/types"
)

// TestFrames asks of every window near an instant whether the instant is in it, and compares: First, Last and
// the slice, which is the greatest piece around the instant that all of its windows have whole.
func TestFrames(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	var zones []*time.Location
	for _, n := range []string{"Europe/Rome", "America/Sao_Paulo", "Pacific/Apia", "Asia/Kathmandu"} {
		z, err := time.LoadLocation(n)
		if err != nil {
			t.Fatal(err)
		}
		zones = append(zones, z)
	}
	for range 3000 {
		unit := []int64{types.Millisecond, types.Second, types.Hour, day}[r.IntN(4)]
		f := Frame{Step: unit * int64(1+r.IntN(12))}
		f.Length = f.Step + unit*int64(r.IntN(30))
		f.Offset = r.Int64N(f.Step)
		if unit == day && r.IntN(2) == 0 {
			f.Zone, f.Offset = zones[r.IntN(len(zones))], r.Int64N(20)*types.Hour
		}
		at := r.Int64N(60*365*day) - 5*365*day
		first, last := f.First(at), f.Last(at)
		for k := first - 3; k <= last+3; k++ {
			opens, closes := f.OpensAt(k), f.ClosesAt(k)
			if in := opens <= at && at < closes; in != (k >= first && k <= last) {
				t.Fatalf("%+v at %d: window %d is [%d, %d), those of the instant are %d to %d", f, at, k, opens, closes, first, last)
			}
			if f.OpensAt(k+1) <= opens || closes <= opens {
				t.Fatalf("%+v: window %d does not go on: %d %d", f, k, opens, closes)
			}
		}
		from, to := f.Slice(at)
		if at < from || at >= to {
			t.Fatalf("%+v: the slice of %d is [%d, %d)", f, at, from, to)
		}
		for k := first - 40; k <= last+40; k++ {
			for _, edge := range []int64{f.OpensAt(k), f.ClosesAt(k)} {
				if edge > from && edge < to {
					t.Fatalf("%+v: the slice [%d, %d) has the edge %d inside", f, from, to, edge)
				}
			}
		}
	}
}

// TestCalendar: weeks begin on Mondays, days are 23 and 25 hours long where the clocks change, and a midnight
// that does not exist is the first instant of its date.
func TestCalendar(t *testing.T) {
	at := func(s string) int64 {
		x, ok := types.ParseTimestamp([]byte(s))
		if !ok {
			t.Fatal(s)
		}
		return x
	}
	zone := func(n string) *time.Location {
		z, err := time.LoadLocation(n)
		if err != nil {
			t.Fatal(err)
		}
		return z
	}
	for _, c := range []struct {
		frame         Frame
		at            string
		opens, closes string
	}{
		{Frame{Length: week, Step: week}, "2026-05-17T09:00:00Z", "2026-05-11T00:00:00Z", "2026-05-18T00:00:00Z"},
		{Frame{Length: week, Step: week, Zone: zone("Europe/Rome")}, "2026-05-17T22:30:00Z", "2026-05-17T22:00:00Z", "2026-05-24T22:00:00Z"},
		{Frame{Length: day, Step: day}, "1969-12-31T23:00:00Z", "1969-12-31T00:00:00Z", "1970-01-01T00:00:00Z"},
		{Frame{Length: day, Step: day, Zone: zone("Europe/Rome")}, "2026-03-29T12:00:00Z", "2026-03-28T23:00:00Z", "2026-03-29T22:00:00Z"},
		{Frame{Length: day, Step: day, Zone: zone("Europe/Rome")}, "2026-10-25T12:00:00Z", "2026-10-24T22:00:00Z", "2026-10-25T23:00:00Z"},
		{Frame{Length: day, Step: day, Zone: zone("America/Sao_Paulo")}, "2018-11-04T12:00:00Z", "2018-11-04T03:00:00Z", "2018-11-05T02:00:00Z"},
		{Frame{Length: day, Step: day, Zone: zone("Europe/Rome"), Offset: 6 * types.Hour}, "2026-05-17T03:59:00Z", "2026-05-16T04:00:00Z", "2026-05-17T04:00:00Z"},
	} {
		k := c.frame.Last(at(c.at))
		if o, e := c.frame.OpensAt(k), c.frame.ClosesAt(k); o != at(c.opens) || e != at(c.closes) {
			t.Errorf("%s: [%s, %s), wanted [%s, %s)", c.at, types.AppendTimestamp(nil, o), types.AppendTimestamp(nil, e), c.opens, c.closes)
		}
	}
}
