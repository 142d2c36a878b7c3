package format

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// everyType has a column of each type that a stream can declare; the second half of them are NOT NULL where strict.
func everyType(strict bool) *plan.Stream {
	row := types.Type{Kind: types.Row, Fields: []types.Field{{Name: "a", Type: types.Of(types.Int)}, {Name: "b", Type: types.ArrayOf(types.Of(types.JSON))}}}
	all := []types.Type{types.Of(types.Varchar), types.Of(types.Int), types.Of(types.BigInt), types.Of(types.Double), types.Of(types.Boolean), types.DecimalOf(12, 3),
		types.Of(types.Timestamp), types.Of(types.Date), types.Of(types.Time), types.Of(types.Interval), types.Of(types.Varbinary), types.Of(types.JSON),
		types.ArrayOf(types.Of(types.BigInt)), types.MapOf(types.Of(types.Varchar), types.Of(types.JSON)), row, types.ArrayOf(row)}
	s := &plan.Stream{Name: "every", Time: -1}
	for i, t := range all {
		s.Columns = append(s.Columns, types.Field{Name: fmt.Sprintf("c%d", i), Type: t, NotNull: strict && i%2 == 1})
	}
	return s
}

// someOf writes a value of a type as a message has it, in the form that is written, too.
func someOf(r *rand.Rand, t types.Type, nulls int) string {
	if r.IntN(nulls) == 0 {
		return "null"
	}
	list := func(n int, each func(i int) string) string {
		out := make([]string, n)
		for i := range out {
			out[i] = each(i)
		}
		return strings.Join(out, ",")
	}
	switch t.Kind {
	case types.Varchar:
		return []string{`"P00001"`, `""`, `"a\"b"`, `"größe"`, `"null"`}[r.IntN(5)]
	case types.Int:
		return fmt.Sprint(r.Int32() - 1<<30)
	case types.BigInt:
		return []string{fmt.Sprint(r.Int64()), fmt.Sprint(-r.Int64()), "0", "7"}[r.IntN(4)]
	case types.Double:
		return []string{"0.5", "-81.25", "3", "1e+300"}[r.IntN(4)]
	case types.Boolean:
		return fmt.Sprint(r.IntN(2) == 0)
	case types.Decimal:
		return fmt.Sprintf("%d.%03d", r.IntN(1e8), r.IntN(1000))
	case types.Timestamp:
		return fmt.Sprintf(`"2026-05-17T09:%02d:%02d.000Z"`, r.IntN(60), r.IntN(60))
	case types.Date:
		return fmt.Sprintf(`"2026-05-%02d"`, 1+r.IntN(28))
	case types.Time:
		return fmt.Sprintf(`"09:%02d:00"`, r.IntN(60))
	case types.Interval:
		return `"PT1M30S"`
	case types.Varbinary:
		return []string{`"AAEC"`, `""`}[r.IntN(2)]
	case types.JSON:
		return []string{`5`, `"x"`, `{"a":[1,null]}`, `[]`, `{}`, `true`, `[null]`, `9007199254740993`}[r.IntN(8)]
	case types.Array:
		return "[" + list(r.IntN(4), func(int) string { return someOf(r, t.Fields[0].Type, nulls) }) + "]"
	case types.Map:
		return "{" + list(r.IntN(4), func(i int) string { return fmt.Sprintf(`"k%d":%s`, i, someOf(r, t.Fields[1].Type, nulls)) }) + "}"
	}
	return "{" + list(len(t.Fields), func(i int) string {
		return fmt.Sprintf(`"%s":%s`, t.Fields[i].Name, someOf(r, t.Fields[i].Type, nulls))
	}) + "}"
}

