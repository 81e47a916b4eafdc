package gitlink

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/workstation"
)

// ErrNoGit is returned when there is no git on the path.
var ErrNoGit = fault.New("git-missing", fault.Refused, "git is not installed, or not on the path")

// A ConfigError is the refusal of a configuration by the program that it is for.
type ConfigError struct {
	Program string // git or hg
	Message string // what it says
}

func (e *ConfigError) Error() string { return e.Program + " refuses its configuration: " + e.Message }

// An Entry is one value of git's configuration.
type Entry struct {
	Key    string // section and variable in lower case, the part between as written
	Value  string
	Scope  string // system, global, local, worktree or command
	Origin string // the file, absolute, or "command line:"

	line int // counted from 1; 0 where it stands in no file
}

// Line is the line, counted from 1, on which an entry stands in its file; 0 where it stands in none.
func (e Entry) Line() int { return e.line }

// A Config is git's effective configuration in one folder: later entries win.
type Config struct {
	entries []Entry
	station *workstation.Station

	clone       NewClone // that it is for; nothing for the folder
	conditional []string // files that are included for the clone
}

// Run runs git in the station's folder and environment and returns its output. The
// error of a command that failed is an [exec.ExitError] with what git said.
func Run(ctx context.Context, station *workstation.Station, args ...string) ([]byte, error) {
	program, err := exec.LookPath("git")
	if err != nil {
		return nil, ErrNoGit
	}
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir, cmd.Env = station.Dir(), station.Environ
	return cmd.Output()
}

// runWith is [Run] with something to read.
func runWith(ctx context.Context, station *workstation.Station, input []byte, args ...string) ([]byte, error) {
	program, err := exec.LookPath("git")
	if err != nil {
		return nil, ErrNoGit
	}
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir, cmd.Env, cmd.Stdin = station.Dir(), station.Environ, bytes.NewReader(input)
	return cmd.Output()
}

// ReadConfig reads everything that git has settled in the station's folder, as git would ("FILES" in
// git-config(1)), and starts it only where it would refuse that: a [ConfigError] has its words.
// It is [ErrNoGit] where there is no git.
func ReadConfig(ctx context.Context, station *workstation.Station) (*Config, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, ErrNoGit
	}
	where, err := placeOf(station)
	if err == nil {
		r := &reading{station: station, where: where}
		if err = r.all(); err == nil {
			return &Config{station: station, entries: r.entries}, nil
		}
	}
	entries, err := readConfig(ctx, station)
	if err != nil {
		return nil, err
	}
	return &Config{station: station, entries: entries}, nil
}

// readConfig asks git itself.
func readConfig(ctx context.Context, station *workstation.Station, from ...string) ([]Entry, error) {
	out, err := Run(ctx, station, append([]string{"config", "--list", "--null", "--show-scope", "--show-origin"},
		from...)...)
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return nil, &ConfigError{Program: "git", Message: strings.TrimSpace(string(exit.Stderr))}
	}
	if err != nil {
		return nil, err
	}
	return parseList(out), nil
}

// parseList reads the output of git config --list --null --show-scope --show-origin: scope,
// origin, and key and value with a line end between them, each ended by a zero byte.
func parseList(out []byte) []Entry {
	var entries []Entry
	fields := bytes.Split(out, []byte{0})
	for i := 0; i+3 < len(fields); i += 3 { // behind the last zero byte stands nothing
		key, value, found := strings.Cut(string(fields[i+2]), "\n")
		if !found {
			value = "true" // a variable without "=" ("CONFIGURATION FILE" in git-config(1))
		}
		entries = append(entries, Entry{Key: key, Value: value, Scope: string(fields[i]),
			Origin: strings.TrimPrefix(string(fields[i+1]), "file:")})
	}
	return entries
}

// Last returns the value that counts for a variable that has one value.
func (c *Config) Last(key string) (Entry, bool) {
	for _, entry := range slices.Backward(c.entries) {
		if entry.Key == key {
			return entry, true
		}
	}
	return Entry{}, false
}

// All returns every value of a variable that can have several, in order.
func (c *Config) All(key string) []Entry {
	var found []Entry
	for _, entry := range c.entries {
		if entry.Key == key {
			found = append(found, entry)
		}
	}
	return found
}

// NoConfig is a configuration without anything set, for a workstation without git.
func NoConfig(station *workstation.Station) *Config { return &Config{station: station} }

// Every returns all that is set, in the order in which git reads it.
func (c *Config) Every() []Entry { return c.entries }

// InRepository tells whether the folder is inside a repository.
func (c *Config) InRepository() bool {
	return slices.ContainsFunc(c.entries, func(e Entry) bool { return e.Scope == "local" })
}

