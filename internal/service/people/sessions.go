package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"fiume/internal/service/access"
	"fiume/internal/service/base"

	"golang.org/x/crypto/argon2"
)

// Passwords are kept as argon2id (RFC 9106), with the parameters that are advised for machines whose memory others need, too.
const (
	argonTime    = 2
	argonMemory  = 19 << 10 // KiB
	argonThreads = 1
	longestWord  = 200 // bytes of a password
	shortestWord = 10  // letters
)

func checkPassword(word string) error {
	switch {
	case utf8.RuneCountInString(word) < shortestWord:
		return base.Errorf(base.ErrRefused, "a password has at least %d letters", shortestWord)
	case len(word) > longestWord:
		return base.Errorf(base.ErrRefused, "a password has up to %d bytes", longestWord)
	case strings.Count(word, word[:1]) == len(word):
		return base.Errorf(base.ErrRefused, "this password is one letter again and again")
	}
	return nil
}

func (p *People) key(word string, salt []byte) []byte {
	p.hashing <- struct{}{}
	defer func() { <-p.hashing }()
	return argon2.IDKey([]byte(word), salt, argonTime, argonMemory, argonThreads, 32)
}

// hash makes what is kept of a password.
func (p *People) hash(word string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // it never fails
	e := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemory, argonTime, argonThreads, e(salt), e(p.key(word, salt)))
}

// right says whether a password is the one that is kept. It takes its time in any case.
func (p *People) right(hash, word string) bool {
	parts := strings.Split(hash, "$")
	var salt, want []byte
	if len(parts) == 6 {
		salt, _ = base64.RawStdEncoding.DecodeString(parts[4])
		want, _ = base64.RawStdEncoding.DecodeString(parts[5])
	}
	got := p.key(word, append(salt, make([]byte, max(0, 16-len(salt)))...))
	return len(want) == 32 && subtle.ConstantTimeCompare(got, want) == 1
}

// tries counts sign-ins that failed, by name and by address, so that nobody finds a password by trying.
type tries struct {
	now   func() time.Time
	mu    sync.Mutex
	count map[string]*tried
}

type tried struct {
	n     int
	until time.Time // none is looked at before
	last  time.Time
}

const (
	// signInRate is how many sign-ins are looked at in a second, signInBurst how many at once, and paceWaits how long one waits for its turn.
	signInRate  = 2
	signInBurst = 30
	paceWaits   = 5 * time.Second

	freeTries  = 5                // that cost nothing
	tryWait    = 2 * time.Second  // after the next; then twice as long each time
	longestTry = 15 * time.Minute // at most, and as long until they are forgotten
	mostTries  = 20_000           // names and addresses that are counted
)

// wait says how long it is until another try is looked at.
func (t *tries) wait(keys ...string) (d time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, k := range keys {
		if x := t.count[k]; x != nil {
			d = max(d, x.until.Sub(t.now()))
		}
	}
	return d
}

// failed counts a try that failed. free is how many more than freeTries cost nothing.
func (t *tries) failed(key string, free int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.now()
	if t.count == nil || len(t.count) >= mostTries {
		fresh := map[string]*tried{}
		for k, x := range t.count {
			if now.Sub(x.last) < longestTry && len(fresh) < mostTries/2 {
				fresh[k] = x
			}
		}
		t.count = fresh
	}
	x := t.count[key]
	if x == nil || now.Sub(x.last) > longestTry {
		x = &tried{}
		t.count[key] = x
	}
	x.n++
	x.last = now
	if over := x.n - freeTries - free; over > 0 {
		x.until = now.Add(min(tryWait<<min(over-1, 20), longestTry))
	}
}

func (t *tries) forget(key string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.count, key)
}

// TooMany says that sign-ins failed too often.
type TooMany struct{ Wait time.Duration }

func (e *TooMany) Error() string {
	return fmt.Sprintf("too many sign-ins have failed; try again in %s", e.Wait.Round(time.Second)+time.Second)
}

