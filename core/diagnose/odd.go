package diagnose

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"unicrux/core/foreign"
)

// strangeCharacters finds what belongs into no URL: what was copied with it, or characters of
// a secret that should have been escaped (RFC 3986, section 3.2.1).
func (c *checker) strangeCharacters(text string) *Crux {
	what := ""
	switch i := strings.IndexAny(text, " \t\r\n\"'<>`“”‘’\u00a0\u200b\ufeff"); {
	case i >= 0:
		what = fmt.Sprintf("%q at character %d", []rune(text[i:])[0], i+1)
	case hasOddSecret(text):
		what = "a character in the secret before the @ that ends the name of the host"
	default:
		return nil
	}
	if c.way.Question.Purpose == "" {
		c.way.Question.Purpose = c.purpose(Clone)
	}
	c.way.Question.Transport = "ssh"
	if strings.HasPrefix(strings.TrimLeft(text, " \"'<`“‘"), "http") {
		c.way.Question.Transport = "https"
	}
	return crux("url-characters", Proved, Evidence{"wrong", what, ""})
}

// hasOddSecret tells whether a secret in a URL holds a "/", "?" or "#", so that what stands
// behind it is no longer read as the host.
func hasOddSecret(text string) bool {
	scheme, rest, found := strings.Cut(text, "://")
	if !found || !strings.HasPrefix(scheme, "http") {
		return false
	}
	i := strings.IndexAny(rest, "/?#")
	if i < 0 || strings.Contains(rest[:i], "@") || !strings.Contains(rest[i:], "@") {
		return false
	}
	_, port, found := strings.Cut(rest[:i], ":")
	return found && portNumber(port) == 0
}

// cleanURL is the clone URL inside a text that holds more; empty for none.
func cleanURL(text string) string {
	return strings.TrimRight(cloneURL().FindString(text), "”’")
}

// brokenCommand tries the ssh program that settings name as git itself tries it, when it finds
// out which options the program takes: with -G, which connects to nobody (ssh.variant in
// git-config(1)).
func (c *checker) brokenCommand(ctx context.Context) *Crux {
	command := c.passage.Command
	if command.Origin == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, c.timeout())
	defer cancel()
	run := exec.CommandContext(ctx, command.Program, "-G", c.address.Host)
	if command.Text != "" {
		run = exec.CommandContext(ctx, "sh", "-c", command.Text+` "$@"`, command.Text, "-G", c.address.Host)
	}
	run.Dir, run.Env, run.WaitDelay = c.station.Folder, c.station.Environ, time.Second
	words, err := run.CombinedOutput()
	var exit *exec.ExitError
	if err == nil || (!errors.As(err, &exit) && ctx.Err() == nil && !errors.Is(err, os.ErrPermission)) {
		return nil
	}
	said := foreign.Clean(string(words))
	missing := exit != nil && (exit.ExitCode() == 126 || exit.ExitCode() == 127)
	if !missing && !command.Clear && (ctx.Err() != nil || says(said, "option|usage|-G")) { // it takes other options than ssh does
		return nil
	}
	certainty := Likely
	if missing || command.Clear {
		certainty = Proved
	}
	evidence := []Evidence{{c.program() + " starts", foreign.Clean(mask(command.Text + command.Name())), c.station.Tilde(command.Origin)}}
	if said != "" {
		evidence = append(evidence, Evidence{"it says", foreign.Quote(foreign.Clean(mask(said))), ""})
	}
	return crux("ssh-command-broken", certainty, evidence...)
}

// hindrance names a setting with which ssh cannot serve git, whoever answers.
func (c *checker) hindrance(context.Context) *Crux {
	s := c.passage.Settings
	hinders := func(keyword, why string) *Crux {
		value, origin, _ := s.First(keyword)
		return crux("ssh-setting-hinders", Proved, Evidence{"setting", keyword + " " + foreign.Clean(value), c.origin(origin)}, Evidence{"why", why, ""})
	}
	is := func(keyword string, values ...string) bool {
		value, _, set := s.First(keyword)
		for _, v := range values {
			if set && strings.EqualFold(value, v) {
				return true
			}
		}
		return false
	}
	if command, _, set := s.First("remotecommand"); set && !strings.EqualFold(command, "none") {
		return hinders("remotecommand", "git has a command of its own for the host, and ssh takes only one")
	}
	switch {
	case is("sessiontype", "none", "subsystem"):
		return hinders("sessiontype", "git needs a command to be run at the host")
	case is("stdinnull", "yes", "true"):
		return hinders("stdinnull", "git speaks to the host by ssh's standard input")
	case is("forkafterauthentication", "yes", "true"):
		return hinders("forkafterauthentication", "ssh goes away while git still speaks to it")
	}
	if why := c.unshared(); why != "" {
		return hinders("controlpath", why)
	}
	if is("exitonforwardfailure", "yes", "true") {
		for _, value := range s.All("localforward") {
			if at := listening(value.Args); at != "" {
				return hinders("localforward", "something listens at "+at+" already, and ExitOnForwardFailure ends ssh then")
			}
		}
	}
	return nil
}

// longestSocket is how long the path of a socket may be (sun_path in unix(7)), less what ssh puts
// behind it while it makes the socket.
const longestSocket = 108 - 1 - 17

// unshared tells why the socket for a shared connection cannot be made; ssh gives up then.
func (c *checker) unshared() string {
	path := c.passage.Client.ControlPath
	if path == "" {
		return ""
	}
	if _, err := os.Lstat(path); err == nil { // it is there: ssh goes through it, or on without
		return ""
	}
	folder, err := os.Stat(filepath.Dir(path))
	switch {
	case len(path) > longestSocket:
		return fmt.Sprintf("the path of the socket has %d characters, and %d is the most", len(path), longestSocket)
	case err != nil || !folder.IsDir():
		return "the folder of the socket is not there: " + c.station.Tilde(filepath.Dir(path))
	}
	return ""
}

// listening returns the address of a forwarding at which something listens already.
func listening(args []string) string {
	if len(args) == 0 || strings.Contains(args[0], "/") {
		return ""
	}
	at := args[0]
	if !strings.Contains(at, ":") {
		at = "127.0.0.1:" + at
	}
	listener, err := net.Listen("tcp", at)
	if err != nil {
		return at
	}
	_ = listener.Close()
	return ""
}
