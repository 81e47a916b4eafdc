// Package schemas has the JSON Schemas (draft 2020-12) of the documents that --json prints, one file each. They are
// made from the types of package document: go test ./docs/schemas -update.
package schemas

import (
	"embed"
	"slices"
	"strings"
)

//go:embed *.json
var files embed.FS

// Names lists the documents, by the alphabet.
func Names() []string {
	entries, err := files.ReadDir(".")
	if err != nil { // it is embedded
		panic(err)
	}
	var names []string
	for _, entry := range entries {
		names = append(names, strings.TrimSuffix(entry.Name(), ".json"))
	}
	slices.Sort(names)
	return names
}

// Of is the schema of a document, found reports whether there is one of that name.
func Of(name string) (schema string, found bool) {
	text, err := files.ReadFile(name + ".json")
	return string(text), err == nil
}
