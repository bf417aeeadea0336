// Package console holds the built web console. Before it is built it is empty, and the service says
// so.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the console's files, index.html at the top.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return sub
}
