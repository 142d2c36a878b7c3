//go:build !amd64

package format

import "unsafe"

// indexPays says whether the general scan is slower than an index.
func indexPays() bool { return false }

func markBlocks(b []byte, m *blockMarks, k int) { markBlocksPlain(b, m, k) }

func indexMarks(m *blockMarks, n int, tokens []tokenWord, c *carry) {
	indexMarksPlain(m, n, tokens, c)
}

func placeTokens(starts []uint64, at []uint32, base uint32) { placeTokensPlain(starts, at, base) }

func checkNumbers(m *blockMarks, n int) uint64 { return checkNumbersPlain(m, n) }

func extract(mask, a, b, c, d uint64) (w, x, y, z uint64) { return extractPlain(mask, a, b, c, d) }

func checkBlocks(p unsafe.Pointer, blocks []shapeBlock) uint64 { return checkBlocksPlain(p, blocks) }

func between(w, mask uint64) uint64 { return betweenPlain(w, mask) }
