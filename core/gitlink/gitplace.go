package gitlink

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// A gitPlace is where git finds itself: its repository, and the folder from which it takes relative paths.
type gitPlace struct {
	base      string // the folder in which git goes on, absolute
	dir       string // the repository's own folder, absolute; empty outside of every repository
	called    string // by which path git reaches it
	common    string // the folder that all worktrees share (gitrepository-layout(5)); dir where there is one alone
	ownConfig bool   // the worktree has settings of its own (extensions.worktreeConfig in git-config(1))
}

// placeOf finds the repository as git does (git(1), "The Git Repository"; "setup_git_directory_gently" in git's
// sources). A repository that git would not use is none: of another owner, or newer than it knows.
func placeOf(station *workstation.Station) (gitPlace, error) {
	start := station.Dir()
	if real, err := filepath.EvalSymlinks(start); err == nil {
		start = real // as getcwd(3) has it
	}
	found := gitPlace{base: start}
	if dir, set := station.Lookup("GIT_DIR"); set {
		return explicitPlace(station, found, dir)
	}
	top, dir, err := discover(station, start)
	if err != nil || dir == "" {
		return found, err
	}
	there := gitPlace{base: top, dir: dir, called: dir}
	if top != start {
		there.called = dir
	} else if pwd := station.Getenv("PWD"); pwd != start && sameFolder(pwd, start) && strings.HasPrefix(dir, start+"/") {
		there.called = pwd + strings.TrimPrefix(dir, start)
	}
	return settledPlace(station, found, there)
}

// explicitPlace is a repository that the environment names.
func explicitPlace(station *workstation.Station, outside gitPlace, dir string) (gitPlace, error) {
	if !filepath.IsAbs(dir) {
		dir = outside.base + "/" + dir
	}
	if info, err := os.Stat(dir); err == nil && info.Mode().IsRegular() {
		if dir, err = gitFile(station, dir); err != nil {
			return outside, err
		}
	}
	there := outside
	var err error
	if isGitFolder(station, dir) {
		there, err = settledPlace(station, outside, gitPlace{base: outside.base, dir: dir, called: dir})
	}
	if err == nil && there.dir == "" { // git goes by it in some respects, all the same
		err = errLeft
	}
	return there, err
}

// errLeft is returned where only the git that is here can tell.
var errLeft = errors.New("left to git")

// settledPlace looks into the repository's configuration for what says whether git uses it, and how.
func settledPlace(station *workstation.Station, outside, there gitPlace) (gitPlace, error) {
	var err error
	if there.common, err = commonFolder(station, there.dir); err != nil {
		return outside, err
	}
	path := there.common + "/config"
	text, err := regular.Read(path, regular.Settings)
	if isMissing(err) {
		return there, nil
	}
	if err != nil {
		return outside, err
	}
	at, ok := syntaxOf(text)
	if !ok {
		return outside, fmt.Errorf("%w: %s", ErrUnreadable, path)
	}
	f := formatOf(at.variables)
	switch {
	case f.bad:
		return outside, fmt.Errorf("%w: %s", ErrUnreadable, path)
	case f.version < 0:
		return there, nil
	case f.version > 1, f.version == 1 && f.unknown, f.version == 0 && f.newOnly:
		return outside, errLeft // a newer git may know it
	}
	there.ownConfig = f.ownConfig
	return there, nil
}

// A format is what a repository says of itself ("Repository format" in gitrepository-layout(5)).
type format struct {
	version          int64 // -1 for none
	ownConfig        bool
	unknown, newOnly bool // extensions that git does not know, or knows for the newer version alone
	bad              bool
}

func formatOf(variables []variable) format {
	f := format{version: -1}
	for _, v := range variables {
		name, isExtension := strings.CutPrefix(v.key, "extensions.")
		ok := true
		switch {
		case v.key == "core.repositoryformatversion":
			f.version, ok = integer(v.value)
			ok = ok && v.valued
		case v.key == "core.bare":
			_, ok = Truth(v.value)
		case v.key == "core.worktree":
			ok = v.valued
		case !isExtension, name == "noop":
		case name == "worktreeconfig":
			f.ownConfig, ok = Truth(v.value)
		case name == "preciousobjects":
			_, ok = Truth(v.value)
		case name == "partialclone":
			ok = v.valued
		case name == "noop-v1":
			f.newOnly = true
		case name == "objectformat":
			f.newOnly, ok = true, v.value == "sha1" || v.value == "sha256"
		default:
			f.unknown = true
		}
		f.bad = f.bad || !ok
	}
	return f
}

// discover goes up from a folder to the first one that is or has a repository. dir is empty for none.
func discover(station *workstation.Station, start string) (top, dir string, err error) {
	environ := gitEnviron{station}
	anywhere, err := environ.truth("GIT_DISCOVERY_ACROSS_FILESYSTEM")
	if err != nil {
		return "", "", err
	}
	ceiling := ceilingOf(environ, start)
	for at := start; ; at = filepath.Dir(at) {
		if at != start && !anywhere && !sameDevice(at, start) {
			return "", "", nil
		}
		dir, file, bare := "", "", false
		dotGit := strings.TrimSuffix(at, "/") + "/.git"
		info, err := os.Stat(dotGit)
		switch {
		case err == nil && info.Mode().IsRegular():
			if dir, err = gitFile(station, dotGit); err != nil {
				return "", "", err
			}
			file = dotGit
		case err == nil && isGitFolder(station, dotGit):
			dir = dotGit
		case isGitFolder(station, at):
			dir, bare = at, true
		}
		if dir != "" {
			safe, err := mayUse(station, file, at, dir, bare)
			if err == nil && !safe {
				err = errLeft // newer ones know more ways to say that it is
			}
			return at, dir, err
		}
		if at == filepath.Dir(at) || at == ceiling || filepath.Dir(at) == ceiling {
			return "", "", nil
		}
	}
}

