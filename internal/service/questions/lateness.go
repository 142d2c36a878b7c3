package questions

import (
	"context"

	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/base"
	"fiume/internal/service/declare"
)

// Lateness says how far the rows of a stream lie behind the newest row of their split, and so what each
// DELAY would keep of them and cost.
type Lateness struct {
	Stream    string           `json:"stream"`
	EventTime string           `json:"event_time" doc:"the column"`
	Delay     int64            `json:"delay" doc:"the delay that is declared, microseconds"`
	Kept      float64          `json:"kept" doc:"the share of the rows that it keeps"`
	Rows      int64            `json:"rows"`
	Rejected  int64            `json:"rejected" doc:"messages that are no rows"`
	Most      int64            `json:"most" doc:"the greatest lag, microseconds"`
	Buckets   []flow.LagBucket `json:"buckets" doc:"rows by lag"`
	Proposals []DelayProposal  `json:"proposals"`
	Splits    []SplitLateness  `json:"splits"`
}

// DelayProposal is the shortest delay that keeps a share of the rows.
type DelayProposal struct {
	Share float64 `json:"share"`
	Delay int64   `json:"delay" doc:"microseconds"`
	Waits int64   `json:"waits" doc:"how much later than now results would come, microseconds; below zero: earlier"`
}

// SplitLateness is about one split.
type SplitLateness struct {
	Split   string           `json:"split"`
	Rows    int64            `json:"rows"`
	Kept    float64          `json:"kept"`
	Half    int64            `json:"half" doc:"the lag that half of the rows do not exceed, microseconds"`
	Most99  int64            `json:"most_99" doc:"the lag that 99 % of the rows do not exceed, microseconds"`
	Most    int64            `json:"most"`
	Buckets []flow.LagBucket `json:"buckets"`
}

// Lateness reads what a stream has now, from a place in it, and gives how late its rows are. since is
// what stands behind SINCE; "" stands for the beginning.
func (s *Questions) Lateness(ctx context.Context, name, since string) (*Lateness, error) {
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	st := s.Current().Streams[name]
	if st == nil {
		if _, err := s.definitions.Describe(name); err != nil {
			return nil, err
		}
		return nil, base.Errorf(base.ErrNotFound, "%q is no stream", name)
	}
	if st.Arrival() {
		return nil, base.Errorf(base.ErrRefused, "the event time of %s is the time of arrival, so that no row is late", name)
	}
	column := st.TimeIs
	q := "SELECT " + sql.Quoted(column) + " FROM " + sql.Quoted(name)
	if since != "" {
		if _, err := plan.ParseBound(since); err != nil { // nothing but a place to begin goes into the text
			return nil, err
		}
		q += " SINCE " + since
	} else if st.Times {
		q += " SINCE BEGINNING"
	}
	if st.Times {
		q += " UNTIL NOW"
	}
	live, err := s.Query(ctx, declare.Script{File: "lateness", SQL: q + ";"})
	if err != nil {
		return nil, err
	}
	o := s.Opener()
	o.Live = true
	o.Rows = &rows.Sink{Format: "json", Limit: -1, Each: func([]byte) error { return nil }}
	if err := o.Check(ctx, live.plan); err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	run, err := s.RunQuestion(ctx, live.plan, o, flow.Options{Describe: text.Describe, Lags: true})
	if err != nil {
		return nil, err
	}
	out := &Lateness{Stream: name, EventTime: column, Delay: st.Delay, Splits: []SplitLateness{}, Rejected: run.Status().Steps[0].Counts.Rejected}
	var all flow.Lags
	for _, l := range run.Lags() {
		all.Add(l.Lags)
		out.Splits = append(out.Splits, SplitLateness{Split: l.Split, Rows: l.Rows, Kept: l.Kept(st.Delay), Half: l.Delay(0.5), Most99: l.Delay(0.99), Most: l.Most, Buckets: l.Buckets()})
	}
	out.Rows, out.Most, out.Kept, out.Buckets = all.Rows, all.Most, all.Kept(st.Delay), all.Buckets()
	out.Proposals = []DelayProposal{}
	if all.Rows > 0 {
		for _, share := range []float64{0.99, 0.999, 0.9999, 1} {
			d := all.Delay(share)
			out.Proposals = append(out.Proposals, DelayProposal{share, d, d - st.Delay})
		}
	}
	return out, nil
}
