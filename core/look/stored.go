package look

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"Unicrux/core/address"
	"Unicrux/core/allow"
	"Unicrux/core/find"
	"Unicrux/core/gitlink"
	"Unicrux/core/hosts"
	"Unicrux/core/knownhosts"
	"Unicrux/core/regular"
	"Unicrux/core/sshconfig"
	"Unicrux/core/sshway"
	"Unicrux/core/workstation"

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

// maxStored bounds how many lines are told.
const maxStored = 2000

// HostKeys tells of each stored host key to which host it belongs: also of hashed lines, by
// trying the names of all hosts that descriptions, settings and remotes tell.
func HostKeys(ctx context.Context, station *workstation.Station, registry *hosts.Registry) ([]Stored, []knownhosts.Problem, error) {
	config, err := gitlink.ReadConfig(ctx, station)
	if err != nil && !errors.Is(err, gitlink.ErrNoGit) {
		return nil, nil, err
	}
	names, files, err := candidates(station, config, registry)
	if err != nil {
		return nil, nil, err
	}
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
		for _, entry := range entries[:min(len(entries), maxStored)] {
			s := Stored{Entry: entry, Hashed: strings.HasPrefix(entry.Hosts, "|")}
			for _, c := range names {
				if entry.Matches(c.stored) && !slices.Contains(s.Hosts, c.called) {
					s.Hosts = append(s.Hosts, c.called)
				}
			}
			list = append(list, s)
		}
	}
	compare(list)
	judgeStored(list, registry)
	return list, problems, nil
}

// A candidate is a name that may be stored, and how people call that host.
type candidate struct{ stored, called string }

// candidates gathers the hosts that anything here names, and the files where their keys are
// looked for.
func candidates(station *workstation.Station, config *gitlink.Config, registry *hosts.Registry) (names []candidate, files []string, err error) {
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
		ask[d.SSH.Host] = d.Name
	}
	for host, called := range ask {
		way, err := sshway.Prepare(station, config.SSH(), address.Address{Scheme: "ssh", Host: host})
		if err != nil {
			return nil, nil, err
		}
		if called != "" {
			names = append(names, candidate{way.Client.KnownHostsName, called})
		}
		for _, file := range append(slices.Clone(way.Client.KnownHosts), way.Client.SystemHosts...) {
			if !slices.Contains(files, file) {
				files = append(files, file)
			}
		}
		if err := way.Close(); err != nil {
			return nil, nil, err
		}
	}
	slices.SortFunc(names, func(a, b candidate) int { return strings.Compare(a.called, b.called) })
	slices.Sort(files)
	return names, files, nil
}

// compare finds lines that repeat or contradict an earlier one.
func compare(list []Stored) {
	for i := range list {
		s := &list[i]
		if s.Marker == knownhosts.Revoked {
			s.Fault = Banned
			continue
		}
		if s.Marker != "" {
			continue
		}
		for j := range i {
			other := &list[j]
			if other.Marker != "" || other.Key.Type() != s.Key.Type() || !sameHosts(s, other) {
				continue
			}
			s.Fault, s.Of = Rival, &other.Entry
			if string(other.Key.Marshal()) == string(s.Key.Marshal()) {
				s.Fault = Doubled
				break
			}
		}
	}
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
			rivals := slices.DeleteFunc(d.StaticKeys(), func(key ssh.PublicKey) bool { return key.Type() != s.Key.Type() })
			if len(rivals) > 0 && !slices.ContainsFunc(rivals, func(key ssh.PublicKey) bool { return bytes.Equal(key.Marshal(), s.Key.Marshal()) }) {
				s.Fault = Wrong
			}
		}
	}
}

// sameHosts tells whether two lines are for the same host: by their text, or by one that
// both belong to.
func sameHosts(a, b *Stored) bool {
	return allow.SameHost(a.Entry.Hosts, b.Entry.Hosts) ||
		slices.ContainsFunc(a.Hosts, func(host string) bool { return slices.Contains(b.Hosts, host) })
}