// TestJSONNulls has NULL in every place of values of every type, in messages whose layout has been learnt, whose layout
// changes, and whose layout is none: what is read is what the standard library reads of the message, NULL where it says
// null, and a column that is NOT NULL lets none through.
func TestJSONNulls(t *testing.T) {
	for _, strict := range []bool{false, true} {
		s := everyType(strict)
		r := rand.New(rand.NewPCG(4, 4))
		learnt, index := newJSONDecoder(s, &plan.Use{All: true}), unfixed(s)
		enc := NewJSONEncoder(s.Columns)
		read, refused := 0, 0
		for range 400 {
			order := r.Perm(len(s.Columns))
			var msgs [][]byte
			for range 2 + r.IntN(12) {
				var m bytes.Buffer
				for k, c := range order {
					fmt.Fprintf(&m, `%s"%s":%s`, ",{"[btoi(k == 0):][:1], s.Columns[c].Name, someOf(r, s.Columns[c].Type, 2+r.IntN(20)))
				}
				m.WriteByte('}')
				msgs = append(msgs, m.Bytes())
			}
			for name, d := range map[string]*jsonDecoder{"learnt": learnt, "without form": index} {
				out, rejects := decodeAll(d, msgs)
				bad := map[int]string{}
				for _, x := range rejects {
					bad[x.Message] = x.Reason
				}
				row := 0
				for i, m := range msgs {
					var want map[string]json.RawMessage
					if err := json.Unmarshal(m, &want); err != nil {
						t.Fatal(err)
					}
					missing := ""
					for _, c := range s.Columns {
						if c.NotNull && string(want[c.Name]) == "null" {
							missing = c.Name
						}
					}
					if reason, rejected := bad[i]; rejected != (missing != "") {
						t.Fatalf("%s, %s: rejected %v (%s), NULL in %q", name, m, rejected, reason, missing)
					} else if rejected {
						refused++
						continue
					}
					text := enc.Append(nil, out, row)
					var got map[string]json.RawMessage
					if err := json.Unmarshal(text, &got); err != nil {
						t.Fatalf("%s: %s was read and written as %s: %v", name, m, text, err)
					}
					for k, c := range s.Columns {
						if string(want[c.Name]) != string(got[c.Name]) && !sameValue(c.Type, string(want[c.Name]), string(got[c.Name])) {
							t.Fatalf("%s: %s of %s was read as %s", name, c.Name, m, got[c.Name])
						}
						if null := string(want[c.Name]) == "null"; null != out.Cols[k].Null(row) {
							t.Fatalf("%s: %s of %s is NULL: %v", name, c.Name, m, !null)
						}
					}
					row++
					read++
				}
			}
		}
		if read < 500 || strict && refused < 500 {
			t.Errorf("only %d messages were read and %d refused", read, refused)
		}
	}
}

// sameValue says whether two ways to write a value mean the same.
func sameValue(t types.Type, a, b string) bool {
	var x, y any
	if t.Kind != types.Double && t.Kind != types.Timestamp && t.Kind != types.Time {
		return false
	}
	return json.Unmarshal([]byte(a), &x) == nil && json.Unmarshal([]byte(b), &y) == nil &&
		(x == y || strings.TrimRight(strings.TrimSuffix(a, `Z"`), ".0") == strings.TrimRight(strings.TrimSuffix(b, `Z"`), ".0"))
}

// TestWholeNumbersAreExact: a BIGINT is not read by way of a DOUBLE, whatever reads it.
func TestWholeNumbersAreExact(t *testing.T) {
	s := &plan.Stream{Name: "n", Time: -1, Columns: []types.Field{{Name: "n", Type: types.Of(types.BigInt)}, {Name: "a", Type: types.ArrayOf(types.Of(types.BigInt))}}}
	for text, want := range map[string]string{
		"9007199254740993.0": "9007199254740993", "1234567890123456789.0": "1234567890123456789", "9223372036854775807.0": "9223372036854775807",
		"-9223372036854775808.00": "-9223372036854775808", "12e3": "12000", "0.5e1": "5", "0e999999999999999999999": "0", "-0.0": "0", "100e-2": "1",
		"4503599627370497.5": "", "1e-400": "", "0.1e-7": "", "9223372036854775808.0": "", "1e19": "", "1e999999999999999999999": "",
	} {
		for name, d := range map[string]*jsonDecoder{"scan": newJSONDecoder(s, &plan.Use{All: true}), "without form": unfixed(s)} {
			for _, m := range []string{`{"n":%s,"a":[1]}`, `{"n":%s,"a":[%[1]s]}`} {
				msg := fmt.Appendf(nil, m, text)
				if i := bytes.Index(msg, []byte("%!")); i >= 0 {
					msg = msg[:i]
				}
				out, rejects := decodeAll(d, [][]byte{[]byte(`{"n":1,"a":[1]}`), msg})
				if (len(rejects) == 0) != (want != "") {
					t.Errorf("%s: %s: %v", name, msg, rejects)
				} else if want != "" && fmt.Sprint(out.Cols[0].I[1]) != want {
					t.Errorf("%s: %s was read as %d", name, msg, out.Cols[0].I[1])
				}
			}
		}
	}
}
