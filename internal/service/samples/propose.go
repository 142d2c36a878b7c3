package samples

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"fiume/internal/connect/recorded"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/format/container"
	"fiume/internal/service/base"
	"fiume/internal/service/topics"
)

// Proposal is a declaration made of a sample.
type Proposal struct {
	SQL        string           `json:"sql" doc:"the declaration, to change and to run"`
	Name       string           `json:"name"`
	Messages   int              `json:"messages" doc:"looked at"`
	Unreadable int              `json:"unreadable" doc:"of them, those that are no rows"`
	Columns    []ProposedColumn `json:"columns"`
	EventTimes []ProposedTime   `json:"event_times" doc:"columns that may be the event time, the likeliest first; the declaration takes the first"`
	Notes      []string         `json:"notes"`
	First      []topics.Message `json:"first" doc:"some of the messages"`
}

// ProposedColumn is a column that was found.
type ProposedColumn struct {
	Name     string   `json:"name"`
	Type     string   `json:"type"`
	NotNull  bool     `json:"not_null" doc:"no message was without it"`
	Missing  int      `json:"missing" doc:"messages without it, or with NULL"`
	Examples []string `json:"examples"`
	Note     string   `json:"note,omitempty"`
}

// ProposedTime is a column that may be the event time.
type ProposedTime struct {
	Column string `json:"column"`
	From   string `json:"from,omitempty" doc:"the expression, where the column is computed"`
	Delay  int64  `json:"delay" doc:"the shortest delay that keeps 999 of 1000 rows, rounded up, microseconds"`
	Most   int64  `json:"most" doc:"how far the latest row lies behind the newest before it, microseconds"`
	Behind int    `json:"behind" doc:"rows that lie behind a row before them"`
	Age    int64  `json:"age" doc:"how long before its arrival the middle row is, microseconds"`
	Why    string `json:"why"`
}

// found is what was seen of a value's place in the messages.
type found struct {
	rows, nulls                                int
	bools, ints, floats, texts, objects, lists int
	times, dates, millis                       int // of texts and whole numbers: those that read as such
	big                                        bool
	fields                                     map[string]*found
	order                                      []string
	element                                    *found
	examples                                   []string
}

func newFound() *found { return &found{fields: map[string]*found{}} }

func (f *found) field(name string) *found {
	if f.fields[name] == nil {
		f.fields[name] = newFound()
		f.order = append(f.order, name)
	}
	return f.fields[name]
}

// Times in milliseconds since 1970 that are taken for times: 2001 to 2100.
const leastMillis, mostMillis = 978_307_200_000, 4_102_444_800_000

func (f *found) note(raw json.RawMessage) {
	f.rows++
	raw = bytes.TrimSpace(raw)
	if len(raw) == 0 || string(raw) == "null" {
		f.nulls++
		return
	}
	if example := base.ClipText(string(raw), 60); len(f.examples) < 3 && !slices.Contains(f.examples, example) {
		f.examples = append(f.examples, example)
	}
	switch raw[0] {
	case '{':
		f.objects++
		for name, v := range fieldsOf(raw) {
			f.field(name).note(v)
		}
	case '[':
		f.lists++
		var list []json.RawMessage
		_ = json.Unmarshal(raw, &list) // it was read as a part of a document
		if f.element == nil {
			f.element = newFound()
		}
		for _, v := range list {
			f.element.note(v)
		}
	case '"':
		f.texts++
		var s string
		_ = json.Unmarshal(raw, &s)
		f.noteText(s)
	case 't', 'f':
		f.bools++
	default:
		var n json.Number
		_ = json.Unmarshal(raw, &n)
		if i, err := n.Int64(); err == nil {
			f.ints++
			f.big = f.big || i > math.MaxInt32 || i < math.MinInt32
			if leastMillis <= i && i < mostMillis {
				f.millis++
			}
		} else {
			f.floats++
		}
	}
}

