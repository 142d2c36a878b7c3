package declare

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
)

// Pattern is a text to begin from.
type Pattern struct {
	Name  string `json:"name"`
	About string `json:"about"`
	SQL   string `json:"sql"`
}

// PatternChoice says what patterns are made over; what is "" or not there is chosen.
type PatternChoice struct {
	Stream string // a stream
	Key    string // a column of it, which tells things apart
	Number string // a column of it, which is measured
	With   string // another stream, or a table, that it is joined with
}

// Patterns are texts to begin from over a stream, and what else they could be made over.
type Patterns struct {
	Stream   string    `json:"stream" doc:"that they are made over; empty: there is none"`
	Key      string    `json:"key"`
	Number   string    `json:"number"`
	With     string    `json:"with" doc:"what it is joined with"`
	Streams  []string  `json:"streams" doc:"the other choices: those that suit patterns best come first"`
	Keys     []string  `json:"keys"`
	Numbers  []string  `json:"numbers"`
	Withs    []string  `json:"withs" doc:"streams and tables that have a column of the key's name"`
	Patterns []Pattern `json:"patterns"`
}

// roles are the columns of a stream that a pattern can use; "" where there is none. Names are as they stand in a text.
type roles struct {
	stream            string
	keys              []string // texts, which tell things apart
	numbers           []string
	number, time, one string
}

func rolesOf(s *plan.Stream) roles {
	r := roles{stream: sql.Quoted(s.Name), time: s.TimeIs}
	if r.time != "" {
		r.time = sql.Quoted(r.time)
	}
	for _, c := range s.Shown() {
		n := sql.Quoted(c.Name)
		switch {
		case c.Name == s.TimeIs:
		case c.Type.Kind == types.Varchar:
			r.keys = append(r.keys, n)
		case c.Type.IsNumber():
			r.numbers = append(r.numbers, n)
		}
		if r.one == "" {
			r.one = n
		}
	}
	if len(r.numbers) > 0 {
		r.number = r.numbers[0]
	}
	return r
}

// chosen puts a name before the others, if it is there.
func chosen(all []string, name string) []string {
	if i := slices.Index(all, name); name != "" && i >= 0 {
		return append([]string{name}, slices.Delete(slices.Clone(all), i, i+1)...)
	}
	return all
}

// columns lists some of the columns, for a SELECT, as of an alias.
func (r roles) columns(alias string) string {
	var out []string
	for _, c := range append(slices.Clone(r.keys[:min(2, len(r.keys))]), r.time, r.number) {
		if c != "" {
			out = append(out, alias+c)
		}
	}
	if len(out) == 0 {
		out = append(out, alias+r.one)
	}
	return strings.Join(out, ", ")
}

