package gitlink

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// A reading goes once through the files of git's configuration, in the order in which git reads them ("FILES" in
// git-config(1)), and follows what they include ("Includes", "Conditional includes").
type reading struct {
	station *workstation.Station
	where   gitPlace
	clone   *NewClone // that it is for; nil for a folder that is there
	scope   string
	alone   bool // git is not to be asked, whatever only it can tell
	entries []Entry
	depth   int

	included []string // files that a condition included, in order, those of others left out
	inside   bool     // in such a file

	urls      []string // of the remotes, for "hasconfig"
	gathered  bool     // they are known
	gathering bool     // they are being gathered: every "hasconfig" counts as fulfilled
	forbidden bool     // in a file that "hasconfig" includes, no remote may have a URL
}

// ReadOwn reads what git reads of a person's own settings outside of repositories, and ReadMachine what stands in the
// file of the machine (/etc/gitconfig). Both start nothing; the error wraps [ErrUnreadable] where git would refuse it.
func ReadOwn(station *workstation.Station) (*Config, error) {
	r := &reading{station: station, where: gitPlace{base: station.Home}, scope: "global", alone: true}
	for _, path := range r.environ().globalFiles() {
		if err := r.optional(path, false); err != nil {
			return nil, err
		}
	}
	return &Config{station: station, entries: r.entries}, nil
}

// ReadMachine is described with [ReadOwn]; file is [MachineFile], but for tests.
func ReadMachine(station *workstation.Station, file string) (*Config, error) {
	r := &reading{station: station, where: gitPlace{base: "/"}, scope: "system", alone: true}
	if err := r.optional(file, false); err != nil {
		return nil, err
	}
	return &Config{station: station, entries: r.entries}, nil
}

// MachineFile is where the settings for everybody stand.
const MachineFile = "/etc/gitconfig"

// all reads everything that holds in a place.
func (r *reading) all() error {
	return errors.Join(r.protected(), r.ofRepository(), r.inScope("command", r.fromEnvironment))
}

// protected reads what no repository can say: the machine's files and the person's.
func (r *reading) protected() error {
	environ := r.environ()
	alone, err := environ.truth("GIT_CONFIG_NOSYSTEM")
	if err != nil {
		return err
	}
	if !alone {
		path, err := systemFile(r.station)
		if err != nil {
			return err
		}
		err = r.inScope("system", func() error { return r.optional(path, false) })
		if err != nil {
			return err
		}
	}
	return r.inScope("global", func() error {
		for _, path := range environ.globalFiles() {
			if err := r.optional(path, true); err != nil {
				return err
			}
		}
		return nil
	})
}

func (r *reading) ofRepository() error {
	if r.where.common == "" {
		return nil
	}
	err := r.inScope("local", func() error { return r.optional(r.where.common+"/config", false) })
	if err != nil || !r.where.ownConfig {
		return err
	}
	return r.inScope("worktree", func() error { return r.optional(r.where.dir+"/config.worktree", false) })
}

func (r *reading) inScope(scope string, read func() error) error {
	before := r.scope
	r.scope = scope
	defer func() { r.scope = before }()
	return read()
}

func (r *reading) environ() gitEnviron { return gitEnviron{r.station} }

// optional reads a file, if it is there. gently passes over one that may not be read.
func (r *reading) optional(path string, gently bool) error {
	if path == "" {
		return nil
	}
	if !filepath.IsAbs(path) {
		path = r.where.base + "/" + path
	}
	text, err := regular.Read(path, regular.Settings)
	switch {
	case isMissing(err), gently && errors.Is(err, fs.ErrPermission):
		return nil
	case err != nil:
		return err
	}
	return r.file(path, text)
}

// isMissing tells that there is no such file, or no such folder for it to be in.
func isMissing(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || isNotFolder(err)
}

// file takes what a text sets, with what it includes where it says so.
func (r *reading) file(path string, text []byte) error {
	at, ok := syntaxOf(text)
	if !ok {
		return fmt.Errorf("%w: %s", ErrUnreadable, path)
	}
	for _, v := range at.variables {
		entry := Entry{Key: v.key, Value: v.value, Scope: r.scope, Origin: path, line: v.line}
		if err := r.set(entry, v.valued); err != nil {
			return err
		}
	}
	return nil
}

// set takes one variable.
func (r *reading) set(entry Entry, valued bool) error {
	if isRemoteURL(entry.Key) {
		if r.forbidden || !valued && r.gathering {
			return fmt.Errorf("%w: %s in a file that is included by the URL of a remote", ErrUnreadable, entry.Key)
		}
		if r.gathering {
			r.urls = append(r.urls, entry.Value)
		}
	}
	r.entries = append(r.entries, entry)
	if entry.Key == "include.path" {
		return r.include(entry, valued)
	}
	condition, found := strings.CutPrefix(entry.Key, "includeif.")
	condition, isPath := strings.CutSuffix(condition, ".path")
	if !found || !isPath {
		return nil
	}
	holds, err := r.fulfils(condition, entry)
	if err != nil || !holds {
		return err
	}
	outside, free := !r.inside, r.forbidden
	r.inside, r.forbidden = true, r.forbidden || r.gathering
	if outside {
		r.included = append(r.included, includedPath(r.station, entry))
	}
	err = r.include(entry, valued)
	r.inside, r.forbidden = !outside, free
	return err
}

// isRemoteURL tells that a variable is the URL of a remote.
func isRemoteURL(key string) bool {
	name, found := strings.CutPrefix(key, "remote.")
	return found && strings.HasSuffix(name, ".url")
}

// include reads the file that a variable names.
func (r *reading) include(entry Entry, valued bool) error {
	path, ok := r.environ().expand(entry.Value, false)
	if !valued || !ok {
		return fmt.Errorf("%w: %s without a file", ErrUnreadable, entry.Key)
	}
	if !filepath.IsAbs(path) {
		if entry.fromEnvironment() {
			return fmt.Errorf("%w: %s is relative to no file", ErrUnreadable, entry.Value)
		}
		path = entry.Origin[:strings.LastIndexByte(filepath.ToSlash(entry.Origin), '/')+1] + path
	}
	text, err := regular.Read(path, regular.Settings)
	if isMissing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	if r.depth == mostIncludes {
		return fmt.Errorf("%w: %s includes too deep", ErrUnreadable, entry.Origin)
	}
	r.depth++
	defer func() { r.depth-- }()
	return r.file(path, text)
}

// fromEnvironment tells that an entry stands in no file.
func (e Entry) fromEnvironment() bool { return e.Origin == commandLine }

// systemFile is the machine's own file ("FILES" in git-config(1)). Only a distribution's git is known to have it in
// /etc; another one is asked, where it has such a file at all.
func systemFile(station *workstation.Station) (string, error) {
	if path, set := station.Lookup("GIT_CONFIG_SYSTEM"); set {
		return path, nil
	}
	return systemFileOf(station)
}

// ownedByUs tells whether a path, a link itself, belongs to who runs this, as git asks for a repository
// (safe.directory in git-config(1)).
func ownedByUs(station *workstation.Station, path string) bool {
	info, err := os.Lstat(path)
	other, _ := gitEnviron{station}.truth("GIT_TEST_ASSUME_DIFFERENT_OWNER") // git's own tests say so
	return err == nil && !other && isOwner(station, info)
}
