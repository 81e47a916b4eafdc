package sshconfig

import (
	"path/filepath"
	"slices"
	"strings"
)

// A Mention is a line that names a key file, for whichever host.
type Mention struct {
	Path   string // expanded as far as it does not depend on the host
	Block  string // the Host or Match line that it stands under; empty before the first
	Origin Origin
}

// KeyFiles lists every IdentityFile that the person's settings name, in all blocks. q.Host
// does not matter.
func KeyFiles(q Query) []Mention {
	s := &Settings{Query: q, values: map[string][]Value{}, survey: &[]Mention{}}
	s.readAll(false)
	return *s.survey
}

// A SetLine is a line that sets something, for whichever host.
type SetLine struct {
	Keyword string // in lower case
	Args    []string
	Block   string // as of [Mention]
	Origin  Origin
}

// ForAll tells that a line holds for every host: it stands before the first block, or below "Host *".
func (l SetLine) ForAll() bool { return l.Block == "" || l.Block == "Host *" }

// Lines lists every line of the settings in all blocks, with those of the files that they include, and what could not
// be read of them. No condition is looked at, so nothing is started. q.Host does not matter.
func Lines(q Query) ([]SetLine, []Problem) {
	var lines []SetLine
	s := &Settings{Query: q, values: map[string][]Value{}, survey: &[]Mention{}, lines: &lines}
	s.readAll(false)
	return lines, s.Problems
}

func (r *reader) survey(l line, at Origin, depth int) {
	if r.s.lines != nil && l.keyword != "" && len(l.args) > 0 {
		*r.s.lines = append(*r.s.lines, SetLine{Keyword: l.keyword, Args: l.args, Block: r.block, Origin: at})
	}
	switch l.keyword {
	case "host":
		r.block = "Host " + trimRight(l.rest)
		for _, name := range l.args {
			if r.s.hosts != nil && !strings.ContainsAny(name, "*?!") {
				*r.s.hosts = append(*r.s.hosts, name)
			}
		}
	case "match":
		r.block = "Match " + trimRight(l.rest)
	case "include":
		for _, pattern := range l.args {
			r.include(pattern, at, depth, true)
		}
	case "identityfile":
		if r.s.lines != nil { // whoever wants lines makes of them what it needs
			return
		}
		t := tokens{person: r.s.Query.Person, values: map[byte]string{'%': "%", 'd': r.s.Query.Person.Home,
			'u': r.s.Query.Person.User}}
		*r.s.survey = append(*r.s.survey, Mention{Path: t.path(l.args[0]), Block: r.block, Origin: at})
	}
}

// nobodysHost is a name that no settings name (RFC 6761, section 6.4): what holds for it holds for every
// host.
const nobodysHost = "a-host-that-nobody-names.invalid"

// ForwardsToAll tells whether the settings lend the agent to every host ("Host *" with "ForwardAgent
// yes", or the same outside all blocks), and where. q.Host does not matter.
func ForwardsToAll(q Query) (Origin, bool) {
	q.Host, q.Command = nobodysHost, CommandLine{Config: q.Command.Config}
	value, origin, set := Resolve(q).First("forwardagent")
	return origin, set && !isNo(value)
}

// IsDefaultKey tells whether a file is one that the client tries where no settings name any.
func IsDefaultKey(person Person, path string) bool {
	return filepath.Dir(path) == filepath.Join(person.Home, ".ssh") &&
		slices.Contains(defaultIdentities, filepath.Base(path))
}

// InBlock lists the first arguments that a keyword has in the block whose Host line is
// exactly names. The keyword is in lower case.
func InBlock(text []byte, names []string, keyword string) []string {
	lines := splitLines(string(text))
	from, to := findBlock(lines, names)
	if from < 0 {
		return nil
	}
	var values []string
	for _, raw := range lines[from:to] {
		if l := parseLine(raw); l.keyword == keyword && l.err == nil {
			values = append(values, l.args[0])
		}
	}
	return values
}

// HostNames lists the hosts that the person's settings name without a pattern.
func HostNames(q Query) []string {
	var names []string
	s := &Settings{Query: q, values: map[string][]Value{}, survey: &[]Mention{}, hosts: &names}
	s.readAll(false)
	slices.Sort(names)
	return slices.Compact(names)
}