func (f *found) noteText(s string) {
	if _, ok := types.ParseTimestamp([]byte(s)); ok && len(s) > 10 {
		f.times++
	} else if _, err := time.Parse(time.DateOnly, s); err == nil {
		f.dates++
	}
}

// fieldsOf gives the fields of an object in their order.
func fieldsOf(raw json.RawMessage) func(yield func(string, json.RawMessage) bool) {
	return func(yield func(string, json.RawMessage) bool) {
		d := json.NewDecoder(bytes.NewReader(raw))
		_, _ = d.Token()
		for d.More() {
			t, err := d.Token()
			name, ok := t.(string)
			var v json.RawMessage
			if err != nil || !ok || d.Decode(&v) != nil || !yield(name, v) {
				return
			}
		}
	}
}

// typ is the type that all values fit, and what is worth saying about it.
func (f *found) typ() (t, note string) {
	kinds := 0
	for _, n := range []int{f.bools, f.ints + f.floats, f.texts, f.objects, f.lists} {
		if n > 0 {
			kinds++
		}
	}
	switch {
	case kinds == 0:
		return "VARCHAR", "always NULL: nothing tells its type"
	case kinds > 1:
		return "JSON", "values of several kinds"
	case f.bools > 0:
		return "BOOLEAN", ""
	case f.floats > 0:
		return "DOUBLE", ""
	case f.ints > 0 && f.millis == f.ints:
		return "BIGINT", "may be a time in milliseconds since 1970"
	case f.ints > 0:
		return "BIGINT", ""
	case f.texts > 0 && f.times == f.texts:
		return "TIMESTAMP", ""
	case f.texts > 0 && f.dates == f.texts:
		return "DATE", ""
	case f.texts > 0 && f.times > f.texts*9/10:
		return "VARCHAR", fmt.Sprintf("%d of %d read as times, the others do not", f.times, f.texts)
	case f.texts > 0:
		return "VARCHAR", ""
	case f.objects > 0:
		if len(f.fields) == 0 || len(f.fields) > 40 {
			return "JSON", "an object whose fields vary"
		}
		var parts []string
		for _, n := range f.order {
			t, _ := f.fields[n].typ()
			parts = append(parts, sql.Quoted(n)+" "+t)
		}
		return "ROW(" + strings.Join(parts, ", ") + ")", ""
	case f.element == nil || f.element.rows == 0:
		return "JSON", "an array that is always empty"
	}
	t, note = f.element.typ()
	return "ARRAY(" + t + ")", note
}

