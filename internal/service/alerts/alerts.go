// Package alerts looks now and then whether something is wrong, and tells the sinks that are to know when it begins and when it ends: conditions that are
// declared, and those that every service has.
package alerts

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/access"
	"fiume/internal/service/advice"
	"fiume/internal/service/base"
)

// Standing is something that gives an alarm, or that may soon.
type Standing struct {
	ID    string          `json:"id"`
	Alert string          `json:"alert"`
	Of    string          `json:"of,omitempty" doc:"what gives it: the values of the columns behind BY, or a job, a topic and its part"`
	What  string          `json:"what" doc:"what it says, as it was looked at last"`
	Since time.Time       `json:"since" doc:"since when the condition has held"`
	Begun *time.Time      `json:"begun,omitempty" doc:"since when it is an alarm; left out: it has not held for long enough"`
	Told  bool            `json:"told" doc:"whether the sinks of the alert were told, or are about to be"`
	Row   json.RawMessage `json:"row,omitempty" doc:"the row of the alert's query"`
}

// Silence keeps an alert from telling sinks that it begins.
type Silence struct {
	Of    string    `json:"of,omitempty" doc:"what is silent; left out: the whole alert"`
	Until time.Time `json:"until"`
	By    string    `json:"by"`
	Why   string    `json:"why,omitempty"`
}

// Alert is an alert, for people.
type Alert struct {
	Name     string     `json:"name"`
	About    string     `json:"about" doc:"what it looks at"`
	BuiltIn  bool       `json:"built_in"`
	SQL      string     `json:"sql,omitempty" doc:"its statement"`
	For      int64      `json:"for" doc:"how long it must hold, microseconds"`
	Every    int64      `json:"every" doc:"how often it is looked at, microseconds"`
	Notify   []string   `json:"notify" doc:"the sinks that are told"`
	Standing []Standing `json:"standing"`
	Silences []Silence  `json:"silences"`
	Looked   *time.Time `json:"looked,omitempty" doc:"when it was looked at last"`
	Problem  string     `json:"problem,omitempty" doc:"why it cannot be looked at; what stands, stands meanwhile"`
}

// found is what an alert has found just now: what gives the alarm, and what it says.
type found struct {
	what string
	row  json.RawMessage
}

// looked is what is known of an alert.
type looked struct {
	at      time.Time
	next    time.Time
	problem string
}

const (
	// mostRows is how many rows an alert may have at once.
	mostRows = 1000
	// mostOf is how many bytes what gives an alarm may have; a longer one is cut, with its hash behind.
	mostOf = 1000
	// mostRow is how many bytes of a row are kept, and told.
	mostRow = 64 << 10
	// mostSilences are those of an alert at once.
	mostSilences = 100
	// mayTake is how long looking at an alert may take.
	mayTake = 10 * time.Second
	// atOnce is how many are looked at at once.
	atOnce = 4
	// builtInEvery is how often the conditions that every service has are looked at.
	builtInEvery = 10 * time.Second
)

// Alerts is the part of the service that looks after alerts.
type Alerts struct {
	*base.Base
	// Now gives the rows that a query has now, Findings what is found of the service.
	Now      func(ctx context.Context, name, text string, most int) ([]json.RawMessage, error)
	Findings func(ctx context.Context) ([]advice.Finding, error)
	// Every makes all alerts be looked at more often than they say; 0: as they say. It is for tests.
	Every time.Duration

	// Clock is what time it is; tests have their own.
	Clock  func() time.Time
	opened time.Time

	mu       sync.Mutex
	looked   map[string]*looked
	standing map[string]*Standing // by alert and what gives it
	silences map[string]map[string]Silence
	builtIn  []string // the sinks that are told of the built-in ones
	telling  teller
	records  recorder
}

