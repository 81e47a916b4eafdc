package gitlink

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/workstation"
)

// RepositoryProblem returns git's complaint about the repository of this folder: that there is none, that it is another
// user's (safe.directory in git-config(1)), that it is newer than git, or damaged; nothing where git has none.
func RepositoryProblem(ctx context.Context, station *workstation.Station) string {
	_, err := Run(ctx, station, "rev-parse", "--git-dir")
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return ""
	}
	return strings.TrimSpace(string(exit.Stderr))
}

// A Branch is what is checked out here.
type Branch struct {
	Name     string // empty where no branch is checked out
	Born     bool   // something is committed
	Commit   string // its object name; empty before the first
	Upstream string // the full name at the remote that it is tied to; empty for none
}

// Current asks git what is checked out here (git-symbolic-ref(1), git-rev-parse(1)).
func (c *Config) Current(ctx context.Context) Branch {
	var b Branch
	out, _ := Run(ctx, c.station, "symbolic-ref", "--quiet", "--short", "HEAD") // it fails where there is no branch
	b.Name = strings.TrimSpace(string(out))
	if out, err := Run(ctx, c.station, "rev-parse", "--quiet", "--verify", "HEAD^{commit}"); err == nil {
		b.Born, b.Commit = true, strings.TrimSpace(string(out))
	}
	if merge, found := c.Last("branch." + b.Name + ".merge"); found && b.Name != "" {
		b.Upstream = merge.Value
	}
	return b
}

// Holds tells whether a commit is in the history of another (git-merge-base(1)). known is false
// where it is not stored here at all.
func Holds(ctx context.Context, station *workstation.Station, commit, history string) (holds, known bool) {
	if _, err := Run(ctx, station, "cat-file", "-e", commit+"^{commit}"); err != nil {
		return false, false
	}
	_, err := Run(ctx, station, "merge-base", "--is-ancestor", commit, history)
	return err == nil, true
}

// Known tells whether a remote had a commit when it was last asked: whether it is in the history of
// any branch that is remembered of it (--remotes in git-rev-list(1)).
func Known(ctx context.Context, station *workstation.Station, commit, remote string) bool {
	out, err := Run(ctx, station, "rev-list", "--max-count=1", commit, "--not", "--remotes="+remote)
	return err == nil && len(out) == 0
}

// Hook is the file of a hook that git would run in this repository (githooks(5)); empty where it
// would run none.
func Hook(ctx context.Context, station *workstation.Station, name string) string {
	out, err := Run(ctx, station, "rev-parse", "--git-path", "hooks/"+name)
	if err != nil {
		return ""
	}
	path := strings.TrimSpace(string(out))
	if !filepath.IsAbs(path) {
		path = filepath.Join(station.Folder, path)
	}
	if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() || info.Mode()&0o111 == 0 {
		return ""
	}
	return path
}

// HelperProgram is the program that git would start for a credential helper, and whether it is
// there (credential.helper in gitcredentials(7)). What only a shell can tell counts as there.
func HelperProgram(ctx context.Context, station *workstation.Station, helper string) (program string, there bool) {
	line, shell := strings.CutPrefix(helper, "!")
	words, err := fields(line, station.Getenv)
	if err != nil || len(words) == 0 {
		return helper, true
	}
	program = words[0]
	switch {
	case shell && strings.HasSuffix(program, ")"), shell && strings.ContainsAny(program, "(){};"):
		return program, true
	case shell, filepath.IsAbs(program):
		_, err := exec.LookPath(program)
		return program, err == nil || isBuiltin(program)
	}
	program = "git-credential-" + program
	return program, HasProgram(ctx, station, program)
}

// HasProgram tells whether git finds a program of its own: on the path, or where git keeps them
// (--exec-path in git(1)). Where git does not tell, it counts as there.
func HasProgram(ctx context.Context, station *workstation.Station, name string) bool {
	if _, err := exec.LookPath(name); err == nil {
		return true
	}
	out, err := Run(ctx, station, "--exec-path")
	if err != nil {
		return true
	}
	for _, end := range []string{"", ".exe"} {
		if _, err := os.Stat(filepath.Join(strings.TrimSpace(string(out)), name+end)); err == nil {
			return true
		}
	}
	return false
}

// isBuiltin knows words that a shell needs no program for.
func isBuiltin(word string) bool {
	switch word {
	case "f", "test", "echo", "printf", "if", "for", "while", "case", "read", "cat", "exec", "[":
		return true
	}
	return strings.Contains(word, "()")
}
