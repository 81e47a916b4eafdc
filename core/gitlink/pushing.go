package gitlink

import (
	"path"
	"strings"
)

// isPush tells whether a command line is that of a git push (git(1), SYNOPSIS).
func isPush(line [][]byte) bool {
	if len(line) < 2 || path.Base(string(line[0])) != "git" {
		return false
	}
	for i := 1; i < len(line); i++ {
		switch word := string(line[i]); {
		case word == "-C" || word == "-c" || word == "--git-dir" || word == "--work-tree" || word == "--namespace" ||
			word == "--config-env":
			i++
		case !strings.HasPrefix(word, "-"):
			return word == "push"
		}
	}
	return false
}
