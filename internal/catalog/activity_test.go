package catalog

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestChain: an entry of the activity log that is changed, removed or put between shows, and one that is removed for its age does not.
func TestChain(t *testing.T) {
	server, err := StartServer(t.Context(), filepath.Join(t.TempDir(), "mariadb"), func(string, ...any) {})
	if err != nil {
		t.Fatal(err)
	}
	defer server.Stop()
	s, err := Open(t.Context(), server.DSN("fiume"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { s.Close() }()
	note := func(from, to int) {
		t.Helper()
		for i := from; i < to; i++ {
			if err := s.Note(Actor("ada", "token ci", "10.0.0.7"), "did", fmt.Sprint("thing ", i), "größer 🏃 \x00\t'"); err != nil {
				t.Fatal(err)
			}
		}
	}
	// Entries from before there were chains.
	for range 2 {
		if err := s.db.Create(&Activity{At: time.Now().UTC(), Actor: "old", Action: "did", Object: "x"}).Error; err != nil {
			t.Fatal(err)
		}
	}
	note(0, 20)
	proof := func(broken uint, entries int) Proof {
		t.Helper()
		p, err := s.Prove()
		if err != nil || p.Broken != broken || p.Entries != entries {
			t.Errorf("%+v %v, wanted broken at %d, %d entries", p, err, broken, entries)
		}
		return p
	}
	newest := proof(0, 22).Newest
	if all, err := s.Activity(0, "thing 19", 10); err != nil || len(all) != 1 || all[0].Chain != newest || all[0].Actor != "ada" || all[0].Via != "token ci" || all[0].Address != "10.0.0.7" {
		t.Errorf("%+v %v", all, err)
	}
	if err := s.Close(); err != nil { // another process goes on with it
		t.Fatal(err)
	}
	if s, err = Open(t.Context(), server.DSN("fiume")); err != nil {
		t.Fatal(err)
	}
	note(20, 30)
	proof(0, 32)
	for _, x := range []struct{ does, undoes string }{
		{"UPDATE activities SET actor = 'eve' WHERE object = 'thing 7'", "UPDATE activities SET actor = 'ada' WHERE object = 'thing 7'"},
		{"UPDATE activities SET at = at + INTERVAL 1 SECOND WHERE object = 'thing 7'", "UPDATE activities SET at = at - INTERVAL 1 SECOND WHERE object = 'thing 7'"},
		{"UPDATE activities SET detail = 'nothing' WHERE object = 'thing 7'", ""},
	} {
		var before Activity
		s.db.Where("object = 'thing 7'").Take(&before)
		if err := s.db.Exec(x.does).Error; err != nil {
			t.Fatal(err)
		}
		proof(before.ID, 32)
		if x.undoes == "" {
			s.db.Model(&Activity{}).Where("id = ?", before.ID).Update("detail", before.Detail)
		} else if err := s.db.Exec(x.undoes).Error; err != nil {
			t.Fatal(err)
		}
		proof(0, 32)
	}
	// Old ones go, and the rest still holds together.
	var tenth Activity
	s.db.Where("object = 'thing 10'").Take(&tenth)
	if n, err := s.ForgetActivity(tenth.At.Add(time.Microsecond)); err != nil || n != 13 {
		t.Errorf("%d %v", n, err)
	}
	proof(0, 19)
	note(30, 31)
	proof(0, 20)
	if all, err := s.ActivityBehind(0, 3); err != nil || len(all) != 3 || all[0].Object != "thing 11" || all[2].ID < all[0].ID {
		t.Errorf("%+v %v", all, err)
	}
	s.db.Where("object = 'thing 15'").Delete(&Activity{})
	var next Activity
	s.db.Where("object = 'thing 16'").Take(&next)
	proof(next.ID, 19)
	if n, err := s.ForgetActivity(time.Now().Add(time.Hour)); err != nil || n != 19 {
		t.Errorf("%d %v", n, err)
	}
	note(31, 33)
	proof(0, 2)
}

// TestTooNew: records that a newer version has changed are refused, and left as they are.
func TestTooNew(t *testing.T) {
	server, err := StartServer(t.Context(), filepath.Join(t.TempDir(), "mariadb"), func(string, ...any) {})
	if err != nil {
		t.Fatal(err)
	}
	defer server.Stop()
	for range 2 { // made, and opened again
		s, err := Open(t.Context(), server.DSN("fiume"))
		if err != nil {
			t.Fatal(err)
		}
		if err := s.db.Exec("INSERT IGNORE INTO migrations (id) SELECT '9999 from tomorrow' FROM activities").Error; err != nil {
			t.Fatal(err)
		}
		if err := s.Note("ada", "did", "x", ""); err != nil {
			t.Fatal(err)
		}
		s.Close()
	}
	if _, err := Open(t.Context(), server.DSN("fiume")); err == nil || !strings.Contains(err.Error(), `changed by a newer version ("9999 from tomorrow")`) {
		t.Error(err)
	}
}
