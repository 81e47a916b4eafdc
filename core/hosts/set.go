package hosts

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"unicrux/core/sshconfig"
	"unicrux/core/workstation"
)

// ErrSetting is returned for a per-host setting that cannot be taken as it is.
var ErrSetting = errors.New("not a setting that can be taken")

// settable maps the names of per-host settings to how each becomes lines for ssh. An empty
// value takes the setting back.
var settable = map[string]func(station *workstation.Station, value string) ([]sshconfig.Setting, error){
	"key": keySettings,
	"user": func(_ *workstation.Station, value string) ([]sshconfig.Setting, error) {
		if value != "" && !isLogin(value) {
			return nil, fmt.Errorf("user=%s: %w: a login name is needed", value, ErrSetting)
		}
		return one("User", value), nil
	},
	"port": func(_ *workstation.Station, value string) ([]sshconfig.Setting, error) {
		if port, err := strconv.ParseUint(value, 10, 16); value != "" && (err != nil || port == 0) {
			return nil, fmt.Errorf("port=%s: %w: a number from 1 to 65535 is needed", value, ErrSetting)
		}
		return one("Port", value), nil
	},
	"address": func(_ *workstation.Station, value string) ([]sshconfig.Setting, error) {
		if _, err := netip.ParseAddr(value); value != "" && err != nil && !isHost(value) {
			return nil, fmt.Errorf("address=%s: %w: an IP address or a host name is needed", value, ErrSetting)
		}
		return one("HostName", value), nil
	},
}

func one(keyword, value string) []sshconfig.Setting {
	if value == "" {
		return []sshconfig.Setting{{Keyword: keyword}}
	}
	return []sshconfig.Setting{{Keyword: keyword, Args: []string{value}}}
}

// keySettings makes ssh offer one key and no other. The file must be there: settings that
// point nowhere are a crux of their own.
func keySettings(station *workstation.Station, value string) ([]sshconfig.Setting, error) {
	if value == "" {
		return []sshconfig.Setting{{Keyword: "IdentityFile"}, {Keyword: "IdentitiesOnly"}}, nil
	}
	path := station.KeyPath(value)
	if strings.ContainsAny(path, "\r\n\x00\"%$") {
		return nil, fmt.Errorf("key: %w: ssh would read more into this name", ErrSetting)
	}
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("key=%s: %w: there is no such file", value, ErrSetting)
	}
	return UseKey(station, path), nil
}

// Set puts per-host settings, each NAME=VALUE, into our file. host is a described host's
// name, or any host name. Set again, nothing changes.
func Set(batch *workstation.Batch, station *workstation.Station, registry *Registry, host string, pairs []string) error {
	var settings []sshconfig.Setting
	for _, pair := range pairs {
		name, value, found := strings.Cut(pair, "=")
		make, known := settable[name]
		if !found || !known {
			return fmt.Errorf("%s: %w: the form NAME=VALUE is needed, with one of the names %s", name, ErrSetting, strings.Join(SettingNames(), ", "))
		}
		lines, err := make(station, value)
		if err != nil {
			return err
		}
		settings = append(settings, lines...)
	}
	hostName, err := registry.HostName(host)
	if err != nil {
		return err
	}
	return Settle(batch, station, hostName, settings...)
}

// SettingNames lists the names that [Set] takes.
func SettingNames() []string {
	names := make([]string, 0, len(settable))
	for name := range settable {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// HostName is the name in clone URLs of a host that is described, or of any other.
func (r *Registry) HostName(host string) (string, error) {
	if d, err := r.Find(host); err == nil {
		return d.SSH.Host, nil
	}
	if !isHost(host) {
		return "", fmt.Errorf("%s: %w", host, ErrUnknown)
	}
	return host, nil
}

// Drop forgets a host: its description and our settings for it. Keys, and what is stored
// about the host's own key, stay. Dropped again, nothing changes.
func Drop(batch *workstation.Batch, station *workstation.Station, registry *Registry, host string) error {
	hostName, err := registry.HostName(host)
	if err != nil {
		return err
	}
	if _, err := os.Stat(OurFile(station)); err == nil {
		_, err := batch.Edit(OurFile(station), fmt.Sprintf("Take out how ssh reaches %s.", hostName), 0o600, func(old []byte) ([]byte, error) {
			return sshconfig.SetMatchExec(sshconfig.DropBlock(old, []string{hostName}), hostName, ""), nil
		})
		if err != nil {
			return err
		}
	}
	if d := registry.ForHost(hostName); d != nil {
		return batch.Remove(filepath.Join(folder(station), d.Name+".toml"), fmt.Sprintf("Forget the description of %s.", d.Name))
	}
	return nil
}
