package format

import (
	"unsafe"

	"golang.org/x/sys/cpu"
)

// What the processor has: registers of 256 bits and words of bits taken apart and put together, and registers of 512.
var (
	wide  = cpu.X86.HasAVX2 && cpu.X86.HasBMI1 && cpu.X86.HasBMI2 && cpu.X86.HasPOPCNT && cpu.X86.HasPCLMULQDQ
	wider = wide && cpu.X86.HasAVX512F && cpu.X86.HasAVX512BW && cpu.X86.HasAVX512DQ && cpu.X86.HasAVX512VL
)

// indexPays says whether the general scan is slower than an index.
func indexPays() bool { return wide }

//go:noescape
func markBlocksWide(p *byte, n int, rows *uint64)

//go:noescape
func markBlocksWider(p *byte, n int, rows *uint64)

//go:noescape
func indexMarksWide(m *blockMarks, n int, tokens *tokenWord, c *carry)

//go:noescape
func placeTokensWide(starts *uint64, n int, at *uint32, base uint32)

//go:noescape
func placeTokensWider(starts *uint64, n int, at *uint32, base uint32)

//go:noescape
func checkNumbersWide(m *blockMarks, n int) (wrong uint64)

func extractWide(mask, a, b, c, d uint64) (w, x, y, z uint64)

func betweenWide(w, mask uint64) (between uint64)

//go:noescape
func checkBlocksWide(p unsafe.Pointer, blocks *shapeBlock, n int) (bad uint64)

// checkBlocks is checkBlocksPlain.
func checkBlocks(p unsafe.Pointer, blocks []shapeBlock) uint64 {
	if !wide {
		return checkBlocksPlain(p, blocks)
	}
	return checkBlocksWide(p, &blocks[0], len(blocks))
}

// markBlocks is markBlocksPlain.
func markBlocks(b []byte, m *blockMarks, k int) {
	n := len(b) / 64
	if n == 0 {
		return
	}
	_ = m.rows[0][k+n-1]
	switch {
	case wider:
		markBlocksWider(&b[0], n, &m.rows[0][k])
	case wide:
		markBlocksWide(&b[0], n, &m.rows[0][k])
	default:
		markBlocksPlain(b, m, k)
	}
}

// indexMarks is indexMarksPlain.
func indexMarks(m *blockMarks, n int, tokens []tokenWord, c *carry) {
	if !wide {
		indexMarksPlain(m, n, tokens, c)
		return
	}
	_, _ = m.plain[n-1], tokens[int(c.count)>>6+n]
	indexMarksWide(m, n, &tokens[0], c)
}

// placeTokens is placeTokensPlain. It needs room for 16 more than there are.
func placeTokens(starts []uint64, at []uint32, base uint32) {
	switch {
	case len(starts) == 0:
	case wider:
		placeTokensWider(&starts[0], len(starts), &at[0], base)
	case wide:
		placeTokensWide(&starts[0], len(starts), &at[0], base)
	default:
		placeTokensPlain(starts, at, base)
	}
}

// checkNumbers is checkNumbersPlain.
func checkNumbers(m *blockMarks, n int) uint64 {
	if !wide {
		return checkNumbersPlain(m, n)
	}
	return checkNumbersWide(m, n)
}

// extract is extractPlain.
func extract(mask, a, b, c, d uint64) (w, x, y, z uint64) {
	if !wide {
		return extractPlain(mask, a, b, c, d)
	}
	return extractWide(mask, a, b, c, d)
}

// between is betweenPlain.
func between(w, mask uint64) uint64 {
	if !wide {
		return betweenPlain(w, mask)
	}
	return betweenWide(w, mask)
}
