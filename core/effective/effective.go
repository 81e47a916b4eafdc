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
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/workstation"
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
	Port      uint16 // of the URL; 0 where none stands there
	SSHConfig string // read this file as the client's -F would; empty for the usual ones
	Run       bool   // run the commands of "Match exec", as ssh would
}

// ErrNoFile is returned for a file of ssh's settings that is named and not there.
var ErrNoFile = fault.New("settings-no-file", fault.Failed, "there is no such file")

// Why a value of ssh's does not hold.
const earlierWins = "an earlier line wins"

// printPatience bounds the wait for the client to print.
const printPatience = 10 * time.Second

// For settles what holds for a host.
func For(ctx context.Context, station *workstation.Station, q Question) (*View, error) {
	ctx, cancel := context.WithTimeout(ctx, printPatience)
	defer cancel()
	reading := readGit(ctx, station)
	at := address.Address{Scheme: "ssh", Host: q.Host, Port: q.Port}
	query := gitlink.SSHCommand{Line: sshconfig.CommandLine{Config: q.SSHConfig}}.Query(at, station)
	if q.SSHConfig != "" {
		if _, err := os.Stat(q.SSHConfig); err != nil {
			return nil, fmt.Errorf("%s: %w", station.Tilde(q.SSHConfig), ErrNoFile)
		}
	} else {
		config, _ := reading() // without git, its habits hold
		query = config.SSH().Query(at, station)
	}
	query.Exists = sshconfig.ByNameServers
	if q.Run {
		query.Run = func(command string) bool { return sshway.RunLine(ctx, station, command) }
	}
	settings := sshconfig.Resolve(query)
	v := &View{Host: q.Host, Problems: settings.Problems, Unknown: settings.Unknown}
	v.addSSH(ctx, station, settings)
	config, err := reading()
	switch {
	case errors.Is(err, gitlink.ErrNoGit):
		v.NoGit = true
	case err != nil:
		return nil, err
	default:
		v.addGit(station, config)
	}
	return v, nil
}

// readGit starts reading git's configuration, and returns how to wait for it.
func readGit(ctx context.Context, station *workstation.Station) func() (*gitlink.Config, error) {
	var config *gitlink.Config
	var err error
	done := make(chan struct{})
	go func() {
		config, err = gitlink.ReadConfig(ctx, station)
		close(done)
	}()
	return func() (*gitlink.Config, error) {
		<-done
		return config, err
	}
}

// addSSH joins what the client prints with where it stands.
func (v *View) addSSH(ctx context.Context, station *workstation.Station, settings *sshconfig.Settings) {
	winners := map[string]sshconfig.Winner{}
	for _, w := range settings.Winners() {
		winners[w.Keyword] = w
	}
	printed, bare, err := print(ctx, station, settings)
	if err != nil { // no client, or one that refuses what is set: tell it as it stands
		v.Plain = true
		for _, w := range settings.Winners() {
			for _, value := range w.Values {
				printed = append(printed, line{w.Keyword, value.Text()})
			}
		}
	}
	defaults := map[string]string{}
	for _, l := range bare {
		defaults[l.Name] = strings.TrimSpace(defaults[l.Name] + " " + l.Value)
	}
	defaults["hostname"] = settings.Query.Host // the client was asked about another one
	seen := map[string]int{}
	for _, l := range printed {
		v.SSH = append(v.SSH, setting(l, winners[l.Name], seen[l.Name], defaults[l.Name]))
		seen[l.Name]++
	}
}

// setting makes one of the nth line that the client prints for a keyword.
func setting(l line, w sshconfig.Winner, nth int, otherwise string) Setting {
	s := Setting{Name: l.Name, Value: veil(l.Name, l.Value)}
	if len(w.Values) == 0 {
		return s
	}
	s.Origin, s.Default = place(w, nth), otherwise
	if nth == 0 {
		if len(w.Lost) > 0 { // the next one would be in effect
			s.Default = veiled(l.Name, w.Lost[0])
		}
		for _, lost := range w.Lost {
			s.Lost = append(s.Lost, Lost{veiled(l.Name, lost), lost.Origin.String(), earlierWins})
		}
	}
	return s
}

// telling finds names of variables that say that they hold secrets.
var telling = lazyregexp.Late(`(?i)` + secret.Names)

// veil hides what a variable of SetEnv hands to the host, where its name tells that it is a secret.
func veil(keyword, word string) string {
	if name, _, found := strings.Cut(word, "="); found && keyword == "setenv" && telling().MatchString(name) {
		return name + "=" + secret.Mask
	}
	return word
}

// veiled is what stands in a line that lost, which may set several variables.
func veiled(keyword string, lost sshconfig.Value) string {
	words := slices.Clone(lost.Args)
	for i, word := range words {
		words[i] = veil(keyword, word)
	}
	if slices.Equal(words, lost.Args) {
		return lost.Text()
	}
	return sshconfig.Value{Args: words}.Text()
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
