package people_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/people"
)

// world is people over records in memory.
type world struct {
	*testing.T
	*people.People
	records *catalog.Memory
}

func open(t *testing.T, records *catalog.Memory) *world {
	t.Helper()
	p, err := people.Open(&base.Base{Store: records, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	return &world{t, p, records}
}

func word(name string) *string {
	w := "the password of " + name
	return &w
}

func grants(texts ...string) (out []access.Grant) {
	for _, x := range texts {
		g, err := access.ParseGrant(x)
		if err != nil {
			panic(err)
		}
		out = append(out, g)
	}
	return out
}

func (w *world) put(name string, roles ...string) {
	w.Helper()
	if _, _, err := w.Put("root", name, people.Change{Grants: grants(roles...), Password: word(name)}); err != nil {
		w.Fatal(err)
	}
}

func (w *world) in(name string) string {
	w.Helper()
	text, _, err := w.SignIn(name, *word(name), "test", "10.0.0.1")
	if err != nil {
		w.Fatal(err)
	}
	return text
}

func (w *world) says(err error, kind error, part string) {
	w.Helper()
	if err == nil || !errors.Is(err, kind) || !strings.Contains(err.Error(), part) {
		w.Errorf("%v, wanted %v: %s", err, kind, part)
	}
}

func ended(c *access.Caller) bool {
	select {
	case <-c.Ended:
		return true
	case <-c.Also:
		return true
	default:
		return false
	}
}

// TestFirst: nobody is asked who he is until an administrator has been created, and one is always left.
func TestFirst(t *testing.T) {
	w := open(t, catalog.NewMemory())
	if w.Needed() || w.Administered() || len(w.List()) != 0 {
		t.Error("an empty service asks who calls")
	}
	put := func(name string, c people.Change) error {
		_, _, err := w.Put("local", name, c)
		return err
	}
	w.says(put("bo", people.Change{Grants: grants("read"), Password: word("bo")}), base.ErrRefused, "the first person must be an administrator")
	w.says(put("bo", people.Change{Password: word("bo")}), base.ErrRefused, "give at least one role")
	w.says(put("bo", people.Change{Grants: grants("administer")}), base.ErrRefused, "give bo a password, or a link")
	for _, name := range []string{"", "a b", "local", "service", "-x", strings.Repeat("x", 61), "a\tb", "a\nb"} {
		if err := put(name, people.Change{Grants: grants("administer"), Password: word("bo")}); !errors.Is(err, base.ErrRefused) {
			t.Errorf("%q: %v", name, err)
		}
	}
	for _, p := range []string{"short", "aaaaaaaaaaaaaaa", strings.Repeat("lang", 60)} {
		w.says(put("bo", people.Change{Grants: grants("administer"), Password: &p}), base.ErrRefused, "password")
	}
	if _, _, err := w.NewToken(&access.Caller{Name: "local", Grants: grants("administer")}, "local", "x", grants("look"), 0); !errors.Is(err, base.ErrRefused) {
		t.Error(err)
	}
	w.put("ada", "administer")
	if !w.Needed() || !w.Administered() {
		t.Error("nobody is asked who he is")
	}
	w.put("bo", "read:timing", "operate")
	w.says(w.Drop("root", "ada"), base.ErrConflict, "the last administrator")
	off := true
	w.says(put("ada", people.Change{Off: &off}), base.ErrConflict, "the last administrator")
	w.says(put("ada", people.Change{Grants: grants("read")}), base.ErrConflict, "the last administrator")
	w.says(w.Drop("root", "eve"), base.ErrNotFound, `there is no user "eve"`)
	w.put("eve", "administer")
	if err := w.Drop("root", "ada"); err != nil {
		t.Error(err)
	}
	if l := w.List(); len(l) != 2 || l[0].Name != "bo" || fmt.Sprint(l[0].Grants) != "[read:timing operate]" {
		t.Errorf("%+v", l)
	}
	w = open(t, w.records) // another process
	if l := w.List(); !w.Needed() || len(l) != 2 || l[1].Name != "eve" {
		t.Errorf("%+v", l)
	}
	kept, err := w.records.Kept("person")
	if err != nil || len(kept) != 2 || strings.Contains(fmt.Sprint(kept), "the password of") || !strings.Contains(kept[0].Data, "$argon2id$v=19$m=19456,t=2,p=1$") {
		t.Errorf("%v %v", kept, err)
	}
}

// TestSessions: they end by sign-out, by age, unused, with the person, and when the password changes; what is kept of them opens nothing.
func TestSessions(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := open(t, catalog.NewMemory())
		w.put("ada", "administer")
		w.put("bo", "read:timing")
		text := w.in("bo")
		c := w.Known(text, "10.0.0.1")
		if c == nil || c.Name != "bo" || c.Via != "session" || c.Address != "10.0.0.1" || !c.In(access.Look, "timing") || c.In(access.Read, "other") || c.Everywhere(access.Look) {
			t.Fatalf("%+v", c)
		}
		if kept, _ := w.records.Kept("session"); len(kept) != 1 || strings.Contains(kept[0].ID+kept[0].Data, text) {
			t.Errorf("%v", kept)
		}
		for _, x := range []string{"", text[:len(text)-1], text + "x", strings.ToLower(text), strings.Repeat("x", 10_000)} {
			if w.Known(x, "") != nil {
				t.Errorf("%q is known", x)
			}
		}
		w.SignOut("bo", text)
		if w.Known(text, "") != nil || !ended(c) {
			t.Error("a session goes on after signing out")
		}
		text = w.in("bo")
		time.Sleep(25 * time.Hour)
		if w.Known(text, "") != nil {
			t.Error("a session that was not used for a day goes on")
		}
		text = w.in("bo")
		stop := w.maintained()
		for range 8 * 24 {
			w.Known(text, "")
			time.Sleep(time.Hour)
		}
		if w.Known(text, "") != nil {
			t.Error("a session of eight days goes on")
		}
		text = w.in("bo")
		for range 3 * 24 {
			if w.Known(text, "") == nil {
				t.Fatal("a session that is used ends")
			}
			time.Sleep(time.Hour)
		}
		stop()
		// Another process knows it, too.
		w = open(t, w.records)
		c = w.Known(text, "")
		if c == nil {
			t.Fatal("a session does not outlive the process")
		}
		other := w.in("bo")
		w.says(w.ChangePassword("bo", "bo", text, "wrong password", "another password"), base.ErrDenied, "the password of now is wrong")
		w.says(w.ChangePassword("bo", "bo", text, *word("bo"), "short"), base.ErrRefused, "at least 10 letters")
		if err := w.ChangePassword("bo", "bo", text, *word("bo"), "another password"); err != nil {
			t.Fatal(err)
		}
		if w.Known(text, "") == nil || w.Known(other, "") != nil {
			t.Error("the other sessions end, and the one does not")
		}
		if _, _, err := w.SignIn("bo", *word("bo"), "test", ""); !errors.Is(err, base.ErrUnknown) {
			t.Error(err)
		}
		off := true
		if _, _, err := w.Put("root", "bo", people.Change{Off: &off}); err != nil {
			t.Fatal(err)
		}
		if w.Known(text, "") != nil {
			t.Error("the session of somebody who is off goes on")
		}
		if _, _, err := w.SignIn("bo", "another password", "test", ""); !errors.Is(err, base.ErrUnknown) {
			t.Error(err)
		}
	})
}