// Propose makes a declaration of a sample.
func (s *Samples) Propose(ctx context.Context, r SampleRequest) (*Proposal, error) {
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	m, err := s.gather(ctx, r)
	if err != nil {
		return nil, err
	}
	p := &Proposal{Name: m.name, Messages: len(m.Messages), Columns: []ProposedColumn{}, EventTimes: []ProposedTime{}, Notes: []string{}, First: firstOf(m.Messages)}
	replaces := s.freeName(p, m)
	if m.Columns != nil {
		return p, s.proposeTable(p, m)
	}
	root, unreadable, err := m.look()
	if err != nil {
		return nil, err
	}
	p.Unreadable = unreadable
	for _, n := range root.order {
		f := root.fields[n]
		c := ProposedColumn{Name: n, Missing: root.rows - f.rows + f.nulls, Examples: f.examples}
		if c.Examples == nil {
			c.Examples = []string{}
		}
		c.Type, c.Note = f.typ()
		c.NotNull = c.Missing == 0 && root.rows >= 20
		p.Columns = append(p.Columns, c)
	}
	p.EventTimes = times(m, root, p.Columns)
	empty := 0
	for _, x := range m.Messages {
		if len(x.Value) == 0 && x.Key != nil {
			empty++
		}
	}
	if empty > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("%d messages have a key and are empty, as deletions are: it may be the latest row of each key; write DECLARE TABLE, and PRIMARY KEY behind the key's column", empty))
		p.Unreadable -= empty
	}
	if p.Unreadable > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("%d of %d messages are no rows; they will be counted and kept as rejected", p.Unreadable, p.Messages))
	}
	if m.Format == "csv" && m.Header == nil {
		p.Notes = append(p.Notes, "the records have no header: give the columns names, in the order of the fields")
	}
	if root.rows < 20 {
		p.Notes = append(p.Notes, "so few messages do not tell which columns are NOT NULL")
	}
	where := "TOPIC " + sql.QuotedText(cmp.Or(m.topic, strings.ReplaceAll(p.Name, "_", "-")))
	switch {
	case m.via != nil:
		where = fmt.Sprintf("%s %s VIA %s", strings.ToUpper(m.via.Place), sql.QuotedText(m.table), sql.Quoted(m.via.Name))
	case m.topic == "" && r.File != "" && r.Data == nil:
		where = "FILES " + sql.QuotedText(r.File)
	case m.topic == "":
		p.Notes = append(p.Notes, "the sample was uploaded: put in the topic that such messages will come from")
	}
	idle := false
	if t := s.TopicLog.Topic(m.topic); t != nil && len(t.Partitions()) > 1 && len(p.EventTimes) > 0 {
		idle = true
		p.Notes = append(p.Notes, "IDLE AFTER keeps a partition that is silent from holding the others up; sinks show rows once a checkpoint counts then. Leave it out where all partitions have rows all the time")
	}
	format := m.Format
	if m.Delimiter != 0 && m.Delimiter != ',' {
		word := sql.QuotedText(string(m.Delimiter))
		if m.Delimiter == '\t' {
			word = `'\t'`
		}
		format += ", DELIMITER " + word
	}
	p.SQL = declaration(p, replaces, where, format, idle)
	return p, nil
}

// freeName gives a proposal a name that nothing has, or that of the stream of its topic, which it may replace.
func (s *Samples) freeName(p *Proposal, m *material) (replaces bool) {
	cat := s.Current()
	name := p.Name
	for n := 2; ; n++ {
		kind := cat.KindOf(p.Name)
		if st := cat.Streams[p.Name]; st != nil && st.OwnTopics && st.Address == m.topic {
			p.Notes = append(p.Notes, fmt.Sprintf("the stream %q is declared: OR REPLACE changes it together with the jobs that use it, where columns are added that may be NULL", p.Name))
			return true
		}
		if kind == "" && s.jobs.Find(p.Name) == nil {
			if p.Name != name {
				p.Notes = append(p.Notes, fmt.Sprintf("%q is taken, and the stream is called %q", name, p.Name))
			}
			return false
		}
		if p.Name = name + "_rows"; n > 2 {
			p.Name = fmt.Sprintf("%s_rows%d", name, n)
		}
	}
}

// look notes what the messages hold; unreadable ones are no rows.
func (m *material) look() (root *found, unreadable int, err error) {
	root = newFound()
	switch m.Format {
	case "json":
		for _, x := range m.Messages {
			if t := bytes.TrimSpace(x.Value); len(t) == 0 || t[0] != '{' || !json.Valid(t) || !utf8.Valid(t) {
				unreadable++
				continue
			}
			root.note(x.Value)
		}
	case "csv":
		header := m.Header
		for i, x := range m.Messages {
			fields, err := container.CSVFields(x.Value)
			if err != nil {
				unreadable++
				continue
			}
			for len(header) < len(fields) && i == 0 {
				header = append(header, fmt.Sprintf("column%d", len(header)+1))
			}
			if len(fields) != len(header) {
				unreadable++
				continue
			}
			root.rows++
			for k, text := range fields {
				root.field(strings.TrimSpace(header[k])).noteCell(text)
			}
		}
	default:
		root.rows = len(m.Messages)
		line := root.field("line")
		line.rows, line.texts = root.rows, root.rows
	}
	if root.rows == 0 {
		return nil, 0, base.Errorf(base.ErrRefused, "none of %d messages is a row of %s", len(m.Messages), strings.ToUpper(m.Format))
	}
	return root, unreadable, nil
}

