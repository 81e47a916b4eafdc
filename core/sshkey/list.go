package sshkey

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/untrusted"
)

// maxFolderEntries bounds how many files of a folder are looked at.
const maxFolderEntries = 10_000

// A Finding is a file in a key folder: a pair, or the reason why it is none.
type Finding struct {
	Path string
	Pair *Pair // nil when Err is not
	Err  error
}

// List finds the pairs in one folder, by content and not by name, in the order of names. Files that are no keys, or
// whose names would steer a terminal, are passed over; private keys that cannot be read are findings with an error. A
// missing folder has no pairs.
func List(dir string) ([]Finding, error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var found []Finding
	for _, entry := range entries[:min(len(entries), maxFolderEntries)] {
		path := filepath.Join(dir, entry.Name())
		if strings.HasSuffix(path, ".pub") || untrusted.Clean(entry.Name()) != entry.Name() || !looksPrivate(path) {
			continue
		}
		pair, err := Load(path)
		found = append(found, Finding{Path: path, Pair: pair, Err: err})
	}
	return found, nil
}

// looksPrivate reports whether the file begins like a private key in one of the PEM forms
// (RFC 7468), or is one that cannot be opened.
func looksPrivate(path string) bool {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() || info.Size() > MaxFileBytes {
		return false
	}
	f, err := regular.Open(path)
	if err != nil {
		return errors.Is(err, fs.ErrPermission) && strings.HasPrefix(filepath.Base(path), "id_")
	}
	defer f.Close()             // opened for reading
	head := make([]byte, 8<<10) // a certificate may stand before the key
	n, _ := io.ReadFull(f, head)
	text := string(head[:n])
	return strings.Contains(text, "-----BEGIN ") && strings.Contains(text, "PRIVATE KEY-----") ||
		errors.Is(stranger(head[:n]), ErrOtherSSH)
}
