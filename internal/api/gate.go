package api

import (
	"context"
	"net/http"
	"strings"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/core/sql"
	"fiume/internal/service"
	"fiume/internal/service/access"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
)

// need is what a caller must have for an operation.
type need struct {
	role access.Role
	of   string // what its name stands for, whose space counts; or one of those below
}

const (
	open       = "open"       // no caller is needed
	everywhere = "everywhere" // the role everywhere
	somewhere  = "somewhere"  // the role in any space; what is named inside is checked where it is
	everything = "definition" // a name of anything that is declared
)

// needs has what is needed for each operation: the one place where that stands. An operation that is not here cannot be registered.
var needs = map[string]need{
	"session":         {"", open},
	"sign-in":         {"", open},
	"sign-out":        {"", open},
	"accept":          {"", open},
	"change-password": {access.Look, somewhere},

	"health":      {access.Look, somewhere},
	"spaces":      {access.Look, somewhere},
	"advice":      {access.Look, somewhere},
	"alerts":      {access.Look, somewhere}, // those of his spaces
	"activity":    {access.Look, somewhere}, // of one object in a space that is his; all of it for administrators
	"places":      {access.Look, somewhere},
	"functions":   {access.Look, somewhere},
	"panel-kinds": {access.Look, somewhere},
	"words":       {access.Look, somewhere},
	"patterns":    {access.Look, somewhere},
	"check":       {access.Look, somewhere},
	"draw":        {access.Look, somewhere},
	"format":      {access.Look, somewhere},
	"file":        {access.Look, somewhere},
	"definitions": {access.Look, somewhere},
	"jobs":        {access.Look, somewhere},
	"boards":      {access.Look, somewhere},
	"topics":      {access.Look, somewhere},
	"drifts":      {access.Look, somewhere},

	"definition":  {access.Look, everything},
	"job":         {access.Look, sql.KindJob},
	"job-state":   {access.Look, sql.KindJob},
	"versions":    {access.Look, sql.KindJob},
	"checkpoints": {access.Look, sql.KindJob},
	"live-job":    {access.Look, sql.KindJob},
	"history":     {access.Look, sql.KindJob},
	"board":       {access.Look, sql.KindBoard},
	"alert":       {access.Look, sql.KindAlert},
	"topic":       {access.Look, sql.KindTopic},
	"drift":       {access.Look, everything},

	"lateness":       {access.Read, everything},
	"present":        {access.Read, sql.KindJob},
	"set-aside":      {access.Read, sql.KindJob},
	"set-aside-file": {access.Read, sql.KindJob},
	"why":            {access.Read, sql.KindJob},
	"became":         {access.Read, sql.KindJob},
	"board-rows":     {access.Read, sql.KindBoard},
	"live-board":     {access.Read, sql.KindBoard},
	"read-messages":  {access.Read, sql.KindTopic},
	"follow-topic":   {access.Read, sql.KindTopic},
	"rows":           {access.Read, everything},
	"query":          {access.Read, somewhere},
	"samples":        {access.Read, somewhere},
	"sample":         {access.Read, somewhere},

	"write-messages": {access.Write, sql.KindTopic},
	"send-again":     {access.Write, sql.KindJob},

	"apply":            {access.Look, somewhere}, // each statement for itself
	"try":              {access.Develop, somewhere},
	"keep-try":         {access.Develop, somewhere},
	"keep-sample":      {access.Develop, somewhere},
	"drop-sample":      {access.Develop, somewhere},
	"propose":          {access.Develop, somewhere},
	"look":             {access.Develop, somewhere},
	"test-connections": {access.Develop, somewhere},
	"board-draft":      {access.Develop, somewhere},
	"compare-job":      {access.Develop, sql.KindJob},
	"revert-job":       {access.Develop, sql.KindJob},
	"drop-job":         {access.Develop, sql.KindJob},
	"create-topic":     {access.Develop, somewhere},
	"drop-topic":       {access.Develop, sql.KindTopic},
	"board-links":      {access.Develop, sql.KindBoard},
	"new-board-link":   {access.Develop, sql.KindBoard},
	"drop-board-link":  {access.Develop, sql.KindBoard},

	"start-job":     {access.Operate, sql.KindJob},
	"silence-alert": {access.Operate, sql.KindAlert},
	"alerts-told":   {access.Operate, everywhere},
	"alert-notices": {access.Operate, everywhere},
	"stop-job":      {access.Operate, sql.KindJob},
	"parallelism":   {access.Operate, sql.KindJob},
	"secrets":       {access.Operate, somewhere},
	"set-secret":    {access.Operate, "secret"},
	"drop-secret":   {access.Operate, "secret"},

	"run-statements":  {access.Administer, everywhere},
	"databases":       {access.Administer, everywhere},
	"create-database": {access.Administer, everywhere},
	"drop-database":   {access.Administer, everywhere},
	"users":           {access.Administer, everywhere},
	"put-user":        {access.Administer, everywhere},
	"drop-user":       {access.Administer, everywhere},
	"grants":          {access.Administer, everywhere},
	"grant":           {access.Administer, everywhere},
	"revoke":          {access.Administer, everywhere},
	"prove-activity":  {access.Administer, everywhere},
	"export-activity": {access.Administer, everywhere},
	"backup":          {access.Administer, everywhere},
	"forget":          {access.Administer, everywhere},

	"tokens":     {access.Look, somewhere}, // one's own; all for administrators
	"new-token":  {access.Look, somewhere},
	"drop-token": {access.Look, somewhere},
}

