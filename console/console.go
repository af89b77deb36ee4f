// Package console holds the built console: the pages that vorrangd serves at /.
// They are built by npm into dist; see the Makefile.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the built pages. Before the first build there are none.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the name is constant and valid
	}
	return files
}
