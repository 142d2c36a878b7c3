package cli

import (
	"context"
	"io"

	"github.com/spf13/cobra/doc"
)

// ManPages writes a manual page of each command into a directory.
func ManPages(dir string) error {
	root := (&app{out: io.Discard, err: io.Discard, ctx: context.Background()}).root()
	root.DisableAutoGenTag = true // it would differ with each day
	return doc.GenManTree(root, &doc.GenManHeader{Title: "FIUME", Section: "1", Source: "Fiume", Manual: "Fiume"}, dir)
}