// noteCell notes a field of CSV, whose type only its text tells.
func (f *found) noteCell(text string) {
	f.rows++
	if text == "" {
		f.nulls++
		return
	}
	if example := base.ClipText(text, 60); len(f.examples) < 3 && !slices.Contains(f.examples, example) {
		f.examples = append(f.examples, example)
	}
	number := json.Number(text)
	if i, err := number.Int64(); err == nil && !(len(text) > 1 && text[0] == '0') && text[0] != '+' {
		f.ints++
		if leastMillis <= i && i < mostMillis {
			f.millis++
		}
		return
	}
	if _, err := number.Float64(); err == nil && strings.ContainsAny(text, ".eE") && text[0] != '+' {
		f.floats++
		return
	}
	if text == "true" || text == "false" {
		f.bools++
		return
	}
	f.texts++
	f.noteText(text)
}

// times finds the columns that may be the event time, and how far their values lie behind.
func times(m *material, root *found, columns []ProposedColumn) (out []ProposedTime) {
	out = []ProposedTime{}
	for _, c := range columns {
		f := root.fields[c.Name]
		millis := c.Type == "BIGINT" && f.millis > 0 && f.millis == f.ints
		if c.Type != "TIMESTAMP" && !millis || c.Missing*50 > root.rows {
			continue
		}
		t := ProposedTime{Column: c.Name}
		if millis {
			t.Column = strings.TrimSuffix(c.Name, "_ms") + "_time"
			t.From = "FROM_UNIX_MILLIS(" + sql.Quoted(c.Name) + ")"
		}
		newest := map[int]int64{}
		var lags, ages []int64
		for _, x := range m.Messages {
			at, ok := timeIn(m, root, x, c.Name, millis)
			if !ok {
				continue
			}
			ages = append(ages, x.At-at)
			if n, ok := newest[x.Partition]; ok && at < n {
				lags = append(lags, n-at)
				t.Behind++
				t.Most = max(t.Most, n-at)
			} else {
				lags = append(lags, 0)
				newest[x.Partition] = at
			}
		}
		if len(lags) == 0 {
			continue
		}
		slices.Sort(lags)
		slices.Sort(ages)
		t.Delay = roundedUp(lags[len(lags)*999/1000])
		t.Age = ages[len(ages)/2]
		t.Why = fmt.Sprintf("%d of %d rows lie behind a row before them", t.Behind, len(lags))
		if len(newest) > 1 {
			t.Why += fmt.Sprintf(", in %d partitions", len(newest))
		}
		out = append(out, t)
	}
	// What happened is told by a time that moves with the messages; one that lies far back, such as a birth, does not.
	score := func(t ProposedTime) float64 {
		x := float64(t.Most) + math.Abs(float64(t.Age))/1000
		if strings.HasSuffix(t.Column, "_at") || strings.HasSuffix(t.Column, "time") || t.Column == "ts" {
			x /= 2
		}
		return x
	}
	slices.SortStableFunc(out, func(a, b ProposedTime) int { return cmp.Compare(score(a), score(b)) })
	return out
}

// timeIn reads a time of a message, in microseconds.
func timeIn(m *material, root *found, x recorded.Message, column string, millis bool) (int64, bool) {
	var text string
	if m.Format == "csv" {
		fields, err := container.CSVFields(x.Value)
		k := slices.Index(root.order, column)
		if err != nil || k < 0 || k >= len(fields) {
			return 0, false
		}
		text = fields[k]
	} else {
		var v map[string]json.RawMessage
		if json.Unmarshal(x.Value, &v) != nil {
			return 0, false
		}
		raw := v[column]
		if len(raw) > 0 && raw[0] == '"' {
			_ = json.Unmarshal(raw, &text)
		} else {
			text = string(raw)
		}
	}
	if millis {
		i, err := json.Number(text).Int64()
		return i * 1000, err == nil
	}
	return types.ParseTimestamp([]byte(text))
}

