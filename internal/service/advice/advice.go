// Package advice says what in a running service wants somebody, and what he can do: findings, of what is measured of its jobs, topics and machine. It only
// judges; it measures nothing itself.
package advice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/sql"
	"fiume/internal/service/jobs"
	"fiume/internal/service/questions"
	"fiume/internal/service/topics"
)

// How bad a finding is.
const (
	Broken  = "broken"  // something does not work, or is about not to
	Costly  = "costly"  // rows are lost or kept waiting, or more is held than need be
	Tidying = "tidying" // nothing is wrong yet
)

var order = []string{Broken, Costly, Tidying}

// Finding is something that wants somebody.
type Finding struct {
	Kind  string `json:"kind" doc:"its short name, such as split-silent"`
	Grave string `json:"grave" enum:"broken,costly,tidying"`
	Of    string `json:"of,omitempty" doc:"what it is about: job, topic or stream, which name tells; left out: the service"`
	Name  string `json:"name,omitempty"`
	Part  string `json:"part,omitempty" doc:"which part of it: a step, a sink, a split"`
	What  string `json:"what" doc:"what was found"`
	Do    string `json:"do" doc:"what can be done"`
	Run   string `json:"run,omitempty" doc:"a statement or a command for that, to be looked at first"`
}

// Facts are what is measured.
type Facts struct {
	Now       time.Time
	Database  error
	Free      int64 // bytes on the disk of the service's directory; -1: not known
	Size      int64 // of it
	Files     int   // open ones
	MostFiles int   // that may be open; 0: not known
	Jobs      []jobs.Measure
	Memory    int64 // that the state of a job may hold
	Topics    []topics.TopicInfo
	Lateness  []*questions.Lateness // of streams that jobs read
	// Before is what jobs had counted a while ago: of those that are there, the rows since then are judged.
	Before map[string]Counted
	// Read says which topics somebody reads: a job, a board, a group of a broker's clients; nil: not known.
	Read map[string]bool
}

// Counted is what a job has counted.
type Counted struct {
	Read, Rejected, Late int64
}

// Count adds up what a job has counted.
func Count(j *jobs.Measure) (c Counted) {
	for _, s := range j.Status.Steps {
		if s.Kind == "scan" {
			c.Read += s.Counts.In
		}
		c.Rejected += s.Counts.Rejected
		c.Late += s.Counts.Late
	}
	return c
}

// From when on something is said.
const (
	leastFree   = 1 << 30
	freeShare   = 0.1
	filesShare  = 0.8
	awayFor     = 30 * time.Second
	silentFor   = time.Minute
	stoodFor    = time.Hour
	farAhead    = 10 * time.Minute
	behindBy    = 100_000 // messages
	lateShare   = 0.001
	rejectShare = 0.01
	leastRows   = 1000 // of which a share is taken
	waitsMore   = 5 * time.Second
	stateShare  = 0.7
	largeTopic  = 1 << 30
	leastWork   = time.Minute
	busyShare   = 0.5 // of the time that a job has run, which its busiest task has worked
	unevenBy    = 0.6 // between all doing the same, and one doing all
)

