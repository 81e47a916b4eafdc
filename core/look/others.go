package look

import (
	"maps"
	"slices"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/find"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// An Other is a host that nobody has described, and from where it is known here.
type Other struct {
	Name string
	From []string // "a remote", "ssh config", "known hosts"
}

// others lists the hosts that remotes of this repository, ssh config and known hosts name, and that are not described:
// those of remotes first. Whether they are code hosts nobody knows.
func others(station *workstation.Station, config *gitlink.Config, registry *hosts.Registry) []Other {
	from := map[string][]string{}
	add := func(name, where string) {
		if name != "" && registry.ForHost(name) == nil && registry.ForWeb(name) == nil &&
			!slices.Contains(from[name], where) {
			from[name] = append(from[name], where)
		}
	}
	if config != nil {
		for _, remote := range config.Remotes() {
			entry, _, found := config.RemoteURL(remote, false)
			if a, err := address.Parse(entry.Value); found && err == nil {
				add(a.Host, "a remote")
			}
		}
	}
	var files []string
	for _, query := range find.Surveys(station) {
		for _, name := range sshconfig.HostNames(query) {
			add(name, "ssh config")
		}
		client := sshconfig.Resolve(query).Client()
		files = append(files, client.KnownHosts...)
	}
	slices.Sort(files)
	for _, name := range knownhosts.Names(slices.Compact(files)) {
		add(name, "known hosts")
	}
	var list []Other
	for _, name := range slices.Sorted(maps.Keys(from)) {
		list = append(list, Other{name, from[name]})
	}
	slices.SortStableFunc(list, func(a, b Other) int { return rank(a) - rank(b) })
	return list
}

// rank puts hosts of remotes first, and those that are only in known hosts last.
func rank(o Other) int {
	return slices.Index([]string{"a remote", "ssh config", "known hosts"}, o.From[0])
}
