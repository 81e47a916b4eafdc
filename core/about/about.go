// Package about says which Unicrux this is. It needs little, so that it can be said before the rest of
// the program is ready.
package about

import "runtime"

// Version is this program's, as in Semantic Versioning 2.0.0.
const Version = "0.1.0-dev"

// Commit is the commit that the program was built from: the build sets it. It is empty where that is not
// known.
var Commit string

// Platform is what the program was built for.
func Platform() string { return runtime.GOOS + "/" + runtime.GOARCH }

// Go is the version of Go that it was built with.
func Go() string { return runtime.Version() }

// Text is all of it on one line.
func Text() string {
	commit := Commit
	if commit == "" {
		commit = "unknown"
	}
	return "unicrux " + Version + ", commit " + commit + ", " + Go() + ", " + Platform() + "\n"
}
