package step

import "strings"

// Reason is a kind of reason why rows of an operator were rejected.
type Reason struct {
	Op    int
	Class string
}

// mostClasses bounds how many reasons are told apart in a turn; those beyond it count as "other reasons".
const mostClasses = 64

const otherReasons = "other reasons"

// Tally counts a rejected row by its reason. All rejected rows are counted, also those that are not kept.
func (c *Context) Tally(op int, reason string) {
	if c.Silent {
		return
	}
	if c.Reasons == nil {
		c.Reasons = map[Reason]int64{}
	}
	k := Reason{op, ReasonClass(reason)}
	if _, ok := c.Reasons[k]; !ok && len(c.Reasons) >= mostClasses {
		k.Class = otherReasons
	}
	c.Reasons[k]++
}

// ReasonClass is a reason without the values in it: what is quoted, and numbers, are left out, so that the reasons of
// rows that fail alike are equal.
func ReasonClass(reason string) string {
	var b strings.Builder
	const most = 120
	for i := 0; i < len(reason) && b.Len() < most; i++ {
		switch c := reason[i]; {
		case c == '"' || c == '\'' && (i == 0 || reason[i-1] == ' '):
			if end := strings.IndexByte(reason[i+1:], c); end >= 0 {
				b.WriteString("…")
				i += end + 1
				continue
			}
			b.WriteByte(c)
		case (c == '-' || c == '+') && i+1 < len(reason) && '0' <= reason[i+1] && reason[i+1] <= '9' && (i == 0 || !wordByte(reason[i-1])):
			// the sign of the number that follows
		case '0' <= c && c <= '9' && (i == 0 || !wordByte(reason[i-1])):
			b.WriteString("…")
			for i+1 < len(reason) && (wordByte(reason[i+1]) || strings.IndexByte(".:+-", reason[i+1]) >= 0) {
				i++
			}
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

func wordByte(c byte) bool {
	return c == '_' || '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'z'
}
