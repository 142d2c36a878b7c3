package flow

import "context"

// Extent is a place in a journal.
type Extent struct {
	File, Off, Len int64
	Sum            uint32 // CRC-32C of what is there
}

// Journal keeps on disk what keyed steps were given and what they had become, so that a checkpoint writes only what
// has changed, and state beyond the memory of a job lies there. It is used by several goroutines.
type Journal interface {
	// Append has something written, and says where it is. It keeps b, and waits where much is to be written already. It
	// is durable once a checkpoint that knows the place counts.
	Append(ctx context.Context, b []byte) (Extent, error)
	// Read gives what is at a place.
	Read(e Extent) ([]byte, error)
	// Adopt says that the job needs a place that a checkpoint knew, and Free that it does not any more.
	Adopt(e Extent)
	Free(e Extent)
	// Sparse gives a file most of which is not needed any more, or 0: what is, is to be written anew.
	Sparse() int64
	// Waiting says since when and why what is appended cannot be written, or gives nil.
	Waiting() *Waiting
}
