package gitlink

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/workstation"
)

// mostIncludes bounds how deep files include others, as git does ("MAX_INCLUDE_DEPTH" in git's sources).
const mostIncludes = 10

// A NewClone is one that is about to be made: git's settings may hold for it alone.
type NewClone struct {
	URL    string // as it is given to git, before any rule rewrites it
	Folder string // absolute
}

// ReadConfigFor settles what git will have settled while it makes a clone: nothing of the repository that
// the current folder may be in, but what an "includeIf" names for the clone's own folder, its URL and its first
// branch ("Conditional includes" in git-config(1)). git itself can be asked only once the clone is there.
func ReadConfigFor(ctx context.Context, station *workstation.Station, clone NewClone) (*Config, error) {
	there := outside(station, clone.Folder)
	entries, err := readConfig(ctx, there)
	if err != nil {
		return nil, err
	}
	c := &Config{station: station, clone: clone}
	c.entries, err = c.included(ctx, there, entries, 0)
	return c, err
}

// outside is a workstation seen from a folder that is in no repository.
func outside(station *workstation.Station, folder string) *workstation.Station {
	there := *station
	there.Folder, there.Gone = filepath.VolumeName(folder)+string(filepath.Separator), false
	there.Environ = withoutRepository(station.Environ)
	return &there
}

// withoutRepository is an environment that names no repository (git(1), "The Git Repository").
func withoutRepository(environ []string) []string {
	return slices.DeleteFunc(slices.Clone(environ), func(line string) bool {
		return strings.HasPrefix(line, "GIT_DIR=") || strings.HasPrefix(line, "GIT_WORK_TREE=") ||
			strings.HasPrefix(line, "GIT_COMMON_DIR=")
	})
}

// included puts what the conditions for the clone include behind the lines that say so.
func (c *Config) included(ctx context.Context, station *workstation.Station, entries []Entry,
	depth int) ([]Entry, error) {
	var all []Entry
	for _, entry := range entries {
		all = append(all, entry)
		condition, found := strings.CutPrefix(entry.Key, "includeif.")
		condition, isPath := strings.CutSuffix(condition, ".path")
		if !found || !isPath || depth == mostIncludes || !c.clone.fulfils(station, condition,
			entry.Origin, append(all, entries...)) {
			continue
		}
		path := includedPath(station, entry)
		if _, err := os.Stat(path); err != nil { // git passes over one that is not there
			continue
		}
		inner, err := readConfig(ctx, station, "--includes", "--file", path)
		if err != nil {
			return nil, err
		}
		for i := range inner {
			inner[i].Scope = entry.Scope
		}
		c.conditional = append(c.conditional, path)
		if inner, err = c.included(ctx, station, inner, depth+1); err != nil {
			return nil, err
		}
		all = append(all, inner...)
	}
	return all, nil
}

// includedPath is the file that a path of an include names, which may be relative to the file that it stands in.
func includedPath(station *workstation.Station, entry Entry) string {
	path := tildePath(station, entry.Value)
	if !filepath.IsAbs(path) {
		path = filepath.Join(filepath.Dir(entry.Origin), path)
	}
	return path
}

// Pathname is the file that a setting of git's or of its HTTPS library names: from the current folder, where it is
// not absolute ("pathname" in git-config(1)).
func Pathname(station *workstation.Station, text string) string {
	path := tildePath(station, text)
	if !filepath.IsAbs(path) {
		path = filepath.Join(station.Folder, path)
	}
	return path
}

// tildePath replaces "~" by the home that git takes ("pathname" in git-config(1)).
func tildePath(station *workstation.Station, path string) string {
	home := station.Getenv("HOME")
	if home == "" {
		home = station.Home
	}
	if rest, found := strings.CutPrefix(path, "~/"); found {
		return filepath.Join(home, rest)
	}
	return path
}

