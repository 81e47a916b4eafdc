package gitlink

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"Unicrux/core/allow"
	"Unicrux/core/regular"
	"Unicrux/core/workstation"
)

// An Assignment is a variable with the values that it shall have; none takes it out.
type Assignment struct {
	Key    string
	Values []string
	Beside bool // leave the values that are there, and add what is missing
}

// Assign makes of the text of one of git's files what the assignments say. git itself writes
// it, on a copy. What is so already is not touched, not even its spaces.
func Assign(ctx context.Context, station *workstation.Station, old []byte, assignments []Assignment) ([]byte, error) {
	dir, remove, err := station.Scratch()
	if err != nil {
		return nil, err
	}
	defer remove()
	scratch := filepath.Join(dir, "config")
	if err := os.WriteFile(scratch, old, 0o600); err != nil {
		return nil, err
	}
	entries, err := listFile(ctx, station, scratch)
	if err != nil {
		return nil, err
	}
	for _, a := range assignments {
		if err := assign(ctx, station, scratch, entries, a); err != nil {
			return nil, err
		}
	}
	return regular.Read(scratch, regular.Settings)
}

// ErrUnwritable is returned for what must never get into a file of git's.
var ErrUnwritable = errors.New("not written into git's configuration")

// writable are the variables that we write, by section and name ("VARIABLES" in git-config(1)).
// This is the last place before the file: several other variables run commands.
var writable = []string{"remote.url", "remote.pushurl", "remote.fetch", "branch.remote", "branch.merge", "url.insteadof", "include.path", "includeif.path", "user.name", "user.email",
	"credential.helper", "credential.username", "http.sslcainfo", "http.curloptresolve", "http.proxy", "http.extraheader", "core.sshcommand", "ssh.variant"}

// writable refuses other variables, and control characters: git itself would escape them, and
// whatever reads the value later is told more than was meant. have is what was there before.
func (a Assignment) writable(have []string) error {
	section, _, _ := strings.Cut(a.Key, ".")
	name := strings.ToLower(section + a.Key[max(0, strings.LastIndexByte(a.Key, '.')):])
	if !slices.Contains(writable, name) && len(a.Values) > 0 {
		return fmt.Errorf("%w: the variable %s", ErrUnwritable, name)
	}
	if !allow.Line(a.Key) && len(a.Values) > 0 {
		return fmt.Errorf("%w: a control character in the name of %s", ErrUnwritable, name)
	}
	for _, value := range a.Values {
		if !allow.Line(value) && !slices.Contains(have, value) {
			return fmt.Errorf("%w: a control character in the value of %s", ErrUnwritable, name)
		}
	}
	return nil
}

func assign(ctx context.Context, station *workstation.Station, path string, entries []Entry, a Assignment) error {
	var have []string
	for _, entry := range entries {
		if entry.Key == normalKey(a.Key) {
			have = append(have, entry.Value)
		}
	}
	if a.Beside {
		a.Values = slices.DeleteFunc(slices.Clone(a.Values), func(value string) bool { return slices.Contains(have, value) })
		have = nil
	}
	if slices.Equal(have, a.Values) {
		return nil
	}
	if err := a.writable(have); err != nil {
		return err
	}
	run := func(args ...string) error {
		if _, err := Run(ctx, station, append([]string{"config", "--file", path}, args...)...); err != nil {
			return fmt.Errorf("git config: %w", err)
		}
		return nil
	}
	if len(have) == 1 && len(a.Values) == 1 {
		return run(a.Key, a.Values[0])
	}
	if len(have) > 0 {
		if err := run("--unset-all", a.Key); err != nil {
			return err
		}
	}
	for _, value := range a.Values {
		if err := run("--add", a.Key, value); err != nil {
			return err
		}
	}
	return nil
}

// listFile lists what stands in one of git's files, without what it includes.
func listFile(ctx context.Context, station *workstation.Station, path string) ([]Entry, error) {
	if info, err := os.Stat(path); err == nil && info.Size() == 0 {
		return nil, nil
	}
	out, err := Run(ctx, station, "config", "--file", path, "--list", "--null", "--show-scope", "--show-origin")
	if err != nil {
		return nil, fmt.Errorf("git config: %w", err)
	}
	return parseList(out), nil
}

// normalKey writes a key as git lists it: section and variable in lower case.
func normalKey(key string) string {
	first, last := strings.IndexByte(key, '.'), strings.LastIndexByte(key, '.')
	if first < 0 {
		return strings.ToLower(key)
	}
	return strings.ToLower(key[:first]) + key[first:last] + strings.ToLower(key[last:])
}

// GlobalFile is the file that git itself would write the person's settings to ("FILES" in
// git-config(1)).
func GlobalFile(station *workstation.Station) string {
	if path := station.Getenv("GIT_CONFIG_GLOBAL"); path != "" {
		return path
	}
	usual := filepath.Join(station.Home, ".gitconfig")
	if _, err := os.Stat(usual); err == nil {
		return usual
	}
	folder := station.Getenv("XDG_CONFIG_HOME")
	if folder == "" {
		folder = filepath.Join(station.Home, ".config")
	}
	if other := filepath.Join(folder, "git", "config"); isFile(other) {
		return other
	}
	return usual
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// Entries lists what stands in one of git's files, without what it includes; nothing where
// there is no file.
func Entries(ctx context.Context, station *workstation.Station, path string) ([]Entry, error) {
	if !isFile(path) {
		return nil, nil
	}
	return listFile(ctx, station, path)
}
