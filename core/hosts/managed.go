package hosts

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// ErrManaged is returned, wrapped with the file, where a person would drop or refresh a host that the administrator
// describes for the whole machine.
var ErrManaged = fault.New("host-managed", fault.Refused, "the administrator of this machine describes this host for everybody")

// errNotTheirs is why a description in the machine's folder does not count.
var errNotTheirs = errors.New("others than the administrator can write it, so it does not count")

// readManaged adds the hosts that the administrator describes for the whole machine. What the person added herself
// comes before one of the same name or place; what was only learned of a host does not.
func (r *Registry) readManaged(station *workstation.Station) error {
	below := filepath.Join(station.Machine, "hosts")
	entries, err := os.ReadDir(below)
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) {
		return err
	}
	for _, entry := range entries {
		if !strings.HasSuffix(entry.Name(), ".toml") {
			continue
		}
		path := filepath.Join(below, entry.Name())
		d, _, err := describe.ReadFile(path)
		if err == nil && !station.Trusted(path) {
			err = fmt.Errorf("%s: %w", path, errNotTheirs)
		}
		if err != nil {
			r.Problems = append(r.Problems, err)
			continue
		}
		r.Hosts = slices.DeleteFunc(r.Hosts,
			func(own *describe.Description) bool { return own.IsLearned() && sameHost(own, d) })
		d.Managed, d.Proxy = path, proxyFor(station, d)
		if own := r.ofSameHost(d); own != nil {
			if own.Managed != "" {
				r.Problems = append(r.Problems, fmt.Errorf("%s: the same host as in %s", path, own.Managed))
			}
			continue // the person's own counts
		}
		if taken := r.conflict(d); taken != nil {
			r.Problems = append(r.Problems, fmt.Errorf("%s: %w", path, taken))
			continue
		}
		if d.Chosen, err = readChosen(station, d); err != nil {
			r.Problems = append(r.Problems, err)
		}
		r.Hosts = append(r.Hosts, d)
	}
	slices.SortStableFunc(r.Hosts, func(a, b *describe.Description) int { return strings.Compare(a.Name, b.Name) })
	return nil
}

// Unsettled is what ssh must know to reach a host that the administrator describes, and does not know yet: nobody has
// added the host here. It is nil for others.
func Unsettled(station *workstation.Station, d *describe.Description) []sshconfig.Setting {
	if d == nil || d.Managed == "" || !d.HasSSH() {
		return nil
	}
	text, err := regular.Read(OurFile(station), regular.Settings)
	if err == nil && slices.Contains(Settled(text), d.HostName()) {
		return nil
	}
	if station.SameHome() && isSettledForAll(d.HostName()) { // a person's own file would win over the machine's
		return nil
	}
	return Reach(station, d)
}

// ofSameHost is the description of the same host, or of another one under that name; nil for none.
func (r *Registry) ofSameHost(d *describe.Description) *describe.Description {
	for _, other := range r.Hosts {
		if other.Name == d.Name || sameHost(other, d) {
			return other
		}
	}
	return nil
}

// managed is the error for what a person would do to a host that the administrator describes.
func managed(d *describe.Description) error {
	if d == nil || d.Managed == "" {
		return nil
	}
	return fmt.Errorf("%s: %w: %s", d.Name, ErrManaged, d.Managed)
}
