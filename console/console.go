// Package console holds the built console, which the service serves. "make
// console" builds it into dist/.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files is the built console.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		return dist // cannot be: the folder is embedded by name
	}
	return sub
}
