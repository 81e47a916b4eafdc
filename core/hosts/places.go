package hosts

import (
	"fmt"
	"os"
	"strings"
	"sync"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/workstation"
)

// WebPlace is where git goes with a secret for a host as it stands in HTTPS URLs: as its description
// says, or where the name servers and the system's authorities lead where no description names it.
func (r *Registry) WebPlace(at string) origin.Place {
	if d := r.ForWeb(at); d != nil {
		return d.WebPlace()
	}
	return origin.Place{Origin: origin.Web(at)}
}

// Places answers the same for a process that lives long: the descriptions are read again when one of
// their files has changed.
type Places struct {
	station *workstation.Station

	mu       sync.Mutex
	marks    string // of the files from which it was read
	registry *Registry
}

// NewPlaces makes one that has read nothing.
func NewPlaces(station *workstation.Station) *Places { return &Places{station: station} }

// Web is [Registry.WebPlace].
func (p *Places) Web(at string) (origin.Place, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	marks := p.look()
	if p.registry == nil || marks != p.marks {
		registry, err := Open(p.station)
		if err != nil {
			return origin.Place{}, err
		}
		p.registry, p.marks = registry, marks
	}
	return p.registry.WebPlace(at), nil
}

// look marks the files of the descriptions so that a change of any is seen.
func (p *Places) look() string {
	entries, _ := os.ReadDir(folder(p.station)) // without any there is nothing to mark
	var b strings.Builder
	for _, entry := range entries {
		if info, err := entry.Info(); err == nil {
			fmt.Fprintf(&b, "%s %d %d\n", entry.Name(), info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}

// A ConflictError tells that two descriptions name the same place otherwise: secrets that are for
// the one could go where the other says.
type ConflictError struct {
	Origin string // what both name
	Name   string // of the description that named it first
}

func (e *ConflictError) Error() string {
	return fmt.Sprintf("%s is named by the description %s already", e.Origin, e.Name)
}

// sameHost reports whether two descriptions are of one host.
func sameHost(a, b *describe.Description) bool {
	return allow.SameHost(a.HostName(), b.HostName()) || a.HTTPS.URL != "" && a.HTTPSAt() == b.HTTPSAt()
}

// gives reports whether one description of a host gives way to another: what was learned to what somebody wrote, and
// the administrator's to the person's own.
func gives(other, d *describe.Description) bool {
	return other.IsLearned() && !d.IsLearned() || other.Managed != "" && d.Managed == ""
}

// conflict finds an origin that a description names and another of the registry names as well. Only a
// server by which one signs in may serve several hosts, and is the same to all of them then.
func (r *Registry) conflict(d *describe.Description) *ConflictError {
	for _, other := range r.Hosts {
		if other.Name == d.Name || sameHost(other, d) && gives(other, d) {
			continue
		}
		if allow.SameHost(other.HostName(), d.HostName()) {
			return &ConflictError{d.HostName(), other.Name}
		}
		for _, ours := range d.Destinations() {
			for _, theirs := range other.Destinations() {
				if ours.Origin == theirs.Origin && !(ours.Shared && theirs.Shared && ours.Place == theirs.Place) {
					return &ConflictError{ours.Origin, other.Name}
				}
			}
		}
	}
	return nil
}