// patternsOver are texts for what streaming jobs mostly do, over the streams and tables that are declared. Only those are given that
// are right as they stand.
func patternsOver(cat *plan.Catalog, choice PatternChoice) *Patterns {
	made := &Patterns{Streams: []string{}, Keys: []string{}, Numbers: []string{}, Withs: []string{}}
	out := []Pattern{}
	defer func() { made.Patterns = out }()
	add := func(name, about, format string, args ...any) {
		text := strings.TrimSpace(fmt.Sprintf(format, args...)) + "\n"
		script, err := sql.Parse("pattern", text, nil)
		if err != nil {
			return
		}
		errs, scratch := &sql.Errors{}, cat.Clone()
		scratch.Sample = nil
		for _, st := range script.Statements {
			switch st := st.(type) {
			case *sql.Query:
				scratch.Query(st, errs)
			case *sql.CreateJob:
				scratch.Job(st, errs)
			case *sql.CreateTopic:
			default:
				scratch.Define(st, errs)
			}
		}
		if len(errs.List) == 0 {
			out = append(out, Pattern{name, about, text})
		}
	}
	names := slices.Sorted(maps.Keys(cat.Streams))
	if len(names) == 0 {
		add("A topic and a stream", "Where messages are kept, and what their fields are", `
CREATE TOPIC events (PARTITIONS 4);

DECLARE STREAM events (
  id     VARCHAR,
  kind   VARCHAR,
  at     TIMESTAMP,
  amount DOUBLE
)
EVENT TIME at DELAY 10 SECONDS
FROM TOPIC 'events' (FORMAT json);`)
		return made
	}
	// The stream with the most that patterns can use.
	best := func(s *plan.Stream) int {
		r := rolesOf(s)
		n := min(2, len(r.keys))
		for _, c := range []string{r.number, r.time} {
			if c != "" {
				n += 2
			}
		}
		return 100*n + len(s.Shown())
	}
	slices.SortStableFunc(names, func(a, b string) int { return best(cat.Streams[b]) - best(cat.Streams[a]) })
	names = chosen(names, choice.Stream)
	r := rolesOf(cat.Streams[names[0]])
	r.keys = chosen(r.keys, choice.Key)
	if r.numbers = chosen(r.numbers, choice.Number); len(r.numbers) > 0 {
		r.number = r.numbers[0]
	}
	made.Stream, made.Streams, made.Number = names[0], names, r.number
	made.Keys, made.Numbers = append(made.Keys, r.keys...), append(made.Numbers, r.numbers...)
	key, condition, measure := r.one, r.one+" IS NOT NULL", ""
	switch {
	case len(r.keys) > 0 && choice.Key != "":
		key = r.keys[0]
	case len(r.keys) > 0:
		key = r.keys[len(r.keys[:min(2, len(r.keys))])-1]
	}
	made.Key = key
	if r.number != "" {
		condition, measure = r.number+" > 0", ", AVG("+r.number+") AS average"
	}
	add("Filter", "Keep the rows that meet a condition", "SELECT %s\nFROM %s\nWHERE %s;", r.columns(""), r.stream, condition)
	add("Drop repeats", "The first row of each key within a time", "SELECT %s\nFROM %s\nUNIQUE BY (%s) WITHIN 10 SECONDS;", r.columns(""), r.stream, strings.Join(append(slices.Clone(r.keys[:min(2, len(r.keys))]), ifNone(r.keys, r.one)...), ", "))
	windowed := func(name, about, opens, spec string) {
		add(name, about, "SELECT %s, %s, COUNT(*) AS n%s\nFROM %s\nGROUP BY %s, w\nWINDOW w AS (%s);", key, opens, measure, r.stream, key, spec)
	}
	windowed("Tumbling window", "Count in pieces of time, one behind the other", "w.opens AS opened", "TUMBLING 1 MINUTE")
	windowed("Sliding window", "Count over the last minutes, again and again", "w.closes AS closed", "SLIDING 5 MINUTES EVERY 30 SECONDS")
	windowed("Session window", "Put together what lies close in time", "w.opens AS began, w.closes AS ended", "SESSION GAP 90 SECONDS")
	// What it can be joined with: by the column that was chosen, or else by the first that the other has, too.
	by := func(others []string) string {
		for _, k := range r.keys {
			if (choice.Key == "" || k == key) && slices.Contains(others, k) {
				return k
			}
		}
		return ""
	}
	var streams, tables []string
	for _, n := range names[1:] {
		if y := rolesOf(cat.Streams[n]); r.time != "" && y.time != "" && by(y.keys) != "" {
			streams = append(streams, n)
		}
	}
	for _, n := range slices.Sorted(maps.Keys(cat.Tables)) {
		if t := cat.Tables[n]; len(t.Key) == 1 && by([]string{sql.Quoted(t.Shown()[t.Key[0]].Name)}) != "" {
			tables = append(tables, n)
		}
	}
	made.Withs = append(append(made.Withs, streams...), tables...)
	if slices.Contains(made.Withs, choice.With) {
		made.With = choice.With
	}
	for _, n := range chosen(streams, choice.With) {
		y, before := rolesOf(cat.Streams[n]), len(out)
		k := by(y.keys)
		add("Join two streams", "Pairs that lie close in time", "SELECT %s, b.%s AS then\nFROM %s a JOIN %s b\n  ON b.%[5]s = a.%[5]s AND b.%[2]s WITHIN 10 MINUTES BEFORE a.%[6]s;", r.columns("a."), y.time, r.stream, y.stream, k, r.time)
		if len(out) > before {
			break
		}
	}
	for _, n := range chosen(tables, choice.With) {
		t, before := cat.Tables[n], len(out)
		k := by([]string{sql.Quoted(t.Shown()[t.Key[0]].Name)})
		more := ""
		for _, c := range t.Shown() {
			if n := sql.Quoted(c.Name); n != k && more == "" {
				more = ", t." + n
			}
		}
		add("Enrich from a table", "Add what a table knew at that moment", "SELECT %s%s\nFROM %s s JOIN %s t ON t.%[5]s = s.%[5]s;", r.columns("s."), more, r.stream, sql.Quoted(n), k)
		if len(out) > before {
			break
		}
	}
	if r.time != "" && len(r.keys) > 0 {
		add("Missing event", "What should have followed and did not", "SELECT %s\nFROM %s a\nWHERE NOT EXISTS (\n  SELECT 1 FROM %[2]s b\n  WHERE b.%[3]s = a.%[3]s AND b.%[4]s WITHIN 1 HOUR AFTER a.%[4]s AND b.%[4]s > a.%[4]s);", r.columns("a."), r.stream, r.keys[0], r.time)
	}
	sink := func(name, options string) string {
		return fmt.Sprintf("CREATE TOPIC %[1]s (PARTITIONS 1);\nDECLARE SINK %[1]s TO TOPIC '%[1]s'%[2]s;\n", name, options)
	}
	add("Route by condition", "A job that sends rows to several sinks", "%s%s\nCREATE JOB chosen_and_others\n  WITH measured AS (\n    SELECT %s FROM %s\n  )\n  ROUTE measured WHERE %s TO chosen_rows ELSE TO other_rows;", sink("chosen_rows", ""), sink("other_rows", ""), r.columns(""), r.stream, condition)
	add("Late rows", "A window that takes corrections, and what came too late", "%s%s\nCREATE JOB counted_with_late\n  WITH counted AS (\n    SELECT %s, w.opens AS opened, COUNT(*) AS n\n    FROM %s\n    GROUP BY %[3]s, w\n    WINDOW w AS (TUMBLING 1 MINUTE LATENESS 2 MINUTES)\n  )\n  ROUTE counted TO counts\n  ROUTE LATE counted TO late_counts;", sink("counts", " (KEY ("+key+", opened))"), sink("late_counts", ""), key, r.stream)
	return made
}

// Patterns gives texts to begin from, over what the caller of a context knows and has chosen.
func (s *Definitions) Patterns(ctx context.Context, choice PatternChoice) (*Patterns, error) {
	cat := shown(ctx, s.Current())
	for _, n := range []string{choice.Stream, choice.With} {
		if n != "" && cat.Streams[n] == nil && cat.Tables[n] == nil {
			return nil, base.Errorf(base.ErrNotFound, "no stream and no table is called %q", n)
		}
	}
	return patternsOver(cat, choice), nil
}

// ifNone gives a column where there is no key.
func ifNone(keys []string, one string) []string {
	if len(keys) > 0 {
		return nil
	}
	return []string{one}
}
