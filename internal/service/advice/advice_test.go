package advice

import (
	"errors"
	"strings"
	"testing"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/core/step"
	"fiume/internal/service/jobs"
	"fiume/internal/service/questions"
	"fiume/internal/service/topics"
)

// TestLook: each finding is there when its facts are, says what to do, and is not there before or beside them.
func TestLook(t *testing.T) {
	now := time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)
	well := func() *Facts {
		later := now.Add(-time.Second)
		return &Facts{Now: now, Free: 100 << 30, Size: 200 << 30, Files: 50, MostFiles: 1024, Memory: 1 << 30, Read: map[string]bool{"t": true},
			Jobs: []jobs.Measure{{JobInfo: jobs.JobInfo{Name: "j", State: "running", Left: 10}, Status: flow.Status{
				Steps:  []flow.Step{{Kind: "scan", Step: "s", Counts: step.Counts{In: 100_000, Rejected: 10, Late: 10}}, {Kind: "output", Step: "k", Room: 64, Queued: 3, Bytes: 1 << 20}},
				Splits: []flow.SplitStatus{{Stream: "s", Split: "0"}}}}},
			Topics:   []topics.TopicInfo{{Name: "t", Messages: 5, Bytes: 10 << 20, LastAt: &later, WrittenBy: []string{"k"}}},
			Lateness: []*questions.Lateness{{Stream: "s", Delay: 20e6, Kept: 0.9999, Rows: 100_000, Proposals: []questions.DelayProposal{{Share: 0.9999, Delay: 18e6, Waits: -2e6}}}}}
	}
	if out := Look(well()); len(out) != 0 {
		t.Errorf("of a service that is well: %+v", out)
	}
	away := &flow.Waiting{Since: now.Add(-time.Minute), Reason: "refused", Tries: 7}
	brief := &flow.Waiting{Since: now.Add(-time.Second), Reason: "refused", Tries: 1}
	job := func(f *Facts) *jobs.Measure { return &f.Jobs[0] }
	for _, x := range []struct {
		kind, grave, says string
		is, not           func(*Facts) // what makes it be there, and what does not yet
	}{
		{"database-away", Broken, "does not answer: away", func(f *Facts) { f.Database = errors.New("away") }, nil},
		{"disk-fills", Costly, "15.0 GB are free", func(f *Facts) { f.Free = 15 << 30 }, func(f *Facts) { f.Free = 25 << 30 }},
		{"disk-fills", Broken, "500 MB are free", func(f *Facts) { f.Free = 500 << 20 }, func(f *Facts) { f.Free = -1 }},
		{"files-open", Broken, "1000 of 1024", func(f *Facts) { f.Files = 1000 }, func(f *Facts) { f.Files, f.MostFiles = 1000, 0 }},
		{"job-failed", Broken, "it has failed: a fault", func(f *Facts) { job(f).State, job(f).Reason = "failed", "a fault" }, func(f *Facts) { job(f).State, job(f).Since = "stopped", now }},
		{"job-stopped", Tidying, "stood still for 2h0m0s", func(f *Facts) { job(f).State, job(f).Since = "stopped", now.Add(-2*time.Hour) }, func(f *Facts) { job(f).State, job(f).Since = "stopped", now.Add(-time.Minute) }},
		{"job-retries", Broken, "again and again: no place", func(f *Facts) { job(f).State, job(f).Reason = "retrying", "no place" }, func(f *Facts) { job(f).State = "starting" }},
		{"checkpoints-fail", Broken, "for 1m0s (7 tries): refused", func(f *Facts) { job(f).Abandoned = away }, func(f *Facts) { job(f).Abandoned = brief }},
		{"job-behind", Costly, "200000 messages wait", func(f *Facts) { job(f).Left = 200_000 }, func(f *Facts) { job(f).Left = 90_000 }},
		{"messages-lost", Broken, "3 messages of s", func(f *Facts) { job(f).Status.Steps[0].Counts.Lost = 3 }, nil},
		{"rejects-much", Costly, "5000 of 100000 messages, 5.0 %", func(f *Facts) { job(f).Status.Steps[0].Counts.Rejected = 5000 }, func(f *Facts) { job(f).Status.Steps[0].Counts = step.Counts{In: 100, Rejected: 50} }},
		{"rejects-much", Costly, "5000 of 90000 messages, 5.6 %", func(f *Facts) {
			job(f).Status.Steps[0].Counts.Rejected = 6000
			f.Before = map[string]Counted{"j": {Read: 10_000, Rejected: 1000, Late: 10}}
		}, func(f *Facts) {
			job(f).Status.Steps[0].Counts.Rejected = 6000
			f.Before = map[string]Counted{"j": {Read: 10_000, Rejected: 5900, Late: 10}}
		}},
		{"late-much", Costly, "2000 rows came too late, 2.00 %", func(f *Facts) { job(f).Status.Steps[0].Counts.Late = 2000 }, func(f *Facts) { job(f).Status.Steps[0].Counts = step.Counts{In: 100, Late: 50} }},
		{"sink-away", Broken, "k has been tried in vain for 1m0s (7 times): refused", func(f *Facts) { job(f).Status.Steps[1].Waiting = away }, func(f *Facts) { job(f).Status.Steps[1].Waiting = brief }},
		{"sink-slow", Costly, "k takes rows more slowly", func(f *Facts) { job(f).Status.Steps[1].Queued = 64 }, func(f *Facts) { job(f).Status.Steps[1].Queued = 60 }},
		{"state-grows", Costly, "holds 800 MB of state, of 1.0 GB", func(f *Facts) { job(f).Status.Steps[1].Bytes = 800 << 20 }, func(f *Facts) { job(f).Status.Steps[1].Bytes = 600 << 20 }},
		{"state-parked", Costly, "4 parts of the state of k", func(f *Facts) { job(f).Status.Steps[1].Parked = 4 }, nil},
		{"keys-uneven", Costly, "one of the 4 tasks of k does 85 % of its work", func(f *Facts) {
			job(f).Since, job(f).Status.Steps[1].Busy = now.Add(-3*time.Minute), []int64{5e6, 102e6, 6e6, 7e6}
		}, func(f *Facts) {
			job(f).Since, job(f).Status.Steps[1].Busy = now.Add(-3*time.Minute), []int64{20e6, 102e6, 30e6, 20e6}
		}},
		{"keys-uneven", Costly, "one of the 2 tasks of k does 90 % of its work", func(f *Facts) {
			job(f).Since, job(f).Status.Steps[1].Busy = now.Add(-3*time.Minute), []int64{108e6, 12e6}
		}, func(f *Facts) { // they rest most of the time
			job(f).Since, job(f).Status.Steps[1].Busy = now.Add(-3*time.Hour), []int64{108e6, 12e6}
		}},
		{"source-away", Broken, "0 of s cannot be read for 1m0s", func(f *Facts) { job(f).Status.Splits[0].Waiting = away }, func(f *Facts) { job(f).Status.Splits[0].Waiting = brief }},
		{"events-ahead", Costly, "0 of s lies 48h0m0s ahead of the clock", func(f *Facts) {
			at := now.Add(48 * time.Hour).UnixMicro()
			job(f).Status.Splits[0].NewestAt = &at
		}, func(f *Facts) { at := now.Add(time.Minute).UnixMicro(); job(f).Status.Splits[0].NewestAt = &at }},
		{"split-silent", Costly, "0 of s has had no row for 5m0s", func(f *Facts) { job(f).Status.Splits[0].Holds = &flow.Holds{Silent: 300e6} }, func(f *Facts) { job(f).Status.Splits[0].Holds = &flow.Holds{Silent: 30e6} }},
		{"delay-long", Tidying, "DELAY 3 SECONDS would keep 99.99 %, with results 17s earlier", func(f *Facts) {
			f.Lateness[0].Proposals = []questions.DelayProposal{{Share: 0.9999, Delay: 3e6, Waits: -17e6}}
		}, func(f *Facts) { f.Lateness[0].Rows = 100 }},
		{"delay-short", Costly, "DELAY 1 MINUTE would keep 99.90 %", func(f *Facts) {
			f.Lateness[0].Kept = 0.9
			f.Lateness[0].Proposals = []questions.DelayProposal{{Share: 0.999, Delay: 60e6, Waits: 40e6}}
		}, func(f *Facts) {
			f.Lateness[0].Proposals = []questions.DelayProposal{{Share: 0.999, Delay: 60e6, Waits: 40e6}}
		}},
		{"topic-damaged", Broken, "10 messages are damaged", func(f *Facts) {
			f.Topics[0].Partitions = []topics.PartitionInfo{{Lost: []topics.Lost{{From: 5, To: 14}}}}
		}, nil},
		{"clock-back", Broken, "in 1h0m0s from now", func(f *Facts) { at := now.Add(time.Hour); f.Topics[0].LastAt = &at }, func(f *Facts) { at := now.Add(5 * time.Second); f.Topics[0].LastAt = &at }},
		{"topic-kept", Tidying, "it has 3.0 GB, and is kept for ever", func(f *Facts) { f.Topics[0].Bytes = 3 << 30 }, func(f *Facts) { f.Topics[0].Bytes, f.Topics[0].Retain = 3<<30, "1 DAY" }},
		{"topic-unread", Tidying, "it is written by k", func(f *Facts) { f.Read["t"] = false }, func(f *Facts) { f.Read["t"], f.Topics[0].Messages = false, 0 }},
	} {
		f := well()
		x.is(f)
		out := Look(f)
		if len(out) != 1 || out[0].Kind != x.kind || out[0].Grave != x.grave || !strings.Contains(out[0].What, x.says) || out[0].Do == "" {
			t.Errorf("%s: %+v", x.kind, out)
		}
		if x.not != nil {
			f = well()
			x.not(f)
			for _, y := range Look(f) {
				if y.Kind == x.kind {
					t.Errorf("%s is there too early: %+v", x.kind, y)
				}
			}
		}
	}
	f := well()
	f.Read["t"] = false
	f.Database = errors.New("away")
	job(f).Left = 200_000
	if out := Look(f); len(out) != 3 || out[0].Grave != Broken || out[1].Grave != Costly || out[2].Grave != Tidying {
		t.Errorf("the gravest do not stand first: %+v", out)
	}
}
