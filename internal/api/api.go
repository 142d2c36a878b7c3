// Package api is the network interface of the service: each operation decodes a request, makes one
// call of the service and encodes what comes back. Errors become problems (RFC 9457) in one place.
package api

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service"
	"fiume/internal/service/access"
	"fiume/internal/service/advice"
	"fiume/internal/service/base"
	"fiume/internal/service/boards"
	"fiume/internal/service/databases"
	"fiume/internal/service/declare"
	"fiume/internal/service/jobs"
	"fiume/internal/service/questions"
	"fiume/internal/service/secrets"
	"fiume/internal/service/topics"
	"fiume/internal/topiclog"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"
)

// Written is how many messages were written.
type Written struct {
	Written int  `json:"written"`
	Again   bool `json:"again,omitempty" doc:"the batch had been written before, under the same name"`
}

// Problem is the body of every error.
type Problem struct {
	Status      int              `json:"status"`
	Title       string           `json:"title"`
	Detail      string           `json:"detail" doc:"what is wrong and the way out"`
	Diagnostics []sql.Diagnostic `json:"diagnostics,omitempty" doc:"errors in SQL, each with its place"`
}

func (p *Problem) Error() string  { return p.Detail }
func (p *Problem) GetStatus() int { return p.Status }

// ContentType implements huma.ContentTypeFilter.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// problem turns an error of the service into one of the network.
func problem(err error) error {
	if err == nil {
		return nil
	}
	p := &Problem{Status: http.StatusInternalServerError, Detail: err.Error()}
	var s *sql.Errors
	switch {
	case errors.As(err, &s):
		p.Status, p.Diagnostics = http.StatusUnprocessableEntity, s.List
		if slices.ContainsFunc(s.List, func(d sql.Diagnostic) bool { return d.Code == sql.NotAllowed }) {
			p.Status = http.StatusForbidden
		}
	case errors.Is(err, base.ErrNotFound):
		p.Status = http.StatusNotFound
	case errors.Is(err, base.ErrConflict):
		p.Status = http.StatusConflict
	case errors.Is(err, base.ErrRefused):
		p.Status = http.StatusBadRequest
	case errors.Is(err, base.ErrBusy):
		p.Status = http.StatusServiceUnavailable
	case errors.Is(err, base.ErrUnknown):
		p.Status = http.StatusUnauthorized
	case errors.Is(err, base.ErrDenied):
		p.Status = http.StatusForbidden
	}
	p.Title = http.StatusText(p.Status)
	return p
}

func init() {
	huma.DefaultArrayNullable = false // lists are never null
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		const told = 10
		var parts []string
		if len(errs) == 0 || msg != "validation failed" {
			parts = append(parts, msg)
		}
		for i, e := range errs {
			if i == told {
				parts = append(parts, fmt.Sprintf("and %d more", len(errs)-i))
				break
			}
			var d *huma.ErrorDetail
			if errors.As(e, &d) { // without the value: it may be a secret, or large
				parts = append(parts, sentence(d.Location, d.Message))
			} else if e != nil {
				parts = append(parts, e.Error())
			}
		}
		detail := strings.Join(parts, "; ")
		return &Problem{Status: status, Title: http.StatusText(status), Detail: detail[:min(len(detail), 4000)]}
	}
}

// sentence says what is wrong with a value of a request; where is its place, as body.partitions.
func sentence(where, what string) string {
	kind, name, ok := strings.Cut(where, ".")
	if !ok || name == "" {
		kind, name = "", where
	}
	in := map[string]string{"query": "the parameter ", "path": "the path's ", "header": "the header "}[kind]
	rest := func(prefix string) (string, bool) { return strings.CutPrefix(what, prefix) }
	if n, ok := rest("expected number <= "); ok {
		return fmt.Sprintf("%s%s takes a number up to %s", in, name, n)
	}
	if n, ok := rest("expected number >= "); ok {
		return fmt.Sprintf("%s%s takes a number from %s on", in, name, n)
	}
	if n, ok := rest("expected required property "); ok {
		return strings.TrimSuffix(n, " to be present") + " is missing"
	}
	if what == "unexpected property" {
		return fmt.Sprintf("there is no %s%s", in, name)
	}
	if n, ok := rest("expected "); ok {
		return fmt.Sprintf("%s%s: expected %s", in, name, n)
	}
	return fmt.Sprintf("%s%s: %s", in, name, what)
}

// handler holds what the operations share.
type handler struct {
	s    *service.Service
	ctx  context.Context // ends when the service stops, and with it the event streams
	gate *gate
}

