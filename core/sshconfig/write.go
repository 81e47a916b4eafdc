package sshconfig

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/fault"
)

// ErrUnwritable is returned for what must never get into a file of the ssh client's: a keyword that
// we do not write, or an argument that the client would read as something else.
var ErrUnwritable = fault.New("ssh-config-unwritable", fault.Failed, "not written into ssh's configuration")

// writable maps each keyword that we write into a block to what an argument of it may be. This is the last
// place before the file, so whatever a description, a URL or a caller says, nothing else gets
// there: the client takes "\r" for a blank and obeys some keywords by running commands.
var writable = map[string]func(arg string) bool{
	"hostname":            allow.HostOrIP,
	"user":                isUser,
	"port":                allow.Number,
	"identityfile":        allow.Line,
	"userknownhostsfile":  allow.Line,
	"identityagent":       allow.Line,
	"identitiesonly":      isYesOrNo,
	"addkeystoagent":      isYesOrNo,
	"forwardagent":        isYesOrNo,
	"serveraliveinterval": allow.Number,
	"proxyjump":           isJump,
	"proxycommand":        allow.Line,
}

func isYesOrNo(arg string) bool { return isYes(arg) || isNo(arg) }

// hostLine begins a block. The error is [ErrUnwritable].
func hostLine(names []string) (string, error) {
	for _, name := range names {
		if !isPattern(name) {
			return "", fmt.Errorf("%w: Host %q", ErrUnwritable, name)
		}
	}
	return joined("Host", names), nil
}

// includeLine reads another file. The error is [ErrUnwritable].
func includeLine(path string) (string, error) {
	if !allow.Line(path) {
		return "", fmt.Errorf("%w: Include %q", ErrUnwritable, path)
	}
	return joined("Include", []string{path}), nil
}

// isPattern allows a host name, an IP address, or nothing else: we write no patterns.
func isPattern(arg string) bool { return allow.HostOrIP(arg) }

// isUser allows a login name; some hosts' have an "@" in them.
func isUser(arg string) bool {
	name, realm, found := strings.Cut(arg, "@")
	return allow.Login(name) && (!found || allow.Host(realm))
}

// isJump allows jump hosts, each [user@]host[:port], with commas between.
func isJump(arg string) bool {
	for hop := range strings.SplitSeq(arg, ",") {
		user, place, found := strings.Cut(hop, "@")
		if !found {
			user, place = "x", hop
		}
		name, port, found := strings.Cut(place, ":")
		if !allow.Login(user) || !allow.Host(name) || found && !allow.Number(port) {
			return false
		}
	}
	return true
}

// text is the line of a setting, without its end. The error is [ErrUnwritable].
func (s Setting) text() (string, error) {
	may, known := writable[strings.ToLower(s.Keyword)]
	if !known {
		return "", fmt.Errorf("%w: the keyword %q", ErrUnwritable, s.Keyword)
	}
	if s.Line != "" {
		if !allow.Line(s.Line) {
			return "", fmt.Errorf("%w: a control character after %s", ErrUnwritable, s.Keyword)
		}
		return s.Keyword + " " + s.Line, nil
	}
	for _, arg := range s.Args {
		if !may(arg) || !allow.Line(arg) {
			return "", fmt.Errorf("%w: %s %q", ErrUnwritable, s.Keyword, arg)
		}
	}
	return joined(s.Keyword, s.Args), nil
}

// joined writes a keyword and its arguments so that parseLine gives them back.
func joined(keyword string, args []string) string {
	parts := []string{keyword}
	for _, arg := range args {
		parts = append(parts, quoteArg(arg))
	}
	return strings.Join(parts, " ")
}

// matchExec is the Match line that runs a command before the client connects to a host.
func matchExec(name, command string) (string, error) {
	if !isPattern(name) || !allow.Line(command) || strings.Contains(command, `"`) {
		return "", fmt.Errorf("%w: a command for %q", ErrUnwritable, name)
	}
	return joined("Match", []string{"originalhost", name, "exec"}) + ` "` + command + `"`, nil
}
