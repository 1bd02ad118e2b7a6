// Package web holds the console, built by `npm run build` into dist. The program
// can be built without it; it then says so where a page would be.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the console's files.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // dist is a valid name
	}
	return files
}