// New makes the router of a service. console holds the built web console. ctx ends event streams.
func New(ctx context.Context, s *service.Service, console fs.FS, log *slog.Logger, set Settings) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.UseRawPath, r.UnescapePathValues = true, true // a name may have a slash, written as %2F
	m := newMonitor(s, log)
	g := &gate{s: s, set: set, spenders: spenders{limits: set.Limits}}
	r.Use(m.count, traced, recovery(log), g.identify, told(log), g.limit, g.guard, g.door)
	m.routes(r, g)
	r.GET("/link/:code", g.follow)
	r.GET("/signin/provider", g.leave)
	r.GET("/signin/return", g.arrive)
	config := huma.DefaultConfig("Fiume", service.Version)
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/openapi", "", ""
	config.CreateHooks = nil
	config.Info.Description = "The network interface of Fiume, a streaming ETL service. Each operation says in x-role which role a caller needs, and x-of says where: everywhere, somewhere, or in the space of what it names. Nobody is asked for while nobody has been created."
	a := humagin.New(r, config)
	a.UseMiddleware(g.operation(a))
	h := &handler{s, ctx, g}
	h.routes(a)
	r.NoRoute(static(console))
	return r
}

// told logs requests: those that may change something, and, for who asks for more in the log, all.
func told(log *slog.Logger) gin.HandlerFunc {
	return func(c *gin.Context) {
		began := time.Now()
		c.Next()
		level := slog.LevelInfo
		if m := c.Request.Method; m == http.MethodGet || m == http.MethodHead {
			level = slog.LevelDebug
		}
		path := c.Request.URL.Path
		if strings.HasPrefix(path, "/link/") {
			path = "/link/…" // who has it may look
		}
		said := []any{"method", c.Request.Method, "path", path, "status", c.Writer.Status(), "ms", time.Since(began).Milliseconds()}
		if caller := access.From(c.Request.Context()); caller != nil && caller.Address != "" {
			said = append(said, "caller", caller.Name, "from", caller.Address)
		}
		log.Log(c.Request.Context(), level, "request", said...)
	}
}

func recovery(log *slog.Logger) gin.HandlerFunc {
	return gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, err any) {
		log.Error("a request failed", "path", c.Request.URL.Path, "error", err)
		c.AbortWithStatusJSON(http.StatusInternalServerError, &Problem{Status: 500, Title: "Internal Server Error", Detail: "the request failed; the service's log says more"})
	})
}

// guard refuses requests that a page of another site has a browser make: their Origin is not the service's own. While nobody has been created,
// loopback is all that is trusted, and so their Host is of the machine, too.
func (g *gate) guard(c *gin.Context) {
	local := func(hostport string) bool {
		host := hostport
		if h, _, err := net.SplitHostPort(hostport); err == nil {
			host = h
		}
		ip := net.ParseIP(strings.Trim(host, "[]"))
		return host == "localhost" || ip != nil && ip.IsLoopback()
	}
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("X-Frame-Options", "DENY")
	c.Header("Referrer-Policy", "no-referrer")
	if g.set.Encrypted {
		c.Header("Strict-Transport-Security", "max-age=31536000")
	}
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		c.Header("Cache-Control", "no-store")
	}
	ok := local(c.Request.Host) || g.s.People.Needed()
	if o := c.GetHeader("Origin"); o != "" && ok { // of this service alone: a page on another port is another's
		u, err := url.Parse(o)
		ok = err == nil && (u.Host == c.Request.Host || g.set.Public != "" && o == strings.TrimSuffix(g.set.Public, "/"))
	}
	switch site := c.GetHeader("Sec-Fetch-Site"); {
	case !ok:
	case site == "cross-site" || site == "same-site":
		ok = !strings.HasPrefix(c.Request.URL.Path, "/api/") // a link to the console may be followed
	}
	if !ok {
		c.AbortWithStatusJSON(http.StatusForbidden, &Problem{Status: 403, Title: "Forbidden", Detail: "requests must come from pages of this service, and, while nobody has been created, from this machine"})
		return
	}
	// What a page may send without asking has no content type of ours.
	if r := c.Request; r.ContentLength != 0 && r.Method != http.MethodGet && r.Method != http.MethodHead && !strings.HasPrefix(r.Header.Get("Content-Type"), "application/json") {
		if _, _, ok := doorOf(r); ok && !strings.HasPrefix(r.Header.Get("Content-Type"), "text/plain") {
			return
		}
		c.AbortWithStatusJSON(http.StatusUnsupportedMediaType, &Problem{Status: 415, Title: "Unsupported Media Type", Detail: "send a body as application/json"})
	}
}

// packed serves files as small as they get.
var packed = func() func(http.Handler) http.HandlerFunc {
	w, err := gzhttp.NewWrapper(gzhttp.EnableZstd(false), gzhttp.CompressionLevel(gzip.BestCompression))
	if err != nil {
		panic(err)
	}
	return w
}()

// consolePages are what the paths of the console's pages begin with.
var consolePages = []string{"", "welcome", "people", "advice", "alerts", "jobs", "boards", "topics", "declared", "work", "streams", "activity"}

