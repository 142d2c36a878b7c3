// Package access says who may do what: roles, spaces, and the caller that a context carries. It knows neither how callers show who they are, nor
// what is declared.
package access

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
)

// Role is something that a caller may do.
type Role string

// The roles, each with those that it includes.
const (
	Look       Role = "look"       // states, ledgers, charts, texts of what is declared
	Read       Role = "read"       // rows: previews, samples, messages of topics; includes look
	Write      Role = "write"      // messages into topics; includes look
	Develop    Role = "develop"    // declare, try, create and change jobs; includes read
	Disclose   Role = "disclose"   // values of sensitive columns; includes read
	Operate    Role = "operate"    // start and stop jobs, set and use secrets, reach what is outside; includes look
	Administer Role = "administer" // callers, grants, the service itself; includes all
)

// Roles are all there are.
var Roles = []Role{Look, Read, Disclose, Write, Develop, Operate, Administer}

// About says in a few words what a role is for.
var About = map[Role]string{
	Look:       "see states, ledgers, charts and what is declared",
	Read:       "see rows: previews, samples, messages of topics",
	Disclose:   "see the values of sensitive columns, which others see masked",
	Write:      "write messages into topics",
	Develop:    "declare, try, create and change jobs",
	Operate:    "start and stop jobs, set and use secrets, declare endpoints",
	Administer: "everything: people, tokens, grants, the service itself",
}

var included = map[Role][]Role{
	Look: {Look}, Read: {Look, Read}, Disclose: {Look, Read, Disclose}, Write: {Look, Write}, Develop: {Look, Read, Develop}, Operate: {Look, Operate}, Administer: Roles,
}

// Includes says whether who has r may do what another role is for.
func (r Role) Includes(other Role) bool { return slices.Contains(included[r], other) }

// Grant is a role, everywhere or in a space.
type Grant struct {
	Role  Role   `json:"role" enum:"look,read,disclose,write,develop,operate,administer"`
	Space string `json:"space,omitempty" maxLength:"60" doc:"the space it holds in; everywhere where left out"`
}

// String writes a grant as ParseGrant reads it.
func (g Grant) String() string {
	if g.Space == "" {
		return string(g.Role)
	}
	return string(g.Role) + ":" + g.Space
}

// ParseGrant reads role or role:space.
func ParseGrant(text string) (Grant, error) {
	role, space, in := strings.Cut(text, ":")
	g := Grant{Role: Role(role), Space: space}
	if in && space == "" {
		return g, fmt.Errorf("%q names no space; write %s for everywhere, or %s:name", text, role, role)
	}
	return g, g.Check()
}

// Check says what is wrong with a grant.
func (g Grant) Check() error {
	if !slices.Contains(Roles, g.Role) {
		var names []string
		for _, r := range Roles {
			names = append(names, string(r))
		}
		return fmt.Errorf("there is no role %q; there are %s, everywhere or in a space, as develop:timing", g.Role, strings.Join(names, ", "))
	}
	if strings.ContainsAny(g.Space, ".:, \t\n\"'/") || len(g.Space) > 60 {
		return fmt.Errorf("%q is no name of a space: it has up to 60 letters, and no dots, colons or blanks", g.Space)
	}
	if g.Role == Administer && g.Space != "" {
		return fmt.Errorf("administer is a role for everywhere, and not in the space %s", g.Space)
	}
	return nil
}

// SpaceOf gives the space that a name stands in: what is before its first dot; "" where it stands in none.
func SpaceOf(name string) string {
	space, _, ok := strings.Cut(name, ".")
	if !ok {
		return ""
	}
	return space
}

// Caller is who makes a request. A nil caller is the service itself, which may do everything.
type Caller struct {
	Name    string // of a person, of a token, or of who uses the machine
	Via     string // how it was shown who it is: session, token …; "" for who uses the machine
	Address string // where from
	Grants  []Grant
	// Board is the one board that whoever follows a link may look at; "": no link.
	Board string
	// Shared says whether something is granted to a space; nil: nothing is.
	Shared func(kind, name, space string) bool
	// Ended is closed when what it was shown with has ended, and Also when the rights of the person change; nil: they do not.
	Ended, Also <-chan struct{}
}

