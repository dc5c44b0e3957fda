// Package web holds the built interface. Without a build, Dist has no
// index.html and the server says how to make one.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Dist is the folder with the built interface.
var Dist = func() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err)
	}
	return sub
}()
