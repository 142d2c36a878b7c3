package format

import "golang.org/x/sys/cpu"

//go:noescape
func classifyAVX2(p *byte, blocks int, out *block) (high uint32)

// classify sorts whole blocks of 64 bytes by class and says whether there are bytes beyond ASCII.
func classify(b []byte, out []block) (high bool) {
	if len(out) == 0 {
		return false
	}
	if !cpu.X86.HasAVX2 {
		return classifyPlain(b, out)
	}
	_ = b[64*len(out)-1]
	return classifyAVX2(&b[0], len(out), &out[0]) != 0
}
