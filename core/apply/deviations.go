package apply

import (
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// A Deviation is something that is not as a state left it.
type Deviation struct {
	Part      Part
	Name      string // of the host or the variable; empty where it is a file as a whole
	Path      string // of ours
	Overruled bool   // it is there, and lines of others win over it
	By        string // the file of those
	Line      int    // in it, counted from 1; 0 for the file as a whole
}

// Deviations lists what is not as the last state left it; none where no state was applied. Nothing is started. The
// error is about the marks that were kept.
func Deviations(station *workstation.Station, p Places) ([]Deviation, error) {
	marks, err := readMarks(p)
	if err != nil || len(marks) == 0 {
		return nil, err
	}
	var list []Deviation
	for _, m := range marks {
		if !m.holds(p) {
			list = append(list, Deviation{Part: m.Part, Path: m.Path})
		}
	}
	return append(list, overruled(station, p)...), nil
}

// holds tells whether a file is as it was left.
func (m mark) holds(p Places) bool {
	text, err := readOf(m.Path)
	if errors.Is(err, fs.ErrNotExist) && m.Path == p.hostKeys() {
		return m.SHA256 == hashOf(nil) // no lines were to be there
	}
	if m.Path == p.hostKeys() {
		_, ours, _, problem := splitBlock(text)
		text, err = ours, errors.Join(err, problem)
	}
	return err == nil && hashOf(text) == m.SHA256
}

// overruled lists what of our files does not count because of lines of others.
func overruled(station *workstation.Station, p Places) []Deviation {
	return slices.Concat(overruledSSH(p), overruledGit(station, p), overruledKeys(p))
}

// nobody is a person without settings: only the machine's count.
func nobody(p Places) sshconfig.Person {
	return sshconfig.Person{Home: "/nonexistent", System: p.SSH, Getenv: func(string) string { return "" }}
}

// overruledSSH looks which of our settings win, of those that the machine's files have for each host.
func overruledSSH(p Places) []Deviation {
	path := hosts.MachineSSHFile(p.SSH)
	text, err := readOf(path)
	if err != nil {
		return nil
	}
	var list []Deviation
	var files sshconfig.Files
	for _, names := range sshconfig.Blocks(text) {
		counts := false
		for _, w := range sshconfig.Resolve(sshconfig.Query{Host: names[0], Person: nobody(p),
			Files: &files}).Winners() {
			isOurs := func(v sshconfig.Value) bool { return v.Origin.File == path }
			switch {
			case isOurs(w.Values[0]):
				counts = true
			case slices.ContainsFunc(w.Lost, isOurs):
				counts = true
				list = append(list, Deviation{Part: Host, Name: names[0] + " " + w.Keyword, Path: path,
					Overruled: true, By: w.Values[0].Origin.File, Line: w.Values[0].Origin.Line})
			}
		}
		if !counts { // whoever configures ssh took the folder out
			list = append(list, Deviation{Part: Host, Name: names[0], Path: path, Overruled: true,
				By: filepath.Join(p.SSH, "ssh_config")})
		}
	}
	return list
}

// several are git's variables of which each value counts.
func several(key string) bool {
	key = strings.ToLower(key)
	return strings.HasSuffix(key, ".insteadof") || strings.HasSuffix(key, ".curloptresolve")
}

// overruledGit looks which of our variables git takes, of those that the machine's file has.
func overruledGit(station *workstation.Station, p Places) []Deviation {
	path := hosts.MachineGitFile(p.Machine)
	text, err := readOf(path)
	if err != nil {
		return nil
	}
	entries, err := gitlink.EntriesOf(text)
	if err != nil {
		return nil // the mark tells
	}
	config, err := gitlink.ReadMachine(station, p.Git)
	if err != nil {
		return []Deviation{{Part: Git, Path: path, Overruled: true, By: p.Git}}
	}
	var list []Deviation
	for _, entry := range entries {
		d := Deviation{Part: Git, Name: entry.Key, Path: path, Overruled: true, By: p.Git}
		last, set := config.Last(entry.Key)
		isRead := slices.ContainsFunc(config.All(entry.Key), func(e gitlink.Entry) bool { return e.Origin == path })
		switch {
		case !set || !isRead:
		case last.Origin != path && !several(entry.Key):
			d.By, d.Line = last.Origin, last.Line()
		default:
			continue
		}
		list = append(list, d)
	}
	return list
}

// overruledKeys looks whether ssh reads the machine's file of host keys, and whether others take back what we trust.
func overruledKeys(p Places) []Deviation {
	path := p.hostKeys()
	text, err := readOf(path)
	if err != nil {
		return nil
	}
	before, ours, behind, err := splitBlock(text)
	if err != nil || len(ours) == 0 {
		return nil
	}
	var list []Deviation
	settings := sshconfig.Resolve(sshconfig.Query{Host: "unicrux.invalid", Person: nobody(p)})
	for _, v := range settings.All("globalknownhostsfile") {
		if !slices.Contains(v.Args, path) {
			list = append(list, Deviation{Part: Trust, Path: path, Overruled: true, By: v.Origin.File,
				Line: v.Origin.Line})
		}
	}
	mine, _ := knownhosts.Parse(path, ours)
	theirs, _ := knownhosts.Parse(path, slices.Concat(before, spaces(text, before, behind), behind))
	for _, e := range theirs {
		if e.Marker != knownhosts.Revoked {
			continue
		}
		for _, m := range mine {
			if m.Marker != knownhosts.Revoked && string(m.Key.Marshal()) == string(e.Key.Marshal()) {
				list = append(list, Deviation{Part: Trust, Name: untrusted.Clean(m.Hosts), Path: path, Overruled: true,
					By: path, Line: e.Line})
			}
		}
	}
	return list
}

// spaces are as many line ends as our lines and their marks have, so that the lines of others keep their numbers.
func spaces(text, before, behind []byte) []byte {
	n := strings.Count(string(text[len(before):len(text)-len(behind)]), "\n")
	return []byte(strings.Repeat("\n", n))
}
