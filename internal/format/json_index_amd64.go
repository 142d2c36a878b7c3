package format

import "golang.org/x/sys/cpu"

// indexWide is indexPlain for processors with wide registers.
//
//go:noescape
func indexWide(p *byte, blocks int, words *[2]uint64, at *uint32, c *carry)

var wide = cpu.X86.HasAVX2 && cpu.X86.HasBMI1 && cpu.X86.HasPOPCNT && cpu.X86.HasPCLMULQDQ

// indexBlocks indexes whole blocks of 64 bytes: it writes two words for each, and the places of its tokens
// into at, which needs room for 16 more than there are.
func indexBlocks(b []byte, words [][2]uint64, at []uint32, c *carry) {
	if len(words) == 0 {
		return
	}
	if !wide {
		indexPlain(b, words, at, c)
		return
	}
	_, _ = b[64*len(words)-1], at[64*len(words)+15]
	indexWide(&b[0], len(words), &words[0], &at[0], c)
}

// parseWide is parsePlain with its state in registers.
//
//go:noescape
func parseWide(buf *byte, at *uint32, tokens int, keys, plain *uint32, t *parseTables, depth int) (n, plains int, state, over uint8)

// parseTokens is parsePlain. keys and plain have room for one more than there are tokens.
func parseTokens(buf []byte, at, keys, plain []uint32, t *parseTables, depth uint8) (n, plains int, state, over uint8) {
	if len(at) == 0 {
		return 0, 0, wantMessage, 0
	}
	_, _ = keys[len(at)], plain[len(at)]
	return parseWide(&buf[0], &at[0], len(at), &keys[0], &plain[0], t, int(depth))
}