// statusWriter answers with a status of its own.
type statusWriter struct {
	gin.ResponseWriter
	status int
}

// WriteHeader implements http.ResponseWriter.
func (w *statusWriter) WriteHeader(int) { w.ResponseWriter.WriteHeader(w.status) }

func clipPath(path string) string {
	if len(path) > 80 {
		return path[:80] + "…"
	}
	return path
}

// definitions are those of a kind that a caller may know of.
func (h *handler) definitions(ctx context.Context, kind string) []declare.Definition {
	c := access.From(ctx)
	return slices.DeleteFunc(h.s.Definitions.List(kind), func(d declare.Definition) bool { return !c.May(access.Look, d.Kind, d.Name) })
}

// job tells all about a job; its rows only to who may read them.
func (h *handler) job(ctx context.Context, name string) (*jobs.JobDetail, error) {
	d, err := h.s.Jobs.Get(name)
	if err == nil && !access.From(ctx).May(access.Read, sql.KindJob, name) {
		d.Samples, d.Newest = []flow.NamedSample{}, map[string][]string{}
	}
	if err != nil || len(d.Samples)+len(d.Newest) == 0 {
		return d, err
	}
	veil, err := h.s.JobVeil(ctx, name)
	if err != nil {
		return nil, err
	}
	d.Samples = veil.Samples(d.Samples)
	for step, rows := range d.Newest {
		for i := range rows {
			rows[i] = veil.Text(rows[i])
		}
		d.Newest[step] = rows
	}
	return d, nil
}

// mayKnow says whether a caller may see what was done to an object of the activity log: a job, or a kind and a name.
func (h *handler) mayKnow(c *access.Caller, object string) bool {
	kind, name, ok := strings.Cut(object, " ")
	if !ok {
		kind, name = sql.KindJob, object
	}
	return slices.Contains([]string{sql.KindJob, sql.KindTopic, sql.KindStream, sql.KindTable, sql.KindSink, sql.KindView, sql.KindBoard, sql.KindAlert, sql.KindEndpoint, sql.KindFunction}, kind) && c.May(access.Look, kind, name)
}

// draftOf is what a draft of a caller is called: others have drafts of their own.
func draftOf(ctx context.Context, id string) string {
	if c := access.From(ctx); id != "" && c != nil && c.Via != "" {
		return c.Name + "/" + id
	}
	return id
}

// follow has a browser look at the board that a link is for.
func (g *gate) follow(c *gin.Context) {
	code := c.Param("code")
	caller := g.s.People.Known(code, g.set.client(c.Request))
	if caller == nil || caller.Board == "" {
		c.String(http.StatusNotFound, "This link has ended, or there is none. Ask whoever gave it for another one.\n")
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: linkCookie, Value: code, Path: "/", HttpOnly: true, Secure: g.set.Encrypted, SameSite: http.SameSiteLaxMode})
	c.Redirect(http.StatusSeeOther, "/boards/"+url.PathEscape(caller.Board))
}

