package sshconfig

import (
	"path/filepath"
	"slices"
	"strings"
)

// Files are the settings read once, to be asked about many hosts: blocks for other hosts are then not
// looked at again. They are for one question, since what is edited meanwhile is not seen, and for one
// goroutine.
type Files struct {
	read  map[string]*sections
	found map[string][]string // what Include patterns name
}

// sections is a file, divided where its Host and Match lines are.
type sections struct {
	exposed bool
	err     error
	list    [][]numbered
	named   map[string][]int // by a name for which alone they are
	others  []int            // those that count, or must be looked at, for any name
}

type numbered struct {
	line
	number int
}

// of returns a file, read when it is the first time.
func (f *Files) of(path string, uid int) *sections {
	if x := f.read[path]; x != nil {
		return x
	}
	x := &sections{named: map[string][]int{}}
	var text string
	if text, x.exposed, x.err = readFile(path, uid); x.err == nil {
		x.divide(text)
	}
	if f.read == nil {
		f.read = map[string]*sections{}
	}
	f.read[path] = x
	return x
}

// glob lists what a pattern names.
func (f *Files) glob(pattern string) ([]string, error) {
	if f == nil {
		return filepath.Glob(pattern)
	}
	if paths, known := f.found[pattern]; known {
		return paths, nil
	}
	paths, err := filepath.Glob(pattern)
	if err == nil {
		if f.found == nil {
			f.found = map[string][]string{}
		}
		f.found[pattern] = paths
	}
	return paths, err
}

func (x *sections) divide(text string) {
	var now []numbered
	end := func() {
		if len(now) > 0 {
			x.add(now)
		}
		now = nil
	}
	number := 0
	for raw := range strings.Lines(text) {
		number++
		l := parseLine(raw)
		if l.keyword == "host" || l.keyword == "match" {
			end()
		}
		if l.keyword != "" {
			now = append(now, numbered{l, number})
		}
	}
	end()
}

// add files a section under the names that it is for, where it can be passed over for all others.
func (x *sections) add(section []numbered) {
	i := len(x.list)
	x.list = append(x.list, section)
	if !passable(section) {
		x.others = append(x.others, i)
		return
	}
	for _, name := range section[0].args {
		if at := x.named[name]; len(at) == 0 || at[len(at)-1] != i {
			x.named[name] = append(at, i)
		}
	}
}

// passable tells whether a section is for names without a pattern, and the client would not stop in it
// or take anything from it when it is for others.
func passable(section []numbered) bool {
	first := section[0]
	if first.keyword != "host" ||
		slices.ContainsFunc(first.args, func(name string) bool { return strings.ContainsAny(name, "*?!") }) {
		return false
	}
	return !slices.ContainsFunc(section, func(n numbered) bool {
		return (&reader{}).refuse(n.line) != nil || regardless[n.keyword] || n.keyword == "include"
	})
}

// about lists the sections that may say something about a host, in the order of the file.
func (x *sections) about(host string) []int {
	if len(x.named[host]) == 0 {
		return x.others
	}
	list := slices.Concat(x.named[host], x.others)
	slices.Sort(list)
	return list
}

// again applies a file that was read before, or is read now and kept.
func (r *reader) again(x *sections, depth int, active bool) error {
	if x.err != nil {
		return x.err
	}
	if r.checked && x.exposed {
		return ErrExposed
	}
	which := x.about(r.host())
	if r.s.survey != nil { // of all of them
		which = nil
		for i := range x.list {
			which = append(which, i)
		}
	}
	for _, i := range which {
		for _, n := range x.list[i] {
			active = r.line(n.line, Origin{File: r.path, Line: n.number}, depth, active)
		}
	}
	return nil
}

// MayLead lists those of some names whose settings may lead to a host for which leads is true: what is
// passed over would be resolved in vain. It knows the files that were read so far.
func (f *Files) MayLead(names []string, leads func(hostName string) bool) []string {
	for _, x := range f.read {
		for _, i := range x.others { // for any name
			if x.mayLead(i, leads) {
				return names
			}
		}
	}
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		if leads(name) {
			return false
		}
		for _, x := range f.read {
			if slices.ContainsFunc(x.named[name], func(i int) bool { return x.mayLead(i, leads) }) {
				return false
			}
		}
		return true
	})
}

// mayLead tells whether a section has a HostName that leads there, or depends on the name, or is changed
// after it ("CanonicalizeHostname" in [CONF]).
func (x *sections) mayLead(section int, leads func(hostName string) bool) bool {
	return slices.ContainsFunc(x.list[section], func(n numbered) bool {
		return n.keyword == "canonicalizehostname" || n.keyword == "hostname" &&
			slices.ContainsFunc(n.args, func(name string) bool {
				return strings.Contains(name, "%") || leads(name)
			})
	})
}

// MayName tells whether any of the files that were read may lead to one of some hosts. Most do not, and then
// there is nothing to look for: no name of them is in a Host or HostName line, and no HostName is made of the
// name that is asked for. Settings that were read by [Files] may.
func (s *Settings) MayName(hostNames []string) bool {
	if s.Query.Files != nil {
		return true
	}
	sought := []string{"%h", "%%", "canonicalizehostname"}
	for _, name := range hostNames {
		if name != "" {
			sought = append(sought, strings.ToLower(name))
		}
	}
	for _, text := range s.texts {
		text = strings.ToLower(text)
		if slices.ContainsFunc(sought, func(part string) bool { return namesIn(text, part) }) {
			return true
		}
	}
	return false
}

// namesIn tells whether a part stands in a line that says which host is meant, or where it is. The text is
// in lower case.
func namesIn(text, part string) bool {
	for from := 0; ; {
		i := strings.Index(text[from:], part)
		if i < 0 {
			return false
		}
		at := from + i
		begin := strings.LastIndexByte(text[:at], '\n') + 1
		end := len(text)
		if j := strings.IndexByte(text[at:], '\n'); j >= 0 {
			end = at + j
		}
		switch parseLine(text[begin:end]).keyword {
		case "host", "hostname", "canonicalizehostname":
			return true
		}
		from = end
	}
}