var errWrong = base.Errorf(base.ErrUnknown, "the name or the password is wrong")

// SignIn gives what a session of a person is shown with. label says what it is for, address where it comes from.
func (p *People) SignIn(name, word, label, address string) (text string, ends time.Time, err error) {
	byName, byAddress, both := "name "+strings.ToLower(name), "address "+address, "both "+strings.ToLower(name)+" "+address
	if d := p.tries.wait(byName, byAddress, both); d > 0 {
		p.Note(actorOf("", address), "was refused", "sign-in of "+base.ClipText(name, 60), "too many have failed")
		return "", ends, &TooMany{d}
	}
	turn := p.pace.Reserve()
	if d := turn.Delay(); d > paceWaits {
		turn.Cancel()
		return "", ends, &TooMany{d}
	} else if d > 0 {
		time.Sleep(d)
	}
	p.mu.RLock()
	x := p.people[name]
	hash := ""
	if x != nil {
		hash = x.Hash
	}
	p.mu.RUnlock()
	if len(word) > longestWord || !p.right(hash, word) || x.Off {
		p.tries.failed(both, 0)
		p.tries.failed(byName, 45)    // from many machines
		p.tries.failed(byAddress, 25) // with many names
		p.Note(actorOf("", address), "was refused", "sign-in of "+base.ClipText(name, 60), "the name or the password is wrong")
		return "", ends, errWrong
	}
	p.tries.forget(both)
	return p.session(name, label, address)
}

func actorOf(name, address string) string {
	if name == "" {
		name = "nobody"
	}
	return name + "\t\t" + address
}

// session opens one of a person.
func (p *People) session(name, label, address string) (text string, ends time.Time, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	x := p.people[name]
	if x == nil || x.Off {
		return "", ends, errWrong
	}
	now := p.now().UTC().Truncate(time.Second)
	for h, s := range p.sessions { // those that have ended
		if !s.holds(now) {
			p.dropSession(h)
		}
	}
	s := &keptSession{Person: name, Label: label, Created: now, Ends: now.Add(sessionAge), Used: now}
	text, hash := draw("session")
	if err := p.keep(sessionKind, hash, s); err != nil {
		return "", ends, err
	}
	seen := *x
	seen.Seen = &now
	if err := p.keep(personKind, name, &seen); err != nil {
		return "", ends, err
	}
	p.people[name], p.sessions[hash] = &seen, s
	p.Note(actorOf(name, address), "signed in", "user "+name, label)
	return text, s.Ends, nil
}

func (s *keptSession) holds(now time.Time) bool {
	return now.Before(s.Ends) && now.Before(s.Used.Add(sessionIdle))
}

// dropSession ends one; what cannot be removed from the store has ended all the same, and is removed when it is read again.
func (p *People) dropSession(hash string) {
	delete(p.sessions, hash)
	p.endings.End(sessionKind + " " + hash)
	if err := p.Store.Unkeep(sessionKind, hash); err != nil {
		p.Log.Error("a session that has ended cannot be removed", "error", err)
	}
}

// endSessions ends those of a person, but for one.
func (p *People) endSessions(name, but string) {
	for h, s := range p.sessions {
		if s.Person == name && h != but {
			p.dropSession(h)
		}
	}
}

// SignOut ends a session.
func (p *People) SignOut(actor, text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if s := p.sessions[hashOf(text)]; s != nil {
		p.dropSession(hashOf(text))
		p.Note(actor, "signed out", "user "+s.Person, "")
	}
}

