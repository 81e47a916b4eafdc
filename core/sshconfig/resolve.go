package sshconfig

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/allow"
)

// A Query says what to resolve: for which host, from which files, as whom.
type Query struct {
	Host    string      // as given to the client
	Command CommandLine // options on the client's command line, which come before all files
	Person  Person

	// Run runs the command of a "Match exec" and tells whether it succeeded. Nil runs nothing.
	Run func(command string) bool

	// Exists asks the name servers whether a name exists, and by which name they call it, for
	// CanonicalizeHostname and CanonicalizePermittedCNAMEs. Nil asks nobody:
	// then no name is found, as on a workstation without a network.
	Exists func(name string) (alias string, exists bool)

	// Files keeps what was read for further questions. Nil reads everything anew.
	Files *Files
}

// A CommandLine holds the client's options that bear on its settings [SSH].
type CommandLine struct {
	Config  string   // -F: read this file alone; "none" for no file at all
	Options []Option // -o, -i, -p, -l, -J and the user in user@host, in order
}

// An Option is one setting from a command line.
type Option struct {
	Keyword string // in lower case
	Args    []string
	Origin  string // in words
}

// A Person is what the client knows about who runs it and where.
type Person struct {
	User     string // login name
	UID      int
	Home     string // from the password database, as the client takes it
	Computer string // local host name
	System   string // folder of the system-wide configuration; empty for the platform's
	Getenv   func(string) string
}

// An Origin says where a value comes from: a line of a file, or something in words.
type Origin struct {
	File  string
	Line  int    // counted from 1
	Words string // set when there is no file
}

func (o Origin) String() string {
	if o.File == "" {
		return o.Words
	}
	if o.Line == 0 {
		return o.File
	}
	return fmt.Sprintf("%s:%d", o.File, o.Line)
}

// A Value is what one line sets.
type Value struct {
	Args   []string
	Origin Origin
	Named  bool   // under a Host line that names the host itself, not by a pattern
	rest   string // what stands after the keyword, as it stands there
	turn   int    // how many values were read before this one
}

// A Problem is a line or file that the client refuses to go on with.
type Problem struct {
	Origin  Origin
	Keyword string
	Err     error
}

// ErrExposed is the reason why the client refuses a file that others could have written.
var ErrExposed = errors.New("others may write to it, or it is not yours")

// Settings is everything that holds for one host.
type Settings struct {
	Query Query
	// Match conditions that would run a command and on which a setting depends; taken as not fulfilled
	Unknown  []Value
	Problems []Problem // why the client would stop

	values  map[string][]Value
	lost    map[string][]Value // that came too late
	turns   int
	files   int
	texts   []string          // of the files that were read
	manners map[string]manner // of keywords, as they are written
	final   bool              // a Match line asks for the second pass
	survey  *[]Mention        // set when all blocks are looked at, whatever they match
	hosts   *[]string         // of a survey, when they are wanted
	lines   *[]SetLine        // of a survey, when they are wanted
}

// Resolve reads the files and settles every keyword for q.Host as the client would: the
// first value wins, but for the keywords that add up ([CONF]). It runs nothing: a "Match
// exec" is left open and reported.
func Resolve(q Query) *Settings {
	s := &Settings{Query: q, values: map[string][]Value{}, lost: map[string][]Value{}}
	for _, option := range q.Command.Options {
		s.set(option.Keyword, Value{Args: option.Args, Origin: Origin{Words: option.Origin}})
	}
	s.readAll(false)
	host := s.canonical()
	if s.final { // the name to connect to is settled before the second pass, whatever that says
		before := Origin{Words: "settled before the second pass"}
		s.replace("hostname", Value{Args: []string{host}, Origin: before})
		for keyword, value := range map[string]string{"canonicalizehostname": "no", "canonicalizemaxdots": "1",
			"canonicalizefallbacklocal": "yes"} {
			s.set(keyword, Value{Args: []string{value}, Origin: before})
		}
		s.readAll(true)
	}
	s.checkJump()
	return s
}

// All returns the values of a keyword in the order in which they count; most have one at most.
func (s *Settings) All(keyword string) []Value { return s.values[keyword] }

// First returns the first argument of a keyword that has one value, and where it stands.
func (s *Settings) First(keyword string) (string, Origin, bool) {
	if values := s.values[keyword]; len(values) > 0 {
		return values[0].Args[0], values[0].Origin, true
	}
	return "", Origin{}, false
}

