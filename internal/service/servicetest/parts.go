// Package servicetest makes the parts of a service for tests: over records in memory, in a directory of the test.
package servicetest

import (
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect/roots"
	"fiume/internal/disk"
	"fiume/internal/service/base"
	"fiume/internal/service/boards"
	"fiume/internal/service/declare"
	"fiume/internal/service/jobs"
	"fiume/internal/service/people"
	"fiume/internal/service/questions"
	"fiume/internal/service/samples"
	"fiume/internal/service/secrets"
	"fiume/internal/service/topics"
	"fiume/internal/topiclog"
)

// Patience is how long Wait waits: on a machine that does much else, too.
const Patience = 2 * time.Minute

// Parts are those of a service.
type Parts struct {
	*testing.T
	Base        *base.Base
	Records     *catalog.Memory
	People      *people.People
	Secrets     *secrets.Vault
	Topics      *topics.Topics
	Jobs        *jobs.Jobs
	Samples     *samples.Samples
	Definitions *declare.Definitions
	Questions   *questions.Questions
	Boards      *boards.Boards

	closed bool
}

// New makes the parts of a service that has nothing yet. They are closed with the test.
func New(t *testing.T) *Parts { return open(t, t.TempDir(), catalog.NewMemory()) }

// Restart closes the parts and opens them again over what is kept, as a new process would.
func (p *Parts) Restart() *Parts {
	p.Helper()
	p.Close()
	return open(p.T, p.Base.Dir, p.Records)
}

func open(t *testing.T, dir string, records *catalog.Memory) *Parts {
	t.Helper()
	b := &base.Base{Dir: dir, Log: slog.New(slog.DiscardHandler), Store: records, Identity: "test", Turns: base.NewTurns(256 << 20)}
	p := &Parts{T: t, Base: b, Records: records}
	var err error
	must := func() {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	b.Files, err = roots.New(filepath.Join(dir, "files"))
	must()
	b.TopicLog, err = topiclog.OpenOn(disk.OS{}, filepath.Join(dir, "topics"), nil)
	must()
	p.People, err = people.Open(b)
	must()
	p.Secrets, err = secrets.Open(b)
	must()
	b.Databases.Secret = p.Secrets.OpenFor
	err = declare.Load(b)
	must()
	p.Topics = topics.New(b)
	p.Jobs, err = jobs.New(b, p.Topics, 256<<20)
	must()
	p.Samples = samples.New(b, p.Topics, p.Jobs)
	p.Definitions = declare.New(b, p.Topics, p.Samples, p.Jobs)
	p.Questions = questions.New(b, p.Topics, p.Samples, p.Jobs, p.Definitions)
	p.Boards = boards.New(b)
	t.Cleanup(p.Close)
	p.Jobs.Resume()
	return p
}

// Close stops the jobs and closes the topics.
func (p *Parts) Close() {
	if p.closed {
		return
	}
	p.closed = true
	p.Boards.Close()
	p.Jobs.Close()
	if err := p.Base.TopicLog.Close(); err != nil {
		p.Error(err)
	}
}

// Apply does a script, which must go through.
func (p *Parts) Apply(text string) []declare.Outcome {
	p.Helper()
	out, err := p.Definitions.Apply(p.Context(), "test", declare.Script{File: "test.sql", SQL: text}, false)
	if err != nil {
		p.Fatalf("%s\n%v", text, err)
	}
	return out
}

// Refused does a script that must not go through, and whose error says all of the parts.
func (p *Parts) Refused(text string, parts ...string) {
	p.Helper()
	_, err := p.Definitions.Apply(p.Context(), "test", declare.Script{File: "test.sql", SQL: text}, false)
	p.Says(err, parts...)
}

// Says fails where there is no error, or it does not say all of the parts.
func (p *Parts) Says(err error, parts ...string) {
	p.Helper()
	if err == nil {
		p.Errorf("there is no error that says %q", parts)
		return
	}
	for _, s := range parts {
		if !strings.Contains(err.Error(), s) {
			p.Errorf("the error does not say %q: %v", s, err)
		}
	}
}

// Write appends messages to a topic: a value, or a key and a value with a tab between.
func (p *Parts) Write(topic string, messages ...string) {
	p.Helper()
	var recs []topiclog.Record
	for _, m := range messages {
		r := topiclog.Record{Value: []byte(m)}
		if k, v, ok := strings.Cut(m, "\t"); ok {
			r = topiclog.Record{Key: []byte(k), Value: []byte(v)}
		}
		recs = append(recs, r)
	}
	if _, err := p.Topics.Write(topic, "", recs); err != nil {
		p.Fatal(err)
	}
}

// Values gives the messages of a topic, sorted.
func (p *Parts) Values(topic string) []string {
	p.Helper()
	ms, _, err := p.Topics.Read(topic, topics.Reading{Partition: -1, From: -1, Limit: 1 << 20})
	if err != nil {
		p.Fatal(err)
	}
	out := []string{}
	for _, m := range ms {
		out = append(out, m.Value)
	}
	slices.Sort(out)
	return out
}

// Wait waits for something to come true.
func (p *Parts) Wait(what string, cond func() bool) {
	p.Helper()
	for deadline := time.Now().Add(Patience); !cond(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			p.Fatalf("%s did not come about", what)
		}
	}
}

// State gives what a job does.
func (p *Parts) State(job string) jobs.JobInfo {
	p.Helper()
	j, err := p.Jobs.Named(job)
	if err != nil {
		p.Fatal(err)
	}
	return j.Info()
}

// WaitFor waits for a state of a job.
func (p *Parts) WaitFor(job, state string) {
	p.Helper()
	p.Wait("the job "+job+" "+state, func() bool { return p.State(job).State == state })
}

// Activity gives what was done, the oldest first, as actor, action and object.
func (p *Parts) Activity() (out []string) {
	p.Helper()
	all, err := p.Records.Activity(0, "", 1000)
	if err != nil {
		p.Fatal(err)
	}
	for _, a := range slices.Backward(all) {
		out = append(out, a.Actor+" "+a.Action+" "+a.Object)
	}
	return out
}

// Reads is a stream of mat reads over a topic, with a sink over another one.
const Reads = `CREATE TOPIC reads (PARTITIONS 2);
DECLARE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR, rssi DOUBLE, read_at TIMESTAMP NOT NULL) EVENT TIME read_at DELAY 5 SECONDS FROM TOPIC 'reads';
CREATE TOPIC strong (PARTITIONS 1);
DECLARE SINK strong TO TOPIC 'strong';
`

// Strong is a job from the stream reads to the sink strong.
const Strong = `CREATE JOB strong_reads AS SELECT chip, mat FROM reads WHERE rssi > -60 ROUTE TO strong SET (CHECKPOINT EVERY 100 MILLISECONDS);
`