// Accept has somebody who was invited choose a password, and gives the session that begins with it.
func (p *People) Accept(code, word, address string) (name, text string, ends time.Time, err error) {
	if d := p.tries.wait("invite " + address); d > 0 {
		return "", "", ends, &TooMany{d}
	}
	if err := checkPassword(word); err != nil {
		return "", "", ends, err
	}
	hash := p.hash(word)
	p.mu.Lock()
	want := hashOf(code)
	for _, x := range p.people {
		if x.Invite == want && x.Invited != nil && p.now().Before(*x.Invited) && !x.Off {
			name = x.Name
		}
	}
	if name == "" {
		p.mu.Unlock()
		p.tries.failed("invite "+address, 0)
		return "", "", ends, base.Errorf(base.ErrUnknown, "the link has been used, or has ended; ask for another one")
	}
	x := *p.people[name]
	x.Hash, x.Invite, x.Invited = hash, "", nil
	err = p.keep(personKind, name, &x)
	if err == nil {
		p.people[name] = &x
		p.endSessions(name, "")
		p.Note(actorOf(name, address), "changed", "user "+name, "a new password, by a link")
	}
	p.mu.Unlock()
	if err != nil {
		return "", "", ends, err
	}
	text, ends, err = p.session(name, "console", address)
	return name, text, ends, err
}

// ChangePassword has a person choose another password. His other sessions end.
func (p *People) ChangePassword(actor, name, session, old, word string) error {
	if err := checkPassword(word); err != nil {
		return err
	}
	key := "change " + name
	if d := p.tries.wait(key); d > 0 {
		return &TooMany{d}
	}
	p.mu.RLock()
	x := p.people[name]
	p.mu.RUnlock()
	if x == nil {
		return base.Errorf(base.ErrRefused, "%s is no person, and has no password", name)
	}
	if x.From != "" {
		return base.Errorf(base.ErrRefused, "%s signs in by %s, and has no password here", name, x.From)
	}
	if len(old) > longestWord || !p.right(x.Hash, old) {
		p.tries.failed(key, 0)
		return base.Errorf(base.ErrDenied, "the password of now is wrong")
	}
	hash := p.hash(word)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.people[name] == nil {
		return p.nobody(name)
	}
	fresh := *p.people[name]
	fresh.Hash = hash
	if err := p.keep(personKind, name, &fresh); err != nil {
		return err
	}
	p.people[name] = &fresh
	p.endSessions(name, hashOf(session))
	p.Note(actor, "changed", "user "+name, "a new password")
	return nil
}

// Known gives the caller that shows something; nil: nobody is known by it.
func (p *People) Known(text, address string) *access.Caller {
	if text == "" || len(text) > 200 {
		return nil
	}
	hash := hashOf(text)
	p.mu.RLock()
	defer p.mu.RUnlock()
	now := p.now().UTC()
	c := &access.Caller{Address: address, Shared: p.Shared}
	if hash == p.inside {
		c.Name, c.Via, c.Grants = "service", "token inside", []access.Grant{{Role: access.Administer}}
		return c
	}
	if s := p.sessions[hash]; s != nil {
		x := p.people[s.Person]
		if x == nil || x.Off || !s.holds(now) {
			return nil
		}
		p.usedAt(sessionKind+" "+hash, now)
		c.Name, c.Via, c.Grants = x.Name, "session", slices.Concat(x.Grants, x.Group)
		c.Ended = p.endings.Of(sessionKind + " " + hash)
		c.Also = p.endings.Of("person " + x.Name)
		return c
	}
	kind, name, _ := strings.Cut(p.byHash[hash], " ")
	switch kind {
	case tokenKind:
		t := p.tokens[name]
		owner := p.people[t.Owner]
		if owner == nil || owner.Off || t.Ends != nil && !now.Before(*t.Ends) {
			return nil
		}
		p.usedAt(name, now)
		of := &access.Caller{Grants: slices.Concat(owner.Grants, owner.Group)}
		for _, g := range t.Grants { // what its owner has lost it has lost, too
			if of.In(g.Role, g.Space) {
				c.Grants = append(c.Grants, g)
			}
		}
		c.Name, c.Via, c.Ended, c.Also = t.Owner, "token "+name, p.endings.Of(tokenKind+" "+name), p.endings.Of("person "+t.Owner)
		return c
	case linkKind:
		l := p.links[name]
		if !now.Before(l.Ends) {
			return nil
		}
		c.Name, c.Via, c.Board, c.Ended = "link "+name, "link of "+l.Owner, l.Board, p.endings.Of(linkKind+" "+name)
		return c
	}
	return nil
}

