package service

import (
	"context"
	"os"
	"slices"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/disk"
	"fiume/internal/service/access"
	"fiume/internal/service/advice"
	"fiume/internal/service/jobs"

	"golang.org/x/sys/unix"
)

// adviceSince is how far back the rows are looked at by which delays are judged, adviceStreams how many streams at most.
const (
	adviceSince   = "10 MINUTES"
	adviceStreams = 20
)

// Advice looks at the running service and says what wants somebody, of what the caller of the context may know. deep also looks at how late rows are, which reads topics.
func (s *Service) Advice(ctx context.Context, deep bool) ([]advice.Finding, error) {
	c := access.From(ctx)
	f := s.facts(ctx)
	f.Read = map[string]bool{}
	streams := s.readTopics(f)
	if !c.Everywhere(access.Look) { // of the machine only those are told who look after all of it
		f.Database, f.Free, f.MostFiles = nil, -1, 0
		f.Jobs = slices.DeleteFunc(f.Jobs, func(j jobs.Measure) bool { return !c.May(access.Look, sql.KindJob, j.Name) })
	}
	if deep {
		for _, name := range streams[:min(len(streams), adviceStreams)] {
			if !c.May(access.Read, sql.KindStream, name) {
				continue
			}
			l, err := s.Questions.Lateness(ctx, name, adviceSince)
			if err != nil && ctx.Err() != nil {
				return nil, err
			}
			if err == nil { // one that has no rows, or no event time, is not judged
				f.Lateness = append(f.Lateness, l)
			}
		}
	}
	out := advice.Look(f)
	return slices.DeleteFunc(out, func(x advice.Finding) bool { return x.Of == "topic" && !c.May(access.Look, sql.KindTopic, x.Name) }), nil
}

// findings gives what finds out what is wrong just now. Late and rejected rows are those of the last minutes.
func (s *Service) findings() func(ctx context.Context) ([]advice.Finding, error) {
	type moment struct {
		at      time.Time
		counted map[string]advice.Counted
	}
	var past []moment // the oldest first; one goroutine asks
	return func(ctx context.Context) ([]advice.Finding, error) {
		ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		f := s.facts(ctx)
		now := moment{f.Now, map[string]advice.Counted{}}
		for i := range f.Jobs {
			now.counted[f.Jobs[i].Name] = advice.Count(&f.Jobs[i])
		}
		for len(past) > 1 && f.Now.Sub(past[1].at) >= judgedOver {
			past = past[1:]
		}
		f.Before = now.counted // a share is taken of what has come since it is looked
		if len(past) > 0 {
			f.Before = past[0].counted
		}
		past = append(past, now)
		return advice.Look(f), nil
	}
}

// judgedOver is how long a stretch rows are judged over that were late or rejected.
const judgedOver = 5 * time.Minute

// facts are what advice is made of, but for what takes plans or topics to know.
func (s *Service) facts(ctx context.Context) *advice.Facts {
	v := s.Vitals(ctx)
	f := &advice.Facts{Now: time.Now(), Database: v.Database, Free: v.Free, Jobs: s.Jobs.Measure(), Memory: s.jobMemory, Topics: s.Topics.List()}
	f.Size, _ = disk.Size(s.base.Dir) // where it is not known, only what is free counts
	f.Files, f.MostFiles = openFiles()
	return f
}

// readTopics notes which topics are read, and gives the streams with a time of event that jobs read.
func (s *Service) readTopics(f *advice.Facts) (streams []string) {
	cat := s.base.Current()
	reads := func(p *plan.Plan) {
		for _, o := range p.Scans() {
			if o.Stream.OwnTopics {
				f.Read[o.Stream.Address] = true
			}
		}
	}
	for _, j := range s.Jobs.All() {
		p, err := s.Jobs.PlanOf(j.Text())
		if err != nil {
			continue
		}
		reads(p)
		for _, o := range p.Scans() {
			if o.OfTable == nil && o.Stream.TimeIs != "" && o.Stream.OwnTopics && !slices.Contains(streams, o.Stream.Name) {
				streams = append(streams, o.Stream.Name)
			}
		}
	}
	for _, b := range cat.Boards {
		for _, p := range b.Panels {
			script, err := sql.Read("panel", p.SQL)
			values, verr := b.Values(&p, nil)
			if p.SQL == "" || err != nil || verr != nil {
				continue
			}
			if q, ok := script.Statements[0].(*sql.Query); ok {
				if p := cat.Standing(q, plan.Look{Values: values}, &sql.Errors{}); p != nil {
					reads(p)
				}
			}
		}
	}
	if groups, err := s.base.Store.GroupNames(); err == nil {
		for _, g := range groups {
			if offsets, err := s.base.Store.Offsets(g); err == nil {
				for _, o := range offsets {
					f.Read[o.Topic] = true
				}
			}
		}
	}
	slices.Sort(streams)
	return streams
}

// openFiles says how many files the process has open, and how many it may; 0 where that is not known.
func openFiles() (open, most int) {
	entries, err := os.ReadDir("/proc/self/fd")
	var limit unix.Rlimit
	if err != nil || unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) != nil {
		return 0, 0
	}
	return len(entries), int(min(limit.Cur, 1<<30))
}
