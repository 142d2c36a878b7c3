// Package people keeps who may use a service: people with their passwords and sessions, programs with their tokens, whoever follows a link to
// a board, and what is granted to spaces. Nothing that opens the service is kept as it is: passwords as argon2id, the rest as SHA-256.
package people

import (
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/core/sql"
	"fiume/internal/service/access"
	"fiume/internal/service/base"

	"golang.org/x/time/rate"
)

// Person is somebody who signs in.
type Person struct {
	Name    string         `json:"name"`
	Grants  []access.Grant `json:"grants" doc:"the roles, everywhere or in spaces"`
	Off     bool           `json:"off,omitempty" doc:"he cannot sign in, and what he has open is closed"`
	From    string         `json:"from,omitempty" doc:"the identity provider that he signs in by; a password of his own where left out"`
	Created time.Time      `json:"created"`
	Seen    *time.Time     `json:"seen,omitempty" doc:"when he signed in last"`
	Invited *time.Time     `json:"invited,omitempty" doc:"until when a link lets him choose a password"`
}

// Token is what a program shows.
type Token struct {
	Name    string         `json:"name"`
	Owner   string         `json:"owner" doc:"who made it; it may never do more than he may"`
	Grants  []access.Grant `json:"grants"`
	Created time.Time      `json:"created"`
	Ends    *time.Time     `json:"ends,omitempty"`
	Used    *time.Time     `json:"used,omitempty" doc:"when it was shown last, to the minute"`
}

// Link lets whoever has it look at a board until it ends.
type Link struct {
	ID      string    `json:"id"`
	Board   string    `json:"board"`
	Owner   string    `json:"owner"`
	Created time.Time `json:"created"`
	Ends    time.Time `json:"ends"`
}

// Share is that a space may use something that does not stand in it.
type Share struct {
	Kind  string `json:"kind" enum:"endpoint,files,topic,stream,table,view,sink,job,board,secret"`
	Name  string `json:"name" maxLength:"190"`
	Space string `json:"space" maxLength:"60"`
}

// What is kept of them beside what is told.
type (
	keptPerson struct {
		Person
		Hash    string         `json:"hash,omitempty"` // of the password
		Invite  string         `json:"invite,omitempty"`
		Group   []access.Grant `json:"group,omitempty"`   // the roles that his groups at the identity provider give
		Subject string         `json:"subject,omitempty"` // by which that knows him
	}
	keptToken struct {
		Token
		Hash string `json:"hash"`
	}
	keptSession struct {
		Person  string    `json:"person"`
		Label   string    `json:"label"`
		Created time.Time `json:"created"`
		Ends    time.Time `json:"ends"`
		Used    time.Time `json:"used"`
	}
	keptLink struct {
		Link
		Hash string `json:"hash"`
	}
)

// How long things hold.
const (
	sessionAge  = 7 * 24 * time.Hour // a session, at most
	sessionIdle = 24 * time.Hour     // one that is not used
	inviteAge   = 24 * time.Hour
	longestLink = 366 * 24 * time.Hour
)

// Kinds of what is kept.
const (
	personKind  = "person"
	tokenKind   = "token"
	sessionKind = "session"
	linkKind    = "link"
	shareKind   = "share"
	localKind   = "local" // not kept
)

// People are the callers of a service.
type People struct {
	*base.Base
	now func() time.Time

	mu       sync.RWMutex
	people   map[string]*keptPerson
	tokens   map[string]*keptToken   // by name
	sessions map[string]*keptSession // by hash
	links    map[string]*keptLink    // by id
	shares   map[Share]bool
	byHash   map[string]string // of tokens and links: kind and name
	usedMu   sync.Mutex
	used     map[string]time.Time // when tokens, by name, and sessions were shown last, where that is not kept yet
	inside   string               // hash of what the process itself shows; "": it does not
	endings  access.Endings
	tries    tries
	hashing  chan struct{} // so many passwords at a time: each takes memory
	pace     *rate.Limiter // of sign-ins, from wherever they come: each takes a processor for a while, which jobs need
}