// usedAt notes, to the minute, that something was shown.
func (p *People) usedAt(id string, now time.Time) {
	p.usedMu.Lock()
	defer p.usedMu.Unlock()
	p.used[id] = now.Truncate(time.Minute)
}

// Maintain keeps when tokens and sessions were used, and removes what has ended, until the context ends.
func (p *People) Maintain(ctx context.Context) {
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			p.flush()
			return
		case <-tick.C:
			p.flush()
		}
	}
}

func (p *People) flush() {
	p.usedMu.Lock()
	used := p.used
	p.used = map[string]time.Time{}
	p.usedMu.Unlock()
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.now().UTC()
	for id, at := range used {
		var err error
		if hash, ok := strings.CutPrefix(id, sessionKind+" "); ok {
			if s := p.sessions[hash]; s != nil {
				s.Used = at.Add(time.Minute) // the minute was truncated
				err = p.keep(sessionKind, hash, s)
			}
		} else if t := p.tokens[id]; t != nil {
			t.Used = &at
			err = p.keep(tokenKind, id, t)
		}
		if err != nil {
			p.Log.Error("when a token or session was used cannot be kept", "error", err)
		}
	}
	for h, s := range p.sessions {
		if !s.holds(now) {
			p.dropSession(h)
		}
	}
	for _, l := range p.links {
		if !now.Before(l.Ends) {
			p.endings.End(linkKind + " " + l.ID)
		}
	}
	for _, t := range p.tokens {
		if t.Ends != nil && !now.Before(*t.Ends) {
			p.endings.End(tokenKind + " " + t.Name)
		}
	}
}

// Told is what an identity provider says of somebody.
type Told struct {
	Subject string // by which the provider knows him for ever
	Name    string
	Grants  []access.Grant // of his groups
}

// SignInBy gives what a session is shown with of somebody whom an identity provider has told of. Who comes for the first time is made; his roles are those of his groups, and
// those that he was given here.
func (p *People) SignInBy(provider string, t Told, label, address string) (text string, ends time.Time, err error) {
	if err := checkName("person", t.Name); err != nil {
		return "", ends, err
	}
	p.mu.Lock()
	x := &keptPerson{Person: Person{Name: t.Name, From: provider, Created: p.now().UTC()}, Subject: t.Subject}
	old := p.people[t.Name]
	switch {
	case old != nil && old.Subject != t.Subject: // somebody else is called so
		p.mu.Unlock()
		return "", ends, base.Errorf(base.ErrDenied, "somebody else is called %s here; ask an administrator", t.Name)
	case old != nil && old.Off:
		p.mu.Unlock()
		return "", ends, base.Errorf(base.ErrDenied, "%s is kept out; ask an administrator", t.Name)
	case old == nil && len(p.people) == 0:
		p.mu.Unlock()
		return "", ends, base.Errorf(base.ErrDenied, "there is no administrator yet; create one first: fiume user create NAME --role administer")
	case old != nil:
		*x = *old
	}
	changed := fmt.Sprint(x.Group) != fmt.Sprint(t.Grants)
	x.Group = t.Grants
	err = p.keep(personKind, t.Name, x)
	if err == nil {
		p.people[t.Name] = x
		if changed {
			p.endings.End("person " + t.Name)
			p.Note(actorOf(t.Name, address), "changed", "user "+t.Name, "by "+provider+": "+grantsText(t.Grants))
		}
	}
	p.mu.Unlock()
	if err != nil {
		return "", ends, err
	}
	return p.session(t.Name, label, address)
}
