// Package effective tells every setting of ssh and git that holds for a host: with its value,
// where it stands, which others lost against it, and what would hold without it.
//
// [For] is what callers want. Which value wins is settled by packages sshconfig and gitlink;
// the installed client is only asked to print, from a file in which nothing depends on
// anything, so that values and defaults are those of its very version.
package effective

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"unicrux/core/address"
	"unicrux/core/gitlink"
	"unicrux/core/sshconfig"
	"unicrux/core/workstation"
)

// A Setting is one value that holds.
type Setting struct {
	Name    string // of ssh's keyword or git's variable, in lower case
	Value   string // as the client prints it; secrets are masked
	Origin  string // file:line, or in words; empty for the default
	Default string // what would hold without it; empty where the default is nothing
	Lost    []Lost
}

// A Lost value does not hold.
type Lost struct{ Value, Origin, Why string }

// A View is all that holds for a host.
type View struct {
	Host     string
	SSH, Git []Setting
	Plain    bool                // no ssh client is here to print: only what is set is told, as it stands
	Problems []sshconfig.Problem // why the client would stop
	Unknown  []sshconfig.Value   // conditions that would run a command, and were not asked
	NoGit    bool
}

// A Question says for which host, and from which file of ssh's.
type Question struct {
	Host      string // as it stands in clone URLs
	SSHConfig string // read this file as the client's -F would; empty for the usual ones
}

// Why a value of ssh's does not hold.
const earlierWins = "an earlier line wins"

// printPatience bounds the wait for the client to print.
const printPatience = 10 * time.Second

// For settles what holds for a host.
func For(ctx context.Context, station *workstation.Station, q Question) (*View, error) {
	config, err := gitlink.ReadConfig(ctx, station)
	v := &View{Host: q.Host, NoGit: errors.Is(err, gitlink.ErrNoGit)}
	if err != nil && !v.NoGit {
		return nil, err
	}
	command := gitlink.SSHCommand{Program: "ssh", Clear: true}
	if config != nil {
		command = config.SSH()
	}
	query := command.Query(address.Address{Scheme: "ssh", Host: q.Host}, station)
	if q.SSHConfig != "" {
		if _, err := os.Stat(q.SSHConfig); err != nil {
			return nil, err
		}
		query.Command = sshconfig.CommandLine{Config: q.SSHConfig}
	}
	settings := sshconfig.Resolve(query)
	v.Problems, v.Unknown = settings.Problems, settings.Unknown
	if err := v.addSSH(ctx, settings); err != nil {
		return nil, err
	}
	if config != nil {
		v.addGit(station, config)
	}
	return v, nil
}

// addSSH joins what the client prints with where it stands.
func (v *View) addSSH(ctx context.Context, settings *sshconfig.Settings) error {
	winners := map[string]sshconfig.Winner{}
	for _, w := range settings.Winners() {
		winners[w.Keyword] = w
	}
	printed, err := printAll(ctx, v.Host, settings.Flat())
	if err != nil { // no client, or one that refuses what is set: tell it as it stands
		v.Plain = true
		for _, w := range settings.Winners() {
			for _, value := range w.Values {
				printed = append(printed, line{w.Keyword, value.Text()})
			}
		}
	}
	defaults := map[string]string{}
	if bare, err := printAll(ctx, v.Host, nil); err == nil && !v.Plain {
		for _, l := range bare {
			defaults[l.name] = strings.TrimSpace(defaults[l.name] + " " + l.value)
		}
	}
	seen := map[string]int{}
	for _, l := range printed {
		s := Setting{Name: l.name, Value: l.value}
		if w, set := winners[l.name]; set {
			nth := seen[l.name]
			s.Origin = place(w, nth)
			s.Default = defaults[l.name]
			if nth == 0 {
				for _, lost := range w.Lost {
					s.Lost = append(s.Lost, Lost{lost.Text(), lost.Origin.String(), earlierWins})
				}
			}
		}
		seen[l.name]++
		v.SSH = append(v.SSH, s)
	}
	return nil
}

// place is where the nth printed value of a keyword stands: some lines hold several.
func place(w sshconfig.Winner, nth int) string {
	for _, value := range w.Values {
		width := 1
		if w.Keyword == "sendenv" || w.Keyword == "setenv" {
			width = len(value.Args)
		}
		if nth < width {
			return value.Origin.String()
		}
		nth -= width
	}
	return w.Values[len(w.Values)-1].Origin.String()
}

// A line is one that the client prints.
type line struct{ name, value string }

// printAll lets the client print what it makes of a file, for a host.
func printAll(ctx context.Context, host string, text []byte) ([]line, error) {
	program, err := exec.LookPath("ssh")
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "unicrux-settings-") // for the owner alone
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir) //nolint:errcheck // a copy
	path := filepath.Join(dir, "flat")
	if err := os.WriteFile(path, text, 0o600); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, printPatience)
	defer cancel()
	out, err := exec.CommandContext(ctx, program, "-G", "-F", path, "--", host).Output()
	if err != nil {
		return nil, err
	}
	var lines []line
	for text := range strings.Lines(string(out)) {
		name, value, _ := strings.Cut(strings.TrimRight(text, "\r\n"), " ")
		lines = append(lines, line{strings.ToLower(name), value})
	}
	return lines, nil
}