// Open reads who there is.
func Open(b *base.Base) (*People, error) {
	p := &People{Base: b, now: time.Now, people: map[string]*keptPerson{}, tokens: map[string]*keptToken{}, sessions: map[string]*keptSession{},
		links: map[string]*keptLink{}, shares: map[Share]bool{}, byHash: map[string]string{}, used: map[string]time.Time{}, hashing: make(chan struct{}, 2), pace: rate.NewLimiter(signInRate, signInBurst)}
	p.tries.now = func() time.Time { return p.now() }
	for kind, read := range map[string]func(id, data string) error{
		personKind: func(_, data string) error {
			x := &keptPerson{}
			err := json.Unmarshal([]byte(data), x)
			p.people[x.Name] = x
			return err
		},
		tokenKind: func(_, data string) error {
			x := &keptToken{}
			err := json.Unmarshal([]byte(data), x)
			p.tokens[x.Name], p.byHash[x.Hash] = x, tokenKind+" "+x.Name
			return err
		},
		sessionKind: func(id, data string) error {
			x := &keptSession{}
			err := json.Unmarshal([]byte(data), x)
			p.sessions[id] = x
			return err
		},
		linkKind: func(_, data string) error {
			x := &keptLink{}
			err := json.Unmarshal([]byte(data), x)
			p.links[x.ID], p.byHash[x.Hash] = x, linkKind+" "+x.ID
			return err
		},
		shareKind: func(_, data string) error {
			var x Share
			err := json.Unmarshal([]byte(data), &x)
			p.shares[x] = true
			return err
		},
	} {
		all, err := b.Store.Kept(kind)
		if err != nil {
			return nil, err
		}
		for _, k := range all {
			if err := read(k.ID, k.Data); err != nil { // nobody gets in by what cannot be read
				return nil, fmt.Errorf("the %s %q in the catalog cannot be read: %w", kind, k.ID, err)
			}
		}
	}
	return p, nil
}

func (p *People) keep(kind, id string, x any) error {
	b, err := json.Marshal(x)
	if err != nil {
		return err
	}
	return p.Store.Keep(kind, id, string(b))
}

// Needed says whether callers must show who they are: somebody has been created.
func (p *People) Needed() bool {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return len(p.people) > 0
}

// Administered says whether somebody can administer the service.
func (p *People) Administered() bool {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.administrators("") > 0
}

// administrators counts those who are, but for one.
func (p *People) administrators(but string) (n int) {
	for _, x := range p.people {
		if x.Name != but && !x.Off && slices.Contains(x.Grants, access.Grant{Role: access.Administer}) {
			n++
		}
	}
	return n
}

