package hosts

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/workstation"
)

// ErrNoSSH is returned, wrapped with the host's name, for what takes SSH at a host that is reached by HTTPS alone.
var ErrNoSSH = fault.New("host-no-ssh", fault.Refused, "this host is reached by HTTPS alone, so no SSH key opens anything there")

// ErrUnknown is returned for a name that no description here has.
var ErrUnknown = fault.New("host-unknown", fault.Refused, "no host of that name is described here")

// A Registry holds the descriptions that were added on this workstation.
type Registry struct {
	Hosts    []*describe.Description // in the order of their names
	Problems []error                 // descriptions that cannot be read any more, each with its file

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
		d, _, err := describe.ReadFile(path)
		if err != nil {
			registry.Problems = append(registry.Problems, err)
			continue
		}
		// the first one stands, and no secret goes where the other says
		if taken := registry.conflict(d); taken != nil {
			registry.Problems = append(registry.Problems, fmt.Errorf("%s: %w", path, taken))
			continue
		}
		d.Proxy = proxyFor(station, d)
		if d.Chosen, err = readChosen(station, d); err != nil {
			registry.Problems = append(registry.Problems, err)
		}
		registry.Hosts = append(registry.Hosts, d)
	}
	if err := registry.readManaged(station); err != nil {
		return nil, err
	}
	return registry, registry.readAccounts(station)
}

