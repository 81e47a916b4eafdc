// Package atonce answers git before the rest of the program is ready.
//
// git starts this program for each credential and waits for it. Preparing all packages of the
// program takes longer than all the rest; and packages are prepared in the order of their import
// paths, each after those that it imports (The Go Programming Language Specification, Program
// initialization). The module's path sorts before those of all libraries, so that this
// package comes first, and it imports next to nothing: it hands git's question to the holder, and
// if that answers, the program has done its work.
//
// It also says which version this is, since other programs ask for that.
//
// Where the holder does not run, the chest is closed, or something has to be renewed, asked or
// said, the holder answers no, and the program goes on as usual. Nothing is decided here, and any
// other command pays for one comparison of words.
package atonce

import (
	"io"
	"os"

	"anchorage.example/unicrux/core/about"
	"anchorage.example/unicrux/core/memory"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/query"
)

var read []byte

// Read returns what was read from the standard input already, when git's question is still to be answered.
func Read() []byte { return read }

func init() {
	if len(os.Args) == 2 && (os.Args[1] == "version" || os.Args[1] == "--version") {
		if _, err := os.Stdout.WriteString(about.Text()); err == nil {
			os.Exit(0)
		}
	}
	if !asked(os.Args) {
		return
	}
	memory.Private() // what is answered is a secret
	answer, ok := answer(os.Args[3], os.Environ(), os.Stdin)
	if !ok {
		return
	}
	switch n, err := os.Stdout.Write(answer); {
	case err == nil:
		os.Exit(0)
	case n > 0:
		os.Exit(3)
	} // else the usual way says why nothing can be written
}

// asked tells whether this is a question that package cli knows by the same words.
func asked(line []string) bool {
	return len(line) == 4 && line[1] == "for-git" && line[2] == "credential" && (line[3] == "get" || line[3] == "store")
}

// answer asks the holder what git asks; ok is false when it does not know.
func answer(action string, environ []string, in io.Reader) (answer []byte, ok bool) {
	if read = said(in); len(read) == mostAsked {
		return nil, false
	}
	who := person.Of(environ, "")
	answer, err := query.Holder(who.DoorSocket(), query.ForGit,
		query.GitQuestion{Data: who.Data, Action: action, Said: read}.Text())
	return answer, err == nil
}

// mostAsked bounds what is read here: the whole of any usual question, or the beginning of one
// that package gitlink looks at.
const mostAsked = 4096

// said reads up to the empty line that ends a question, or the end of the input.
func said(in io.Reader) []byte {
	text := make([]byte, 0, mostAsked)
	for len(text) < mostAsked {
		n, err := in.Read(text[len(text):mostAsked])
		text = text[:len(text)+n]
		if end := len(text) - 1; err != nil || end == 0 && text[0] == '\n' || end > 0 && text[end-1] == '\n' &&
			text[end] == '\n' {
			break
		}
	}
	return text
}
