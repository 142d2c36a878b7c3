package declare

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// Pattern is a text to begin from.
type Pattern struct {
	Name  string `json:"name"`
	About string `json:"about"`
	SQL   string `json:"sql"`
}

// roles are the columns of a stream that a pattern can use; "" where there is none.
type roles struct {
	stream            string
	keys              []string // texts, which tell things apart
	number, time, one string
}

func rolesOf(s *plan.Stream) roles {
	r := roles{stream: sql.Quoted(s.Name), time: s.TimeIs}
	for _, c := range s.Shown() {
		n := sql.Quoted(c.Name)
		switch {
		case c.Name == s.TimeIs:
			r.time = n
		case c.Type.Kind == types.Varchar:
			r.keys = append(r.keys, n)
		case r.number == "" && c.Type.IsNumber():
			r.number = n
		}
		if r.one == "" {
			r.one = n
		}
	}
	return r
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

// patterns are texts for what streaming jobs mostly do, over the streams and tables that are declared. Only those are given that
// are right as they stand.
func patterns(cat *plan.Catalog) []Pattern {
	out := []Pattern{}
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
		return out
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
	r := rolesOf(cat.Streams[names[0]])
	key, condition, measure := r.one, r.one+" IS NOT NULL", ""
	if len(r.keys) > 0 {
		key = r.keys[len(r.keys[:min(2, len(r.keys))])-1]
	}
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
	joined := false
	for _, a := range names {
		for _, b := range names {
			x, y := rolesOf(cat.Streams[a]), rolesOf(cat.Streams[b])
			i := slices.IndexFunc(x.keys, func(k string) bool { return slices.Contains(y.keys, k) })
			if joined || a == b || i < 0 || x.time == "" || y.time == "" {
				continue
			}
			before := len(out)
			add("Join two streams", "Pairs that lie close in time", "SELECT %s, b.%s AS then\nFROM %s a JOIN %s b\n  ON b.%[5]s = a.%[5]s AND b.%[2]s WITHIN 10 MINUTES BEFORE a.%[6]s;", x.columns("a."), y.time, x.stream, y.stream, x.keys[i], x.time)
			joined = len(out) > before
		}
	}
	enriched := false
	for _, t := range slices.Sorted(maps.Keys(cat.Tables)) {
		table := cat.Tables[t]
		for _, s := range names {
			x := rolesOf(cat.Streams[s])
			if enriched || len(table.Key) != 1 || !slices.Contains(x.keys, sql.Quoted(table.Shown()[table.Key[0]].Name)) {
				continue
			}
			k := sql.Quoted(table.Shown()[table.Key[0]].Name)
			before := len(out)
			more := ""
			for _, c := range table.Shown() {
				if n := sql.Quoted(c.Name); n != k && more == "" {
					more = ", t." + n
				}
			}
			add("Enrich from a table", "Add what a table knew at that moment", "SELECT %s%s\nFROM %s s JOIN %s t ON t.%[5]s = s.%[5]s;", x.columns("s."), more, x.stream, sql.Quoted(t), k)
			enriched = len(out) > before
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
	return out
}

// ifNone gives a column where there is no key.
func ifNone(keys []string, one string) []string {
	if len(keys) > 0 {
		return nil
	}
	return []string{one}
}
