package eval

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

func init() {
	define(&Function{Name: "current_timestamp", Group: "time", Signatures: []string{"current_timestamp → TIMESTAMP"},
		Doc: "The wall clock when the row is processed. The result depends on the run, and EXPLAIN says so.", Nulls: "never NULL",
		Example: "CURRENT_TIMESTAMP > TIMESTAMP '2000-01-01'", Result: "true"}, func(args []*Expr) (*Expr, error) {
		if len(args) != 0 {
			return nil, ErrTypes
		}
		e := safe(call(timestamp, wordKernel(func(m *Machine, i int, a []*column.Vector) int64 { return m.Now })))
		e.Volatile = true
		return e, nil
	})
	define(&Function{Name: "event_time", Group: "time", Signatures: []string{"event_time() → TIMESTAMP"},
		Doc: "The event time of the row: that of a stream joined with a stream is the later of the two, that of a stream without EVENT TIME the time of arrival. It stands in SELECT and WHERE of queries without GROUP BY.", Nulls: "never NULL",
		Example: "EVENT_TIME() IS NULL", Result: "false"}, func(args []*Expr) (*Expr, error) {
		if len(args) != 0 {
			return nil, ErrTypes
		}
		return &Expr{Op: OpTime, Type: timestamp}, nil
	})
	plain(&Function{Name: "unix_millis", Group: "time", Signatures: []string{"unix_millis(t TIMESTAMP) → BIGINT"}, Doc: "Milliseconds since 1970-01-01 UTC.",
		Example: "UNIX_MILLIS(TIMESTAMP '1970-01-01 00:00:01')", Result: "1000"}, bigint,
		wordKernel(func(m *Machine, i int, a []*column.Vector) int64 { return floorDiv(a[0].I[i], 1000) }), timestamp)
	plain(&Function{Name: "interval_seconds", Group: "time", Signatures: []string{"interval_seconds(i INTERVAL) → DOUBLE"}, Doc: "The seconds that a length of time has.",
		Example: "INTERVAL_SECONDS(TIMESTAMP '2026-05-17 09:01:00.5' - TIMESTAMP '2026-05-17 09:00:00')", Result: "60.5"}, double,
		func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, x := range a[0].I[:n] {
				out.F[i] = float64(x) / float64(types.Second)
			}
		}, interval)
	failing(&Function{Name: "from_unix_millis", Group: "time", Signatures: []string{"from_unix_millis(n BIGINT) → TIMESTAMP"}, Doc: "The instant n milliseconds after 1970-01-01 UTC.",
		Example: "FROM_UNIX_MILLIS(1000)", Result: "1970-01-01T00:00:01.000Z"}, timestamp,
		wordKernel(func(m *Machine, i int, a []*column.Vector) int64 {
			v := a[0].I[i]
			if v < types.FirstTimestamp/1000 || v > types.LastTimestamp/1000 {
				m.Fail(i, "overflow: the result does not fit TIMESTAMP")
				return 0
			}
			return v * 1000
		}), bigint)
	define(&Function{Name: "extract", Group: "time", Signatures: []string{"extract(field FROM t TIMESTAMP) → BIGINT"},
		Doc:     "A field of an instant, in UTC: " + strings.ToUpper(strings.Join(extractFields, ", ")) + ". DOW is 1 for Monday; WEEK and its year are those of ISO 8601.",
		Example: "EXTRACT(HOUR FROM TIMESTAMP '2026-05-17 09:30:00')", Result: "9"}, extract)
	define(&Function{Name: "date_trunc", Group: "time", Signatures: []string{"date_trunc('unit', t TIMESTAMP) → TIMESTAMP"}, Doc: "The first instant of t's unit, in UTC; weeks begin on Monday.",
		Example: "DATE_TRUNC('hour', TIMESTAMP '2026-05-17 09:30:00')", Result: "2026-05-17T09:00:00.000Z"}, truncate)
	define(&Function{Name: "format_timestamp", Group: "time", Signatures: []string{"format_timestamp(t TIMESTAMP, 'template') → VARCHAR"},
		Doc:     "t written by a template of " + templateDoc + ". Other letters stand in double quotes.",
		Example: "FORMAT_TIMESTAMP(TIMESTAMP '2026-05-17 09:30:00' AT TIME ZONE 'Europe/Rome', 'DD.MM.YYYY HH24:MI')", Result: "17.05.2026 11:30"}, formatTimestamp)
	define(&Function{Name: "parse_timestamp", Group: "time", Signatures: []string{"parse_timestamp(s VARCHAR, 'template') → TIMESTAMP"},
		Doc:     "The instant that s writes by a template of " + templateDoc + "; in UTC unless it has TZH and TZM. A text of another form rejects the row.",
		Example: "PARSE_TIMESTAMP('17.05.2026 09:30', 'DD.MM.YYYY HH24:MI')", Result: "2026-05-17T09:30:00.000Z"}, parseTimestamp)
}