// static serves the console; paths that are no file are pages of it.
func static(console fs.FS) gin.HandlerFunc {
	files := packed(http.FileServerFS(console))
	return func(c *gin.Context) {
		path := strings.TrimPrefix(c.Request.URL.Path, "/")
		if strings.HasPrefix(path, "api/") {
			c.JSON(http.StatusNotFound, &Problem{Status: 404, Title: "Not Found", Detail: "there is no such call; see /openapi.json"})
			return
		}
		if st, err := fs.Stat(console, path); path == "" || err != nil || st.IsDir() {
			first, _, _ := strings.Cut(path, "/")
			status := http.StatusOK
			if !slices.Contains(consolePages, first) {
				status = http.StatusNotFound
				if !strings.Contains(c.GetHeader("Accept"), "text/html") { // no browser: a probe must not take a page for an answer
					c.JSON(status, &Problem{Status: status, Title: "Not Found", Detail: "there is no " + clipPath("/"+path) + "; the calls stand in /openapi.json"})
					return
				}
			}
			if _, err := fs.Stat(console, "index.html"); err != nil {
				c.String(http.StatusNotFound, "The console has not been built into this program: make build\n")
				return
			}
			c.Request.URL.Path = "/"
			c.Header("Cache-Control", "no-cache")
			if status != http.StatusOK { // the page that says so
				c.Writer = &statusWriter{c.Writer, status}
			}
		} else if strings.HasPrefix(path, "assets/") {
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		c.Header("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
		c.Header("X-Content-Type-Options", "nosniff")
		files.ServeHTTP(c.Writer, c.Request)
	}
}

// body is an answer with a JSON body.
type body[T any] struct{ Body T }

func answer[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &body[T]{v}, nil
}

// ScriptRequest is SQL text with its parameters.
type ScriptRequest struct {
	SQL    string            `json:"sql" minLength:"1" doc:"statements, each ended by a semicolon"`
	File   string            `json:"file,omitempty" doc:"a name for messages"`
	Params map[string]string `json:"params,omitempty" doc:"values of :name parameters"`
	DryRun bool              `json:"dry_run,omitempty" doc:"check only, change nothing"`
	Begin  string            `json:"begin,omitempty" doc:"where a query, or jobs that are created, begin to read topics, as behind SINCE: NOW, BEGINNING, '1 HOUR', TIMESTAMP '…'; as their texts say where left out"`
}

func (r ScriptRequest) script() declare.Script {
	return declare.Script{File: r.File, SQL: r.SQL, Params: r.Params, Begin: r.Begin}
}

// ApplyResponse is what the statements of a script did. Problem is set where one failed after others
// had been done.
type ApplyResponse struct {
	Outcomes []declare.Outcome `json:"outcomes"`
	Problem  *Problem          `json:"problem,omitempty"`
}

// TopicRequest makes a topic.
type TopicRequest struct {
	Name       string `json:"name" minLength:"1"`
	Partitions int    `json:"partitions,omitempty" minimum:"1" maximum:"1000" default:"4"`
	RetainFor  int64  `json:"retain_seconds,omitempty" minimum:"0" doc:"how long messages are kept; 0: for ever"`
}

// Named is a request about a name.
type Named struct {
	Name string `path:"name"`
}

// pairs reads what is given as name=value.
func pairs(what string, list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, p := range list {
		name, value, ok := strings.Cut(p, "=")
		if !ok {
			return nil, base.Errorf(base.ErrRefused, "%s=%s: write name=value", what, p)
		}
		out[name] = value
	}
	return out, nil
}

// Looking says how somebody looks at a board.
type Looking struct {
	Choose []string  `query:"choose,explode" doc:"of a variable of the board: name=value"`
	Since  string    `query:"since" doc:"how far back, as 15 MINUTES; as the board says where left out"`
	From   time.Time `query:"from" doc:"with to: rows whose event time is in this stretch instead"`
	To     time.Time `query:"to" doc:"its end, which does not belong to it"`
	Draft  string    `query:"draft" doc:"the id of a draft, instead of the board of this name"`
}

// view reads it.
func (in *Looking) view(ctx context.Context) (v boards.View, err error) {
	v = boards.View{Draft: draftOf(ctx, in.Draft)}
	if v.Chosen, err = pairs("choose", in.Choose); err != nil {
		return v, err
	}
	if in.Since != "" {
		b, err := plan.ParseBound(in.Since)
		if err != nil || b.Kind != plan.Ago {
			return v, base.Errorf(base.ErrRefused, "since=%s: write how far back, as 15 MINUTES", in.Since)
		}
		v.Since = b.At
	}
	if in.From.IsZero() != in.To.IsZero() {
		return v, base.Errorf(base.ErrRefused, "a stretch has both from and to")
	}
	if !in.To.IsZero() {
		v.From, v.To = in.From.UnixMicro(), in.To.UnixMicro()
	}
	return v, nil
}

// Change is a request that changes what a name stands for.
type Change struct {
	Named
	Acting
}

// large is for bodies that may be a file, or many messages.
func large(o huma.Operation) huma.Operation {
	o.MaxBodyBytes = 64 << 20
	return o
}

func (h *handler) routes(a huma.API) {
	op := func(id, method, path, summary string, tag string) huma.Operation {
		n, ok := needs[id]
		if !ok {
			panic("nothing says who may do " + id)
		}
		about := map[string]any{"x-of": n.of}
		if n.role != "" {
			about["x-role"] = n.role
		}
		return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{tag}, MaxBodyBytes: 8 << 20, BodyReadTimeout: time.Minute, Extensions: about}
	}
	h.callers(a, op)
	h.alerts(a, op)
	h.backup(a, op)
	h.forget(a, op)
	huma.Register(a, op("health", "GET", "/api/health", "How the service is", "service"),
		func(ctx context.Context, _ *struct{}) (*body[service.Health], error) {
			return answer(h.s.Health(ctx), nil)
		})
	huma.Register(a, op("advice", "GET", "/api/advice", "What in the running service wants somebody, and what to do: the gravest first", "service"),
		func(ctx context.Context, in *struct {
			Paging
			Deep bool `query:"deep" doc:"also look at how late the newest rows of streams are, which reads topics"`
		}) (*body[Page[advice.Finding]], error) {
			all, err := h.s.Advice(ctx, in.Deep)
			return listed(all, err, in.Paging, func(f advice.Finding) string { return f.Kind + " " + f.Name + " " + f.What })
		})
	huma.Register(a, op("activity", "GET", "/api/activity", "Who did what, the newest first", "service"),
		func(ctx context.Context, in *struct {
			Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
			After  uint   `query:"after" doc:"the next of the page before"`
			Object string `query:"object" doc:"what was acted on, such as the name of a job"`
		}) (*body[Page[catalog.Activity]], error) {
			if c := access.From(ctx); !c.Everywhere(access.Administer) && (in.Object == "" || !h.mayKnow(c, in.Object)) {
				return nil, problem(base.Errorf(base.ErrDenied, "the activity of all is for administrators; ask for that of one object in a space of yours"))
			}
			all, err := h.s.Activity(in.After, in.Object, in.Limit)
			out := Page[catalog.Activity]{Items: append([]catalog.Activity{}, all...)}
			if len(all) == in.Limit {
				out.Next = fmt.Sprint(all[len(all)-1].ID)
			}
			return answer(out, err)
		})

	huma.Register(a, op("apply", "POST", "/api/apply", "Check a script and do its statements in order", "sql"),
		func(ctx context.Context, in *struct {
			Acting
			Body ScriptRequest
		}) (*body[ApplyResponse], error) {
			out, err := h.s.Definitions.Apply(ctx, by(ctx), in.Body.script(), in.Body.DryRun)
			if err != nil && len(out) == 0 {
				return nil, problem(err)
			}
			r := ApplyResponse{Outcomes: out}
			if err != nil {
				r.Problem = problem(err).(*Problem)
			}
			return answer(r, nil)
		})
	query := op("query", "POST", "/api/query", "Run a SELECT and give its rows as they come", "sql")
	query.Description = "Answers with server-sent events: `columns`, then `rows` (arrays of objects) as they come, then `end` with the ledger, or `problem`."
	query.Responses = map[string]*huma.Response{"200": {Description: "an event stream", Content: map[string]*huma.MediaType{"text/event-stream": {}}}}
	huma.Register(a, query, h.query)

	huma.Register(a, op("definitions", "GET", "/api/definitions", "What has been declared", "sql"),
		func(ctx context.Context, in *struct {
			Paging
			Kind string `query:"kind" enum:"endpoint,stream,table,sink,view,function,board,"`
		}) (*body[Page[declare.Definition]], error) {
			return paged(h.definitions(ctx, in.Kind), in.Paging, func(d declare.Definition) string { return d.Name })
		})
	huma.Register(a, op("functions", "GET", "/api/functions", "The functions of the language, and those that users have made", "sql"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[plan.FunctionEntry]], error) {
			return paged(h.s.Definitions.Functions(), in.Paging, func(f plan.FunctionEntry) string { return f.Kind + " " + f.Name })
		})
	huma.Register(a, op("places", "GET", "/api/places", "The kinds of places that streams, tables and sinks can stand over, with their options", "sql"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[plan.PlaceEntry]], error) {
			return paged(h.s.Definitions.Current().PlaceEntries(), in.Paging, func(p plan.PlaceEntry) string { return p.Place })
		})
	huma.Register(a, op("definition", "GET", "/api/definitions/{name}", "All about something declared", "sql"),
		func(ctx context.Context, in *Named) (*body[*declare.DefinitionDetail], error) {
			d, err := h.s.Definitions.Get(in.Name)
			if err == nil {
				c := access.From(ctx)
				d.Users = slices.DeleteFunc(d.Users, func(user string) bool { // "the job timing.keep"
					kind, name, ok := strings.Cut(strings.TrimPrefix(user, "the "), " ")
					return ok && !c.May(access.Look, kind, name)
				})
			}
			return answer(d, err)
		})
	h.looks(a, op)

	huma.Register(a, op("lateness", "GET", "/api/streams/{name}/lateness", "How late the rows of a stream are, and what each delay would keep", "sql"),
		func(ctx context.Context, in *struct {
			Named
			Since string `query:"since" doc:"where to begin, as behind SINCE; the beginning where left out"`
		}) (*body[*questions.Lateness], error) {
			return answer(h.s.Questions.Lateness(ctx, in.Name, in.Since))
		})

	huma.Register(a, op("jobs", "GET", "/api/jobs", "All jobs", "jobs"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[jobs.JobInfo]], error) {
			return paged(visible(ctx, h.s.Jobs.List(), sql.KindJob, func(j jobs.JobInfo) string { return j.Name }), in.Paging, func(j jobs.JobInfo) string { return j.Name })
		})
	huma.Register(a, op("job", "GET", "/api/jobs/{name}", "A job with its ledger, samples and newest rows", "jobs"),
		func(ctx context.Context, in *Named) (*body[*jobs.JobDetail], error) {
			return answer(h.job(ctx, in.Name))
		})
	for _, c := range []struct {
		id, path, summary string
		do                func(ctx context.Context, actor, name string) error
	}{
		{"start-job", "/api/jobs/{name}/start", "Start a stopped job where it was", h.s.Jobs.Start},
		{"stop-job", "/api/jobs/{name}/stop", "Stop a job; it keeps its place and state", h.s.Jobs.Stop},
	} {
		huma.Register(a, op(c.id, "POST", c.path, c.summary, "jobs"), func(ctx context.Context, in *Change) (*body[*jobs.JobDetail], error) {
			if err := c.do(ctx, by(ctx), in.Name); err != nil {
				return nil, problem(err)
			}
			return answer(h.job(ctx, in.Name))
		})
	}
	huma.Register(a, op("job-state", "GET", "/api/jobs/{name}/state", "What the steps of a job keep, what its sinks promise and hold back, and its checkpoints", "jobs"),
		func(ctx context.Context, in *Named) (*body[*jobs.JobState], error) {
			return answer(h.s.Jobs.State(in.Name))
		})
	huma.Register(a, op("present", "GET", "/api/jobs/{name}/steps/{step}/rows", "The rows of a step of a running job as they stand", "jobs"),
		func(ctx context.Context, in *struct {
			Named
			Step  string   `path:"step"`
			Where []string `query:"where,explode" doc:"column=value: only rows that have it; with a value for each key the row is found at once"`
			Limit int      `query:"limit" default:"100" minimum:"1" maximum:"10000"`
		}) (*body[*jobs.Present], error) {
			where, err := pairs("where", in.Where)
			if err != nil {
				return nil, problem(err)
			}
			return answer(h.s.Present(ctx, in.Name, in.Step, where, in.Limit))
		})
	huma.Register(a, op("versions", "GET", "/api/jobs/{name}/versions", "The texts that a job has had, the newest first", "jobs"),
		func(ctx context.Context, in *struct {
			Named
			Paging
		}) (*body[Page[catalog.Version]], error) {
			all, err := h.s.Jobs.Versions(in.Name)
			return listed(all, err, in.Paging, func(v catalog.Version) string { return fmt.Sprint(v.Version) })
		})
	huma.Register(a, op("revert-job", "POST", "/api/jobs/{name}/revert", "Go back to an earlier version of a job, as a new version", "jobs"),
		func(ctx context.Context, in *struct {
			Change
			To int `query:"to" minimum:"0" doc:"a version; 0: the one before"`
		}) (*body[[]declare.Outcome], error) {
			return answer(h.s.Definitions.Revert(ctx, by(ctx), in.Name, in.To))
		})
	huma.Register(a, op("compare-job", "POST", "/api/jobs/{name}/compare", "Run a job and a new text of it over the same messages, and compare what would stand in the sinks", "jobs"),
		func(ctx context.Context, in *struct {
			Named
			Since string `query:"since" doc:"where to begin, as behind SINCE; the beginning where left out"`
			Body  ScriptRequest
		}) (*body[*questions.Comparison], error) {
			return answer(h.s.Questions.Compare(ctx, in.Name, in.Body.script(), in.Since))
		})
	huma.Register(a, op("parallelism", "PUT", "/api/jobs/{name}/parallelism", "Change how many tasks share the work of a job", "jobs"),
		func(ctx context.Context, in *struct {
			Change
			Body struct {
				Tasks int `json:"tasks" minimum:"0" maximum:"256" doc:"0: as the job's text says"`
			}
		}) (*body[*jobs.JobDetail], error) {
			if err := h.s.Jobs.SetParallelism(ctx, by(ctx), in.Name, in.Body.Tasks); err != nil {
				return nil, problem(err)
			}
			return answer(h.job(ctx, in.Name))
		})
	huma.Register(a, op("checkpoints", "GET", "/api/jobs/{name}/checkpoints", "The checkpoints of a job that are kept, the newest first", "jobs"),
		func(ctx context.Context, in *struct {
			Named
			Paging
		}) (*body[Page[jobs.CheckpointInfo]], error) {
			all, err := h.s.Jobs.Checkpoints(in.Name)
			return listed(all, err, in.Paging, func(x jobs.CheckpointInfo) string { return fmt.Sprint(x.Number) })
		})
	huma.Register(a, op("drop-job", "DELETE", "/api/jobs/{name}", "Stop a job and forget it", "jobs"),
		func(ctx context.Context, in *Change) (*struct{}, error) {
			return nil, problem(h.s.Jobs.Drop(ctx, by(ctx), in.Name))
		})
	live := op("live-job", "GET", "/api/jobs/{name}/live", "A job, again and again", "jobs")
	live.Description = "Answers with server-sent events: `job` with what the call for one job gives, every second, until the job is dropped."
	live.Responses = query.Responses
	huma.Register(a, live, h.live)

	huma.Register(a, op("boards", "GET", "/api/boards", "All boards", "boards"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[boards.Board]], error) {
			return paged(visible(ctx, h.s.Boards.List(), sql.KindBoard, func(b boards.Board) string { return b.Name }), in.Paging, func(b boards.Board) string { return b.Name })
		})
	huma.Register(a, op("board", "GET", "/api/boards/{name}", "A board with its panels", "boards"),
		func(ctx context.Context, in *Named) (*body[*boards.Board], error) {
			return answer(h.s.Boards.Get(in.Name))
		})
	huma.Register(a, op("board-rows", "GET", "/api/boards/{name}/panels/{panel}/rows", "The rows of a panel as they stand", "boards"),
		func(ctx context.Context, in *struct {
			Named
			Looking
			Panel int `path:"panel" minimum:"0" doc:"which one, from 0"`
			Wait  int `query:"wait" default:"3" minimum:"1" maximum:"60" doc:"seconds that the query may take to come to what is there, where it does not run yet"`
		}) (*body[*boards.Update], error) {
			v, err := in.view(ctx)
			if err != nil {
				return nil, problem(err)
			}
			return answer(h.s.Boards.Stands(ctx, in.Name, in.Panel, v, time.Duration(in.Wait)*time.Second))
		})
	board := op("live-board", "GET", "/api/boards/{name}/live", "What a board shows, and what changes", "boards")
	board.Description = "Answers with server-sent events: `board` with its panels, and then `update` for a panel, or for what can be chosen of a variable: all its rows as they stand, or what has changed since. A board that is replaced is told anew."
	board.Responses = query.Responses
	huma.Register(a, board, h.board)
	huma.Register(a, op("board-draft", "PUT", "/api/board-drafts/{id}", "A board that is being changed: its text and its parts", "boards"),
		func(ctx context.Context, in *struct {
			ID   string `path:"id" maxLength:"100" doc:"of whoever changes it"`
			Body struct {
				SQL   string          `json:"sql,omitempty" doc:"the text; or"`
				Parts *sql.BoardParts `json:"parts,omitempty" doc:"the parts"`
			}
		}) (*body[*boards.Draft], error) {
			return answer(h.s.Boards.Draft(ctx, draftOf(ctx, in.ID), in.Body.SQL, in.Body.Parts))
		})
	huma.Register(a, op("panel-kinds", "GET", "/api/panel-kinds", "The kinds of panels, with their options", "boards"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[boards.PanelKind]], error) {
			return paged(boards.Kinds(), in.Paging, func(k boards.PanelKind) string { return k.Kind })
		})

	huma.Register(a, op("topics", "GET", "/api/topics", "All topics", "topics"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[topics.TopicInfo]], error) {
			return paged(visible(ctx, h.s.Topics.List(), sql.KindTopic, func(t topics.TopicInfo) string { return t.Name }), in.Paging, func(t topics.TopicInfo) string { return t.Name })
		})
	huma.Register(a, op("create-topic", "POST", "/api/topics", "Create a topic", "topics"),
		func(ctx context.Context, in *struct {
			Acting
			Body TopicRequest
		}) (*body[topics.TopicInfo], error) {
			if space := access.SpaceOf(in.Body.Name); !access.From(ctx).In(access.Develop, space) {
				return nil, problem(base.Errorf(base.ErrDenied, "%s", access.From(ctx).Missing(access.Develop, space)))
			}
			set := topiclog.Settings{Partitions: max(in.Body.Partitions, 1), RetainFor: in.Body.RetainFor * 1e6}
			if in.Body.Partitions == 0 {
				set.Partitions = 4
			}
			if err := h.s.Topics.Create(by(ctx), in.Body.Name, set); err != nil {
				return nil, problem(err)
			}
			return answer(h.s.Topics.Get(in.Body.Name))
		})
	huma.Register(a, op("topic", "GET", "/api/topics/{name}", "One topic", "topics"),
		func(ctx context.Context, in *Named) (*body[topics.TopicInfo], error) {
			return answer(h.s.Topics.Get(in.Name))
		})
	huma.Register(a, op("drop-topic", "DELETE", "/api/topics/{name}", "Delete a topic and its data", "topics"),
		func(ctx context.Context, in *Change) (*struct{}, error) {
			return nil, problem(h.s.Definitions.DropTopic(by(ctx), in.Name))
		})
	huma.Register(a, op("read-messages", "GET", "/api/topics/{name}/messages", "Read messages; of one partition, next is the offset to go on from", "topics"),
		func(ctx context.Context, in *struct {
			Named
			Partition int       `query:"partition" default:"-1" doc:"-1: all"`
			From      int64     `query:"from" default:"-1" doc:"an offset of the partition"`
			Since     time.Time `query:"since" doc:"messages that arrived then or later"`
			Last      int       `query:"last" minimum:"0" doc:"the last so many of each partition"`
			Key       string    `query:"key" doc:"only messages with this key"`
			Text      string    `query:"text" doc:"only messages with this text in their value"`
			Limit     int       `query:"limit" default:"100" minimum:"1" maximum:"100000"`
		}) (*body[MessagePage], error) {
			r := topics.Reading{Partition: in.Partition, From: in.From, Since: in.Since, Last: in.Last, Limit: in.Limit, Key: in.Key, Text: in.Text}
			veil, err := h.s.ReadingFor(ctx, in.Name, r)
			if err != nil {
				return nil, problem(err)
			}
			all, cut, err := h.s.Topics.Read(in.Name, r)
			for i := range all {
				all[i] = veil.Message(all[i])
			}
			out := MessagePage{Items: all, Cut: cut}
			if in.Partition >= 0 && len(all) > 0 && (cut || len(all) == in.Limit) {
				out.Next = fmt.Sprint(all[len(all)-1].Offset + 1)
			}
			return answer(out, err)
		})
	write := large(op("write-messages", "POST", "/api/topics/{name}/messages", "Write messages; answers when they are on the disk", "topics"))
	write.Description = "A list of messages with key and value. Messages come as they are, in a body of any length that is written while it comes, as application/x-ndjson, text/csv, application/octet-stream, " +
		"as application/json with rows=true (an array, or one object), and as CloudEvents over HTTP in all three modes; key= names the field that is the key. The manual's page on the service says more."
	write.SkipValidateBody = true // it is read message by message; see MessageBatch
	huma.Register(a, write,
		func(ctx context.Context, in *struct {
			Named
			Batch string `query:"batch" maxLength:"200" doc:"a name for the messages of this call: where they are sent again under it, with the same messages, they are written once"`
			Body  MessageBatch
		}) (*body[Written], error) {
			again, err := h.s.Topics.Write(in.Name, in.Batch, in.Body.records())
			return answer(Written{len(in.Body), again}, err)
		})

	huma.Register(a, op("secrets", "GET", "/api/secrets", "The secrets, without their values", "service"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[secrets.Secret]], error) {
			all, err := h.s.Secrets.List()
			all = slices.DeleteFunc(all, func(s secrets.Secret) bool { return !access.From(ctx).In(access.Operate, access.SpaceOf(s.Name)) })
			return listed(all, err, in.Paging, func(s secrets.Secret) string { return s.Name })
		})
	huma.Register(a, op("set-secret", "PUT", "/api/secrets/{name}", "Set a secret; nothing gives it out again", "service"),
		func(ctx context.Context, in *struct {
			Change
			Body struct {
				Value string `json:"value"`
				For   string `json:"for,omitempty" maxLength:"400" doc:"user@host:port that it may be sent to; the first endpoint that uses it where left out"`
			}
		}) (*struct{}, error) {
			return nil, problem(h.s.Secrets.Set(by(ctx), in.Name, in.Body.Value, in.Body.For))
		})
	huma.Register(a, op("drop-secret", "DELETE", "/api/secrets/{name}", "Forget a secret that no endpoint uses", "service"),
		func(ctx context.Context, in *Change) (*struct{}, error) {
			return nil, problem(h.s.Secrets.Drop(by(ctx), in.Name))
		})

	huma.Register(a, op("databases", "GET", "/api/databases", "The databases on the service's private server", "service"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[catalog.Database]], error) {
			all, err := h.s.Databases.List(ctx)
			return listed(all, err, in.Paging, func(d catalog.Database) string { return d.Name })
		})
	huma.Register(a, op("create-database", "POST", "/api/databases", "Make a database on the private server, and a user who owns it", "service"),
		func(ctx context.Context, in *struct {
			Acting
			Body DatabaseRequest
		}) (*body[*databases.Made], error) {
			return answer(h.s.Databases.Create(ctx, by(ctx), in.Body.Name, in.Body.User))
		})
	huma.Register(a, op("drop-database", "DELETE", "/api/databases/{name}", "Delete a database of the private server, with all that is in it", "service"),
		func(ctx context.Context, in *Change) (*struct{}, error) {
			return nil, problem(h.s.Databases.Drop(ctx, by(ctx), in.Name))
		})
	huma.Register(a, op("run-statements", "POST", "/api/endpoints/{name}/run", "Have the server of an endpoint run statements of its own, as to make tables", "service"),
		func(ctx context.Context, in *struct {
			Change
			Body struct {
				SQL string `json:"sql" minLength:"1" doc:"in the server's language, one or more statements"`
			}
		}) (*body[Ran], error) {
			out, err := h.s.Databases.Run(ctx, by(ctx), in.Name, in.Body.SQL)
			if err != nil && len(out) > 0 {
				return &body[Ran]{Ran{out, err.Error()}}, nil
			}
			return answer(Ran{Results: out}, err)
		})
}

// DatabaseRequest makes a database.
type DatabaseRequest struct {
	Name string `json:"name" minLength:"1" maxLength:"60"`
	User string `json:"user,omitempty" maxLength:"60" doc:"who owns it; called as the database where left out"`
}

// Ran is the rows that statements gave, up to the first that failed.
type Ran struct {
	Results []contract.Result `json:"results"`
	Problem string            `json:"problem,omitempty" doc:"why the statement behind them failed"`
}
