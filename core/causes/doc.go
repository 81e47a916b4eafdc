// Package causes is the catalogue: every cause that can stop somebody on the way to a repository, with what it means,
// who can mend it and how, and by which words the clients and the hosts tell of it. It knows no network and no
// workstation.
//
// [Explain] reads an error text. Package diagnose looks for the causes where they are.
package causes
