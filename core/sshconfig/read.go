package sshconfig

import (
	"fmt"
	"os"
	"strings"

	"anchorage.example/unicrux/core/regular"
)

// ErrTooLarge is why a file is not read that no program would read to its end.
var ErrTooLarge = fmt.Errorf("larger than %d bytes", maxFileBytes)

// readFile reads a file into a text, once, and tells whether others than a user could have written it.
func readFile(path string, uid int) (text string, open bool, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", false, err
	}
	if info.IsDir() { // the client opens it, and finds nothing in it
		return "", exposed(info, uid), nil
	}
	if info.Size() > maxFileBytes {
		return "", false, ErrTooLarge
	}
	bytes, err := regular.Read(path, maxFileBytes)
	if err != nil {
		return "", false, err
	}
	return withoutHidden(string(bytes)), exposed(info, uid), nil
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