// Local is whoever uses the machine, while nobody has been created.
func Local(name string) *Caller {
	return &Caller{Name: name, Grants: []Grant{{Role: Administer}}}
}

type key struct{}

// With gives a context that carries a caller.
func With(ctx context.Context, c *Caller) context.Context { return context.WithValue(ctx, key{}, c) }

// From gives the caller of a context; nil: it is the service itself.
func From(ctx context.Context) *Caller {
	c, _ := ctx.Value(key{}).(*Caller)
	return c
}

// Everywhere says whether a role holds everywhere.
func (c *Caller) Everywhere(r Role) bool {
	return c == nil || slices.ContainsFunc(c.Grants, func(g Grant) bool { return g.Space == "" && g.Role.Includes(r) })
}

// In says whether a role holds in a space.
func (c *Caller) In(r Role, space string) bool {
	return c.Everywhere(r) || space != "" && slices.ContainsFunc(c.Grants, func(g Grant) bool { return g.Space == space && g.Role.Includes(r) })
}

// Somewhere says whether a role holds in any space.
func (c *Caller) Somewhere(r Role) bool {
	return c == nil || slices.ContainsFunc(c.Grants, func(g Grant) bool { return g.Role.Includes(r) })
}

// Spaces are those that a role holds in, in order.
func (c *Caller) Spaces(r Role) (out []string) {
	if c == nil {
		return nil
	}
	for _, g := range c.Grants {
		if g.Space != "" && g.Role.Includes(r) {
			out = append(out, g.Space)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// May says whether a role holds for something that has a name: everywhere, in its space, or, to look and to read, in a space that it
// is granted to.
func (c *Caller) May(r Role, kind, name string) bool {
	if c.In(r, SpaceOf(name)) {
		return true
	}
	if c.Board != "" && kind == "board" && name == c.Board && (r == Look || r == Read) {
		return true
	}
	if r != Look && r != Read || c.Shared == nil {
		return false
	}
	return slices.ContainsFunc(c.Spaces(r), func(space string) bool { return c.Shared(kind, name, space) })
}

// Bring says whether something may be used by what is declared in a space: it stands there, is granted to the space, or stands where the
// caller has the role that decides about it. A reader of one space cannot bring its rows into another.
func (c *Caller) Bring(r Role, kind, name, space string) bool {
	return c.In(r, SpaceOf(name)) || space != "" && c.In(Develop, space) && (space == SpaceOf(name) || c.Shared != nil && c.Shared(kind, name, space))
}

// Covers says whether the caller has all of some grants, so that he may give them to others.
func (c *Caller) Covers(grants []Grant) bool {
	return !slices.ContainsFunc(grants, func(g Grant) bool { return !c.In(g.Role, g.Space) })
}

// Missing says what a caller lacks.
func (c *Caller) Missing(r Role, space string) string {
	where := "everywhere"
	if space != "" {
		where = "in the space " + space
	}
	return fmt.Sprintf("%s lacks the role %s %s", c.who(), r, where)
}

func (c *Caller) who() string {
	if c.Name == "" {
		return "whoever has not signed in"
	}
	if strings.HasPrefix(c.Via, "token ") {
		return c.Name + " (" + c.Via + ")"
	}
	return c.Name
}

// Endings ends what callers do when what they showed has ended.
type Endings struct {
	mu   sync.Mutex
	open map[string]chan struct{}
}

// Of gives what is closed when End is called for an id.
func (e *Endings) Of(id string) <-chan struct{} {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.open == nil {
		e.open = map[string]chan struct{}{}
	}
	if e.open[id] == nil {
		e.open[id] = make(chan struct{})
	}
	return e.open[id]
}

// End ends all that is done under an id.
func (e *Endings) End(id string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if done := e.open[id]; done != nil {
		close(done)
		delete(e.open, id)
	}
}