// ceilingOf is the nearest folder above the start that is not to be looked at (GIT_CEILING_DIRECTORIES in git(1)).
func ceilingOf(environ gitEnviron, start string) string {
	nearest, literal := "", false
	for _, entry := range filepath.SplitList(environ.Getenv("GIT_CEILING_DIRECTORIES")) {
		if entry == "" {
			literal = true
			continue
		}
		if !filepath.IsAbs(entry) {
			continue
		}
		if !literal {
			real, err := filepath.EvalSymlinks(entry)
			if err != nil {
				continue
			}
			entry = real
		}
		entry = strings.TrimSuffix(entry, "/")
		if strings.HasPrefix(start, entry+"/") && len(entry) >= len(nearest) && len(start) > len(entry)+1 {
			nearest = entry
			if entry == "" {
				nearest = "/"
			}
		}
	}
	return nearest
}

// mayUse tells whether git uses a repository: one of this person, or one that she said is safe (safe.directory and
// safe.bareRepository in git-config(1)).
func mayUse(station *workstation.Station, file, top, dir string, bare bool) (bool, error) {
	owned := ownedByUs(station, dir) && (file == "" || ownedByUs(station, file)) && (bare || ownedByUs(station, top))
	if owned && !bare {
		return true, nil
	}
	r := &reading{station: station, where: gitPlace{base: station.Dir()}}
	if err := errors.Join(r.protected(), r.inScope("command", r.fromEnvironment)); err != nil {
		return false, err
	}
	if bare {
		top = dir
	}
	safe, explicit := owned, false
	for _, entry := range r.entries {
		switch entry.Key {
		case "safe.barerepository":
			explicit = entry.Value == "explicit"
			if !explicit && entry.Value != "all" {
				return false, fmt.Errorf("%w: safe.bareRepository", ErrUnreadable)
			}
		case "safe.directory":
			path, ok := gitEnviron{station}.expand(entry.Value, false)
			if !owned {
				safe = entry.Value != "" && (safe || entry.Value == "*" || ok && path == top)
			}
		}
	}
	return safe && (!bare || !explicit), nil
}

// gitFile is the folder that a file ".git" leads to (gitrepository-layout(5)).
func gitFile(station *workstation.Station, path string) (string, error) {
	text, err := regular.Read(path, mostOfGitFile)
	if err != nil {
		return "", err
	}
	dir, found := strings.CutPrefix(string(bytes.TrimRight(text, "\r\n")), "gitdir: ")
	if !found || dir == "" {
		return "", fmt.Errorf("%w: %s", ErrUnreadable, path)
	}
	if !filepath.IsAbs(dir) {
		dir = filepath.Dir(path) + "/" + dir
	}
	if !isGitFolder(station, dir) {
		return "", fmt.Errorf("%w: %s leads to no repository", ErrUnreadable, path)
	}
	return realPath(dir), nil
}

// mostOfGitFile bounds a file ".git", as git does.
const mostOfGitFile = 1 << 20

// commonFolder is the one that all worktrees of a repository share.
func commonFolder(station *workstation.Station, dir string) (string, error) {
	if common := station.Getenv("GIT_COMMON_DIR"); common != "" {
		if !filepath.IsAbs(common) {
			common = station.Dir() + "/" + common
		}
		return common, nil
	}
	text, err := regular.Read(dir+"/commondir", mostOfGitFile)
	if isMissing(err) {
		return dir, nil
	}
	if err == nil && len(text) == 0 {
		err = fmt.Errorf("%w: %s/commondir", ErrUnreadable, dir)
	}
	if err != nil {
		return "", err
	}
	common := string(bytes.TrimRight(text, "\r\n"))
	if !filepath.IsAbs(common) {
		common = dir + "/" + common
	}
	return realPath(common), nil
}

// isGitFolder tells whether a folder has what makes it a repository ("is_git_directory" in git's sources).
func isGitFolder(station *workstation.Station, dir string) bool {
	if !isHead(dir + "/HEAD") {
		return false
	}
	common, err := commonFolder(station, dir)
	if err != nil {
		return false
	}
	objects := station.Getenv("GIT_OBJECT_DIRECTORY")
	if _, set := station.Lookup("GIT_OBJECT_DIRECTORY"); !set {
		objects = common + "/objects"
	} else if !filepath.IsAbs(objects) {
		objects = station.Dir() + "/" + objects
	}
	return maySearch(objects) && maySearch(common+"/refs")
}

// isHead tells whether a file is the HEAD of a repository: the name of a reference or of an object.
func isHead(path string) bool {
	if link, err := os.Readlink(path); err == nil {
		return strings.HasPrefix(link, "refs/")
	}
	text, err := regular.Read(path, mostOfRef)
	if err != nil {
		return false
	}
	if ref, found := strings.CutPrefix(string(text), "ref:"); found &&
		strings.HasPrefix(strings.TrimLeft(ref, " \t\r\n"), "refs/") {
		return true
	}
	const shortest = 40 // of an object's name in hexadecimal
	return len(text) >= shortest && !bytes.ContainsFunc(text[:shortest], func(c rune) bool {
		return !(c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f')
	})
}
