package hosts

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/workstation"
)

// MachineSSHFile is the file of settings for ssh that hold for everybody and are ours, in the system's folder for ssh
// ("Include" in the ssh_config of distributions).
func MachineSSHFile(system string) string {
	return filepath.Join(system, "ssh_config.d", "50-unicrux.conf")
}

// MachineGitFile is the file of git's settings that hold for everybody and are ours.
func MachineGitFile(machine string) string { return filepath.Join(machine, "git.config") }

// MachineFile is where the description of a host, or what belongs to it, is kept for everybody.
func MachineFile(machine, name, ending string) string {
	return filepath.Join(machine, "hosts", name+ending)
}

// A ForAll is what the files of ssh and git say of a host for everybody.
type ForAll struct {
	HostName string // as it is in clone URLs
	SSH      []sshconfig.Setting
	Git      []gitlink.Assignment
}

// forAll are the settings that can hold for everybody: no key, folder or author of a person's.
var forAll = []string{"address", "by", "keep-alive", "port", "proxy", "user", "via"}

// SettleForAll says what holds for everybody of a described host: how its description says that it is reached, changed
// by settings. authority is the file of certificates that git trusts there; empty for the system's. The error wraps
// [ErrSetting].
func SettleForAll(d *describe.Description, program, authority string, settings map[string]string) (ForAll, error) {
	station := &workstation.Station{}
	t := &target{station: station, hostName: d.HostName(), user: d.SSH.User, other: d.SSH.Other, at: d.HTTPSAt(),
		program: program}
	a := ForAll{HostName: d.HostName()}
	if d.HasSSH() {
		a.SSH = Reach(station, d)
	}
	var pairs []string
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		if !slices.Contains(forAll, name) {
			return a, &suggest.UnknownError{Name: name, Near: suggest.Nearest(name, append([]string{"authority"},
				forAll...)), Err: fmt.Errorf("%w for everybody: these can be: authority, %s", ErrSetting,
				strings.Join(forAll, ", "))}
		}
		pairs = append(pairs, name+"="+settings[name])
	}
	all, err := t.effects(pairs)
	if err != nil {
		return a, err
	}
	a.SSH = append(a.SSH, all.ssh...)
	a.Git = append(authorityFor(d, authority), all.git...)
	return a, nil
}

// authorityFor makes git trust the certificates of a file for a host, and find it where its description says.
func authorityFor(d *describe.Description, file string) []gitlink.Assignment {
	var list []gitlink.Assignment
	if file != "" {
		list = append(list, gitlink.Assignment{Key: httpKey(d.HTTPSAt(), "sslCAInfo"),
			Values: []string{filepath.ToSlash(file)}})
	}
	return append(list, resolved(d)...)
}

// isSettledForAll tells whether the machine's own settings for ssh say how a host is reached.
func isSettledForAll(hostName string) bool {
	text, err := regular.Read(MachineSSHFile(sshconfig.SystemFolder()), regular.Settings)
	return err == nil && slices.ContainsFunc(sshconfig.Blocks(text),
		func(names []string) bool { return slices.Contains(names, hostName) })
}
