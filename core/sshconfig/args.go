package sshconfig

import "strings"

// withArgument lists the client's one-letter options that take an argument [SSH].
const withArgument = "bceilmopBDEFIJLOPQRSwW"

// ParseArgs reads the options of an ssh command line, the program's name left out, up to
// the first word that is no option. origin says in words where the line stands. Options
// without bearing on a connection's settings are passed over; ok is false when the line
// holds something that we do not understand.
func ParseArgs(args []string, origin string) (line CommandLine, ok bool) {
	for i := 0; i < len(args); i++ {
		word := args[i]
		if len(word) < 2 || word[0] != '-' || word == "--" {
			return line, word == "--"
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
					return line, false
				}
				argument = args[i]
			}
			if !line.option(letter, argument, origin) {
				return line, false
			}
			break
		}
	}
	return line, true
}

// Add puts one more option at the end.
func (c *CommandLine) Add(keyword, value, origin string) {
	c.Options = append(c.Options, Option{Keyword: keyword, Args: []string{value}, Origin: origin})
}

func (c *CommandLine) flag(letter byte, origin string) {
	switch letter {
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
