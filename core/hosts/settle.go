package hosts

import (
	"fmt"
	"path/filepath"
	"strconv"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// OurFile is the file of per-host settings that is ours; the person's own includes it.
func OurFile(station *workstation.Station) string {
	return filepath.Join(station.SSHDir(), "unicrux.conf")
}

const (
	ourHead     = ourMark + "1). ~/.ssh/config includes it in its first lines. To change it: unicrux host set\n"
	includeNote = "Per-host settings kept by Unicrux."
)

// Reach is what ssh must know to reach a described host. Of a learned one the URL and the person's own ssh config say
// it: another login or port there would also lead her own "ssh HOST" elsewhere.
func Reach(station *workstation.Station, d *describe.Description) []sshconfig.Setting {
	var settings []sshconfig.Setting
	if !d.IsLearned() {
		settings = append(settings, sshconfig.Setting{Keyword: "User", Args: []string{d.SSH.User}})
	}
	if d.SSH.Address != "" {
		settings = append(settings, sshconfig.Setting{Keyword: "HostName", Args: []string{d.SSH.Address}})
	}
	if d.SSH.Port != 0 && !d.IsLearned() {
		settings = append(settings, sshconfig.Setting{Keyword: "Port", Args: []string{strconv.Itoa(d.SSH.Port)}})
	}
	if !station.SameHome() { // else ssh would keep host keys in the other home
		file := filepath.Join(station.SSHDir(), "known_hosts")
		settings = append(settings, sshconfig.Setting{Keyword: "UserKnownHostsFile",
			Args: []string{filepath.ToSlash(file)}})
	}
	return settings
}

// UseKey is what makes ssh offer one key to a host, and no other.
func UseKey(station *workstation.Station, path string) []sshconfig.Setting {
	return []sshconfig.Setting{
		{Keyword: "IdentityFile", Args: []string{station.SSHPath(path)}},
		{Keyword: "IdentitiesOnly", Args: []string{"yes"}},
	}
}

// EditOurs changes our file of per-host settings. The error wraps [workstation.ErrNewer] where a newer
// version of Unicrux wrote it.
func EditOurs(batch *workstation.Batch, station *workstation.Station, words string,
	compute func(old []byte) ([]byte, error)) error {
	path := OurFile(station)
	_, err := batch.Edit(path, words, 0o600, func(old []byte) ([]byte, error) {
		if err := ourVersion(path, old); err != nil {
			return nil, err
		}
		return compute(old)
	})
	return err
}

// Settle puts settings for a host into our file and makes the person's own file include
// it. hostName is the name in clone URLs, which ssh is given.
func Settle(batch *workstation.Batch, station *workstation.Station, hostName string,
	settings ...sshconfig.Setting) error {
	err := EditOurs(batch, station, fmt.Sprintf("Settle how ssh reaches %s.", hostName),
		func(old []byte) ([]byte, error) {
			if len(old) == 0 {
				old = []byte(ourHead)
			}
			return sshconfig.SetInBlock(old, []string{hostName}, settings)
		})
	if err != nil {
		return err
	}
	own := filepath.Join(station.SSHDir(), "config")
	_, err = batch.Edit(own, "Include our settings in your own.", 0o600, func(old []byte) ([]byte, error) {
		return sshconfig.EnsureInclude(old, station.SSHPath(OurFile(station)), includeNote)
	})
	return err
}