// roundedUp gives the next longer delay that people would write.
func roundedUp(us int64) int64 {
	for _, d := range []int64{0, 1, 2, 5, 10, 15, 20, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 21600, 43200, 86400} {
		if us <= d*types.Second {
			return d * types.Second
		}
	}
	return (us + 86400*types.Second - 1) / (86400 * types.Second) * 86400 * types.Second
}

// declaration writes a DECLARE STREAM in its usual layout.
func declaration(p *Proposal, replaces bool, where, format string, idle bool) string {
	var b strings.Builder
	or := ""
	if replaces {
		or = "OR REPLACE "
	}
	fmt.Fprintf(&b, "DECLARE %sSTREAM %s (", or, sql.Quoted(p.Name))
	for i, c := range p.Columns {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(sql.Quoted(c.Name) + " " + c.Type)
		if c.NotNull {
			b.WriteString(" NOT NULL")
		}
	}
	var t *ProposedTime
	if len(p.EventTimes) > 0 {
		t = &p.EventTimes[0]
		if t.From != "" {
			fmt.Fprintf(&b, ", %s TIMESTAMP AS (%s)", sql.Quoted(t.Column), t.From)
		}
	}
	b.WriteString(")")
	if t != nil {
		fmt.Fprintf(&b, " EVENT TIME %s", sql.Quoted(t.Column))
		if t.Delay > 0 {
			b.WriteString(" DELAY " + sql.DurationText(t.Delay))
		}
		if idle {
			b.WriteString(" IDLE AFTER 1 MINUTE")
		}
		if t.Delay >= types.Hour {
			p.Notes = append(p.Notes, fmt.Sprintf("DELAY %s keeps nearly all rows, and holds results back for as long: what is sent after a breakdown may be better off with LATENESS; fiume lateness shows what a shorter one loses", sql.DurationText(t.Delay)))
		}
	} else {
		p.Notes = append(p.Notes, "no column looks like a time: the event time is the time of arrival")
	}
	fmt.Fprintf(&b, " FROM %s (FORMAT %s);", where, format)
	return laidOut(b.String())
}

// laidOut is a text in its usual layout, or as it is.
func laidOut(text string) string {
	if script, err := sql.Parse("proposal", text, nil); err == nil {
		return strings.TrimSpace(sql.Format(script))
	}
	return text
}

func (s *Samples) proposeTable(p *Proposal, m *material) error {
	var b strings.Builder
	fmt.Fprintf(&b, "DECLARE TABLE %s (", sql.Quoted(p.Name))
	var keys []string
	for _, c := range m.Columns {
		if c.Key {
			keys = append(keys, sql.Quoted(c.Name))
		}
	}
	for i, c := range m.Columns {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(sql.Quoted(c.Name) + " " + c.Type)
		if c.Key && len(keys) == 1 {
			b.WriteString(" PRIMARY KEY")
		} else if c.NotNull {
			b.WriteString(" NOT NULL")
		}
		p.Columns = append(p.Columns, ProposedColumn{Name: c.Name, Type: c.Type, NotNull: c.NotNull, Examples: []string{}, Note: c.Note})
	}
	if len(keys) > 1 {
		b.WriteString(", PRIMARY KEY (" + strings.Join(keys, ", ") + ")")
	}
	if len(keys) == 0 {
		p.Notes = append(p.Notes, "the table has no primary key: put PRIMARY KEY behind the column that tells its rows apart")
	}
	fmt.Fprintf(&b, ") FROM %s %s VIA %s (REFRESH EVERY 1 MINUTE);", strings.ToUpper(m.via.Place), sql.QuotedText(m.table), sql.Quoted(m.via.Name))
	p.SQL = laidOut(b.String())
	return nil
}