// Look gives the findings, the gravest first.
func Look(f *Facts) []Finding {
	out := []Finding{}
	add := func(x Finding) { out = append(out, x) }
	if f.Database != nil {
		add(Finding{Kind: "database-away", Grave: Broken, What: "the catalog's database does not answer: " + f.Database.Error(), Do: "jobs go on, and take no checkpoint meanwhile; look after the database"})
	}
	if f.Free >= 0 && (f.Free < leastFree || f.Size > 0 && float64(f.Free) < freeShare*float64(f.Size)) {
		run := ""
		if t := largest(f.Topics); t != nil {
			run = fmt.Sprintf("fiume topic list # the largest is %s with %s", t.Name, bytesText(t.Bytes))
		}
		grave := Costly
		if f.Free < leastFree {
			grave = Broken
		}
		add(Finding{Kind: "disk-fills", Grave: grave, What: fmt.Sprintf("%s are free on the disk of the service's directory", bytesText(f.Free)), Do: "make room, or have topics be kept for less long: CREATE TOPIC … (RETAIN …)", Run: run})
	}
	if f.MostFiles > 0 && float64(f.Files) > filesShare*float64(f.MostFiles) {
		add(Finding{Kind: "files-open", Grave: Broken, What: fmt.Sprintf("%d of %d files that may be open are open", f.Files, f.MostFiles), Do: "let the service open more (LimitNOFILE of its unit, ulimit -n), or have fewer partitions and jobs"})
	}
	for i := range f.Jobs {
		f.job(&f.Jobs[i], add)
	}
	for _, l := range f.Lateness {
		lateness(l, add)
	}
	for _, t := range f.Topics {
		f.topic(&t, add)
	}
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Compare(slices.Index(order, a.Grave), slices.Index(order, b.Grave))
	})
	return out
}

func largest(all []topics.TopicInfo) *topics.TopicInfo {
	if len(all) == 0 {
		return nil
	}
	t := slices.MaxFunc(all, func(a, b topics.TopicInfo) int { return cmp.Compare(a.Bytes, b.Bytes) })
	return &t
}

func bytesText(n int64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%d MB", n>>20)
	}
	return fmt.Sprintf("%d kB", n>>10)
}

func (f *Facts) ago(t time.Time) time.Duration { return f.Now.Sub(t).Round(time.Second) }

