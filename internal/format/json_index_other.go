//go:build !amd64

package format

// indexBlocks indexes b, which has room for whole blocks of 64 bytes: it writes a word for each, and appends its tokens
// to those that c knows of: their places to at, which needs room for 16 more than there are, and their classes to
// tokens.
func indexBlocks(b []byte, words []blockWord, at []uint32, tokens []tokenWord, c *carry) {
	indexPlain(b, words, at, tokens, c)
}
