package hosts

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// A Call is a line of our settings by which ssh or git starts this program.
type Call struct {
	Program string // in full
	Origin  string // file:line
}

// ourCall finds the program in such a line: in single quotes, or bare.
var ourCall = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?:'([^'\n]+)'|([^\s"'!=]+)) (?:for-git (?:credential|ssh|connect)|holder start)\b`)
})

// MovedCalls lists the lines that start this program where it is no longer: it was moved, or another version of it was
// installed elsewhere.
func MovedCalls(station *workstation.Station) []Call {
	var list []Call
	for _, path := range []string{OurGitFile(station), OurFile(station)} {
		text, err := regular.Read(path, regular.Settings)
		if err != nil {
			continue // nothing of ours is there
		}
		for i, line := range strings.Split(string(text), "\n") {
			if program := movedFrom(line); program != "" {
				list = append(list, Call{program, fmt.Sprintf("%s:%d", path, i+1)})
			}
		}
	}
	return list
}

// movedFrom is the program that a line starts and that is not there; empty where there is none.
func movedFrom(line string) string {
	found := ourCall().FindStringSubmatch(line)
	if found == nil {
		return ""
	}
	program := strings.ReplaceAll(found[1]+found[2], "%%", "%") // ssh_config(5), TOKENS
	if !filepath.IsAbs(program) {
		return ""
	}
	if _, err := os.Stat(program); err == nil {
		return ""
	}
	return program
}

// Repoint makes our lines that start this program where it is no longer start it at program. The error wraps
// [ErrSetting] where ssh config cannot name that path.
func Repoint(ctx context.Context, batch *workstation.Batch, station *workstation.Station, program string) error {
	const words = "Start Unicrux where it is now."
	bySSH := func(c Call) bool { return strings.HasPrefix(c.Origin, OurFile(station)+":") }
	if slices.ContainsFunc(MovedCalls(station), bySSH) {
		if program == "" || strings.ContainsAny(program, "'\"\\\r\n") {
			return fmt.Errorf("%w: ssh config cannot name the path of this program", ErrSetting)
		}
		quoted := "'" + strings.ReplaceAll(program, "%", "%%") + "'"
		err := EditOurs(batch, station, words, func(old []byte) ([]byte, error) { return repointed(old, quoted), nil })
		if err != nil {
			return err
		}
	}
	entries, err := ourEntries(station)
	if err != nil {
		return err
	}
	var list []gitlink.Assignment
	for _, entry := range entries {
		value := entry.Value
		switch {
		case movedFrom(value) == "":
			continue
		case IsHelper(value):
			value = Helper(program)
		default:
			value = gitlink.OurSSH(program)
		}
		list = append(list, gitlink.Assignment{Key: entry.Key, Values: withFirst(entries, entry.Key, value)})
	}
	if len(list) == 0 {
		return nil
	}
	return editGit(ctx, batch, station, OurGitFile(station), words, list)
}

// withFirst are the values of a variable whose last is replaced: an empty one before it stays.
func withFirst(entries []gitlink.Entry, key, value string) []string {
	for _, entry := range entries {
		if entry.Key == key && entry.Value == "" {
			return []string{"", value}
		}
	}
	return []string{value}
}

// repointed is our file of ssh's settings with another program, quoted, wherever one is started that is not there.
func repointed(text []byte, quoted string) []byte {
	lines := strings.SplitAfter(string(text), "\n")
	for i, line := range lines {
		if movedFrom(line) == "" {
			continue
		}
		at := ourCall().FindStringSubmatchIndex(line)
		from, to := at[2]-1, at[3]+1 // with its quotes
		if at[2] < 0 {
			from, to = at[4], at[5]
		}
		lines[i] = line[:from] + quoted + line[to:]
	}
	return []byte(strings.Join(lines, ""))
}