// maintained has what is done now and then be done, until it is stopped.
func (w *world) maintained() func() {
	ctx, cancel := contextOf(w.T)
	done := make(chan struct{})
	go func() { w.Maintain(ctx); close(done) }()
	return func() { cancel(); <-done }
}

// TestTries: after some wrong passwords one waits, longer each time; another machine does not, until there are many.
func TestTries(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := open(t, catalog.NewMemory())
		w.put("ada", "administer")
		wrong := func(name, address string) time.Duration {
			_, _, err := w.SignIn(name, "a wrong password", "test", address)
			var many *people.TooMany
			if errors.As(err, &many) {
				return many.Wait
			}
			w.says(err, base.ErrUnknown, "the name or the password is wrong")
			return 0
		}
		for range 6 {
			if d := wrong("ada", "10.0.0.1"); d != 0 {
				t.Fatalf("waits %v", d)
			}
		}
		last := time.Duration(0)
		for range 12 {
			d := wrong("ada", "10.0.0.1")
			if d <= last && d < 15*time.Minute {
				t.Errorf("waits %v after %v", d, last)
			}
			if _, _, err := w.SignIn("ada", *word("ada"), "test", "10.0.0.1"); err == nil {
				t.Error("the right password is looked at while one waits: it can be told from wrong ones")
			}
			last = d
			time.Sleep(d)
			wrong("ada", "10.0.0.1")
		}
		if _, _, err := w.SignIn("ada", *word("ada"), "test", "10.0.0.2"); err != nil {
			t.Errorf("ada is kept out by whoever tries elsewhere: %v", err)
		}
		// Many names from one machine, and one name from many.
		waits := time.Duration(0)
		for i := range 36 {
			waits = max(waits, wrong(fmt.Sprint("nobody", i), "10.0.0.9"))
		}
		if waits == 0 {
			t.Error("36 names are tried from one machine")
		}
		for i := range 52 {
			waits = max(waits, wrong("ada", fmt.Sprint("10.0.1.", i)))
		}
		time.Sleep(time.Hour)
		if _, _, err := w.SignIn("ada", *word("ada"), "test", "10.0.0.1"); err != nil {
			t.Errorf("after an hour: %v", err)
		}
		noted, _ := w.records.Activity(0, "sign-in of ada", 1000)
		if len(noted) < 10 || noted[0].Actor != "nobody" || noted[0].Address == "" {
			t.Errorf("%d entries, %+v", len(noted), noted[0])
		}
	})
}

