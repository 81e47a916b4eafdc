package hosts

import (
	"fmt"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/workstation"
)

// ourMark begins the first line of the files of settings that are ours; the version of the file
// follows.
const ourMark = "# Kept by Unicrux (version "

// fileVersion is the version that this program writes.
const fileVersion = 1

// ourVersion refuses a file that a newer version of Unicrux wrote: its settings may mean more than we
// know. The error wraps [workstation.ErrNewer]. A file without the mark is one from before there were
// versions, or has none yet.
func ourVersion(path string, text []byte) error {
	rest, found := strings.CutPrefix(string(text), ourMark)
	if !found {
		return nil
	}
	digits, _, _ := strings.Cut(rest, ")")
	if version, err := strconv.Atoi(digits); err != nil || version > fileVersion {
		return fmt.Errorf("%s: %w", path, workstation.ErrNewer)
	}
	return nil
}
