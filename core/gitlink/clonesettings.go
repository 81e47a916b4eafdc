package gitlink

import (
	"context"
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
	r := &reading{station: there, where: gitPlace{base: there.Folder}, clone: &clone, alone: true}
	if err := r.all(); err != nil {
		if _, refused := readConfig(ctx, there); refused != nil {
			return nil, refused
		}
		return nil, &ConfigError{Program: "git", Message: err.Error()}
	}
	return &Config{station: station, clone: clone, entries: r.entries, conditional: r.included}, nil
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
