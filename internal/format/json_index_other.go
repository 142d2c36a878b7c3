//go:build !amd64

package format

// indexBlocks indexes whole blocks of 64 bytes: it writes two words for each, and the places of its tokens
// into at, which needs room for 16 more than there are.
func indexBlocks(b []byte, words [][2]uint64, at []uint32, c *carry) { indexPlain(b, words, at, c) }

// parseTokens is parsePlain. keys and plain have room for one more than there are tokens.
func parseTokens(buf []byte, at, keys, plain []uint32, t *parseTables, depth uint8) (n, plains int, state, over uint8) {
	return parsePlain(buf, at, keys, plain, t, depth)
}