// The templates are those of the SQL standard (ISO/IEC 9075-2:2016, 9.50).
const templateDoc = "YYYY, MM, DD, DDD, HH24, HH12, AM, MI, SS, FF1 to FF6, TZH and TZM"

// templatePart is one field of a template, or the text between two.
type templatePart struct{ field, text string }

var templateFields = []string{"YYYY", "DDD", "DD", "HH24", "HH12", "HH", "MI", "MM", "SSSSS", "SS", "FF1", "FF2", "FF3", "FF4", "FF5", "FF6", "AM", "PM", "TZH", "TZM"}

func template(e *Expr) ([]templatePart, error) {
	if e.Op != OpConst || e.Type.Kind != types.Varchar {
		return nil, fmt.Errorf("the template must be a text that is written out, such as 'YYYY-MM-DD HH24:MI:SS'")
	}
	var out []templatePart
next:
	for s := e.Value.S; s != ""; {
		if s[0] == '"' {
			end := strings.IndexByte(s[1:], '"')
			if end < 0 {
				return nil, fmt.Errorf("a quoted part of the template '%s' has no end", e.Value.S)
			}
			out = append(out, templatePart{text: s[1 : 1+end]})
			s = s[2+end:]
			continue
		}
		up := strings.ToUpper(s)
		for _, f := range templateFields {
			if strings.HasPrefix(up, f) {
				out = append(out, templatePart{field: f})
				s = s[len(f):]
				continue next
			}
		}
		if c := up[0]; c >= 'A' && c <= 'Z' || c >= 0x80 {
			return nil, fmt.Errorf("the template '%s' has no field for \"%s\"; the fields are %s", e.Value.S, s, templateDoc)
		}
		out = append(out, templatePart{text: s[:1]})
		s = s[1:]
	}
	return out, nil
}

func formatTimestamp(args []*Expr) (*Expr, error) {
	if len(args) != 2 || !Implicit(args[0].Type, timestamp) {
		return nil, ErrTypes
	}
	parts, err := template(args[1])
	if err != nil {
		return nil, err
	}
	e := call(varchar, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
		t := time.UnixMicro(a[0].I[i]).UTC()
		for _, p := range parts {
			switch p.field {
			case "":
				dst = append(dst, p.text...)
			case "YYYY":
				dst = fmt.Appendf(dst, "%04d", t.Year())
			case "MM":
				dst = fmt.Appendf(dst, "%02d", t.Month())
			case "DD":
				dst = fmt.Appendf(dst, "%02d", t.Day())
			case "DDD":
				dst = fmt.Appendf(dst, "%03d", t.YearDay())
			case "HH24":
				dst = fmt.Appendf(dst, "%02d", t.Hour())
			case "HH12", "HH":
				dst = fmt.Appendf(dst, "%02d", (t.Hour()+11)%12+1)
			case "AM", "PM":
				dst = append(dst, t.Format("PM")...)
			case "MI":
				dst = fmt.Appendf(dst, "%02d", t.Minute())
			case "SS":
				dst = fmt.Appendf(dst, "%02d", t.Second())
			case "SSSSS":
				dst = fmt.Appendf(dst, "%05d", t.Hour()*3600+t.Minute()*60+t.Second())
			case "TZH":
				dst = append(dst, "+00"...)
			case "TZM":
				dst = append(dst, "00"...)
			default:
				dst = append(dst, fmt.Sprintf("%06d", t.Nanosecond()/1000)[:p.field[2]-'0']...)
			}
		}
		return dst
	}), Cast(args[0], timestamp))
	e.Name = "format_timestamp " + args[1].Value.S
	return safe(e), nil
}