// New looks after the alerts of a service, as they are kept.
func New(b *base.Base) (*Alerts, error) {
	for _, left := range leftovers(b.Dir) {
		_ = os.RemoveAll(left) // it is tried again with the next start
	}
	a := &Alerts{Base: b, Clock: time.Now, opened: time.Now(), looked: map[string]*looked{}, standing: map[string]*Standing{}, silences: map[string]map[string]Silence{}, builtIn: []string{}}
	a.records = recorder{store: b.Store, log: b.Log, wanted: map[[2]string]*string{}, wake: make(chan struct{}, 1)}
	a.telling = teller{a: a, queues: map[string]*queue{}}
	read := func(kind string, each func(id, data string) error) error {
		all, err := b.Store.Kept(kind)
		if err != nil {
			return err
		}
		for _, k := range all {
			if err := each(k.ID, k.Data); err != nil {
				b.Log.Error("a record of alerts cannot be read", "kind", kind, "id", k.ID, "error", err)
			}
		}
		return nil
	}
	if err := read(keptStanding, func(_, data string) error {
		s := &Standing{}
		err := json.Unmarshal([]byte(data), s)
		if err == nil {
			a.standing[keyOf(s.Alert, s.Of)] = s
		}
		return err
	}); err != nil {
		return nil, err
	}
	if err := read(keptSilences, func(id, data string) error {
		var all map[string]Silence
		err := json.Unmarshal([]byte(data), &all)
		if err == nil {
			a.silences[id] = all
		}
		return err
	}); err != nil {
		return nil, err
	}
	if err := read(keptTold, func(_, data string) error { return json.Unmarshal([]byte(data), &a.builtIn) }); err != nil {
		return nil, err
	}
	return a, read(keptNotices, a.telling.read)
}

// leftovers are directories of notices that a process which has ended was about to send.
func leftovers(dir string) []string {
	found, _ := filepath.Glob(filepath.Join(dir, "notice-*")) // its pattern is right
	return found
}

// Kinds of what is kept; see catalog.Kept.
const (
	keptStanding = "alert"
	keptSilences = "silence"
	keptNotices  = "notice"
	keptTold     = "alerts told"
)

func keyOf(alert, of string) string { return alert + "\x00" + of }

// Watch looks at alerts, and tells sinks, until the context ends.
func (a *Alerts) Watch(ctx context.Context) {
	var parts sync.WaitGroup
	defer parts.Wait()
	parts.Go(func() { a.records.keep(ctx) })
	a.telling.begin(ctx, &parts)
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			a.round(ctx)
		}
	}
}

// due are alerts whose turn it is.
type due struct {
	alert  *plan.Alert // nil: the built-in ones, all of which are found at once
	names  []string
	result map[string]map[string]found // by alert and what gives it
	err    error
}

// round looks at all alerts whose turn it is.
func (a *Alerts) round(ctx context.Context) {
	now := a.Clock()
	declared := a.Current().Alerts
	var all []*due
	a.mu.Lock()
	turn := func(name string, every time.Duration) bool {
		l := a.looked[name]
		if l == nil {
			l = &looked{}
			a.looked[name] = l
		}
		if now.Before(l.next) {
			return false
		}
		if a.Every > 0 {
			every = min(every, a.Every)
		}
		l.next = now.Add(every)
		return true
	}
	if a.Findings != nil && turn("", builtInEvery) {
		d := &due{}
		for _, b := range builtIn {
			d.names = append(d.names, b.name)
		}
		all = append(all, d)
	}
	for _, name := range slices.Sorted(maps.Keys(declared)) {
		if x := declared[name]; turn(name, time.Duration(x.Every)*time.Microsecond) {
			all = append(all, &due{alert: x, names: []string{name}})
		}
	}
	a.mu.Unlock()
	places := make(chan struct{}, atOnce)
	var looking sync.WaitGroup
	for _, d := range all {
		places <- struct{}{}
		looking.Go(func() {
			defer func() { <-places }()
			ctx, cancel := context.WithTimeout(ctx, mayTake)
			defer cancel()
			d.result, d.err = a.find(ctx, d)
		})
	}
	looking.Wait()
	if ctx.Err() != nil {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, d := range all {
		for _, name := range d.names {
			a.judge(name, d)
		}
	}
	for key, s := range a.standing { // of alerts that are not there any more
		if name := s.Alert; declared[name] == nil && builtInOf(name) == nil {
			a.end(key, s, "the alert was dropped")
		}
	}
	for name := range a.looked {
		if name != "" && declared[name] == nil && builtInOf(name) == nil {
			delete(a.looked, name)
		}
	}
}

// find looks at an alert, or at the built-in ones.
func (a *Alerts) find(ctx context.Context, d *due) (out map[string]map[string]found, err error) {
	defer func() {
		if x := recover(); x != nil { // the fault of one must not keep the others from being looked at
			err = fmt.Errorf("a fault of Fiume: %v", x)
			a.Log.Error("looking at an alert has failed", "alert", strings.Join(d.names, " "), "error", err)
		}
	}()
	out = map[string]map[string]found{}
	for _, n := range d.names {
		out[n] = map[string]found{}
	}
	if d.alert == nil {
		all, err := a.Findings(ctx)
		if err != nil {
			return nil, err
		}
		for _, f := range all {
			if m := out[f.Kind]; m != nil {
				row, _ := json.Marshal(f)
				what := strings.Join(strings.Fields(f.Of+" "+f.Name), " ")
				if what != "" {
					what += ": "
				}
				m[strings.Join(strings.Fields(f.Of+" "+f.Name+" "+f.Part), " ")] = found{what + f.What + "; " + f.Do, row}
			}
		}
		return out, nil
	}
	x := d.alert
	if space := access.SpaceOf(x.Name); space != "" { // it sees no more than its space
		ctx = access.With(ctx, &access.Caller{Name: "alert " + x.Name, Via: "alert", Grants: []access.Grant{{Space: space, Role: access.Read}}})
	}
	rows, err := a.Now(ctx, x.Name, x.SQL, mostRows)
	if ctx.Err() != nil {
		err = fmt.Errorf("it was not found within %s", mayTake)
	}
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		of, f, err := rowOf(x, row)
		if err != nil {
			return nil, err
		}
		if _, there := out[x.Name][of]; !there {
			out[x.Name][of] = f
		}
	}
	return out, nil
}