func (s *Settings) set(keyword string, v Value) {
	if name, found := synonyms[keyword]; found {
		keyword = name
	}
	if unsetByNone[keyword] && v.Args[0] == "none" {
		return
	}
	s.turns++
	v.turn = s.turns
	if accumulating[keyword] && slices.ContainsFunc(s.values[keyword],
		func(old Value) bool { return old.Origin == v.Origin && slices.Equal(old.Args, v.Args) }) {
		return // the same line, in the second pass
	}
	if len(s.values[keyword]) == 0 || accumulating[keyword] {
		s.values[keyword] = append(s.values[keyword], v)
		return
	}
	switch first := &s.values[keyword][0]; keyword {
	case "streamlocalbindmask": // the client takes the last one
		v, *first = *first, v
	case "forwardagent": // a socket counts beside an earlier yes or no
		if len(s.values[keyword]) == 1 && isFlag(first.Args[0]) && !isFlag(v.Args[0]) {
			s.values[keyword] = append(s.values[keyword], v)
			return
		}
	case "rekeylimit": // the time alone may come from a later line
		if hasTime(v) && !hasTime(*first) {
			first.Args, first.rest = []string{first.Args[0], v.Args[1]}, ""
		}
	}
	s.lost[keyword] = append(s.lost[keyword], v)
}

// replace sets a keyword anew, whatever won before.
func (s *Settings) replace(keyword string, v Value) {
	s.turns++
	v.turn = s.turns
	if old := s.values[keyword]; len(old) > 0 && old[0].Args[0] == v.Args[0] {
		return // the origin is worth more than the repetition
	}
	s.lost[keyword] = append(s.lost[keyword], s.values[keyword]...)
	s.values[keyword] = []Value{v}
}

func isFlag(text string) bool { return isYes(text) || isNo(text) }

// hasTime tells whether a RekeyLimit says how long a key serves.
func hasTime(v Value) bool { return len(v.Args) > 1 && v.Args[1] != "none" }

func (s *Settings) readAll(final bool) {
	r := reader{s: s, user: true, final: final}
	switch config := s.Query.Command.Config; {
	case strings.EqualFold(config, "none"):
	case config != "":
		if err := r.file(config, 0, true); err != nil {
			s.problem(Origin{File: config}, "", err)
		}
	default:
		r.checked = true
		s.optional(r.file(filepath.Join(s.Query.Person.Home, ".ssh", "config"), 0, true), r.path)
		r.checked, r.user = false, false
		s.optional(r.file(filepath.Join(s.Query.Person.systemFolder(), "ssh_config"), 0, true), r.path)
	}
}

// optional reports an error of a file that need not be there.
func (s *Settings) optional(err error, path string) {
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		s.problem(Origin{File: path}, "", err)
	}
}

func (s *Settings) problem(at Origin, keyword string, err error) {
	s.Problems = append(s.Problems, Problem{Origin: at, Keyword: keyword, Err: err})
}

func (p Person) systemFolder() string {
	if p.System != "" {
		return p.System
	}
	return SystemFolder()
}

// SystemFolder is the folder of the machine's own settings for ssh ("FILES" in [CONF]).
func SystemFolder() string {
	if runtime.GOOS == "windows" {
		return filepath.Join(os.Getenv("PROGRAMDATA"), "ssh")
	}
	return "/etc/ssh"
}

// A reader goes through one file and what it includes.
type reader struct {
	s       *Settings
	path    string
	user    bool    // a person's file, where "~" may be used
	checked bool    // the client looks at owner and permissions
	final   bool    // the second pass
	never   bool    // included where the block around it does not match: nothing in it can
	named   bool    // the current block's Host line names the host itself
	block   string  // the line that the current block begins with, in a survey
	unknown []Value // conditions of the block's Match line that were not asked
}

// file reads one file; active tells whether lines before its first block count.
func (r *reader) file(path string, depth int, active bool) error {
	r.path = path
	if r.s.files++; r.s.files > maxFiles {
		return fmt.Errorf("more than %d files", maxFiles)
	}
	if files := r.s.Query.Files; files != nil {
		return r.again(files.of(path, r.s.Query.Person.UID), depth, active)
	}
	text, open, err := readFile(path, r.s.Query.Person.UID)
	if err != nil {
		return err
	}
	switch exposed := r.checked && open; {
	case exposed && r.s.lines == nil:
		return ErrExposed
	case exposed: // who lists the lines wants to know what is in it all the same
		r.s.problem(Origin{File: path}, "", ErrExposed)
	}
	r.s.texts = append(r.s.texts, text)
	for number := 1; text != ""; number++ {
		raw := text
		if i := strings.IndexByte(text, '\n'); i >= 0 {
			raw = text[:i+1]
		}
		text = text[len(raw):]
		active = r.oneOfMany(raw, Origin{File: path, Line: number}, depth, active)
	}
	return nil
}

