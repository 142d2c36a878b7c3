package format

import "golang.org/x/sys/cpu"

// indexWide is indexPlain for processors with wide registers.
//
//go:noescape
func indexWide(p *byte, size int, words *blockWord, at *uint32, tokens *tokenWord, c *carry)

var wide = cpu.X86.HasAVX2 && cpu.X86.HasBMI1 && cpu.X86.HasBMI2 && cpu.X86.HasPOPCNT && cpu.X86.HasPCLMULQDQ

// indexBlocks indexes b, which has room for whole blocks of 64 bytes: it writes a word for each, and appends its tokens
// to those that c knows of: their places to at, which needs room for 16 more than there are, and their classes to
// tokens.
func indexBlocks(b []byte, words []blockWord, at []uint32, tokens []tokenWord, c *carry) {
	if len(words) == 0 {
		return
	}
	if !wide {
		indexPlain(b, words, at, tokens, c)
		return
	}
	most := int(c.tokens) + 64*len(words)
	_, _, _ = b[:64*len(words)], at[most+15], tokens[most/64+1]
	indexWide(&b[0], len(b), &words[0], &at[0], &tokens[0], c)
}