// rowOf says what gives an alarm, and what is said of it.
func rowOf(x *plan.Alert, row json.RawMessage) (of string, f found, err error) {
	var cells map[string]json.RawMessage
	if err := json.Unmarshal(row, &cells); err != nil {
		return "", f, err
	}
	plain := func(column string) (string, bool) {
		raw, ok := cells[column]
		var s string
		if json.Unmarshal(raw, &s) == nil && string(raw) != "null" {
			return s, ok
		}
		return string(raw), ok
	}
	var keys []string
	for _, k := range x.By {
		v, _ := plain(k)
		keys = append(keys, v)
	}
	f = found{what: string(row), row: row}
	if x.Say != "" {
		if f.what, err = x.Said(plain); err != nil {
			return "", f, err
		}
	}
	if of = strings.Join(keys, ", "); len(of) > mostOf { // what tells it apart stays
		sum := sha256.Sum256([]byte(of))
		of = base.ClipText(of, 100) + " #" + hex.EncodeToString(sum[:8])
	}
	return of, f, nil
}

// judge has an alert begin and end, by what was found of it; the caller holds mu.
func (a *Alerts) judge(name string, d *due) {
	now := a.Clock().UTC()
	l := a.looked[name]
	if l == nil {
		l = &looked{}
		a.looked[name] = l
	}
	l.at = now
	if d.err != nil {
		l.problem = d.err.Error()
		return // what stands, stands
	}
	l.problem = ""
	least, notify := a.of(name, d.alert)
	for of, f := range d.result[name] {
		key := keyOf(name, of)
		s := a.standing[key]
		if s == nil {
			s = &Standing{ID: rand.Text(), Alert: name, Of: of, Since: now}
			a.standing[key] = s
		}
		if s.What, s.Row = base.ClipText(f.what, 2000), f.row; len(s.Row) > mostRow {
			s.Row = nil // cut, it would be no JSON
		}
		if s.Begun == nil && now.Sub(s.Since) >= least {
			s.Begun = &now
			a.records.want(keptStanding, s.ID, s)
			a.records.note(name, "begins", s)
		}
		if s.Begun != nil && !s.Told && !a.silent(name, of) && len(notify) > 0 {
			s.Told = true
			a.records.want(keptStanding, s.ID, s)
			a.telling.tell(notify, s, "begins", *s.Begun)
		}
	}
	for key, s := range a.standing {
		if _, holds := d.result[name][s.Of]; s.Alert == name && !holds && (s.Begun == nil || s.Begun.After(a.opened) || a.Clock().Sub(a.opened) > a.patience(d)) {
			a.end(key, s, "")
		}
	}
}

// patience is how long after the start of the service nothing ends that stood before it: jobs have to come up first, and places to be tried for so long again
// that they count as away.
func (a *Alerts) patience(d *due) time.Duration {
	if d.alert == nil {
		return time.Minute
	}
	return 15 * time.Second
}

