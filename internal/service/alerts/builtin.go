package alerts

import (
	"slices"
	"time"
)

// condition is an alert that every service has: a kind of finding.
type condition struct {
	name, about string
	least       time.Duration
}

// builtIn are all of them. The advice that a finding is says what can be done.
var builtIn = []condition{
	{"checkpoints-fail", "a job has had no checkpoint for 30 seconds", 0},
	{"clock-back", "the clock of the machine has gone back", 0},
	{"database-away", "the catalog's database does not answer", 10 * time.Second},
	{"disk-fills", "the disk of the service's directory is about to be full", 0},
	{"files-open", "the service is about to have as many files open as it may", 0},
	{"job-behind", "more than 100,000 messages have waited for a job for 5 minutes", 5 * time.Minute},
	{"job-failed", "a job has failed", 0},
	{"job-retries", "a job begins again and again", 30 * time.Second},
	{"job-stopped", "a job has stood still for an hour", 0},
	{"late-much", "more than a row of a thousand came too late, over five minutes", 0},
	{"messages-lost", "messages were damaged, or removed before they were read", 0},
	{"rejects-much", "more than a message of a hundred was rejected, over five minutes", 0},
	{"sink-away", "a sink has been tried in vain for 30 seconds", 0},
	{"source-away", "a source cannot be read for 30 seconds", 0},
	{"split-silent", "a silent split has held the others up for a minute", 0},
	{"state-parked", "the state of a job has not fitted into its memory for 5 minutes", 5 * time.Minute},
	{"topic-damaged", "messages of a topic are damaged", 0},
}

func builtInOf(name string) *condition {
	i := slices.IndexFunc(builtIn, func(c condition) bool { return c.name == name })
	if i < 0 {
		return nil
	}
	return &builtIn[i]
}
