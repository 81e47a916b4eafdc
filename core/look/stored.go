package look

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/find"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"

	"golang.org/x/crypto/ssh"
)

// A Stored line says which key a host is known by.
type Stored struct {
	knownhosts.Entry
	Hosts  []string // those that it is for, as people call them; empty when nobody here knows
	Hashed bool     // its names cannot be read, only tried
	Fault  Fault
	Of     *knownhosts.Entry // the line that it repeats or contradicts
}

// A Fault is what is wrong with a stored line.
type Fault string

// The faults.
const (
	NoFault Fault = ""
	Doubled Fault = "doubled" // the same key stands there for the same hosts
	Rival   Fault = "rival"   // another key of that kind stands there: one of the two is stale
	Banned  Fault = "revoked"
	Wrong   Fault = "wrong" // the description of the host names other keys of that kind
)

// HostKeys tells of each stored host key to which host it belongs: also of hashed lines, by
// trying the names of all hosts that descriptions, settings and remotes tell.
func HostKeys(ctx context.Context, station *workstation.Station, registry *hosts.Registry) ([]Stored,
	[]knownhosts.Problem, error) {
	config, err := gitlink.ReadConfig(ctx, station)
	if err != nil && !errors.Is(err, gitlink.ErrNoGit) {
		return nil, nil, err
	}
	names, files := gather(station, config, registry)
	var list []Stored
	var problems []knownhosts.Problem
	for _, file := range files {
		text, err := regular.Read(file, regular.Settings)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		entries, bad := knownhosts.Parse(file, text)
		problems = append(problems, bad...)
		for _, entry := range entries {
			list = append(list, Stored{Entry: entry, Hosts: names.of(entry),
				Hashed: strings.HasPrefix(entry.Hosts, "|")})
		}
	}
	compare(list)
	judgeStored(list, registry)
	return list, problems, nil
}

// candidates are the names under which host keys may be stored, in lower case, and how people call
// those hosts.
type candidates map[string][]string

func (c candidates) add(stored, called string) {
	stored = allow.LowerHost(stored)
	if !slices.Contains(c[stored], called) {
		c[stored] = append(c[stored], called)
	}
}

// of lists the hosts that a line is for. Only patterns and hashed names have to be tried.
func (c candidates) of(entry knownhosts.Entry) []string {
	var list []string
	if strings.ContainsAny(entry.Hosts, "*?!|") {
		for stored, called := range c {
			if entry.Matches(stored) {
				list = append(list, called...)
			}
		}
	} else {
		for name := range strings.SplitSeq(allow.LowerHost(entry.Hosts), ",") {
			list = append(list, c[name]...)
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// gather finds the hosts that anything here names, and the files where their keys are looked for.
func gather(station *workstation.Station, config *gitlink.Config, registry *hosts.Registry) (names candidates,
	files []string) {
	ask := map[string]string{"localhost": ""} // host name -> how it is called
	for _, query := range find.Surveys(station) {
		for _, name := range sshconfig.HostNames(query) {
			ask[name] = name
		}
	}
	if text, err := regular.Read(hosts.OurFile(station), regular.Settings); err == nil {
		for _, name := range hosts.Settled(text) {
			ask[name] = name
		}
	}
	if config != nil {
		for _, name := range config.Remotes() {
			if entry, _, found := config.RemoteURL(name, false); found {
				if a, err := address.Parse(entry.Value); err == nil {
					ask[a.Host] = a.Host
				}
			}
		}
	}
	for _, d := range registry.All() {
		if d.HasSSH() {
			ask[d.SSH.Host] = d.Name
		}
	}
	names = candidates{}
	read, seen := &sshconfig.Files{}, map[string]bool{}
	for host, called := range ask {
		query := config.SSH().Query(address.Address{Scheme: "ssh", Host: host}, station)
		query.Files, query.Exists = read, nil
		client := sshconfig.Resolve(query).Client()
		if called != "" {
			names.add(client.KnownHostsName, called)
		}
		for _, file := range slices.Concat(client.KnownHosts, client.SystemHosts) {
			if !seen[file] {
				seen[file] = true
				files = append(files, file)
			}
		}
	}
	slices.Sort(files)
	return names, files
}

// compare finds lines that repeat or contradict an earlier one.
func compare(list []Stored) {
	earlier := map[string]*sameKind{}
	for i := range list {
		s := &list[i]
		if s.Marker == knownhosts.Revoked {
			s.Fault = Banned
			continue
		}
		if s.Marker != "" {
			continue
		}
		key := string(s.Key.Marshal())
		doubled, rival := -1, -1
		for _, name := range s.places() {
			kind := earlier[name]
			if kind == nil {
				kind = &sameKind{first: map[string]int{}, last: -1}
				earlier[name] = kind
			}
			if first, found := kind.first[key]; found && (doubled < 0 || first < doubled) {
				doubled = first
			} else if !found {
				kind.first[key] = i
			}
			rival, kind.last = max(rival, kind.last), i
		}
		switch {
		case doubled >= 0:
			s.Fault, s.Of = Doubled, &list[doubled].Entry
		case rival >= 0:
			s.Fault, s.Of = Rival, &list[rival].Entry
		}
	}
}

// sameKind is which lines name keys of one kind for one host, by their place in the list.
type sameKind struct {
	first map[string]int // of each key
	last  int
}

// places are what two lines for the same host with the same kind of key have in common one of: their
// text, or a host that both belong to.
func (s *Stored) places() []string {
	list := []string{s.Key.Type() + " text " + allow.LowerHost(s.Entry.Hosts)}
	for _, host := range s.Hosts {
		list = append(list, s.Key.Type()+" host "+host)
	}
	return list
}

// judgeStored finds lines that contradict what the description of a host says.
func judgeStored(list []Stored, registry *hosts.Registry) {
	for i := range list {
		s := &list[i]
		for _, name := range s.Hosts {
			d, err := registry.Find(name)
			if err != nil || s.Marker != "" {
				continue
			}
			rivals := slices.DeleteFunc(d.StaticKeys(),
				func(key ssh.PublicKey) bool { return key.Type() != s.Key.Type() })
			if len(rivals) > 0 && !slices.ContainsFunc(rivals,
				func(key ssh.PublicKey) bool { return bytes.Equal(key.Marshal(), s.Key.Marshal()) }) {
				s.Fault = Wrong
			}
		}
	}
}