func parseTimestamp(args []*Expr) (*Expr, error) {
	if len(args) != 2 || args[0].Type.Kind != types.Varchar && args[0].Type.Kind != types.Null {
		return nil, ErrTypes
	}
	parts, err := template(args[1])
	if err != nil {
		return nil, err
	}
	e := call(timestamp, wordKernel(func(m *Machine, i int, a []*column.Vector) int64 {
		t, ok := readTemplate(string(a[0].Text(i)), parts)
		if !ok {
			m.Fail(i, fmt.Sprintf("'%.40s' is not written as '%s'", a[0].Text(i), args[1].Value.S))
		}
		return t
	}), Cast(args[0], varchar))
	e.Name = "parse_timestamp " + args[1].Value.S
	return e, nil
}

func readTemplate(s string, parts []templatePart) (int64, bool) {
	year, month, day, yearDay, pm := 1970, 1, 1, 0, -1
	var micros int64
	digits := func(n int) (x int64, ok bool) {
		if len(s) < n {
			return 0, false
		}
		for _, c := range []byte(s[:n]) {
			if c < '0' || c > '9' {
				return 0, false
			}
			x = x*10 + int64(c-'0')
		}
		s = s[n:]
		return x, true
	}
	zone := int64(1)
	for _, p := range parts {
		var x int64
		ok := true
		switch p.field {
		case "":
			s, ok = strings.CutPrefix(s, p.text)
		case "YYYY":
			x, ok = digits(4)
			year = int(x)
		case "MM":
			x, ok = digits(2)
			month = int(x)
		case "DD":
			x, ok = digits(2)
			day = int(x)
		case "DDD":
			x, ok = digits(3)
			yearDay = int(x)
		case "HH24":
			x, ok = digits(2)
			micros += x * types.Hour
			ok = ok && x < 24
		case "HH12", "HH":
			x, ok = digits(2)
			micros += x % 12 * types.Hour
			ok = ok && x >= 1 && x <= 12
		case "AM", "PM":
			if ok = len(s) >= 2 && (strings.EqualFold(s[:2], "am") || strings.EqualFold(s[:2], "pm")); ok {
				pm = btoi(strings.EqualFold(s[:2], "pm"))
				s = s[2:]
			}
		case "MI":
			x, ok = digits(2)
			micros += x * types.Minute
			ok = ok && x < 60
		case "SS":
			x, ok = digits(2)
			micros += x * types.Second
			ok = ok && x < 60
		case "SSSSS":
			x, ok = digits(5)
			micros += x * types.Second
			ok = ok && x < 86400
		case "TZH":
			if ok = len(s) > 0 && (s[0] == '+' || s[0] == '-'); ok {
				if s[0] == '-' {
					zone = -1
				}
				s = s[1:]
				x, ok = digits(2)
				micros -= zone * x * types.Hour
			}
		case "TZM":
			x, ok = digits(2)
			micros -= zone * x * types.Minute
		default:
			n := int(p.field[2] - '0')
			x, ok = digits(n)
			for ; n < 6; n++ {
				x *= 10
			}
			micros += x
		}
		if !ok {
			return 0, false
		}
	}
	if pm == 1 {
		micros += 12 * types.Hour
	}
	if yearDay > 0 {
		first := types.DaysFromCivil(year, 1, 1)
		y, _, _ := types.CivilFromDays(first + int64(yearDay) - 1)
		return (first+int64(yearDay)-1)*types.Day + micros, s == "" && y == year
	}
	days, ok := types.ParseDate(fmt.Appendf(nil, "%04d-%02d-%02d", year, month, day))
	return days*types.Day + micros, ok && s == ""
}