// job judges a job.
func (f *Facts) job(j *jobs.Measure, add func(Finding)) {
	q := sql.Quoted(j.Name)
	part := ""
	say := func(kind, grave, what, do, run string) { add(Finding{kind, grave, "job", j.Name, part, what, do, run}) }
	switch j.State {
	case "failed":
		say("job-failed", Broken, "it has failed: "+j.Reason, "mend what it says, and start it; it goes on from its newest checkpoint", "START JOB "+q+";")
		return
	case "retrying":
		say("job-retries", Broken, "it begins again and again: "+j.Reason, "mend what it says; it goes on by itself", "fiume job show "+j.Name)
	case "stopped":
		if f.ago(j.Since) > stoodFor {
			say("job-stopped", Tidying, fmt.Sprintf("it has stood still for %s", f.ago(j.Since)), "start it, before its topics forget what it has not read; or drop it", "START JOB "+q+";")
		}
		return
	case "finished":
		return
	}
	if w := j.Abandoned; w != nil && f.ago(w.Since) > awayFor {
		say("checkpoints-fail", Broken, fmt.Sprintf("it has had no checkpoint for %s (%d tries): %s", f.ago(w.Since), w.Tries, w.Reason), "after a crash it would read from there again; look at what holds the checkpoint up", "fiume job state "+j.Name)
	}
	if j.Left > behindBy {
		say("job-behind", Costly, fmt.Sprintf("%d messages wait to be read", j.Left), "where that does not get less, let more tasks share its work", fmt.Sprintf("fiume job parallelism %s N", j.Name))
	}
	n := Count(j)
	full := ""
	for _, s := range j.Status.Steps {
		part = s.Step
		if s.Kind == "scan" {
			if s.Counts.Lost > 0 {
				say("messages-lost", Broken, fmt.Sprintf("%d messages of %s were damaged, or removed before they were read", s.Counts.Lost, s.Step), "have the topic be kept for longer than the job may stand still", "")
			}
		}
		if w := s.Waiting; w != nil && f.ago(w.Since) > awayFor {
			say("sink-away", Broken, fmt.Sprintf("%s has been tried in vain for %s (%d times): %s", s.Step, f.ago(w.Since), w.Tries, w.Reason), "nothing is lost: what it is to get waits, here and in the topics", "fiume connections "+s.Step)
		}
		if s.Kind == "output" && s.Waiting == nil && s.Room > 0 && s.Queued >= s.Room && full == "" {
			full = s.Step
			say("sink-slow", Costly, fmt.Sprintf("%s takes rows more slowly than they come, and the steps before it wait", s.Step), "look at its place; where it takes batches, larger ones may help (its options: DESCRIBE PLACE)", "fiume job show "+j.Name)
		}
		if of := uneven(s.Busy); of > 0 && f.ago(j.Since) > 0 && float64(slices.Max(s.Busy)) > busyShare*float64(f.ago(j.Since).Microseconds()) {
			say("keys-uneven", Costly, fmt.Sprintf("one of the %d tasks of %s does %.0f %% of its work, and the others wait: few keys have most of the rows", len(s.Busy), s.Step, 100*of),
				"more tasks do not help; group by something finer first, and put its results together in a step behind it, or leave rows out that nobody needs", "EXPLAIN JOB "+q+";")
		}
		if s.Parked > 0 {
			say("state-parked", Costly, fmt.Sprintf("%d parts of the state of %s do not fit into memory, and are worked off later", s.Parked, s.Step), "give the job more memory, or forget keys earlier (FORGET AFTER, shorter windows)", "SET (MEMORY …) behind its routes, or fiume serve --job-memory")
		} else if f.Memory > 0 && float64(s.Bytes) > stateShare*float64(f.Memory) {
			say("state-grows", Costly, fmt.Sprintf("%s holds %s of state, of %s that a job may hold in memory", s.Step, bytesText(int64(s.Bytes)), bytesText(f.Memory)), "see what it keeps and what bounds it", "fiume job state "+j.Name)
		}
	}
	part = ""
	if was, ok := f.Before[j.Name]; ok && was.Read <= n.Read && was.Rejected <= n.Rejected && was.Late <= n.Late {
		n = Counted{n.Read - was.Read, n.Rejected - was.Rejected, n.Late - was.Late}
	}
	if n.Read > leastRows && float64(n.Rejected) > rejectShare*float64(n.Read) {
		say("rejects-much", Costly, fmt.Sprintf("%d of %d messages, %.1f %%, were rejected", n.Rejected, n.Read, 100*float64(n.Rejected)/float64(n.Read)), "see why; where messages have changed, the declaration can follow them", "fiume job aside "+j.Name+" --kind rejected")
	}
	if n.Read > leastRows && float64(n.Late) > lateShare*float64(n.Read) {
		say("late-much", Costly, fmt.Sprintf("%d rows came too late, %.2f %% of %d messages", n.Late, 100*float64(n.Late)/float64(n.Read), n.Read), "a longer DELAY would keep them, and have results come later; LATENESS has them correct what was given", "fiume job aside "+j.Name+" --kind late")
	}
	for _, s := range j.Status.Splits {
		part = s.Stream + " " + s.Split
		if w := s.Waiting; w != nil && f.ago(w.Since) > awayFor {
			say("source-away", Broken, fmt.Sprintf("%s of %s cannot be read for %s (%d tries): %s", s.Split, s.Stream, f.ago(w.Since), w.Tries, w.Reason), "the others go on; look at its place", "fiume connections "+s.Stream)
		}
		if s.NewestAt != nil && !s.Table {
			if ahead := time.UnixMicro(*s.NewestAt).Sub(f.Now).Round(time.Second); ahead > farAhead {
				say("events-ahead", Costly, fmt.Sprintf("the newest row of %s of %s lies %s ahead of the clock, and rows that tell the right time come too late behind it", s.Split, s.Stream, ahead),
					"declare how far ahead a row may lie: AHEAD 1 MINUTE behind EVENT TIME; then it is rejected, and the watermark stays", "fiume lateness "+s.Stream)
			}
		}
		if h := s.Holds; h != nil && time.Duration(h.Silent)*time.Microsecond > silentFor {
			say("split-silent", Costly, fmt.Sprintf("%s of %s has had no row for %s, and the results of the others wait for it", s.Split, s.Stream, (time.Duration(h.Silent)*time.Microsecond).Round(time.Second)),
				"declare when a split that is silent is idle: IDLE AFTER behind EVENT TIME; the jobs that use the stream go along", "fiume lateness "+s.Stream)
		}
	}
}