// oneOfMany applies one line and returns whether the next ones count. Lines that say nothing
// for this host are not taken apart.
func (r *reader) oneOfMany(raw string, at Origin, depth int, active bool) bool {
	if r.s.survey == nil && !r.final {
		keyword, rest, words := skim(raw)
		m := r.s.mannerOf(keyword)
		if m == host && words == 1 && isPlain(rest) {
			r.unknown, r.named = nil, rest == r.s.Query.Host
			return !r.never && r.named
		}
		if !active && len(r.unknown) == 0 && m.passesOver(rest, words) {
			return false
		}
	}
	return r.line(parseLine(raw), at, depth, active)
}

// line applies one line and returns whether the next ones count.
func (r *reader) line(l line, at Origin, depth int, active bool) bool {
	if l.keyword == "" {
		return active
	}
	if err := r.refuse(l); err != nil {
		if !r.ignored(l.keyword) {
			r.s.problem(at, l.keyword, err)
		}
		return active
	}
	if r.s.survey != nil {
		r.survey(l, at, depth)
		return true
	}
	if l.keyword != "host" && l.keyword != "match" {
		r.s.Unknown = append(r.s.Unknown, r.unknown...)
	}
	r.unknown = nil
	switch l.keyword {
	case "host":
		r.named = slices.Contains(l.args, r.host())
		return !r.never && matchHost(r.host(), l.args)
	case "match":
		r.named = false
		return r.match(l.rest, at) && !r.never // in this order: it may ask for the second pass
	case "include":
		for _, pattern := range l.args {
			r.include(pattern, at, depth, active)
		}
	default:
		if active || regardless[l.keyword] {
			r.s.set(l.keyword, Value{Args: l.args, rest: l.rest, Origin: at, Named: r.named})
		}
	}
	return active
}

// host is the name that Host lines are matched with: in the second pass the one that was
// settled by the first.
func (r *reader) host() string {
	if r.final {
		return allow.LowerHost(r.hostSoFar())
	}
	return r.s.Query.Host
}

// refuse tells why the client would stop at this line.
func (r *reader) refuse(l line) error {
	switch {
	case strings.HasPrefix(l.keyword, "\ufeff"):
		return ErrMark
	case !known[l.keyword]:
		return ErrKeyword
	case l.err != nil && l.keyword != "match":
		return l.err
	case !several[l.keyword] && len(l.args) > 1:
		return ErrTooMany
	case l.keyword == "port" && !isPort(l.args[0]):
		return ErrArgument
	}
	return nil
}

// ignored tells whether an IgnoreUnknown before this line covers the keyword.
func (r *reader) ignored(keyword string) bool {
	list, _, found := r.s.First("ignoreunknown")
	return found && matchList(keyword, strings.ToLower(list))
}

// include reads the files that pattern names. What a relative one is relative to depends
// on whose file it stands in ("Include" in [CONF]).
func (r *reader) include(pattern string, at Origin, depth int, active bool) {
	if depth+1 > maxDepth {
		r.s.problem(at, "include", ErrDepth)
		return
	}
	person := r.s.Query.Person
	switch {
	case strings.HasPrefix(pattern, "~") && !r.user:
		r.s.problem(at, "include", ErrArgument)
		return
	case strings.HasPrefix(pattern, "~"):
		pattern = person.tilde(pattern)
	case !filepath.IsAbs(pattern) && r.user:
		pattern = filepath.Join(person.Home, ".ssh", pattern)
	case !filepath.IsAbs(pattern):
		pattern = filepath.Join(person.systemFolder(), pattern)
	}
	paths, err := r.s.Query.Files.glob(pattern)
	if err != nil {
		r.s.problem(at, "include", ErrArgument)
	}
	for _, path := range paths {
		inner := reader{s: r.s, user: r.user, checked: r.user, final: r.final, never: r.never || !active,
			named: r.named}
		r.s.optional(inner.file(path, depth+1, active), path)
	}
}
