// Package console holds the built files of the web console. They are made by
// `make console`; without them the service still runs, and answers its API.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var files embed.FS

// Files are the console's files, index.html at the top.
func Files() fs.FS {
	sub, err := fs.Sub(files, "dist")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	return sub
}