// fulfils tells whether a condition of an include holds for the clone while it is made. One that git does not
// know never does.
func (n NewClone) fulfils(station *workstation.Station, condition, origin string, entries []Entry) bool {
	kind, pattern, _ := strings.Cut(condition, ":")
	switch kind {
	case "gitdir", "gitdir/i":
		return n.lies(station, pattern, origin, kind == "gitdir/i")
	case "onbranch":
		return wildMatch(dirPattern(pattern), firstBranch(entries), false)
	case "hasconfig":
		pattern, found := strings.CutPrefix(pattern, "remote.*.url:")
		return found && wildMatch(pattern, n.URL, false)
	}
	return false
}

// lies tells whether the clone's ".git" is where a pattern says ("gitdir" in git-config(1)).
func (n NewClone) lies(station *workstation.Station, pattern, origin string, anyCase bool) bool {
	start := ""
	switch {
	case strings.HasPrefix(pattern, "~/"):
		pattern = filepath.ToSlash(realPath(tildePath(station, "~/"))) + pattern[1:]
	case strings.HasPrefix(pattern, "./"):
		start = filepath.ToSlash(filepath.Dir(realPath(origin)))
		pattern = strings.TrimSuffix(start, "/") + pattern[1:]
	case !filepath.IsAbs(pattern):
		pattern = "**/" + pattern
	}
	at := filepath.ToSlash(realPath(filepath.Join(n.Folder, ".git"))) // git clone takes its real path alone
	// What stands for "./" is taken as it is, whatever its characters would mean in a pattern.
	rest, inside := strings.CutPrefix(at, start)
	return inside && wildMatch(strings.TrimPrefix(dirPattern(pattern), start), rest, anyCase)
}

// dirPattern is a pattern of which everything below a folder counts, where it ends with a slash.
func dirPattern(pattern string) string {
	if strings.HasSuffix(pattern, "/") {
		return pattern + "**"
	}
	return pattern
}

// realPath resolves the links in a path, as far as it is there.
func realPath(path string) string {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		return real
	}
	folder := filepath.Dir(path)
	if folder == path {
		return path
	}
	return filepath.Join(realPath(folder), filepath.Base(path))
}

// firstBranch is the branch of a repository that was just made (git-init(1), "--initial-branch").
func firstBranch(entries []Entry) string {
	name := "master"
	for _, entry := range entries {
		if entry.Key == "init.defaultbranch" {
			name = entry.Value
		}
	}
	return name
}

// DependsOnFolder tells whether other settings may hold in another folder.
func (c *Config) DependsOnFolder() bool {
	return slices.ContainsFunc(c.entries, func(e Entry) bool {
		return e.Scope == "local" || e.Scope == "worktree" || strings.HasPrefix(e.Key, "includeif.")
	})
}

// Asked is where git is asked, so that it goes by this configuration: for a clone that there is not yet,
// outside of every repository, with what is included for it.
func (c *Config) Asked() *workstation.Station {
	if c.clone.Folder == "" {
		return c.station
	}
	station := outside(c.station, c.clone.Folder)
	for _, path := range c.conditional {
		station.Environ = withSetting(station.Environ, "include.path", path)
	}
	return station
}

// withSetting adds a setting to those in an environment (GIT_CONFIG_COUNT in git-config(1)).
func withSetting(environ []string, key, value string) []string {
	const name = "GIT_CONFIG_COUNT="
	count := 0
	rest := slices.DeleteFunc(slices.Clone(environ), func(line string) bool {
		text, found := strings.CutPrefix(line, name)
		if found {
			count, _ = strconv.Atoi(text) // git refuses anything else
		}
		return found
	})
	at := strconv.Itoa(count)
	return append(rest, name+strconv.Itoa(count+1), "GIT_CONFIG_KEY_"+at+"="+key, "GIT_CONFIG_VALUE_"+at+"="+value)
}

// GuessFolder is the name of the folder that git clone makes for a URL (git-clone(1), "<directory>").
func GuessFolder(url string) string {
	url = strings.TrimRight(url, "/")
	url = strings.TrimSuffix(strings.TrimSuffix(url, "/.git"), ".git")
	if i := strings.LastIndexAny(strings.TrimRight(url, "/"), "/:"); i >= 0 {
		url = url[i+1:]
	}
	return strings.TrimRight(url, "/")
}