// TestTokens: a token has no more than who made it has, ends by itself and with him, and is told once.
func TestTokens(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := open(t, catalog.NewMemory())
		w.put("ada", "administer")
		w.put("bo", "develop:timing", "write:timing")
		bo := w.Known(w.in("bo"), "")
		make := func(name string, lasts time.Duration, roles ...string) string {
			t.Helper()
			text, _, err := w.NewToken(bo, "bo", name, grants(roles...), lasts)
			if err != nil {
				t.Fatal(err)
			}
			return text
		}
		for _, roles := range [][]string{{"read"}, {"develop:other"}, {"operate:timing"}, {"administer"}, {"read:timing", "look"}} {
			_, _, err := w.NewToken(bo, "bo", "more", grants(roles...), 0)
			w.says(err, base.ErrDenied, "cannot give a token roles that he does not have")
		}
		day, ever := make("day", 24*time.Hour, "write:timing"), make("ever", 0, "read:timing", "write:timing")
		_, _, err := w.NewToken(bo, "bo", "day", grants("read:timing"), 0)
		w.says(err, base.ErrConflict, "already")
		c := w.Known(day, "10.0.0.3")
		if c == nil || c.Via != "token day" || c.Name != "bo" || c.In(access.Read, "timing") || !c.In(access.Write, "timing") {
			t.Fatalf("%+v", c)
		}
		_, _, err = w.NewToken(&access.Caller{Name: "nobody", Grants: grants("administer")}, "x", "y", grants("look"), 0)
		w.says(err, base.ErrDenied, "tokens are made by people")
		stop := w.maintained()
		time.Sleep(23 * time.Hour)
		if w.Known(day, "") == nil {
			t.Error("a token ends early")
		}
		time.Sleep(61 * time.Minute)
		if w.Known(day, "") != nil || !ended(c) {
			t.Error("a token goes on, or what was open with it")
		}
		stop()
		w = open(t, w.records)
		if all := w.Tokens("bo"); len(all) != 2 || all[0].Used == nil || all[1].Used != nil || len(w.Tokens("ada")) != 0 || len(w.Tokens("")) != 2 {
			t.Errorf("%+v", all)
		}
		if kept, _ := w.records.Kept("token"); strings.Contains(fmt.Sprint(kept), ever) {
			t.Error("a token is kept as it is")
		}
		// What its owner loses it loses, too.
		c = w.Known(ever, "")
		if _, _, err := w.Put("root", "bo", people.Change{Grants: grants("read:timing")}); err != nil {
			t.Fatal(err)
		}
		if !ended(c) {
			t.Error("what is open goes on with the roles from before")
		}
		if c = w.Known(ever, ""); c == nil || c.In(access.Write, "timing") || !c.In(access.Read, "timing") {
			t.Errorf("%+v", c)
		}
		w.says(w.DropToken("ada", "ada", "ever"), base.ErrNotFound, "no token")
		if err := w.Drop("root", "bo"); err != nil || w.Known(ever, "") != nil || len(w.Tokens("")) != 0 || !ended(c) {
			t.Error("a token outlives its owner", err)
		}
	})
}

