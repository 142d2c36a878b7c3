//go:build !amd64

package format

// classify sorts whole blocks of 64 bytes by class and says whether there are bytes beyond ASCII.
func classify(b []byte, out []block) (high bool) { return classifyPlain(b, out) }