// Cookies by which browsers show who they are.
const (
	sessionCookie = "fiume-session"
	linkCookie    = "fiume-link"
)

// gate finds out who calls, and lets operations be done by those who may.
type gate struct {
	s   *service.Service
	set Settings
	// noted is when a read was last noted, by who and what: once a minute is enough.
	noted    recently
	spenders spenders
	signings signings
}

// shown gives what a request shows: a token or session behind Authorization, or a cookie.
func shown(r *http.Request) (text string, cookie bool) {
	if h := r.Header.Get("Authorization"); h != "" {
		kind, text, _ := strings.Cut(h, " ")
		if !strings.EqualFold(kind, "Bearer") {
			text = "?" // which nobody is known by
		}
		return strings.TrimSpace(text), false
	}
	for _, name := range []string{sessionCookie, linkCookie} {
		if c, err := r.Cookie(name); err == nil && c.Value != "" {
			return c.Value, true
		}
	}
	return "", false
}

// identify has the context of a request carry its caller.
func (g *gate) identify(c *gin.Context) {
	address := g.set.client(c.Request)
	var caller *access.Caller
	if !g.s.People.Needed() {
		caller = g.s.People.Local(localName(c.GetHeader("Fiume-Actor")))
	} else {
		text, cookie := shown(c.Request)
		caller = g.s.People.Known(text, address)
		if caller == nil && cookie { // a session that has ended may hide a link
			if l, err := c.Request.Cookie(linkCookie); err == nil && l.Value != text {
				caller = g.s.People.Known(l.Value, address)
			}
		}
		if caller == nil {
			caller = &access.Caller{Address: address}
			if text != "" {
				caller.Via = "unknown"
			}
		}
	}
	ctx, cancel := context.WithCancel(context.WithValue(access.With(c.Request.Context(), caller), hostKey{}, c.Request.Host))
	defer cancel()
	if caller.Ended != nil { // what goes on for long ends with it
		go func() {
			select {
			case <-caller.Ended:
			case <-caller.Also:
			case <-ctx.Done():
			}
			cancel()
		}()
	}
	c.Request = c.Request.WithContext(ctx)
	c.Next()
}

// localName is what whoever uses the machine calls himself, while nobody has been created.
func localName(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' {
			return -1
		}
		return r
	}, text)
	if text == "" {
		return "local"
	}
	return text
}

// actor is how the activity log calls a caller.
func actor(c *access.Caller) string {
	if c == nil {
		return "service"
	}
	if c.Name == "" {
		return catalog.Actor("nobody", c.Via, c.Address)
	}
	return catalog.Actor(c.Name, c.Via, c.Address)
}

// Acting describes how a request names who does something, while nobody has been created. identify reads it; see by.
type Acting struct {
	Said string `header:"Fiume-Actor" default:"local" maxLength:"100" doc:"a name for the activity log, while nobody has been created; that of the caller is taken from then on"`
}

// by is who makes a request, for the activity log.
func by(ctx context.Context) string { return actor(access.From(ctx)) }

type hostKey struct{}

// hostOf is where a request was sent to.
func hostOf(ctx context.Context) string {
	host, _ := ctx.Value(hostKey{}).(string)
	return host
}

