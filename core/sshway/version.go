package sshway

import (
	"context"
	"os/exec"
	"strconv"
	"time"

	"anchorage.example/unicrux/core/lazyregexp"
)

// versionPatience bounds the question for a version.
const versionPatience = 2 * time.Second

// readsNewer tells whether an ssh program reads ed25519 keys in PKCS#8, as it does since OpenSSH 9.6. It is asked only
// where there is such a key.
func readsNewer(program string) bool {
	ctx, cancel := context.WithTimeout(context.Background(), versionPatience)
	defer cancel()
	words, err := exec.CommandContext(ctx, program, "-V").CombinedOutput()
	return err == nil && isSince(string(words), 9, 6)
}

var versionForm = lazyregexp.Late(`OpenSSH_(?:for_Windows_)?(\d+)\.(\d+)`)

// isSince tells whether what a program says of its version is OpenSSH's at least.
func isSince(words string, major, minor int) bool {
	match := versionForm().FindStringSubmatch(words)
	if match == nil {
		return false
	}
	first, _ := strconv.Atoi(match[1])
	second, _ := strconv.Atoi(match[2])
	return first > major || first == major && second >= minor
}
