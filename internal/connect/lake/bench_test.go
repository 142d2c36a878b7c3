package lake_test

import (
	"fmt"
	"testing"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// BenchmarkUpsert puts 5,000 changes at a time into an open table of a million rows.
func BenchmarkUpsert(b *testing.B) {
	src := "DECLARE ENDPOINT pond LAKE '" + b.TempDir() + `';
		DECLARE STREAM s (n BIGINT, says VARCHAR, x DOUBLE) FROM TOPIC 'in';
		DECLARE SINK kept TO LAKE 'race.kept' VIA pond (KEY (n));
		CREATE JOB j AS SELECT n, says, x FROM s ROUTE TO kept;`
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("j", src, nil, nil)
	if err != nil {
		b.Fatal(err)
	}
	o := &connect.Opener{Env: contract.Env{Spools: b.TempDir()}}
	out := plans[0].Outputs()[0]
	s, err := o.OpenSink(out)
	if err != nil {
		b.Fatal(err)
	}
	x := s.(flow.Exact)
	if err := x.Resume(nil); err != nil {
		b.Fatal(err)
	}
	put := func(from, many, step int) {
		enc, err := s.NewEncoder(out.Fields)
		if err != nil {
			b.Fatal(err)
		}
		for at := 0; at < many; at += 5000 {
			batch := column.Batch{Cols: []*column.Vector{column.New(types.Of(types.BigInt)), column.New(types.Of(types.Varchar)), column.New(types.Of(types.Double))}}
			for i := range 5000 {
				n := int64(from + (at+i)*step)
				batch.Cols[0].Append(types.Value{Kind: types.BigInt, I: n % 1_000_000})
				batch.Cols[1].Append(types.Value{Kind: types.Varchar, S: fmt.Sprintf("row %d of many", n)})
				batch.Cols[2].Append(types.Value{Kind: types.Double, F: float64(n) / 7})
				batch.N++
				batch.Time, batch.Pos = append(batch.Time, 0), append(batch.Pos, n)
			}
			enc.Add(&batch)
			if err := s.Write(enc.Take()); err != nil {
				b.Fatal(err)
			}
		}
		h, err := x.Mark(false)
		if err == nil {
			err = x.Commit(h)
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	put(0, 1_000_000, 1)
	b.ResetTimer()
	for i := range b.N {
		put(i, 5000, 199)
	}
	b.ReportMetric(float64(b.N)*5000/b.Elapsed().Seconds(), "changes/s")
	b.StopTimer()
	if err := s.Close(true); err != nil {
		b.Fatal(err)
	}
}