// refusal says why a caller may not; nil: he may.
func (g *gate) refusal(ctx context.Context, n need, name string) *Problem {
	c := access.From(ctx)
	if n.of == open {
		return nil
	}
	if c == nil { // no request comes here without one
		return &Problem{Status: http.StatusInternalServerError, Title: "Internal Server Error", Detail: "the request has no caller"}
	}
	denied := func(space string) *Problem {
		if c.Name == "" {
			detail := "show who you are: sign in at the console, with fiume login, or send a token (Authorization: Bearer …)"
			if c.Via != "" {
				detail = "what was shown is not known here, or has ended: sign in again, or ask for another token"
			}
			return &Problem{Status: http.StatusUnauthorized, Title: "Unauthorized", Detail: detail}
		}
		return &Problem{Status: http.StatusForbidden, Title: "Forbidden", Detail: c.Missing(n.role, space) + "; ask an administrator for it"}
	}
	switch n.of {
	case everywhere:
		if !c.Everywhere(n.role) {
			return denied("")
		}
		return nil
	case somewhere:
		if !c.Somewhere(n.role) {
			return denied("")
		}
		return nil
	}
	kind := n.of
	if kind == everything {
		kind = g.s.Definitions.KindOf(name)
	}
	if c.May(n.role, kind, name) {
		return nil
	}
	if c.Name != "" && !c.May(access.Look, kind, name) { // he may not even know whether it is there
		what := n.of
		if n.of == everything {
			return &Problem{Status: http.StatusNotFound, Title: "Not Found", Detail: "nothing is declared as \"" + name + "\""}
		}
		return &Problem{Status: http.StatusNotFound, Title: "Not Found", Detail: "there is no " + what + " \"" + name + "\""}
	}
	return denied(access.SpaceOf(name))
}

// operation is the gate of the operations.
func (g *gate) operation(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(hc huma.Context, next func(huma.Context)) {
		op := hc.Operation()
		n, ok := needs[op.OperationID]
		if !ok { // it could not have been registered
			n = need{access.Administer, everywhere}
		}
		name := hc.Param("name")
		if p := g.refusal(hc.Context(), n, name); p != nil {
			g.refused(hc.Context(), op.OperationID, name, p.Status)
			if p.Status == http.StatusUnauthorized {
				hc.SetHeader("WWW-Authenticate", `Bearer realm="fiume"`)
			}
			writeProblem(a, hc, p)
			return
		}
		next(hc)
		g.did(hc.Context(), op.OperationID, op.Method, n, name, hc.Status())
	}
}

func writeProblem(a huma.API, hc huma.Context, p *Problem) {
	hc.SetHeader("Content-Type", p.ContentType(""))
	hc.SetStatus(p.Status)
	_ = a.Marshal(hc.BodyWriter(), "application/json", p) // who has gone does not want it
}

// refused notes that a caller was refused.
func (g *gate) refused(ctx context.Context, op, name string, status int) {
	c := access.From(ctx)
	if c != nil && g.noted.again(c.Name+"\x00"+c.Address+"\x00"+op+"\x00"+name+"\x00refused") {
		return
	}
	g.s.People.Note(actor(c), "was refused", strings.TrimSpace(op+" "+name), http.StatusText(status))
}

// did notes what is not noted where it is done: reads of rows, messages that were written, and what failed. While nobody has been created only what
// changes something is noted.
func (g *gate) did(ctx context.Context, op, method string, n need, name string, status int) {
	c := access.From(ctx)
	if c == nil || c.Name == "" || !g.s.People.Needed() {
		return
	}
	var action string
	switch {
	case status == http.StatusForbidden:
		action = "was refused"
	case status >= 400 && method != http.MethodGet && n.role != access.Look && n.role != access.Read:
		action = "failed"
	case status >= 400:
		return
	case n.role == access.Read:
		action = "read"
	case n.role == access.Write:
		action = "wrote"
	default:
		return
	}
	if g.noted.again(c.Name + "\x00" + c.Via + "\x00" + op + "\x00" + name + "\x00" + action) {
		return
	}
	detail := op
	if status >= 400 {
		detail += ": " + http.StatusText(status)
	}
	object := name
	if k := n.of; k != somewhere && k != everywhere && k != everything && k != sql.KindJob {
		object = k + " " + name
	}
	if object == "" {
		object = op
	}
	g.s.People.Note(actor(c), action, object, detail)
}

// noteEvery is how often the same is noted.
const noteEvery = time.Minute

// visible keeps what a caller may know of.
func visible[T any](ctx context.Context, all []T, kind string, name func(T) string) []T {
	c := access.From(ctx)
	if c.Everywhere(access.Look) {
		return all
	}
	out := []T{}
	for _, x := range all {
		if c.May(access.Look, kind, name(x)) {
			out = append(out, x)
		}
	}
	return out
}