// uneven gives the share of the work of a step that its busiest task does, where that is far from what it would be if all did the same; 0: it is not, or little was done.
func uneven(busy []int64) float64 {
	sum := int64(0)
	for _, b := range busy {
		sum += b
	}
	if len(busy) < 2 || sum < leastWork.Microseconds() {
		return 0
	}
	even, share := 1/float64(len(busy)), float64(slices.Max(busy))/float64(sum)
	if share < even+unevenBy*(1-even) {
		return 0
	}
	return share
}

// whole rounds a length of time up to seconds, as one would write it.
func whole(us int64) int64 {
	if us < 1e6 {
		return us
	}
	return (us + 1e6 - 1) / 1e6 * 1e6
}

// lateness judges the DELAY of a stream.
func lateness(l *questions.Lateness, add func(Finding)) {
	if l.Rows < leastRows {
		return
	}
	for _, p := range l.Proposals {
		switch saves := time.Duration(l.Delay-whole(p.Delay)) * time.Microsecond; {
		case p.Share >= 0.9999 && l.Kept >= p.Share && saves > waitsMore:
			add(Finding{"delay-long", Tidying, "stream", l.Stream, "", fmt.Sprintf("DELAY %s keeps %.2f %% of the newest %d rows, and DELAY %s would keep %.2f %%, with results %s earlier", sql.DurationText(l.Delay), 100*l.Kept, l.Rows, sql.DurationText(whole(p.Delay)), 100*p.Share, saves.Round(time.Second)),
				"declare the shorter one, where the rows of these minutes are like others", "fiume lateness " + l.Stream})
			return
		case p.Share >= 0.999 && l.Kept < p.Share && l.Kept < 1-lateShare:
			add(Finding{"delay-short", Costly, "stream", l.Stream, "", fmt.Sprintf("DELAY %s keeps %.2f %% of the newest %d rows, and DELAY %s would keep %.2f %%", sql.DurationText(l.Delay), 100*l.Kept, l.Rows, sql.DurationText(whole(p.Delay)), 100*p.Share),
				"declare the longer one; results come so much later", "fiume lateness " + l.Stream})
			return
		}
	}
}

// topic judges a topic.
func (f *Facts) topic(t *topics.TopicInfo, add func(Finding)) {
	lost := int64(0)
	for _, p := range t.Partitions {
		for _, l := range p.Lost {
			lost += l.To - l.From + 1
		}
	}
	if lost > 0 {
		add(Finding{"topic-damaged", Broken, "topic", t.Name, "", fmt.Sprintf("%d messages are damaged, or gone", lost), "look at the disk; what came before and after can be read", "fiume topic list"})
	}
	if t.LastAt != nil && t.LastAt.Sub(f.Now) > time.Minute {
		add(Finding{"clock-back", Broken, "topic", t.Name, "", fmt.Sprintf("its newest message arrived in %s from now: the clock has gone back", t.LastAt.Sub(f.Now).Round(time.Second)), "set the clock of the machine; times of arrival stand still until it has caught up", ""})
	}
	if t.Bytes > largeTopic && t.Retain == "" && !t.Compact {
		add(Finding{"topic-kept", Tidying, "topic", t.Name, "", fmt.Sprintf("it has %s, and is kept for ever", bytesText(t.Bytes)), "make it with RETAIN, RETAIN MEGABYTES or COMPACT, where its old messages are not needed", ""})
	}
	if f.Read != nil && len(t.WrittenBy) > 0 && !f.Read[t.Name] && t.Messages > 0 && strings.TrimSpace(t.Name) != "" {
		add(Finding{"topic-unread", Tidying, "topic", t.Name, "", fmt.Sprintf("it is written by %s, and no job, board or group of readers reads it", strings.Join(t.WrittenBy, ", ")), "drop the job that writes it, where nobody needs the rows", ""})
	}
}
