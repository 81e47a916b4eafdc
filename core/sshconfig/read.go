package sshconfig

import (
	"fmt"
	"io"
	"os"
	"strings"

	"anchorage.example/unicrux/core/regular"
)

// readFile reads a file into a text, once, and tells whether others could have written it.
func readFile(path string) (text string, open bool, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", false, err
	}
	if info.IsDir() { // the client opens it, and finds nothing in it
		return "", exposed(info), nil
	}
	if info.Size() > maxFileBytes {
		return "", false, fmt.Errorf("larger than %d bytes", maxFileBytes)
	}
	f, err := regular.Open(path)
	if err != nil {
		return "", false, err
	}
	defer f.Close() // opened for reading
	var b strings.Builder
	b.Grow(int(info.Size()))
	_, err = io.Copy(&b, io.LimitReader(f, maxFileBytes))
	return withoutHidden(b.String()), exposed(info), err
}

// withoutHidden is a text as the client sees its lines.
func withoutHidden(text string) string {
	if strings.IndexByte(text, 0) < 0 {
		return text
	}
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString(visible(line))
	}
	return b.String()
}