// of says how long an alert must hold, and who is told; the caller holds mu.
func (a *Alerts) of(name string, x *plan.Alert) (least time.Duration, notify []string) {
	if x != nil {
		return time.Duration(x.For) * time.Microsecond, x.Notify
	}
	return builtInOf(name).least, a.builtIn
}

// end ends what stands; the caller holds mu.
func (a *Alerts) end(key string, s *Standing, why string) {
	delete(a.standing, key)
	if s.Begun == nil {
		return
	}
	a.records.want(keptStanding, s.ID, nil)
	a.records.note(s.Alert, "ends", s)
	if !s.Told {
		return
	}
	var notify []string
	if x := a.Current().Alerts[s.Alert]; x != nil {
		notify = x.Notify
	} else if builtInOf(s.Alert) != nil {
		notify = a.builtIn
	}
	gone := *s
	if why != "" {
		gone.What = why
	}
	a.telling.tell(notify, &gone, "ends", a.Clock().UTC())
}

// silent says whether sinks are not told just now; the caller holds mu. Silences that are over are forgotten.
func (a *Alerts) silent(name, of string) bool {
	now, over := a.Clock(), false
	silent := false
	for k, s := range a.silences[name] {
		if now.After(s.Until) {
			delete(a.silences[name], k)
			over = true
			continue
		}
		silent = silent || s.Of == "" || s.Of == of
	}
	if over {
		a.keepSilences(name)
	}
	return silent
}

func (a *Alerts) keepSilences(name string) {
	if len(a.silences[name]) == 0 {
		delete(a.silences, name)
		a.records.want(keptSilences, name, nil)
		return
	}
	a.records.want(keptSilences, name, a.silences[name])
}

// List gives all alerts that the caller of the context may know of, those that stand first, then declared ones, by name.
func (a *Alerts) List(ctx context.Context) []Alert {
	c := access.From(ctx)
	cat := a.Current()
	a.mu.Lock()
	defer a.mu.Unlock()
	out := []Alert{}
	add := func(x Alert) {
		x.Standing, x.Silences = []Standing{}, []Silence{}
		for _, s := range a.standing {
			if s.Alert != x.Name {
				continue
			}
			if x.BuiltIn && !mayKnow(c, s) {
				continue
			}
			x.Standing = append(x.Standing, *s)
		}
		slices.SortFunc(x.Standing, func(a, b Standing) int {
			if n := a.Since.Compare(b.Since); n != 0 {
				return n
			}
			return strings.Compare(a.Of, b.Of)
		})
		a.silent(x.Name, "")
		for _, s := range a.silences[x.Name] {
			x.Silences = append(x.Silences, s)
		}
		slices.SortFunc(x.Silences, func(a, b Silence) int { return strings.Compare(a.Of, b.Of) })
		if l := a.looked[x.Name]; l != nil && !l.at.IsZero() {
			x.Looked, x.Problem = &l.at, l.problem
		}
		out = append(out, x)
	}
	for _, d := range a.Defined() {
		if x := cat.Alerts[d.Name]; x != nil && c.May(access.Look, sql.KindAlert, d.Name) {
			add(Alert{Name: x.Name, About: strings.Join(strings.Fields(x.SQL), " "), SQL: d.SQL, For: x.For, Every: x.Every, Notify: append([]string{}, x.Notify...)})
		}
	}
	for _, b := range builtIn {
		add(Alert{Name: b.name, About: b.about, BuiltIn: true, For: b.least.Microseconds(), Every: builtInEvery.Microseconds(), Notify: append([]string{}, a.builtIn...)})
	}
	begun := func(x Alert) int {
		return -len(slices.DeleteFunc(slices.Clone(x.Standing), func(s Standing) bool { return s.Begun == nil }))
	}
	slices.SortStableFunc(out, func(a, b Alert) int { return min(max(begun(a), -1), 0) - min(max(begun(b), -1), 0) })
	return out
}

// mayKnow says whether a caller may know of what a built-in alert has found.
func mayKnow(c *access.Caller, s *Standing) bool {
	var f advice.Finding
	if json.Unmarshal(s.Row, &f) != nil || f.Of == "" {
		return c.Everywhere(access.Look)
	}
	return c.May(access.Look, f.Of, f.Name)
}

