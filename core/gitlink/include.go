package gitlink

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/regular"
)

// fulfils tells whether a condition of an include holds. One that is not known here is left to git, which may know it.
func (r *reading) fulfils(condition string, entry Entry) (bool, error) {
	kind, pattern, _ := strings.Cut(condition, ":")
	switch kind {
	case "gitdir", "gitdir/i":
		return r.lies(pattern, entry, kind == "gitdir/i"), nil
	case "onbranch":
		branch, err := r.branch()
		return branch != "" && err == nil && wildMatch(dirPattern(pattern), branch, false), err
	case "hasconfig":
		pattern, found := strings.CutPrefix(pattern, "remote.*.url:")
		if !found && !r.alone {
			return false, errLeft
		}
		if !found || r.gathering {
			return found, nil
		}
		urls, err := r.remoteURLs()
		matches := func(url string) bool { return wildMatch(pattern, url, false) }
		return err == nil && slices.ContainsFunc(urls, matches), err
	}
	if !r.alone {
		return false, errLeft
	}
	return false, nil
}

// lies tells whether the repository is where a pattern says: its real path, or the one by which it is reached.
func (r *reading) lies(pattern string, entry Entry, anyCase bool) bool {
	if r.where.dir == "" && r.clone == nil {
		return false
	}
	prefix := 0
	if text, ok := r.environ().expand(pattern, true); ok {
		pattern = text
	}
	switch {
	case strings.HasPrefix(pattern, "./"):
		if entry.fromEnvironment() {
			return false
		}
		folder := filepath.ToSlash(filepath.Dir(realPath(entry.Origin)))
		pattern, prefix = strings.TrimSuffix(folder, "/")+pattern[1:], len(strings.TrimSuffix(folder, "/"))+1
	case !filepath.IsAbs(pattern):
		pattern = "**/" + pattern
	}
	pattern = dirPattern(pattern)
	// What stands for "./" is compared as it is, whatever its characters would mean in a pattern.
	start, rest := pattern[:prefix], pattern[prefix:]
	return slices.ContainsFunc(r.paths(), func(at string) bool {
		if len(at) < prefix || at[:prefix] != start && !(anyCase && strings.EqualFold(at[:prefix], start)) {
			return false
		}
		return wildMatch(rest, at[prefix:], anyCase)
	})
}

// paths are those of the repository's folder: "gitdir" may mean either.
func (r *reading) paths() []string {
	if r.clone != nil { // git clone takes its real path alone
		return []string{filepath.ToSlash(realPath(filepath.Join(r.clone.Folder, ".git")))}
	}
	return []string{filepath.ToSlash(realPath(r.where.dir)), filepath.ToSlash(r.where.called)}
}

// dirPattern is a pattern of which everything below a folder counts, where it ends with a slash.
func dirPattern(pattern string) string {
	if strings.HasSuffix(pattern, "/") {
		return pattern + "**"
	}
	return pattern
}

// branch is the one that is checked out, or that a new clone will have; empty for none.
func (r *reading) branch() (string, error) {
	if r.clone != nil {
		before := &reading{station: r.station, where: r.where, alone: true}
		err := before.all()
		return firstBranch(before.entries), err
	}
	if r.where.dir == "" {
		return "", nil
	}
	const heads = "refs/heads/"
	for ref, depth := "HEAD", 0; depth < mostSymbolic; depth++ {
		target, symbolic := symbolicRef(r.where, ref)
		if !symbolic {
			name, found := strings.CutPrefix(ref, heads)
			if !found {
				return "", nil
			}
			return name, nil
		}
		ref = target
	}
	return "", nil
}

// mostSymbolic bounds how many references lead to others, as git does ("SYMREF_MAXDEPTH" in git's sources).
const mostSymbolic = 5

// symbolicRef is what a reference leads to, where it leads to another (git-symbolic-ref(1)).
func symbolicRef(where gitPlace, ref string) (target string, symbolic bool) {
	folder := where.common
	if ref == "HEAD" {
		folder = where.dir
	}
	path := folder + "/" + ref
	if link, err := os.Readlink(path); err == nil {
		return link, strings.HasPrefix(link, "refs/")
	}
	text, err := regular.Read(path, mostOfRef)
	if err != nil {
		return "", false
	}
	target, symbolic = strings.CutPrefix(string(text), "ref:")
	return strings.TrimSpace(target), symbolic
}

// mostOfRef bounds the file of a reference: a name, or an object's.
const mostOfRef = 64 << 10

// remoteURLs are those of all remotes, wherever they are set ("hasconfig" in git-config(1)).
func (r *reading) remoteURLs() ([]string, error) {
	if r.gathered {
		return r.urls, nil
	}
	first := &reading{station: r.station, where: r.where, clone: r.clone, alone: r.alone, gathering: true}
	if err := first.all(); err != nil {
		return nil, err
	}
	r.urls, r.gathered = first.urls, true
	if r.clone != nil {
		r.urls = append(r.urls, r.clone.URL)
	}
	return r.urls, nil
}