// Remotes lists the remotes' names, in the order of the configuration.
func (c *Config) Remotes() []string {
	var names []string
	for _, entry := range c.entries {
		name, found := strings.CutPrefix(entry.Key, "remote.")
		if !found {
			continue
		}
		i := strings.LastIndexByte(name, '.')
		if i <= 0 || (name[i:] != ".url" && name[i:] != ".pushurl") {
			continue
		}
		if name = name[:i]; !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// Submodules lists the addresses of the submodules that were set up here.
func (c *Config) Submodules() []Entry {
	var found []Entry
	for _, entry := range c.entries {
		if strings.HasPrefix(entry.Key, "submodule.") && strings.HasSuffix(entry.Key, ".url") {
			found = append(found, entry)
		}
	}
	return found
}

// RemoteURL returns the URL of a remote for fetching or pushing, before rewriting. own
// tells that it is the remote's own push URL, for which rules for pushing do not hold.
func (c *Config) RemoteURL(name string, push bool) (url Entry, own, found bool) {
	if push {
		if urls := c.All("remote." + name + ".pushurl"); len(urls) > 0 {
			return urls[0], true, true
		}
	}
	if urls := c.All("remote." + name + ".url"); len(urls) > 0 {
		return urls[0], false, true
	}
	return Entry{}, false, false
}

// PushURLs lists the URLs to which a push to a remote goes, before rewriting: all of them, one after another
// ("remote.<name>.pushurl" in git-config(1)). own tells that they are its push URLs.
func (c *Config) PushURLs(name string) (urls []Entry, own bool) {
	if urls = c.All("remote." + name + ".pushurl"); len(urls) > 0 {
		return urls, true
	}
	return c.All("remote." + name + ".url"), false
}

// Rules returns the rules by which git rewrites URLs, in the order in which it tries them: those of one
// base together, where the base first appears ("add_instead_of" in git's sources).
func (c *Config) Rules() []address.Rule {
	var rules []address.Rule
	for _, entry := range c.entries {
		base, found := strings.CutPrefix(entry.Key, "url.")
		if !found {
			continue
		}
		if plain, found := strings.CutSuffix(base, ".insteadof"); found {
			rules = append(rules, address.Rule{Base: plain, Prefix: entry.Value, Origin: entry.Origin})
		} else if push, found := strings.CutSuffix(base, ".pushinsteadof"); found {
			rules = append(rules, address.Rule{Base: push, Prefix: entry.Value, PushOnly: true, Origin: entry.Origin})
		}
	}
	first := map[string]int{}
	for i, rule := range rules {
		if _, seen := first[rule.Base]; !seen {
			first[rule.Base] = i
		}
	}
	slices.SortStableFunc(rules, func(a, b address.Rule) int { return first[a.Base] - first[b.Base] })
	return rules
}

// DefaultRemote returns the remote that a plain push of the current branch would use
// ("remote.pushDefault" and "branch.<name>.pushRemote" in git-config(1)).
func (c *Config) DefaultRemote(ctx context.Context) (string, error) {
	out, err := Run(ctx, c.station, "symbolic-ref", "--quiet", "--short", "HEAD")
	branch := strings.TrimSpace(string(out))
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) { // a failed git only says that no branch is current
		return "", fmt.Errorf("asking git for the current branch: %w", err)
	}
	for _, key := range []string{"branch." + branch + ".pushremote", "remote.pushdefault",
		"branch." + branch + ".remote"} {
		if entry, found := c.Last(key); found {
			return entry.Value, nil
		}
	}
	if remotes := c.Remotes(); len(remotes) == 1 {
		return remotes[0], nil
	}
	return "origin", nil
}

// AuthorProblem returns git's complaint when it does not know the name or e-mail address
// for commits, and nothing when it does (git-var(1)).
func AuthorProblem(ctx context.Context, station *workstation.Station) string {
	_, err := Run(ctx, station, "var", "GIT_AUTHOR_IDENT")
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return ""
	}
	words := strings.TrimSpace(string(exit.Stderr))
	if i := strings.LastIndex(words, "fatal: "); i >= 0 { // what stands before it is git's long advice
		words = words[i+len("fatal: "):]
	}
	return words
}

// Uncommitted tells whether there is anything here that is not committed (git-status(1)).
func Uncommitted(ctx context.Context, station *workstation.Station) bool {
	// Nothing of the repository's is to run for that, and nothing to be written: "status" would refresh
	// the index, ask a monitor of the file system, and run hooks after it (git-status(1), git-config(1)).
	out, err := Run(ctx, station, "--no-optional-locks", "-c", "core.fsmonitor=false", "-c",
		"core.hooksPath="+os.DevNull, "status", "--porcelain", "--ignore-submodules=all")
	return err == nil && len(out) > 0
}

// LocalConfigFile is the configuration file of the repository that the folder is in.
func LocalConfigFile(ctx context.Context, station *workstation.Station) (string, error) {
	out, err := Run(ctx, station, "rev-parse", "--path-format=absolute", "--git-path", "config")
	if err != nil {
		return "", fmt.Errorf("asking git for this repository's configuration: %w", err)
	}
	return strings.TrimSuffix(string(out), "\n"), nil
}