// TestInvitations: a link lets a password be chosen once, within a day.
func TestInvitations(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := open(t, catalog.NewMemory())
		code, err := w.InviteAdministrator("ada")
		if err != nil || !w.Needed() {
			t.Fatal(err)
		}
		if _, _, err := w.SignIn("ada", "", "test", ""); err == nil {
			t.Error("somebody signs in who has no password yet")
		}
		_, _, _, err = w.Accept("fiume-invite-x", "a good password", "10.0.0.1")
		w.says(err, base.ErrUnknown, "has been used, or has ended")
		name, text, _, err := w.Accept(code, "a good password", "10.0.0.1")
		if err != nil || name != "ada" || w.Known(text, "") == nil || !w.Known(text, "").Everywhere(access.Administer) {
			t.Fatal(name, err)
		}
		_, _, _, err = w.Accept(code, "a better password", "10.0.0.1")
		w.says(err, base.ErrUnknown, "has been used, or has ended")
		x, code, err := w.Put("ada", "bo", people.Change{Grants: grants("look"), Invite: true})
		if err != nil || code == "" || x.Invited == nil {
			t.Fatal(x, err)
		}
		time.Sleep(25 * time.Hour)
		_, _, _, err = w.Accept(code, "a good password", "10.0.0.1")
		w.says(err, base.ErrUnknown, "has been used, or has ended")
		if l := w.List(); l[1].Invited != nil {
			t.Errorf("%+v", l)
		}
		// Who is locked out gets another one from whoever starts the service; his sessions end when it is used.
		text = w.in2("ada", "a good password")
		if code, err = w.InviteAdministrator("ada"); err != nil {
			t.Fatal(err)
		}
		if _, _, _, err = w.Accept(code, "quite another one", "10.0.0.1"); err != nil || w.Known(text, "") != nil {
			t.Error(err)
		}
		if code, err = w.InviteAdministrator("bo"); err != nil {
			t.Fatal(err)
		}
		if l := w.List(); fmt.Sprint(l[1].Grants) != "[look administer]" || code == "" {
			t.Errorf("%+v", l)
		}
	})
}

func (w *world) in2(name, password string) string {
	w.Helper()
	text, _, err := w.SignIn(name, password, "test", "10.0.0.1")
	if err != nil {
		w.Fatal(err)
	}
	return text
}

