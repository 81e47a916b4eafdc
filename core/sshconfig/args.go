package sshconfig

import "strings"

// withArgument lists the client's one-letter options that take an argument [SSH].
const withArgument = "bceilmopBDEFIJLOPQRSwW"

// ParseArgs reads the options of an ssh command line, the program's name left out, up to
// the first word that is no option. origin says in words where the line stands. Options
// without bearing on a connection's settings are passed over; ok is false when the line
// holds something that we do not understand.
func ParseArgs(args []string, origin string) (line CommandLine, ok bool) {
	line, rest, ok := parseOptions(args, origin)
	return line, ok && (len(rest) == 0 || rest[0] == "--")
}

// A Call is a whole ssh command line.
type Call struct {
	CommandLine
	User, Host string
	Command    []string
}

// ParseCall reads a whole ssh command line, the program's name left out, as git writes it:
// options, then [user@]host, then the command for the host.
func ParseCall(args []string, origin string) (call Call, ok bool) {
	line, rest, ok := parseOptions(args, origin)
	if len(rest) > 0 && rest[0] == "--" {
		rest = rest[1:]
	}
	if !ok || len(rest) == 0 {
		return Call{}, false
	}
	call = Call{CommandLine: line, Host: rest[0], Command: rest[1:]}
	if i := strings.LastIndexByte(call.Host, '@'); i >= 0 {
		call.User, call.Host = call.Host[:i], call.Host[i+1:]
	}
	return call, true
}

// parseOptions reads up to the first word that is no option, and returns the rest with it.
func parseOptions(args []string, origin string) (line CommandLine, rest []string, ok bool) {
	for i := 0; i < len(args); i++ {
		word := args[i]
		if len(word) < 2 || word[0] != '-' || word == "--" {
			return line, args[i:], true
		}
		for j := 1; j < len(word); j++ {
			letter := word[j]
			if strings.IndexByte(withArgument, letter) < 0 {
				line.flag(letter, origin)
				continue
			}
			argument := word[j+1:]
			if argument == "" {
				if i++; i == len(args) {
					return line, nil, false
				}
				argument = args[i]
			}
			if !line.option(letter, argument, origin) {
				return line, nil, false
			}
			break
		}
	}
	return line, nil, true
}

// Add puts one more option at the end.
func (c *CommandLine) Add(keyword, value, origin string) {
	c.Options = append(c.Options, Option{Keyword: keyword, Args: []string{value}, Origin: origin})
}

// flag puts an option of one letter at the end (ssh(1)).
func (c *CommandLine) flag(letter byte, origin string) {
	switch letter {
	case 'N':
		c.Add("sessiontype", "none", origin)
	case 's':
		c.Add("sessiontype", "subsystem", origin)
	case 'n':
		c.Add("stdinnull", "yes", origin)
	case 'f':
		c.Add("forkafterauthentication", "yes", origin)
	case 'T':
		c.Add("requesttty", "no", origin)
	case 't': // twice: by force
		if i := len(c.Options) - 1; i >= 0 && c.Options[i].Keyword == "requesttty" {
			c.Options[i].Args = []string{"force"}
			return
		}
		c.Add("requesttty", "yes", origin)
	case '4':
		c.Add("addressfamily", "inet", origin)
	case '6':
		c.Add("addressfamily", "inet6", origin)
	}
}

func (c *CommandLine) option(letter byte, argument, origin string) bool {
	switch letter {
	case 'F':
		c.Config = argument
	case 'i':
		c.Add("identityfile", argument, origin)
	case 'p':
		c.Add("port", argument, origin)
	case 'l':
		c.Add("user", argument, origin)
	case 'W': // a connection to elsewhere in place of a session
		c.Add("sessiontype", "none", origin)
	case 'J':
		c.Add("proxyjump", argument, origin)
	case 'o':
		l := parseLine(argument)
		if l.keyword == "" || l.err != nil {
			return false
		}
		c.Options = append(c.Options, Option{Keyword: l.keyword, Args: l.args, Origin: origin})
	}
	return true
}