// Get gives an alert.
func (a *Alerts) Get(ctx context.Context, name string) (*Alert, error) {
	var names []string
	for _, x := range a.List(ctx) {
		if x.Name == name {
			return &x, nil
		}
		names = append(names, x.Name)
	}
	if near := sql.Suggest(name, names); near != "" {
		return nil, base.Errorf(base.ErrNotFound, "no alert is called %q; did you mean %q?", name, near)
	}
	return nil, base.Errorf(base.ErrNotFound, "no alert is called %q", name)
}

// longestSilence is how long an alert may be silent.
const longestSilence = 90 * 24 * time.Hour

// Silence keeps an alert, or a part of it, from telling sinks that it begins. How long 0 ends a silence: what stands then is told.
func (a *Alerts) Silence(ctx context.Context, actor, name, of string, long time.Duration, why string) (*Alert, error) {
	if _, err := a.Get(ctx, name); err != nil {
		return nil, err
	}
	switch {
	case long < 0 || long > longestSilence:
		return nil, base.Errorf(base.ErrRefused, "an alert is silent for up to 90 days; one that nobody needs is dropped with DROP ALERT")
	case len([]rune(why)) > 500 || len(of) > 1000:
		return nil, base.Errorf(base.ErrRefused, "the reason has up to 500 letters")
	}
	a.mu.Lock()
	by, _, _ := strings.Cut(actor, "\t")
	if long == 0 {
		if _, there := a.silences[name][of]; !there {
			a.mu.Unlock()
			return nil, base.Errorf(base.ErrNotFound, "the alert %s is not silent%s", name, ofText(of))
		}
		delete(a.silences[name], of)
	} else {
		if a.silences[name] == nil {
			a.silences[name] = map[string]Silence{}
		}
		if len(a.silences[name]) >= mostSilences {
			a.mu.Unlock()
			return nil, base.Errorf(base.ErrRefused, "the alert %s has %d silences; silence all of it", name, mostSilences)
		}
		a.silences[name][of] = Silence{Of: of, Until: a.Clock().Add(long).UTC(), By: by, Why: why}
	}
	a.keepSilences(name)
	a.mu.Unlock()
	action := "alert told again"
	if long > 0 {
		action = "alert silenced"
	}
	a.Note(actor, action, "alert "+name, strings.TrimSpace(strings.TrimPrefix(ofText(of), " ")+" "+why))
	return a.Get(ctx, name)
}

func ofText(of string) string {
	if of == "" {
		return ""
	}
	return " of " + of
}

// Tell says which sinks are told of the built-in alerts.
func (a *Alerts) Tell(actor string, sinks []string) ([]string, error) {
	cat := a.Current()
	for i, s := range sinks {
		if cat.Sinks[s] == nil {
			hint := ""
			if near := sql.Suggest(s, slices.Sorted(maps.Keys(cat.Sinks))); near != "" {
				hint = fmt.Sprintf("; did you mean %q?", near)
			}
			return nil, base.Errorf(base.ErrNotFound, "no sink is called %q%s", s, hint)
		}
		if slices.Contains(sinks[:i], s) {
			return nil, base.Errorf(base.ErrRefused, "the sink %s is there twice", s)
		}
		if _, err := cat.Notices(s); err != nil {
			return nil, base.Errorf(base.ErrRefused, "the sink %s cannot be told: %s", s, err)
		}
	}
	data, _ := json.Marshal(append([]string{}, sinks...))
	if err := a.Store.Keep(keptTold, "sinks", string(data)); err != nil {
		return nil, err
	}
	a.mu.Lock()
	a.builtIn = append([]string{}, sinks...)
	a.mu.Unlock()
	a.Note(actor, "alerts told", "alerts", strings.Join(sinks, ", "))
	return sinks, nil
}

// Told gives the sinks that are told of the built-in alerts.
func (a *Alerts) Told() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return append([]string{}, a.builtIn...)
}

// Uses says whether the built-in alerts tell a sink.
func (a *Alerts) Uses(sink string) bool { return slices.Contains(a.Told(), sink) }

// Counts says how many alarms there are.
func (a *Alerts) Counts() (alarms int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, s := range a.standing {
		if s.Begun != nil {
			alarms++
		}
	}
	return alarms
}
