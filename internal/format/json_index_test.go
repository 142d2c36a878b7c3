package format

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// eachWidth runs a test with each way the steps are written in.
var eachWidth = func(t *testing.T, test func(t *testing.T)) { test(t) }

// someValue writes a random value, blanks between its tokens.
func someValue(r *rand.Rand, b *bytes.Buffer, depth int) {
	blank := func() { b.WriteString("  \t\n "[:r.IntN(3)]) }
	texts := []string{`""`, `"C1"`, `"a\\"`, `"\"}]"`, `"{[,:"`, `"Zürich 第42回"`, `"\u00e9 and a text that is longer than a block has bytes, so that it lies in two of them"`}
	plain := []string{"true", "false", "null", "0", "-0", "7", "-12.5", "1e5", "0.25E-3", "517817.20e-4", "123456789012345678901234567890123456789", "-1.0000000000000000000000000000000000000001e+12"}
	blank()
	switch kind := r.IntN(8); {
	case depth > 0 && kind < 2:
		b.WriteByte('{')
		for i := range r.IntN(5) {
			if i > 0 {
				b.WriteByte(',')
			}
			blank()
			fmt.Fprintf(b, `"k%d"`, i)
			blank()
			b.WriteByte(':')
			someValue(r, b, depth-1)
		}
		b.WriteByte('}')
	case depth > 0 && kind < 4:
		b.WriteByte('[')
		for i := range r.IntN(5) {
			if i > 0 {
				b.WriteByte(',')
			}
			someValue(r, b, depth-1)
		}
		b.WriteByte(']')
	case kind < 6:
		b.WriteString(texts[r.IntN(len(texts))])
	default:
		b.WriteString(plain[r.IntN(len(plain))])
	}
	blank()
}

// TestIndexVerdict holds what the index takes against the standard library, messages of up to some hundred tokens and
// such with a few bytes changed: it takes the right ones, so that they are read fast, and no others, and it finds the
// keys of the outermost object.
func TestIndexVerdict(t *testing.T) {
	eachWidth(t, func(t *testing.T) {
		r := rand.New(rand.NewPCG(6, 6))
		x := &jsonIndex{}
		taken, refused := 0, 0
		for range 20000 {
			var b bytes.Buffer
			b.WriteByte('{')
			var keys []string
			for i := range r.IntN(12) {
				if i > 0 {
					b.WriteByte(',')
				}
				keys = append(keys, fmt.Sprint("key", i))
				fmt.Fprintf(&b, "%q:", keys[i])
				someValue(r, &b, 1+r.IntN(4))
			}
			if r.IntN(20) == 0 { // many brackets
				deep := 1 + r.IntN(50)
				b.Reset()
				b.WriteString(`{"key0":` + strings.Repeat(`[{"a":`, deep/2) + "1" + strings.Repeat("}]", deep/2))
				keys = []string{"key0"}
				if r.IntN(2) > 0 {
					b.WriteString(`,"key1":[]`)
					keys = append(keys, "key1")
				}
			}
			b.WriteByte('}')
			msg := b.Bytes()
			changed := r.IntN(2) > 0
			for range r.IntN(4) {
				if changed {
					const chars = `{}[]:,"\0-.e1t `
					msg[r.IntN(len(msg))] = chars[r.IntN(len(chars))]
				}
			}
			var object map[string]json.RawMessage
			valid := json.Unmarshal(msg, &object) == nil && object != nil
			ok := x.build(msg, 0, len(msg)) && x.order() && x.numbersFit(msg)
			if ok != valid {
				t.Fatalf("%s: taken: %v, valid: %v", msg, ok, valid)
			}
			if !ok {
				refused++
				continue
			}
			taken++
			if changed {
				continue
			}
			var found []string
			for _, k := range x.keys[:x.top] {
				p := int(x.at[k])
				found = append(found, string(msg[p+1:x.closing(p)]))
			}
			if strings.Join(found, " ") != strings.Join(keys, " ") {
				t.Fatalf("%s: found the keys %v, want %v", msg, found, keys)
			}
		}
		if taken < 5000 || refused < 2000 {
			t.Errorf("%d taken and %d refused: they show nothing", taken, refused)
		}
	})
}

// TestIndexBorders moves what is checked over the borders of blocks, of pieces and of words of tokens.
func TestIndexBorders(t *testing.T) {
	parts := []string{
		`{"a":[{},{}]}`, `{"a":{"b":{},"c":{}}}`, `{"a":[1,[]],"b":2}`, `[{},"k":{}]`, `{"a":[{},"k":{}]}`, `{"a":{"b":{},{}}}`, `{"a":[[],"k":[],[]]}`, `{"a":[{}],{}}`,
		`{"a":[1}}`, `{"a":{"b":1]}`, `12.5`, `-0.5e-12`, `12.5.5`, `12.`, `-`, `1-2`, `01`, `0e`, `1e+`, `1e5.5`, `123456789012345678901234567890123456789012345678901234567890.5`,
		`1234567890123456789012345678901234567890.5.5`, `true`, `false`, `null`, `tru`, `nullx`, `truetrue`, `"\u00e9"`, `"\u00g9"`, `"\x"`, `"\\"`, `"\\\""`, "\"\t\"",
	}
	eachWidth(t, func(t *testing.T) {
		x := &jsonIndex{}
		for _, part := range parts {
			for pad := range 140 {
				for _, msg := range []string{
					`{"p":"` + strings.Repeat("x", pad) + `","v":` + part + `}`,
					`{"p":"` + strings.Repeat("x", 64*pieceBlocks-100+pad) + `","v":` + part + `}`,
					`{"p":[1` + strings.Repeat(",1", pad) + `],"v":` + part + `}`,
					`{"p":[` + strings.Repeat("[", pad%50) + strings.Repeat("]", pad%50) + `],"v":` + part + `}`,
				} {
					var object map[string]json.RawMessage
					valid := json.Unmarshal([]byte(msg), &object) == nil
					if ok := x.build([]byte(msg), 0, len(msg)) && x.order() && x.numbersFit([]byte(msg)); ok != valid {
						t.Fatalf("%s: taken: %v, valid: %v", msg, ok, valid)
					}
				}
			}
		}
	})
}

// TestIndexLong reads messages of all lengths up to some that are not indexed.
func TestIndexLong(t *testing.T) {
	d := unfixed(testStream)
	for _, size := range []int{0, 1, 31, 64, 2000, 64 * pieceBlocks, 64*pieceBlocks + 1, 70_000, mostIndexed - 100, mostIndexed, mostIndexed + 1, 3 << 20} {
		filler := strings.Repeat(`[1,"x",{"y":null}],`, size/20)
		compare(t, d, [][]byte{
			fmt.Appendf(nil, `{"chip":"C%d","more":[%s0],"n":%d,"device":{"battery":0.5,"text":"%s"}}`, size, filler, size, strings.Repeat("é", size%997)),
			fmt.Appendf(nil, `{"chip":"C%d","more":[%s0},"n":%d}`, size, filler, size),
		})
	}
}