var (
	callerName = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}._@+-]{0,59}$`)
	shareKinds = []string{sql.KindEndpoint, "files", sql.KindTopic, sql.KindStream, sql.KindTable, sql.KindView, sql.KindSink, sql.KindJob, sql.KindBoard, "secret"}
)

func checkName(what, name string) error {
	if !callerName.MatchString(name) {
		return base.Errorf(base.ErrRefused, "the name of a %s has 1 to 60 letters, digits, dots, dashes, underscores, + and @, and begins with a letter or digit, and %q is none", what, base.ClipText(name, 60))
	}
	if slices.Contains([]string{"local", "service"}, name) || strings.HasPrefix(name, "job ") {
		return base.Errorf(base.ErrRefused, "%q is how the activity log calls the machine itself; choose another name", name)
	}
	return nil
}

func checkGrants(grants []access.Grant) error {
	if len(grants) == 0 {
		return base.Errorf(base.ErrRefused, "give at least one role, such as look, or develop:timing for a space")
	}
	for _, g := range grants {
		if err := g.Check(); err != nil {
			return base.Errorf(base.ErrRefused, "%s", err)
		}
	}
	return nil
}

// hashOf is how what was drawn by chance is kept.
func hashOf(text string) string {
	h := sha256.Sum256([]byte(text))
	return hex.EncodeToString(h[:])
}

// draw makes something that nobody can guess.
func draw(kind string) (text, hash string) {
	text = "fiume-" + kind + "-" + rand.Text() + rand.Text()[:10] // 180 bits
	return text, hashOf(text)
}

// Local gives the caller that whoever uses the machine is, while nobody has been created.
func (p *People) Local(name string) *access.Caller {
	c := access.Local(name)
	c.Ended = p.endings.Of(localKind)
	return c
}

// Inside gives what the process itself shows where it calls its own listeners, as the token inside. It may do everything, and ends with the process.
func (p *People) Inside() (name, text string) {
	text, hash := draw("inside")
	p.mu.Lock()
	defer p.mu.Unlock()
	p.inside = hash
	return "inside", text
}

// List gives the people in the order of their names.
func (p *People) List() []Person {
	p.mu.RLock()
	defer p.mu.RUnlock()
	out := []Person{}
	for _, n := range slices.Sorted(maps.Keys(p.people)) {
		out = append(out, p.people[n].told(p.now()))
	}
	return out
}

func (x *keptPerson) told(now time.Time) Person {
	out := x.Person
	out.Grants = slices.Concat(x.Grants, x.Group)
	if x.Invited != nil && x.Invited.Before(now) {
		out.Invited = nil
	}
	return out
}

// Change says what becomes of a person; nil leaves as it is.
type Change struct {
	Grants   []access.Grant
	Password *string
	Invite   bool // a link to choose a password
	Off      *bool
}

// Put makes a person, or changes one. code is what a link carries, where one was asked for.
func (p *People) Put(actor, name string, c Change) (out Person, code string, err error) {
	if err := checkName("person", name); err != nil {
		return out, "", err
	}
	if c.Password != nil {
		if err := checkPassword(*c.Password); err != nil {
			return out, "", err
		}
	}
	hash := ""
	if c.Password != nil {
		hash = p.hash(*c.Password)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	old := p.people[name]
	x := &keptPerson{Person: Person{Name: name, Created: p.now().UTC()}}
	action := "created"
	if old != nil {
		*x, action = *old, "changed"
	}
	if c.Grants != nil || old == nil {
		if err := checkGrants(c.Grants); err != nil {
			return out, "", err
		}
		x.Grants = slices.Clone(c.Grants)
	}
	if c.Off != nil {
		x.Off = *c.Off
	}
	admin := !x.Off && slices.Contains(x.Grants, access.Grant{Role: access.Administer})
	if !admin && p.administrators(name) == 0 { // nobody could let others in any more
		if len(p.people) == 0 {
			return out, "", base.Errorf(base.ErrRefused, "the first person must be an administrator, as from then on nobody gets in without one: fiume user create %s --role administer", name)
		}
		return out, "", base.Errorf(base.ErrConflict, "%s is the last administrator; make another one first", name)
	}
	if hash != "" {
		x.Hash, x.Invite, x.Invited = hash, "", nil
	}
	if c.Invite {
		until := p.now().UTC().Add(inviteAge).Truncate(time.Second)
		code, x.Invite = draw("invite")
		x.Invited = &until
	}
	if x.Hash == "" && x.Invite == "" && x.From == "" {
		return out, "", base.Errorf(base.ErrRefused, "give %s a password, or a link to choose one", name)
	}
	if err := p.keep(personKind, name, x); err != nil {
		return out, "", err
	}
	p.people[name] = x
	var roles []string
	for _, g := range x.Grants {
		roles = append(roles, g.String())
	}
	detail := strings.Join(roles, ", ")
	if x.Off {
		detail += ", off"
	}
	if hash != "" {
		detail += ", a new password"
	}
	if code != "" {
		detail += ", a link to choose a password"
	}
	p.Note(actor, action, "user "+name, detail)
	if len(p.people) == 1 && old == nil { // whoever uses the machine is asked, too, from now on
		p.endings.End(localKind)
	}
	if old != nil && (x.Off || hash != "") {
		p.endSessions(name, "")
	}
	p.endings.End("person " + name) // what is open is opened again, with the roles of now
	return x.told(p.now()), code, nil
}

// InviteAdministrator gives the code of a link by which an administrator chooses a password, for whoever starts the service. Who is not there is
// made.
func (p *People) InviteAdministrator(name string) (code string, err error) {
	c := Change{Invite: true}
	on := false
	c.Off = &on
	p.mu.RLock()
	x := p.people[name]
	if x == nil {
		c.Grants = []access.Grant{{Role: access.Administer}}
	} else if !slices.Contains(x.Grants, access.Grant{Role: access.Administer}) {
		c.Grants = append(slices.Clone(x.Grants), access.Grant{Role: access.Administer})
	}
	p.mu.RUnlock()
	_, code, err = p.Put("service", name, c)
	return code, err
}

// Drop forgets a person, with his sessions and tokens.
func (p *People) Drop(actor, name string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.people[name] == nil {
		return p.nobody(name)
	}
	if p.administrators(name) == 0 {
		return base.Errorf(base.ErrConflict, "%s is the last administrator; make another one first", name)
	}
	if err := p.Store.Unkeep(personKind, name); err != nil {
		return err
	}
	delete(p.people, name)
	p.endSessions(name, "")
	for _, t := range p.tokens {
		if t.Owner == name {
			if err := p.dropToken(t); err != nil {
				return err
			}
		}
	}
	p.endings.End("person " + name)
	p.Note(actor, "dropped", "user "+name, "")
	return nil
}

func (p *People) nobody(name string) error {
	hint := sql.Suggest(name, slices.Collect(maps.Keys(p.people)))
	if hint != "" {
		hint = "; did you mean " + hint + "?"
	}
	return base.Errorf(base.ErrNotFound, "there is no user %q%s", base.ClipText(name, 60), hint)
}

// Tokens gives the tokens in the order of their names: those of an owner, or, for "", all.
func (p *People) Tokens(owner string) []Token {
	p.mu.RLock()
	defer p.mu.RUnlock()
	out := []Token{}
	for _, n := range slices.Sorted(maps.Keys(p.tokens)) {
		if t := p.tokens[n]; owner == "" || t.Owner == owner {
			x := t.Token
			p.usedMu.Lock()
			if at, ok := p.used[n]; ok {
				x.Used = &at
			}
			p.usedMu.Unlock()
			out = append(out, x)
		}
	}
	return out
}

// NewToken makes a token. It is told once.
func (p *People) NewToken(by *access.Caller, actor, name string, grants []access.Grant, lasts time.Duration) (text string, t Token, err error) {
	if err := checkName("token", name); err != nil {
		return "", t, err
	}
	if err := checkGrants(grants); err != nil {
		return "", t, err
	}
	if !by.Covers(grants) {
		return "", t, base.Errorf(base.ErrDenied, "%s cannot give a token roles that he does not have", by.Name)
	}
	if lasts < 0 {
		return "", t, base.Errorf(base.ErrRefused, "a token ends after it was made")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.people) == 0 {
		return "", t, base.Errorf(base.ErrRefused, "create an administrator first, as until then nobody needs a token: fiume user create NAME --role administer")
	}
	if p.people[by.Name] == nil {
		return "", t, base.Errorf(base.ErrDenied, "tokens are made by people, and not by other tokens")
	}
	if p.tokens[name] != nil {
		return "", t, base.Errorf(base.ErrConflict, "there is already a token %q", name)
	}
	x := &keptToken{Token: Token{Name: name, Owner: by.Name, Grants: slices.Clone(grants), Created: p.now().UTC().Truncate(time.Second)}}
	if lasts > 0 {
		ends := x.Created.Add(lasts)
		x.Ends = &ends
	}
	text, x.Hash = draw("token")
	if err := p.keep(tokenKind, name, x); err != nil {
		return "", t, err
	}
	p.tokens[name], p.byHash[x.Hash] = x, tokenKind+" "+name
	p.Note(actor, "created", "token "+name, grantsText(grants))
	return text, x.Token, nil
}

func grantsText(grants []access.Grant) string {
	var out []string
	for _, g := range grants {
		out = append(out, g.String())
	}
	return strings.Join(out, ", ")
}

// DropToken ends a token: of an owner, or, for "", of anybody.
func (p *People) DropToken(actor, owner, name string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	t := p.tokens[name]
	if t == nil || owner != "" && t.Owner != owner {
		return base.Errorf(base.ErrNotFound, "there is no token %q", base.ClipText(name, 60))
	}
	if err := p.dropToken(t); err != nil {
		return err
	}
	p.Note(actor, "dropped", "token "+name, "")
	return nil
}

func (p *People) dropToken(t *keptToken) error {
	if err := p.Store.Unkeep(tokenKind, t.Name); err != nil {
		return err
	}
	delete(p.tokens, t.Name)
	delete(p.byHash, t.Hash)
	p.endings.End(tokenKind + " " + t.Name)
	return nil
}

// Shares gives what is granted to spaces.
func (p *People) Shares() []Share {
	p.mu.RLock()
	defer p.mu.RUnlock()
	out := slices.Collect(maps.Keys(p.shares))
	slices.SortFunc(out, func(a, b Share) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Space, b.Space))
	})
	return out
}

// Shared says whether something is granted to a space.
func (p *People) Shared(kind, name, space string) bool {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.shares[Share{kind, name, space}]
}

// Grant has a space use something.
func (p *People) Grant(actor string, s Share) error {
	if !slices.Contains(shareKinds, s.Kind) {
		return base.Errorf(base.ErrRefused, "there is no kind %q to grant; there are %s", s.Kind, strings.Join(shareKinds, ", "))
	}
	if err := (access.Grant{Role: access.Look, Space: s.Space}).Check(); err != nil || s.Space == "" || s.Name == "" {
		return base.Errorf(base.ErrRefused, "%q is no name of a space: it has up to 60 letters, and no dots, colons or blanks", s.Space)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.shares[s] {
		return nil
	}
	if err := p.keep(shareKind, hashOf(s.Kind+"\x00"+s.Name+"\x00"+s.Space), s); err != nil {
		return err
	}
	p.shares[s] = true
	p.Note(actor, "granted", s.Kind+" "+s.Name, "to the space "+s.Space)
	return nil
}

// Revoke has a space not use something any more. What is declared by it stays.
func (p *People) Revoke(actor string, s Share) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.shares[s] {
		return base.Errorf(base.ErrNotFound, "the %s %q is not granted to the space %q", s.Kind, s.Name, s.Space)
	}
	if err := p.Store.Unkeep(shareKind, hashOf(s.Kind+"\x00"+s.Name+"\x00"+s.Space)); err != nil {
		return err
	}
	delete(p.shares, s)
	p.Note(actor, "revoked", s.Kind+" "+s.Name, "from the space "+s.Space)
	return nil
}

// Links gives the links to boards that have not ended; of one board, or, for "", of all.
func (p *People) Links(board string) []Link {
	p.mu.RLock()
	defer p.mu.RUnlock()
	out := []Link{}
	for _, l := range p.links {
		if (board == "" || l.Board == board) && p.now().Before(l.Ends) {
			out = append(out, l.Link)
		}
	}
	slices.SortFunc(out, func(a, b Link) int { return cmp.Or(a.Created.Compare(b.Created), cmp.Compare(a.ID, b.ID)) })
	return out
}

// NewLink makes a link to a board. Its code is told once.
func (p *People) NewLink(actor, board string, lasts time.Duration) (code string, l Link, err error) {
	if lasts <= 0 || lasts > longestLink {
		return "", l, base.Errorf(base.ErrRefused, "a link holds for a year at most, and ends after it was made")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.people) == 0 {
		return "", l, base.Errorf(base.ErrRefused, "create an administrator first, as until then nobody needs a link: fiume user create NAME --role administer")
	}
	for _, x := range p.links { // those that have ended
		if !p.now().Before(x.Ends) {
			if err := p.dropLink(x); err != nil {
				return "", l, err
			}
		}
	}
	owner, _, _ := strings.Cut(actor, "\t")
	x := &keptLink{Link: Link{ID: strings.ToLower(rand.Text()[:10]), Board: board, Owner: owner, Created: p.now().UTC().Truncate(time.Second)}}
	x.Ends = x.Created.Add(lasts)
	code, x.Hash = draw("link")
	if err := p.keep(linkKind, x.ID, x); err != nil {
		return "", l, err
	}
	p.links[x.ID], p.byHash[x.Hash] = x, linkKind+" "+x.ID
	p.Note(actor, "created", "link "+x.ID, "to the board "+board+", until "+x.Ends.Format(time.RFC3339))
	return code, x.Link, nil
}

func (p *People) dropLink(x *keptLink) error {
	if err := p.Store.Unkeep(linkKind, x.ID); err != nil {
		return err
	}
	delete(p.links, x.ID)
	delete(p.byHash, x.Hash)
	p.endings.End(linkKind + " " + x.ID)
	return nil
}

// DropLink ends a link to a board.
func (p *People) DropLink(actor, board, id string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	x := p.links[id]
	if x == nil || x.Board != board {
		return base.Errorf(base.ErrNotFound, "the board %s has no link %q", board, base.ClipText(id, 60))
	}
	if err := p.dropLink(x); err != nil {
		return err
	}
	p.Note(actor, "dropped", "link "+id, "to the board "+board)
	return nil
}

// Spaces are the names of spaces that people, tokens and grants speak of.
func (p *People) Spaces() []string {
	p.mu.RLock()
	defer p.mu.RUnlock()
	all := map[string]bool{}
	for _, x := range p.people {
		for _, g := range x.Grants {
			all[g.Space] = true
		}
	}
	for _, t := range p.tokens {
		for _, g := range t.Grants {
			all[g.Space] = true
		}
	}
	for s := range p.shares {
		all[s.Space] = true
	}
	delete(all, "")
	return slices.Sorted(maps.Keys(all))
}
