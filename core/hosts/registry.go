package hosts

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"unicrux/core/workstation"
)

// ErrUnknown is returned for a name that no description here has.
var ErrUnknown = errors.New("no host of that name is described here")

// A Registry holds the descriptions that were added on this workstation.
type Registry struct {
	Hosts    []*Description // in the order of their names
	Problems []error        // descriptions that cannot be read any more, each with its file

	accounts []Account // second ones
}

func folder(station *workstation.Station) string { return filepath.Join(station.Config, "hosts") }

// Open reads the descriptions.
func Open(station *workstation.Station) (*Registry, error) {
	entries, err := os.ReadDir(folder(station))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	registry := &Registry{}
	for _, entry := range entries {
		if !strings.HasSuffix(entry.Name(), ".toml") {
			continue
		}
		path := filepath.Join(folder(station), entry.Name())
		d, err := ReadFile(path)
		if err != nil {
			registry.Problems = append(registry.Problems, err)
			continue
		}
		registry.Hosts = append(registry.Hosts, d)
	}
	return registry, registry.readAccounts(station)
}

// ReadFile reads one description.
func ReadFile(path string) (*Description, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a file", path)
	}
	if info.Size() > MaxBytes {
		return nil, fmt.Errorf("%s: larger than %d bytes, so it is no description", path, MaxBytes)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	d, err := Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return d, nil
}

// All lists the described hosts, each followed by what it is for further accounts.
func (r *Registry) All() []*Description {
	var all []*Description
	for _, d := range r.Hosts {
		all = append(all, d)
		for _, a := range r.accounts {
			if a.Host == d {
				all = append(all, d.As(a.Name))
			}
		}
	}
	return all
}

// Find returns the description that a person calls name, or the one of that host name; for
// ACCOUNT@HOST the host as it is for that account.
func (r *Registry) Find(name string) (*Description, error) {
	if account, host, ok := splitAccount(name); ok {
		d, err := r.Find(host)
		if err != nil {
			return nil, err
		}
		return r.account(account, d)
	}
	for _, d := range r.Hosts {
		if d.Name == name {
			return d, nil
		}
	}
	if d := r.ForHost(name); d != nil {
		return d, nil
	}
	return nil, fmt.Errorf("%s: %w", name, ErrUnknown)
}

// ForHost returns the description of a host name as it stands in clone URLs, or nil.
func (r *Registry) ForHost(host string) *Description {
	for _, a := range r.accounts {
		if strings.EqualFold(a.Alias(), host) {
			return a.Host.As(a.Name)
		}
	}
	i := slices.IndexFunc(r.Hosts, func(d *Description) bool { return strings.EqualFold(d.SSH.Host, host) })
	if i < 0 {
		return nil
	}
	return r.Hosts[i]
}

// Add keeps a copy of the description in the file at path and settles how ssh reaches the
// host. Added again, it takes the place of the earlier copy.
func Add(batch *workstation.Batch, station *workstation.Station, path string) (*Description, error) {
	d, err := ReadFile(path)
	if err != nil {
		return nil, err
	}
	registry, err := Open(station)
	if err != nil {
		return nil, err
	}
	if other := registry.ForHost(d.SSH.Host); other != nil && other.Name != d.Name {
		return nil, fmt.Errorf("%s is described here already, as %s", d.SSH.Host, other.Name)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	copyTo := filepath.Join(folder(station), d.Name+".toml")
	_, err = batch.Edit(copyTo, fmt.Sprintf("Keep the description of %s.", d.Name), 0o600,
		func([]byte) ([]byte, error) { return text, nil })
	if err != nil {
		return nil, err
	}
	return d, Settle(batch, station, d.SSH.Host, Reach(station, d)...)
}
