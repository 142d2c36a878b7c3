package service

import (
	"context"
	"encoding/json"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/access"
)

// ownRow is a row of a table in which the service tells of itself, by its columns; plan.OwnTables says which there are.
type ownRow map[string]any

// atMicros gives an event time as JSON has it; nil: there is none.
func atMicros(us *int64) any {
	if us == nil {
		return nil
	}
	return time.UnixMicro(*us).UTC()
}

func atTime(t time.Time) any {
	if t.IsZero() {
		return nil
	}
	return t.UTC()
}

func textOr(s string) any {
	if s == "" {
		return nil
	}
	return s
}

// Own gives the rows of one of the tables in which the service tells of itself, as JSON, of what the caller of the context may know.
func (s *Service) Own(ctx context.Context, table string) ([]json.RawMessage, error) {
	t, err := plan.Own(table)
	if err != nil {
		return nil, err
	}
	c := access.From(ctx)
	var rows []ownRow
	switch table {
	case "topics":
		for _, x := range s.Topics.List() {
			if !c.May(access.Look, sql.KindTopic, x.Name) {
				continue
			}
			r := ownRow{"topic": x.Name, "messages": x.Messages, "bytes": x.Bytes}
			if x.LastAt != nil {
				r["newest_at"] = x.LastAt.UTC()
			}
			rows = append(rows, r)
		}
	case "findings":
		all, err := s.Advice(ctx, false)
		if err != nil {
			return nil, err
		}
		for _, f := range all {
			rows = append(rows, ownRow{"kind": f.Kind, "grave": f.Grave, "of": textOr(f.Of), "name": textOr(f.Name), "what": f.What, "todo": f.Do})
		}
	default:
		rows = s.ownOfJobs(c, table)
	}
	out := make([]json.RawMessage, 0, len(rows))
	for _, r := range rows {
		for k := range r { // a column that is not declared would be lost without a word
			if !t.Has(k) {
				panic("fiume." + table + " has no column " + k)
			}
		}
		b, err := json.Marshal(r)
		if err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, nil
}

func (s *Service) ownOfJobs(c *access.Caller, table string) (rows []ownRow) {
	for _, j := range s.Jobs.Measure() {
		if !c.May(access.Look, sql.KindJob, j.Name) {
			continue
		}
		var bytes int64
		var watermark *int64
		for _, x := range j.Status.Splits {
			if !x.Table && !x.Idle && x.Watermark != nil && (watermark == nil || *x.Watermark < *watermark) {
				watermark = x.Watermark
			}
			if table != "splits" {
				continue
			}
			r := ownRow{"job": j.Name, "stream": x.Stream, "split": x.Split, "waiting": nil, "watermark": atMicros(x.Watermark), "idle": x.Idle, "silent_seconds": nil, "away_since": nil, "reason": nil}
			if x.Left != nil {
				r["waiting"] = *x.Left
			}
			if x.Holds != nil {
				r["silent_seconds"] = float64(x.Holds.Silent) / 1e6
			}
			if x.Waiting != nil {
				r["away_since"], r["reason"] = atTime(x.Waiting.Since), x.Waiting.Reason
			}
			rows = append(rows, r)
		}
		for _, x := range j.Status.Steps {
			bytes += int64(x.Bytes)
			switch {
			case table == "steps":
				rows = append(rows, ownRow{"job": j.Name, "step": x.Step, "kind": x.Kind, "rows_in": x.Counts.In, "rows_out": x.Out, "late": x.Counts.Late, "rejected": x.Counts.Rejected,
					"state_keys": x.Keys, "state_bytes": x.Bytes, "watermark": atMicros(x.Watermark)})
			case table == "sinks" && x.Kind == plan.Output.String():
				r := ownRow{"job": j.Name, "sink": x.Step, "rows": x.Counts.In, "rejected": x.Counts.Rejected, "spooled_bytes": x.Spooled, "away_since": nil, "tries": 0, "reason": nil}
				if w := x.Waiting; w != nil {
					r["away_since"], r["tries"], r["reason"] = atTime(w.Since), w.Tries, w.Reason
				}
				rows = append(rows, r)
			}
		}
		if table == "jobs" {
			r := ownRow{"job": j.Name, "state": j.State, "reason": textOr(j.Reason), "since": atTime(j.Since), "rows_in": j.In, "rows_out": j.Out, "late": j.Late, "rejected": j.Rejects,
				"waiting": j.Left, "watermark": atMicros(watermark), "state_bytes": bytes, "checkpoint_at": atTime(j.Checkpoint.At), "no_checkpoint_since": nil}
			if j.Abandoned != nil {
				r["no_checkpoint_since"] = atTime(j.Abandoned.Since)
			}
			rows = append(rows, r)
		}
	}
	return rows
}
