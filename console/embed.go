// Package console holds the built web console.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Axe is the source of axe-core, which looks for what those cannot use who do not see a page, or not well; empty without a build.
func Axe() string {
	source, _ := dist.ReadFile("dist/axe.min.js")
	return string(source)
}

// Files are the console's files; without a build there is no index.html among them.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded
	}
	return files
}
