package catalog

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

// recordsTest keeps and finds each kind of record.
func recordsTest(t *testing.T, s Records) {
	t.Helper()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(s.PutDefinition("sink", "b", "one"))
	must(s.PutDefinition("sink", "b", "two"))
	must(s.PutDefinition("sink", "B", "names differ by case"))
	defs, err := s.Definitions()
	must(err)
	if defs = defs[len(defs)-2:]; defs[0].SQL != "two" || defs[1].Name != "B" {
		t.Errorf("%+v", defs)
	}
	must(s.DropDefinition("b"))
	must(s.CreateJob(&Job{Name: "j", SQL: strings.Repeat("x", 100_000), Version: 1, Wanted: "running", State: "starting"}, "ada"))
	if err := s.CreateJob(&Job{Name: "j", SQL: "again", Version: 1, Wanted: "running", State: "starting"}, "ada"); err == nil {
		t.Error("two jobs have one name")
	}
	must(s.SetJob("j", map[string]any{"state": "running", "reason": "because"}))
	jobs, err := s.Jobs()
	must(err)
	if len(jobs) != 1 || jobs[0].State != "running" || jobs[0].Reason != "because" || len(jobs[0].SQL) != 100_000 {
		t.Errorf("%+v", jobs[0].State)
	}
	for n := range int64(7) {
		removed, err := s.AddCheckpoint(&Checkpoint{Job: "j", Version: 1, Number: n, Positions: "{}", File: fmt.Sprint("f", n)}, 3)
		must(err)
		if n >= 3 && (len(removed) != 1 || removed[0] != fmt.Sprint("f", n-3)) {
			t.Errorf("checkpoint %d removes %v", n, removed)
		}
	}
	cs, err := s.Checkpoints("j")
	must(err)
	if len(cs) != 3 || cs[0].Number != 6 || cs[2].Number != 4 {
		t.Errorf("%+v", cs)
	}
	must(s.PutSecret("p", "", []byte{1}))
	must(s.PutSecret("p", "", []byte{2, 0, 255}))
	if b, err := s.SecretNamed("p"); err != nil || string(b) != "\x02\x00\xff" {
		t.Errorf("%v %v", b, err)
	}
	if b, err := s.SecretNamed("nothing"); err != nil || b != nil {
		t.Errorf("%v %v", b, err)
	}
	for i := range 5 {
		must(s.Note("me", "did", fmt.Sprint(i), ""))
	}
	if a, err := s.Activity(0, "", 3); err != nil || len(a) != 3 || a[0].Object != "4" {
		t.Errorf("%+v %v", a, err)
	}
	if a, err := s.Activity(0, "3", 3); err != nil || len(a) != 1 || a[0].Actor != "me" || a[0].At.IsZero() {
		t.Errorf("%+v %v", a, err)
	} else if before, err := s.Activity(a[0].ID, "", 9); err != nil || len(before) != 3 || before[0].Object != "2" {
		t.Errorf("%+v %v", before, err)
	}
	if at, err := s.BindSecret("p", "a@b:1"); err != nil || at != "a@b:1" {
		t.Error(at, err)
	}
	if at, err := s.BindSecret("p", "other@b:1"); err != nil || at != "a@b:1" {
		t.Errorf("a secret that is bound goes to %s, %v", at, err)
	}
	if _, err := s.BindSecret("nothing", "a@b:1"); err == nil {
		t.Error("a secret that is not there is bound")
	}
	must(s.PutSecret("a", "", []byte{1}))
	if all, err := s.Secrets(); err != nil || len(all) != 2 || all[0].Name != "a" || all[1].Address != "a@b:1" || all[1].Sealed != nil {
		t.Errorf("%+v %v", all, err)
	}
	for _, want := range []bool{true, false} {
		if there, err := s.DropSecret("a"); err != nil || there != want {
			t.Error(there, err)
		}
	}
	if b, err := s.SecretNamed("a"); err != nil || b != nil {
		t.Error(b, err)
	}

	must(s.ReplaceJob("j", 2, "two", "bob"))
	if err := s.ReplaceJob("j", 2, "again", "bob"); err == nil {
		t.Error("a version is there twice")
	}
	must(s.PutDefinition("stream", "s", "old"))
	must(s.CreateJob(&Job{Name: "k", SQL: "k", Version: 1, Wanted: "stopped", State: "stopped"}, "ada"))
	if err := s.Redefine("stream", "s", "new", "eve", []Version{{Job: "k", Version: 2, SQL: "k"}, {Job: "j", Version: 2, SQL: "two"}}); err == nil {
		t.Error("a version is there twice")
	}
	if defs, _ := s.Definitions(); defs[len(defs)-1].SQL != "old" {
		t.Error("half of a change was done")
	}
	if vs, err := s.Versions("k"); err != nil || len(vs) != 1 {
		t.Errorf("half of a change was done: %+v %v", vs, err)
	}
	must(s.Redefine("stream", "s", "new", "eve", []Version{{Job: "k", Version: 2, SQL: "k"}, {Job: "j", Version: 3, SQL: "two"}}))
	if vs, err := s.Versions("j"); err != nil || len(vs) != 3 || vs[0].Version != 3 || vs[0].Actor != "eve" || vs[1].SQL != "two" || vs[2].Actor != "ada" {
		t.Errorf("%+v %v", vs, err)
	}
	must(s.SetJob("k", map[string]any{"wanted": "running", "settled": true, "parallelism": 3, "status": "{}"}))
	if jobs, err := s.Jobs(); err != nil || len(jobs) != 2 || jobs[1].Version != 2 || jobs[1].Wanted != "running" || !jobs[1].Settled || jobs[1].Parallelism != 3 || jobs[1].Status != "{}" || jobs[0].SQL != "two" || jobs[0].Version != 3 {
		t.Errorf("%+v %v", jobs, err)
	}
	if err := s.SetJob("k", map[string]any{"nonsense": 1}); err == nil {
		t.Error("a job has a column nonsense")
	}

	at := time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)
	var rows []SetAside
	for i := range 7 {
		rows = append(rows, SetAside{Job: "j", Kind: []string{"late", "rejected"}[i%2], At: at, Step: fmt.Sprint("s", i%3), Reason: fmt.Sprint("reason ", i), Class: "c", Row: fmt.Sprintf(`{"n":%d}`, i)})
	}
	must(s.AddSetAside(rows, 2))
	must(s.AddSetAside(nil, 2))
	all, err := s.SetAsides(Looking{Job: "j", Limit: 10})
	must(err)
	if len(all) != 4 || all[0].Row != `{"n":6}` || all[3].Row != `{"n":3}` {
		t.Errorf("%+v", all)
	}
	for l, want := range map[Looking]int{{Kind: "late"}: 2, {Step: "s0"}: 2, {Class: "d"}: 0, {Text: "reason 5"}: 1, {Text: `"n":4`}: 1, {Before: all[1].ID}: 2} {
		l.Job, l.Limit = "j", 10
		if got, err := s.SetAsides(l); err != nil || len(got) != want {
			t.Errorf("%+v gives %d rows, %v", l, len(got), err)
		}
	}
	must(s.Sent(all[0].ID, at, "me"))
	if x, err := s.SetAsideOf(all[0].ID); err != nil || x == nil || x.SentBy != "me" || x.SentAt == nil || !x.SentAt.Equal(at) {
		t.Errorf("%+v %v", x, err)
	}
	if x, err := s.SetAsideOf(1 << 30); err != nil || x != nil {
		t.Errorf("%+v %v", x, err)
	}
	must(s.AddReasons([]ReasonCount{{Job: "j", Step: "s", Class: "a", Count: 2}, {Job: "j", Step: "s", Class: "b", Count: 3}}))
	must(s.AddReasons([]ReasonCount{{Job: "j", Step: "s", Class: "a", Count: 5}}))
	must(s.AddReasons(nil))
	if r, err := s.Reasons("j"); err != nil || len(r) != 2 || r[0].Class != "a" || r[0].Count != 7 {
		t.Errorf("%+v %v", r, err)
	}
	var minutes []Minute
	for i := range 4 {
		minutes = append(minutes, Minute{Job: "j", At: at.Add(time.Duration(i) * time.Minute), Point: fmt.Sprint(i)})
	}
	must(s.AddMinutes(minutes, at.Add(time.Minute)))
	if m, err := s.Minutes("j", at.Add(2*time.Minute)); err != nil || len(m) != 2 || m[0].Point != "2" {
		t.Errorf("%+v %v", m, err)
	}
	if m, err := s.Minutes("j", time.Time{}.AddDate(2000, 0, 0)); err != nil || len(m) != 3 {
		t.Errorf("what is old is kept: %+v %v", m, err)
	}

	x := Sample{Name: "x", Origin: "topic t", Format: "json", Messages: 1, Bytes: 2, Data: []byte{1, 2}}
	must(s.PutSample(&x))
	must(s.PutSample(&Sample{Name: "y", Data: []byte{3}}))
	if list, err := s.Samples(); err != nil || len(list) != 2 || list[0].Name != "y" || list[1].Data != nil || list[1].ID != x.ID {
		t.Errorf("%+v %v", list, err)
	}
	if got, err := s.SampleOf(x.ID); err != nil || got == nil || string(got.Data) != "\x01\x02" {
		t.Errorf("%+v %v", got, err)
	}
	if there, err := s.DropSample(x.ID); err != nil || !there {
		t.Error(there, err)
	}
	if there, err := s.DropSample(x.ID); err != nil || there {
		t.Error(there, err)
	}
	if got, err := s.SampleOf(x.ID); err != nil || got != nil {
		t.Errorf("%+v %v", got, err)
	}

	must(s.PutOffsets([]GroupOffset{{Group: "g", Topic: "t", Partition: 1, Offset: 7, Metadata: "m"}, {Group: "g", Topic: "t", Offset: 3}, {Group: "G", Topic: "u", Offset: 1}}))
	must(s.PutOffsets([]GroupOffset{{Group: "g", Topic: "t", Partition: 1, Offset: 9}}))
	if got, err := s.Offsets("g"); err != nil || len(got) != 2 || got[0].Offset != 3 || got[1].Offset != 9 || got[1].Metadata != "" {
		t.Errorf("%+v %v", got, err)
	}
	if names, err := s.GroupNames(); err != nil || !slices.Equal(names, []string{"G", "g"}) {
		t.Error(names, err)
	}
	must(s.DropOffsets("", "t"))
	if names, err := s.GroupNames(); err != nil || !slices.Equal(names, []string{"G"}) {
		t.Error(names, err)
	}
	must(s.DropOffsets("G", ""))
	if got, err := s.Offsets("G"); err != nil || len(got) != 0 {
		t.Errorf("%+v %v", got, err)
	}

	must(s.DropJob("j"))
	if files, err := s.DropCheckpoints("j"); err != nil || len(files) != 0 {
		t.Errorf("%+v %v", files, err)
	}
	if all, err := s.SetAsides(Looking{Job: "j", Limit: 10}); err != nil || len(all) != 0 {
		t.Errorf("%+v %v", all, err)
	}
	if _, err := s.AddCheckpoint(&Checkpoint{Job: "k", Version: 1, Number: 1, Positions: "{}", File: "f"}, 3); err != nil {
		t.Fatal(err)
	}
	if files, err := s.DropCheckpoints("k"); err != nil || !slices.Equal(files, []string{"f"}) {
		t.Error(files, err)
	}
	if cs, err := s.Checkpoints("k"); err != nil || len(cs) != 0 {
		t.Errorf("%+v %v", cs, err)
	}
}

// TestRecords: what keeps records in memory is as what keeps them in a database.
func TestRecords(t *testing.T) {
	m := NewMemory()
	recordsTest(t, m)
	m.Fail = func(call string) error { return errors.New(call + " fails") }
	if err := m.Note("me", "did", "it", ""); err == nil || err.Error() != "Note fails" {
		t.Error(err)
	}
}