var extractFields = []string{"year", "quarter", "month", "week", "day", "dow", "doy", "hour", "minute", "second", "millisecond", "microsecond", "epoch"}

func constText(e *Expr) (string, bool) {
	return strings.ToLower(e.Value.S), e.Op == OpConst && e.Type.Kind == types.Varchar
}

func extract(args []*Expr) (*Expr, error) {
	if len(args) != 2 || !Implicit(args[1].Type, timestamp) {
		return nil, ErrTypes
	}
	f, ok := constText(args[0])
	if !ok || !slices.Contains(extractFields, f) {
		return nil, fmt.Errorf("EXTRACT takes one of %s", strings.ToUpper(strings.Join(extractFields, ", ")))
	}
	e := call(bigint, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, t := range a[0].I[:n] {
			if out.Null(i) {
				continue
			}
			days := floorDiv(t, types.Day)
			tod := t - days*types.Day
			y, mo, d := types.CivilFromDays(days)
			switch f {
			case "year":
				out.I[i] = int64(y)
			case "quarter":
				out.I[i] = int64(mo+2) / 3
			case "week":
				_, w := time.Unix(days*86400, 0).UTC().ISOWeek()
				out.I[i] = int64(w)
			case "doy":
				out.I[i] = days - types.DaysFromCivil(y, 1, 1) + 1
			case "microsecond":
				out.I[i] = tod % types.Second
			case "month":
				out.I[i] = int64(mo)
			case "day":
				out.I[i] = int64(d)
			case "hour":
				out.I[i] = tod / types.Hour
			case "minute":
				out.I[i] = tod / types.Minute % 60
			case "second":
				out.I[i] = tod / types.Second % 60
			case "millisecond":
				out.I[i] = tod / types.Millisecond % 1000
			case "dow":
				out.I[i] = ((days+3)%7+7)%7 + 1
			case "epoch":
				out.I[i] = floorDiv(t, types.Second)
			}
		}
	}, Cast(args[1], timestamp))
	e.Name = "extract " + f
	return safe(e), nil
}

func truncate(args []*Expr) (*Expr, error) {
	if len(args) != 2 || !Implicit(args[1].Type, timestamp) {
		return nil, ErrTypes
	}
	u, ok := constText(args[0])
	fixed := map[string]int64{"millisecond": types.Millisecond, "second": types.Second, "minute": types.Minute, "hour": types.Hour, "day": types.Day}
	if !ok || fixed[u] == 0 && u != "week" && u != "month" && u != "quarter" && u != "year" {
		return nil, fmt.Errorf("DATE_TRUNC takes 'millisecond', 'second', 'minute', 'hour', 'day', 'week', 'month', 'quarter' or 'year'")
	}
	e := call(timestamp, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, t := range a[0].I[:n] {
			days := floorDiv(t, types.Day)
			switch u {
			case "week":
				out.I[i] = (floorDiv(days+3, 7)*7 - 3) * types.Day
			case "month", "quarter", "year":
				y, mo, _ := types.CivilFromDays(days)
				switch u {
				case "year":
					mo = 1
				case "quarter":
					mo -= (mo - 1) % 3
				}
				out.I[i] = types.DaysFromCivil(y, mo, 1) * types.Day
			default:
				out.I[i] = floorDiv(t, fixed[u]) * fixed[u]
			}
		}
	}, Cast(args[1], timestamp))
	e.Name = "date_trunc " + u
	return safe(e), nil
}
