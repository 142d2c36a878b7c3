package format

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"testing"
	"unsafe"
)

func init() { eachWidth = withRegisters }

// withRegisters runs a test with each kind of registers that the processor has.
func withRegisters(t *testing.T, test func(t *testing.T)) {
	t.Helper()
	hasWide, hasWider := wide, wider
	defer func() { wide, wider = hasWide, hasWider }()
	for _, w := range []struct {
		name        string
		wide, wider bool
	}{{"words", false, false}, {"256", true, false}, {"512", true, true}} {
		if w.wide && !hasWide || w.wider && !hasWider {
			t.Logf("this processor has no registers of %s bits", w.name)
			continue
		}
		wide, wider = w.wide, w.wider
		t.Run(w.name, test)
	}
}

// likely makes blocks of bytes of which most mean something.
func likely(r *rand.Rand, chars string, blocks int) []byte {
	b := make([]byte, 64*blocks)
	for i := range b {
		b[i] = byte(r.IntN(256))
		if r.IntN(3) > 0 {
			b[i] = chars[r.IntN(len(chars))]
		}
		if b[i] < 0x20 && r.IntN(200) > 0 {
			b[i] = ' '
		}
		if r.IntN(100) > 0 {
			b[i] &= 0x7f
		}
	}
	return b
}

// TestBlockSteps holds each step on blocks against the same in plain words, blocks that carry over to the next.
func TestBlockSteps(t *testing.T) {
	eachWidth(t, func(t *testing.T) {
		r := rand.New(rand.NewPCG(3, 3))
		got, want := new(blockMarks), new(blockMarks)
		for range 3000 {
			n := 1 + r.IntN(pieceBlocks)
			if r.IntN(2) > 0 {
				n = 1 + r.IntN(5)
			}
			b := likely(r, "\"\\\\{}[]:, \t\n\r\x7fa0zuuAF9nbtrfE/", n)
			first := r.IntN(n + 1)
			markBlocks(b[:64*first], got, 0)
			markBlocks(b[64*first:], got, first)
			markBlocksPlain(b, want, 0)
			for i := range markStart {
				if !slices.Equal(got.rows[i][:n], want.rows[i][:n]) {
					t.Fatalf("%q: class %d: %x, want %x", b, i, got.rows[i][:n], want.rows[i][:n])
				}
			}

			c := carry{inside: -uint64(r.IntN(2)), token: uint64(r.IntN(2)), skip: uint64(r.IntN(2)), hex: []uint64{0, 1, 3, 7, 15}[r.IntN(5)], count: uint64(r.IntN(200))}
			wantC := c
			tokens, wantTokens := make([]tokenWord, n+5), make([]tokenWord, n+5)
			indexMarks(got, n, tokens, &c)
			indexMarksPlain(want, n, wantTokens, &wantC)
			c.wrong, wantC.wrong = min(c.wrong, 1), min(wantC.wrong, 1)
			c.escapes, wantC.escapes = min(c.escapes, 1), min(wantC.escapes, 1)
			used := (wantC.count + 63) / 64
			if c != wantC || !slices.Equal(tokens[:used], wantTokens[:used]) || !slices.Equal(got.plain[:n], want.plain[:n]) {
				t.Fatalf("%q: %+v %x, want %+v %x", b, c, tokens[:used], wantC, wantTokens[:used])
			}
			for _, i := range []int{markQuote, markEscape, markStart} {
				if !slices.Equal(got.rows[i][:n], want.rows[i][:n]) {
					t.Fatalf("%q: class %d: %x, want %x", b, i, got.rows[i][:n], want.rows[i][:n])
				}
			}

			at, wantAt := make([]uint32, 64*n+16), make([]uint32, 64*n+16)
			placeTokens(got.rows[markStart][:n], at, 640)
			placeTokensPlain(want.rows[markStart][:n], wantAt, 640)
			found := 0
			for _, w := range want.rows[markStart][:n] {
				for ; w != 0; w &= w - 1 {
					found++
				}
			}
			if !slices.Equal(at[:found], wantAt[:found]) {
				t.Fatalf("%q: tokens at %v, want %v", b, at[:found], wantAt[:found])
			}
		}
	})
}

