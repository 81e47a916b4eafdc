package sshkey

import (
	"os"
	"path/filepath"
)

// maxFound bounds how many pairs a search returns, and how many a survey finds outside the ssh folder.
const maxFound = 32

// oddPlaces are the folders of a home, beside the ssh folder, where people make keys
// because they happen to stand there, and how many levels of each are looked at.
var oddPlaces = []struct {
	folder string
	levels int
}{{".ssh", 2}, {"", 1}, {"Downloads", 2}, {"Desktop", 2}, {"Documents", 2}, {"keys", 2}}

// Survey finds all that is in the ssh folder of a home, and the pairs in the other places where people leave them. The
// error is that of reading the ssh folder.
func Survey(home string) (there []Finding, elsewhere []*Pair, err error) {
	folder := filepath.Join(home, ".ssh")
	there, err = List(folder)
	return there, search(home, nil, folder), err
}

// Search finds pairs in the places of a home where people leave them, the ssh folder
// first, and in the folders given besides. Files that cannot be read as a key are passed over.
func Search(home string, besides ...string) []*Pair { return search(home, besides, "") }

// search leaves one folder out, without those below it.
func search(home string, besides []string, without string) []*Pair {
	var found []*Pair
	seen := map[string]bool{without: true}
	look := func(dir string, levels int) {
		walkFolders(dir, levels, func(dir string) {
			if seen[dir] || len(found) >= maxFound {
				return
			}
			seen[dir] = true
			findings, _ := List(dir) // a folder that cannot be read has nothing for us
			for _, finding := range findings {
				if finding.Pair != nil && len(found) < maxFound {
					found = append(found, finding.Pair)
				}
			}
		})
	}
	for _, place := range oddPlaces {
		look(filepath.Join(home, place.folder), place.levels)
	}
	for _, dir := range besides {
		look(dir, 1)
	}
	return found
}

// walkFolders visits dir and the folders below it, so many levels deep. Links are not followed.
func walkFolders(dir string, levels int, visit func(string)) {
	visit(dir)
	if levels <= 1 {
		return
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, entry := range entries[:min(len(entries), maxFolderEntries)] {
		if entry.IsDir() {
			walkFolders(filepath.Join(dir, entry.Name()), levels-1, visit)
		}
	}
}
