package gitlink

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// An Assignment is a variable with the values that it shall have; none takes it out.
type Assignment struct {
	Key    string
	Values []string
	Beside bool // leave the values that are there, and add what is missing

	Without bool // leave the values that are there, and take these out
}

// ErrMisread is returned for a file that git reads otherwise than we do, so that we do not touch it.
var ErrMisread = errors.New("git does not read this file as Unicrux does, so it was not changed")

// Assign makes of the text of one of git's files what the assignments say, and touches nothing else in
// it, neither spaces nor comments. git reads the result, and must find exactly what was meant: else the
// error is [ErrMisread]. All assignments together cost as much as one.
func Assign(ctx context.Context, station *workstation.Station, old []byte, assignments []Assignment) ([]byte, error) {
	entries, err := gitsEntries(ctx, station, old)
	if err != nil {
		return nil, err
	}
	at, ok := syntaxOf(old)
	if !ok || !at.lists(entries) {
		return nil, ErrMisread
	}
	d := newDraft(old, at, entries)
	for _, a := range assignments {
		if err := d.assign(a); err != nil {
			return nil, err
		}
	}
	if !d.changes() {
		return old, nil
	}
	text := d.text()
	after, err := gitsEntries(ctx, station, text)
	if err != nil || !d.became(after) {
		return nil, errors.Join(ErrMisread, err)
	}
	return text, nil
}

// ErrUnwritable is returned for what must never get into a file of git's.
var ErrUnwritable = fault.New("git-unwritable", fault.Failed, "not written into git's configuration")

// writable are the variables that we write, by section and name ("VARIABLES" in git-config(1)).
// This is the last place before the file: several other variables run commands.
var writable = []string{"remote.url", "remote.pushurl", "remote.fetch", "branch.remote", "branch.merge",
	"url.insteadof", "include.path", "includeif.path", "user.name", "user.email",
	"credential.helper", "credential.username", "http.sslcainfo", "http.curloptresolve", "http.proxy",
	"http.extraheader", "core.sshcommand", "ssh.variant"}

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

// EntriesOf lists what the text of one of git's files sets, without what it includes, and does not say where. The error
// is [ErrUnreadable].
func EntriesOf(text []byte) ([]Entry, error) {
	at, ok := syntaxOf(text)
	if !ok {
		return nil, ErrUnreadable
	}
	var entries []Entry
	for _, v := range at.variables {
		entries = append(entries, Entry{Key: v.key, Value: v.value, line: v.line})
	}
	return entries, nil
}

// ErrUnreadable is returned for a text that git refuses as its configuration.
var ErrUnreadable = errors.New("not a configuration that git reads")

// Entries is [EntriesOf] a file; nothing where there is none.
func Entries(path string) ([]Entry, error) {
	text, err := regular.Read(path, regular.Settings)
	if isMissing(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	entries, err := EntriesOf(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	for i := range entries {
		entries[i].Origin = path
	}
	return entries, nil
}
