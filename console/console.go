// Package console holds the built web console.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files gives the files of the console; there is no index.html where it has not been built.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the path is a constant
	}
	return sub
}
