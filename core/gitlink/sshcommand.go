package gitlink

import (
	"errors"
	"path/filepath"
	"strconv"
	"strings"

	"mvdan.cc/sh/v3/shell"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// An SSHCommand is the ssh program that git starts, and the options it is given.
type SSHCommand struct {
	Program string
	Text    string // as it stands, for the shell; empty where git starts the program itself
	Line    sshconfig.CommandLine
	Origin  string // what names it; empty when git uses its default
	Clear   bool   // the options could be read; otherwise what ssh would do is partly unknown
	Through string // this program, in full, where git starts ssh through it; empty where it does not
}

// SSH settles which ssh program git starts: GIT_SSH_COMMAND, then core.sshCommand, then
// GIT_SSH, then "ssh" (git(1), git-config(1)). The first two go through the shell; we
// replace variables and quotes as it would, and never run anything to learn more. A nil Config
// has settled nothing.
func (c *Config) SSH() SSHCommand {
	if c == nil {
		return SSHCommand{Program: "ssh", Clear: true}
	}
	if text, set := c.station.Lookup("GIT_SSH_COMMAND"); set { // git takes it though it is empty, and starts nothing
		return parseSSH(text, "GIT_SSH_COMMAND", c.station.Getenv)
	}
	if entry, found := c.Last("core.sshcommand"); found {
		return parseSSH(entry.Value, "core.sshCommand in "+entry.Origin, c.station.Getenv)
	}
	if program := c.station.Getenv("GIT_SSH"); program != "" {
		return SSHCommand{Program: program, Origin: "GIT_SSH", Clear: isSSH(program)}
	}
	return SSHCommand{Program: "ssh", Clear: true}
}

func parseSSH(text, origin string, getenv func(string) string) SSHCommand {
	command := SSHCommand{Origin: origin, Text: text}
	words, err := fields(text, getenv)
	for err == nil && len(words) > 0 && isAssignment(words[0]) {
		words = words[1:]
	}
	if err != nil || len(words) == 0 {
		command.Program = text
		return command
	}
	if IsOurSSH(words) {
		command.Text, command.Through, words = "", words[0], append([]string{"ssh"}, words[3:]...)
	}
	command.Program = words[0]
	var readable bool
	command.Line, readable = sshconfig.ParseArgs(words[1:], origin)
	command.Clear = readable && isSSH(words[0])
	return command
}

// errWords is returned for a command line that cannot be split without running something.
var errWords = errors.New("a command line that only a shell can read")

// fields splits a command line as the shell would. The library panics on substitutions of
// processes, which it can neither run nor refuse.
func fields(text string, getenv func(string) string) (words []string, err error) {
	defer func() {
		if recover() != nil {
			words, err = nil, errWords
		}
	}()
	return shell.Fields(text, getenv)
}

func isAssignment(word string) bool {
	name, _, found := strings.Cut(word, "=")
	return found && name != "" && !strings.ContainsAny(name, "/-. ")
}

// ourWords are how git calls us in the place of ssh, behind the name of the program.
const ourWords = "for-git ssh"

// OurSSH is what core.sshCommand says for git to call us in the place of ssh.
func OurSSH(program string) string {
	return shellwords.Always(filepath.ToSlash(program)) + " " + ourWords
}

// IsOurSSH tells whether the words of a command line call us in the place of ssh.
func IsOurSSH(words []string) bool {
	return len(words) >= 3 && strings.Join(words[1:3], " ") == ourWords
}

// Name is what git starts where no shell is asked.
func (s SSHCommand) Name() string {
	if s.Text != "" {
		return ""
	}
	return s.Program
}

// isSSH tells whether git takes the program for OpenSSH's client, by its name as git does
// (ssh.variant in git-config(1)).
func isSSH(program string) bool {
	name := strings.ToLower(filepath.Base(program))
	return strings.TrimSuffix(name, ".exe") == "ssh"
}

// Query says how the ssh client would be started for an address: git puts the port and
// the user of the URL on its command line, behind the options that are there already.
func (s SSHCommand) Query(a address.Address, station *workstation.Station) sshconfig.Query {
	line := s.Line
	line.Options = append([]sshconfig.Option(nil), s.Line.Options...)
	if a.Port != 0 {
		line.Add("port", strconv.Itoa(int(a.Port)), "the URL")
	}
	if a.User != "" {
		line.Add("user", a.User, "the URL")
	}
	return sshconfig.Query{Host: a.Host, Command: line, Person: PersonOf(station)}
}

// PersonOf tells the ssh client's configuration who is asking.
func PersonOf(station *workstation.Station) sshconfig.Person {
	return sshconfig.Person{User: station.User, UID: station.UID, Home: station.SSHHome,
		Computer: station.Computer, Getenv: station.Getenv}
}
