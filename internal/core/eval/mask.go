package eval

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// Mask gives names in the place of texts that are not to be seen: the same for the same text, so that what is masked can still be grouped, counted and joined, and
// without its key none can be traced back, nor be made for a text that is guessed (HMAC-SHA256, RFC 2104, cut to 60 bits).
type Mask struct{ key []byte }

// NewMask makes one of a key that nobody else has.
func NewMask(key []byte) *Mask { return &Mask{key} }

var maskLetters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

// maskedLength is how many letters stand behind the sign that begins a masked text.
const maskedLength = 12

// Text gives what stands in the place of a text.
func (m *Mask) Text(text string) string { return string(m.Append(nil, []byte(text))) }

// Append appends what stands in the place of a text. What was masked before stays as it is.
func (m *Mask) Append(dst, text []byte) []byte {
	if masked(text) {
		return append(dst, text...)
	}
	h := hmac.New(sha256.New, m.key)
	h.Write(text)
	var sum [sha256.Size]byte
	var letters [52]byte
	maskLetters.Encode(letters[:], h.Sum(sum[:0]))
	return append(append(dst, '~'), letters[:maskedLength]...)
}

// masked says whether a text looks like one that was masked.
func masked(text []byte) bool {
	if len(text) != 1+maskedLength || text[0] != '~' {
		return false
	}
	for _, c := range text[1:] {
		if (c < 'a' || c > 'z') && (c < '2' || c > '7') {
			return false
		}
	}
	return true
}

// Of binds what is shown of an expression whose values are not to be seen: of a VARCHAR the name that stands in the place of its text, of others NULL.
func (m *Mask) Of(x *Expr) *Expr {
	if x.Type.IsNested() {
		return Const(x.Type, types.Value{})
	}
	if x.Type.Kind != types.Varchar { // it names what it hides, though it does not look at it
		e := safe(call(x.Type, func(_ *Machine, _ []*column.Vector, out *column.Vector, n int) {
			for i := range n {
				out.SetNull(i, n)
				if i < len(out.S) {
					out.S[i] = column.Str{}
				}
			}
		}, x))
		e.Name = "masked"
		return e
	}
	e := safe(call(varchar, textKernel(func(_ *Machine, i int, dst []byte, a []*column.Vector) []byte { return m.Append(dst, a[0].Text(i)) }), x))
	e.Name = "masked"
	return e
}
