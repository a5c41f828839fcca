// Package console holds the built files of the console.
package console

import (
	"embed"
	"io/fs"
)

// The folder is filled by 'make console'; without it the program has no console.
//
//go:embed all:dist
var dist embed.FS

// Files are the files of the built console.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return files
}
