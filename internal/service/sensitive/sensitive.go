// Package sensitive masks the values of columns that are declared SENSITIVE for callers who may not see them.
package sensitive

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"
	"strings"

	"fiume/internal/connect/recorded"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/topics"
)

// Hidden stands in the place of a text that may have sensitive values anywhere in it.
const Hidden = "(hidden: it has sensitive columns)"

// Catalog gives what is declared as the caller of a context may read it: sensitive columns that are hidden from him are masked before a query gets them.
func Catalog(ctx context.Context, b *base.Base, cat *plan.Catalog) *plan.Catalog {
	return In(b, cat, Key(ctx, cat))
}

// always is what a context has from whose caller everything is hidden, whoever he is.
type always struct{}

// Always gives a context from whose caller everything is hidden: what comes of it goes to people who are not known.
func Always(ctx context.Context) context.Context { return context.WithValue(ctx, always{}, true) }

// sees says whether nothing is hidden from the caller of a context.
func sees(ctx context.Context) bool {
	return ctx.Value(always{}) == nil && access.From(ctx).Everywhere(access.Disclose)
}

func hides(ctx context.Context, sources ...string) bool {
	return ctx.Value(always{}) != nil || access.From(ctx).Hides(sources...)
}

// Key says which streams and tables have columns that are hidden from the caller of a context, so that what is told to one caller can be told to another; "": none.
func Key(ctx context.Context, cat *plan.Catalog) string {
	if sees(ctx) || !cat.HasSensitive() {
		return ""
	}
	var out []string
	for n, s := range cat.Streams {
		if len(s.Sensitive()) > 0 && hides(ctx, n) {
			out = append(out, n)
		}
	}
	for n, t := range cat.Tables {
		if len(t.Sensitive()) > 0 && hides(ctx, n) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return strings.Join(out, "\x00")
}

// In masks what a key names.
func In(b *base.Base, cat *plan.Catalog, key string) *plan.Catalog {
	if key == "" {
		return cat
	}
	hidden := strings.Split(key, "\x00")
	return cat.Masked(func(name string) bool { return slices.Contains(hidden, name) }, b.Mask)
}

// Veil masks what is shown of rows and messages. A nil Veil hides nothing.
type Veil struct {
	b     *base.Base
	names map[string]bool // of columns; true: a VARCHAR, which has a name in its place, where others have null
}

func veil(ctx context.Context, b *base.Base, columns []plan.SensitiveColumn) *Veil {
	var v *Veil
	for _, x := range columns {
		if !hides(ctx, x.From...) {
			continue
		}
		if v == nil {
			v = &Veil{b, map[string]bool{}}
		}
		text, again := v.names[x.Name]
		v.names[x.Name] = x.Text && (text || !again)
	}
	return v
}

// Sees says whether nothing is hidden from the caller of a context, without a look at what there is.
func Sees(ctx context.Context, b *base.Base) bool { return sees(ctx) || !b.Current().HasSensitive() }

// OfPlan gives what hides the rows of all steps of a plan from the caller of a context; nil: nothing is hidden.
func OfPlan(ctx context.Context, b *base.Base, p *plan.Plan) *Veil {
	if sees(ctx) {
		return nil
	}
	return veil(ctx, b, p.SensitiveColumns(nil))
}

// OfOutput is OfPlan for the rows of one operator.
func OfOutput(ctx context.Context, b *base.Base, p *plan.Plan, out *plan.Op) *Veil {
	if sees(ctx) {
		return nil
	}
	return veil(ctx, b, p.SensitiveColumns(out))
}

// OfScans is OfPlan for the rows alone that the plan reads: of a plan that is masked all others are masked.
func OfScans(ctx context.Context, b *base.Base, p *plan.Plan) *Veil {
	if sees(ctx) {
		return nil
	}
	var all []plan.SensitiveColumn
	for _, o := range p.Scans() {
		all = append(all, p.SensitiveColumns(o)...)
	}
	return veil(ctx, b, all)
}

// OfTopic gives what hides the messages of a topic.
func OfTopic(ctx context.Context, b *base.Base, topic string) *Veil {
	return OfPlace(ctx, b, "topic", "", topic)
}

// OfPlace gives what hides what lies at an address of a kind, behind an endpoint or "".
func OfPlace(ctx context.Context, b *base.Base, kind, via, address string) *Veil {
	if sees(ctx) {
		return nil
	}
	return veil(ctx, b, b.SensitiveAt(kind, via, address))
}

// OfColumns gives what hides columns.
func OfColumns(ctx context.Context, b *base.Base, columns []plan.SensitiveColumn) *Veil {
	return veil(ctx, b, columns)
}

// Columns names what is hidden.
func (v *Veil) Columns() string {
	var out []string
	for n := range v.names {
		out = append(out, n)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// Hides says whether a column is hidden.
func (v *Veil) Hides(column string) bool {
	if v == nil {
		return false
	}
	_, ok := v.names[column]
	return ok
}

// Mark notes of columns that they are masked, in place.
func (v *Veil) Mark(columns []base.Column) []base.Column {
	for i := range columns {
		columns[i].Masked = v.Hides(columns[i].Name)
	}
	return columns
}

// Refuse gives the error for what cannot be shown masked; nil: nothing is hidden.
func (v *Veil) Refuse(what string) error {
	if v == nil {
		return nil
	}
	return base.Errorf(base.ErrDenied, "%s has sensitive columns (%s), and cannot be shown masked: ask an administrator for the role disclose", what, v.Columns())
}

// Row masks a row, a JSON object. What is none is hidden whole.
func (v *Veil) Row(row []byte) []byte {
	if v == nil || len(row) == 0 {
		return row
	}
	hidden, _ := json.Marshal(Hidden)
	d := json.NewDecoder(bytes.NewReader(row))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return hidden
	}
	out := []byte{'{'}
	for d.More() {
		t, err := d.Token()
		name, ok := t.(string)
		if err != nil || !ok {
			return hidden
		}
		var value json.RawMessage
		if err := d.Decode(&value); err != nil {
			return hidden
		}
		if len(out) > 1 {
			out = append(out, ',')
		}
		key, _ := json.Marshal(name)
		out = append(append(out, key...), ':')
		if v.Hides(name) {
			value = v.value(name, value)
		}
		out = append(out, value...)
	}
	if _, err := d.Token(); err != nil || d.More() {
		return hidden
	}
	return append(out, '}')
}

// value masks a value of a column.
func (v *Veil) value(column string, value []byte) []byte {
	var text string
	if !v.names[column] || bytes.Equal(value, []byte("null")) {
		return []byte("null")
	}
	if json.Unmarshal(value, &text) != nil {
		return []byte("null")
	}
	out, _ := json.Marshal(v.b.Mask.Text(text))
	return out
}

// Text masks a text that may be a row.
func (v *Veil) Text(text string) string {
	if v == nil || text == "" {
		return text
	}
	out := v.Row([]byte(text))
	if len(out) > 0 && out[0] != '{' {
		return Hidden
	}
	return string(out)
}

// Reason leaves the values out of a reason.
func (v *Veil) Reason(reason string) string {
	if v == nil {
		return reason
	}
	return step.ReasonClass(reason)
}

// Samples masks late and rejected rows, in place.
func (v *Veil) Samples(all []flow.NamedSample) []flow.NamedSample {
	if v != nil {
		for i := range all {
			all[i].Row, all[i].Reason = v.Text(all[i].Row), v.Reason(all[i].Reason)
		}
	}
	return all
}

// Message masks a message that is shown.
func (v *Veil) Message(m topics.Message) topics.Message {
	if v == nil {
		return m
	}
	if m.Key != nil {
		key := v.b.Mask.Text(*m.Key)
		m.Key = &key
	}
	m.Headers = nil
	if m.Bytes != nil {
		m.Value, m.Bytes = Hidden, nil
	}
	m.Value = v.Text(m.Value)
	return m
}

// Messages masks messages, in copies.
func (v *Veil) Messages(all []recorded.Message) []recorded.Message {
	if v == nil {
		return all
	}
	out := slices.Clone(all)
	for i := range out {
		m := &out[i]
		if m.Key != nil {
			m.Key = []byte(v.b.Mask.Text(string(m.Key)))
		}
		m.Headers = nil
		if len(m.Value) > 0 {
			m.Value = []byte(v.Text(string(m.Value)))
		}
	}
	return out
}