// TestSharesAndLinks: what is granted to spaces, and who looks at a board by a link, as long as it holds.
func TestSharesAndLinks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := open(t, catalog.NewMemory())
		_, _, err := w.NewLink("local", "b", time.Hour)
		w.says(err, base.ErrRefused, "create an administrator first")
		w.put("ada", "administer")
		w.put("bo", "develop:timing")
		s := people.Share{Kind: "endpoint", Name: "race_db", Space: "timing"}
		for _, bad := range []people.Share{{Kind: "user", Name: "x", Space: "timing"}, {Kind: "topic", Name: "x"}, {Kind: "topic", Name: "x", Space: "a.b"}, {Kind: "topic", Space: "timing"}} {
			if err := w.Grant("ada", bad); !errors.Is(err, base.ErrRefused) {
				t.Errorf("%+v: %v", bad, err)
			}
		}
		for range 2 {
			if err := w.Grant("ada", s); err != nil {
				t.Fatal(err)
			}
		}
		bo := w.Known(w.in("bo"), "")
		if !w.Shared("endpoint", "race_db", "timing") || !bo.Bring(access.Operate, "endpoint", "race_db", "timing") || bo.Bring(access.Operate, "endpoint", "other", "timing") || !bo.May(access.Look, "endpoint", "race_db") || bo.May(access.Write, "endpoint", "race_db") {
			t.Error("a grant means something else")
		}
		w = open(t, w.records)
		if all := w.Shares(); !slices.Equal(all, []people.Share{s}) || !slices.Equal(w.Spaces(), []string{"timing"}) {
			t.Error(all, w.Spaces())
		}
		if err := w.Revoke("ada", s); err != nil || w.Shared("endpoint", "race_db", "timing") {
			t.Error(err)
		}
		w.says(w.Revoke("ada", s), base.ErrNotFound, "is not granted")

		for _, d := range []time.Duration{0, -1, 1000 * 24 * time.Hour} {
			_, _, err := w.NewLink("ada", "b", d)
			w.says(err, base.ErrRefused, "a year at most")
		}
		code, l, err := w.NewLink("ada", "timing.b", time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		c := w.Known(code, "10.0.0.7")
		if c == nil || !c.May(access.Read, "board", "timing.b") || c.May(access.Read, "board", "b") || c.May(access.Read, "topic", "timing.b") || c.May(access.Develop, "board", "timing.b") || c.Somewhere(access.Look) {
			t.Fatalf("%+v", c)
		}
		w.says(w.DropLink("ada", "other", l.ID), base.ErrNotFound, "has no link")
		other, _, err := w.NewLink("ada", "timing.b", 2*time.Hour)
		if err != nil || len(w.Links("timing.b")) != 2 || len(w.Links("b")) != 0 {
			t.Error(err)
		}
		stop := w.maintained()
		time.Sleep(62 * time.Minute)
		if w.Known(code, "") != nil || !ended(c) || len(w.Links("")) != 1 {
			t.Error("a link holds on")
		}
		stop()
		c = w.Known(other, "")
		if err := w.DropLink("ada", "timing.b", w.Links("")[0].ID); err != nil || w.Known(other, "") != nil || !ended(c) {
			t.Error(err)
		}
	})
}

// TestNothingKept: where the records cannot be written nothing changes, and nobody is let in.
func TestNothingKept(t *testing.T) {
	w := open(t, catalog.NewMemory())
	w.put("ada", "administer")
	text := w.in("ada")
	failing := catalog.NewMemory()
	fails := false
	failing.Fail = func(call string) error {
		if fails && call == "Keep" {
			return errors.New("away")
		}
		return nil
	}
	w = open(t, failing)
	w.put("ada", "administer")
	fails = true
	if _, _, err := w.Put("root", "eve", people.Change{Grants: grants("administer"), Password: word("eve")}); err == nil || len(w.List()) != 1 {
		t.Error(err)
	}
	if _, _, err := w.SignIn("ada", *word("ada"), "test", ""); err == nil {
		t.Error("a session begins that is not kept")
	}
	if err := w.Grant("ada", people.Share{Kind: "topic", Name: "x", Space: "y"}); err == nil || len(w.Shares()) != 0 {
		t.Error(err)
	}
	if w.Known(text, "") != nil {
		t.Error("the session of another service is known")
	}
	for _, kind := range []string{"person", "token", "session", "link", "share"} {
		broken := catalog.NewMemory()
		if err := broken.Keep(kind, "x", "no JSON"); err != nil {
			t.Fatal(err)
		}
		if _, err := people.Open(&base.Base{Store: broken, Log: slog.New(slog.DiscardHandler)}); err == nil || !strings.Contains(err.Error(), kind) {
			t.Errorf("%s: %v", kind, err)
		}
	}
}

func contextOf(t *testing.T) (context.Context, context.CancelFunc) {
	return context.WithCancel(t.Context())
}