// TestNumberSteps is TestBlockSteps for numbers.
func TestNumberSteps(t *testing.T) {
	eachWidth(t, func(t *testing.T) {
		r := rand.New(rand.NewPCG(4, 4))
		right := 0
		for range 20000 {
			n := 1 + r.IntN(6)
			b := bytes.Repeat([]byte{' '}, 64*n)
			for range 1 + r.IntN(3) {
				copy(b[r.IntN(len(b)):], likely(r, "0123456789.eE+-", 1)[:1+r.IntN(12)])
			}
			m, tokens := new(blockMarks), make([]tokenWord, n+2)
			markBlocks(b, m, 0)
			indexMarks(m, n, tokens, new(carry))
			m.before = uint64(r.IntN(2)) << 63
			got, want := checkNumbers(m, n) != 0, checkNumbersPlain(m, n) != 0
			if got != want {
				t.Fatalf("%q: wrong: %v, want %v", b, got, want)
			}
			right += one(!got)
		}
		if right < 1000 || right > 19000 {
			t.Errorf("%d of 20,000 texts have right numbers: they show nothing", right)
		}
	})
}

// TestBits holds the moving of bits against the same in plain words.
func TestBits(t *testing.T) {
	eachWidth(t, func(t *testing.T) {
		r := rand.New(rand.NewPCG(5, 5))
		for range 10000 {
			mask, a, b, c, d := r.Uint64()&r.Uint64(), r.Uint64(), r.Uint64(), r.Uint64(), r.Uint64()
			if r.IntN(100) == 0 {
				mask = ^uint64(0)
			}
			w, x, y, z := extract(mask, a, b, c, d)
			ww, wx, wy, wz := extractPlain(mask, a, b, c, d)
			if w != ww || x != wx || y != wy || z != wz {
				t.Fatalf("%x of %x %x %x %x: %x %x %x %x, want %x %x %x %x", mask, a, b, c, d, w, x, y, z, ww, wx, wy, wz)
			}
			if got, want := between(a, mask), betweenPlain(a, mask); got != want {
				t.Fatalf("%x between %x: %x, want %x", a, mask, got, want)
			}
		}
	})
}

// TestShapeSteps holds the check of a shape against what it means, byte by byte.
func TestShapeSteps(t *testing.T) {
	eachWidth(t, func(t *testing.T) {
		r := rand.New(rand.NewPCG(7, 7))
		const text = `{"chip":"C00017","n":-120,"at":"2026-05-17T08:59:59.017Z","x":-45.5,"ok":true,"device":{"battery":0.05,"firmware":"3.2.4"},"deep":"a\"b\\"}`
		inText := make([]bool, len(text))
		for i := 9; i < 15; i++ {
			inText[i] = true
		}
		s := &shape{size: len(text)}
		s.compile([]byte(text), inText)
		fitted := 0
		for range 20000 {
			b := append([]byte(text), make([]byte, shapeWidth)...)
			for range 1 + r.IntN(3) {
				i := r.IntN(len(text))
				b[i] = byte(r.IntN(256))
				if r.IntN(2) > 0 {
					b[i] = "0123456789"[r.IntN(10)]
				}
			}
			quoted, whole := false, false // whole: within the digits before a point
			want := true
			for i := range len(text) {
				c := text[i]
				digit := c >= '0' && c <= '9'
				switch {
				case inText[i]:
					want = want && b[i] >= 0x20 && b[i] < 0x80 && b[i] != '"' && b[i] != '\\'
				case digit && b[i] >= '0' && b[i] <= '9':
					begins := !quoted && !whole && text[i-1] != '.'
					more := text[i+1] >= '0' && text[i+1] <= '9'
					want = want && !(begins && more && b[i] == '0')
				default:
					want = want && b[i] == c
				}
				whole = digit && !quoted
				if c == '"' && text[i-1] != '\\' {
					quoted = !quoted
				}
			}
			got := s.fits(unsafe.Pointer(&b[0]), 0)
			// Plain words may refuse what fits, where a carry goes over.
			if got != want && (wide || got) {
				t.Fatalf("%q: fits: %v, want %v", b[:len(text)], got, want)
			}
			fitted += one(got)
		}
		if fitted < 1000 {
			t.Errorf("only %d of 20,000 fit", fitted)
		}
	})
}