// All lists the described hosts, each followed by what it is for further accounts.
func (r *Registry) All() []*describe.Description {
	var all []*describe.Description
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
// ACCOUNT@HOST the host as it is for that account. USER@HOST with the login that everybody shares, and clone URLs, name
// the host as well. The error wraps [ErrUnknown], with the nearest name ([suggest.UnknownError]), or [ErrNoAccount].
func (r *Registry) Find(name string) (*describe.Description, error) {
	if plain, port, found := strings.Cut(name, ":"); found && allow.Name(plain) {
		number, err := strconv.ParseUint(port, 10, 16)
		if d, unknown := r.Find(plain); err == nil && unknown == nil {
			return d.AtPort(int(number)), nil
		}
	}
	if strings.Contains(name, ":") {
		if d := r.ofURL(name); d != nil {
			return d, nil
		}
		return nil, r.unknown(name)
	}
	if account, host, ok := splitAccount(name); ok {
		d, err := r.Find(host)
		if err != nil {
			return nil, err
		}
		if other, err := r.account(account, d); err == nil || account != d.SSH.User {
			return other, err
		}
		return d, nil
	}
	for _, d := range r.Hosts {
		if d.Name == name {
			return d, nil
		}
	}
	if d := r.ForHost(name); d != nil {
		return d, nil
	}
	return nil, r.unknown(name)
}

func (r *Registry) unknown(name string) error {
	var names []string
	for _, d := range r.Hosts {
		names = append(names, d.Name, d.HostName())
	}
	return suggest.Unknown(name, ErrUnknown, names)
}

// Alone returns the host that words name without any repository; nil where they are a clone URL, or name none.
func (r *Registry) Alone(words string) *describe.Description {
	if strings.Contains(words, ":") {
		return nil
	}
	d, err := r.Find(words)
	if err != nil {
		return nil
	}
	return d
}

// ofURL returns the description of the host of a clone URL, or of the beginning of one; nil for none.
func (r *Registry) ofURL(text string) *describe.Description {
	a, err := address.Parse(text)
	if errors.Is(err, address.ErrNoPath) {
		a, err = address.Parse(strings.TrimSuffix(text, "/") + "/x")
	}
	if err != nil {
		return nil
	}
	if u, err := url.Parse(text); err == nil && a.Scheme == "https" {
		return r.ForWeb(u.Host)
	}
	return r.ForHost(a.Host)
}

// ForHost returns the description of a host name as it stands in clone URLs, or nil.
func (r *Registry) ForHost(host string) *describe.Description {
	for _, a := range r.accounts {
		if a.Host.HasSSH() && allow.SameHost(a.Alias(), host) {
			return a.Host.As(a.Name)
		}
	}
	i := slices.IndexFunc(r.Hosts, func(d *describe.Description) bool { return allow.SameHost(d.HostName(), host) })
	if i < 0 {
		return nil
	}
	return r.Hosts[i]
}

// ForWeb returns the description of a host as it stands in HTTPS clone URLs, with its port when
// one stands there, or nil.
func (r *Registry) ForWeb(at string) *describe.Description {
	for _, d := range r.Hosts {
		if d.HTTPSAt() == allow.LowerHost(at) {
			return d
		}
	}
	return nil
}

// A Source is a description that was got, and not kept yet.
type Source struct {
	Description *describe.Description
	Text        []byte
	From        string // the file or the address
	FromWeb     bool   // so that a person should look at it before it is kept
}

// Fingerprint tells whether two people got the same description: SHA-256 of its bytes.
func (s Source) Fingerprint() string {
	sum := sha256.Sum256(s.Text)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// Get reads a description from a file, from an https address, or from the host of that name, "HOST" or "HOST:PORT",
// which hands it out itself ([Offered]). A file of the name comes first.
func Get(ctx context.Context, station *workstation.Station, from string) (Source, error) {
	source := Source{From: from}
	_, err := os.Stat(from)
	if err != nil && !strings.Contains(from, "://") && strings.Contains(from, ".") && allow.Host(hostOf(from)) &&
		!strings.HasSuffix(from, ".toml") {
		return Offered(ctx, station, from)
	}
	if source.FromWeb = strings.Contains(from, "://"); source.FromWeb {
		source.Text, err = hostapi.Fetch(ctx, from, describe.MaxBytes, LineTo(ctx, station, from))
		if err == nil {
			source.Description, err = describe.Parse(source.Text)
		}
		var wrong *describe.Error
		if errors.As(err, &wrong) {
			wrong.File = from
		}
	} else {
		source.Description, source.Text, err = describe.ReadFile(from)
	}
	if err != nil {
		return source, err
	}
	source.Description.Proxy = proxyFor(station, source.Description)
	return source, nil
}

// A Replacement is what stands in the place of a description that is to be added.
type Replacement struct {
	Description *describe.Description // nil for none
	Text        []byte
}

// Replaces finds what a description would take the place of. The error is a *[ConflictError] where
// another description names a place of it already.
func Replaces(station *workstation.Station, source Source) (Replacement, error) {
	registry, err := Open(station)
	if err != nil {
		return Replacement{}, err
	}
	if taken := registry.conflict(source.Description); taken != nil {
		return Replacement{}, taken
	}
	d, text, err := describe.ReadFile(copyOf(station, source.Description))
	if errors.Is(err, fs.ErrNotExist) {
		return Replacement{}, nil
	}
	return Replacement{d, text}, nil // one that cannot be read any more is replaced as well
}

func copyOf(station *workstation.Station, d *describe.Description) string {
	return filepath.Join(folder(station), d.Name+".toml")
}

// Add keeps a copy of a description and settles how ssh reaches the host. Added again, it
// takes the place of the earlier copy: whoever adds it was shown [Replaces] before. The error is a
// *[ConflictError] where another description names a place of it already.
func Add(batch *workstation.Batch, station *workstation.Station, source Source) error {
	d := source.Description
	registry, err := Open(station)
	if err != nil {
		return err
	}
	if taken := registry.conflict(d); taken != nil {
		return taken
	}
	for _, learned := range registry.Hosts { // somebody has described it now
		if learned.IsLearned() && learned.Name != d.Name && sameHost(learned, d) {
			if err := batch.Remove(copyOf(station, learned),
				fmt.Sprintf("Take out what was learned of %s.", learned.Name)); err != nil {
				return err
			}
		}
	}
	_, err = batch.Edit(copyOf(station, d), fmt.Sprintf("Keep the description of %s.", d.Name), 0o600,
		func([]byte) ([]byte, error) { return source.Text, nil })
	if err == nil && !d.IsLearned() {
		err = keepFrom(batch, station, source)
	}
	if err != nil {
		return err
	}
	reach := Reach(station, d)
	if !d.HasSSH() || len(reach) == 0 {
		return nil
	}
	return Settle(batch, station, d.HostName(), reach...)
}
