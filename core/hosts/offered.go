package hosts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/net/publicsuffix"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// wellKnown is where a host hands out its own description (RFC 8615).
const wellKnown = "/.well-known/unicrux"

// offerPatience bounds the question whether a host has a description of itself: most have none.
const offerPatience = 5 * time.Second

// Reasons for which there is no description to be had, for errors.Is.
var (
	// ErrNoOffer is returned, wrapped with the host, where the host hands out no description of itself.
	ErrNoOffer = errors.New("the host hands out no description of itself")
	// ErrOtherHost is returned, wrapped, for a description that a host hands out of another one.
	ErrOtherHost = fault.New("host-other-host", fault.Refused, "the host hands out the description of another host")
	// ErrNoSource is returned, wrapped with the name, where nobody knows from where a description came.
	ErrNoSource = fault.New("host-no-source", fault.Refused, "it is not known from where this description came")
)

// Offered asks a host, "HOST" or "HOST:PORT", once for the description that it hands out of itself: over verified
// TLS, at that very host, and of that very host. The error wraps [ErrNoOffer] or [ErrOtherHost], or is a
// *[describe.Error].
func Offered(ctx context.Context, station *workstation.Station, at string) (Source, error) {
	ctx, cancel := context.WithTimeout(ctx, offerPatience)
	defer cancel()
	url := "https://" + at + wellKnown
	line := LineTo(ctx, station, url)
	line.Here = true
	text, err := hostapi.Fetch(ctx, url, describe.MaxBytes, line)
	if err != nil {
		return Source{}, fmt.Errorf("%s: %w: %w", at, ErrNoOffer, err)
	}
	source := Source{Text: text, From: url, FromWeb: true}
	if source.Description, err = describe.Parse(text); err != nil {
		var wrong *describe.Error
		if errors.As(err, &wrong) {
			wrong.File = url
		}
		return source, err
	}
	d := source.Description
	if other := otherThan(at, d); other != "" {
		return source, fmt.Errorf("%s: %w: of %s", at, ErrOtherHost, other)
	}
	d.Proxy = proxyFor(station, d)
	return source, nil
}

// otherThan is the host of a description for which the one that handed it out cannot speak; empty for none. The one
// that was asked has to be in it, and wherever else its clone URLs lead belongs to the same site: else it could name
// the keys of another host, or take the tokens that are meant for one.
func otherThan(at string, d *describe.Description) string {
	web := hostOf(d.HTTPSAt())
	for _, named := range []string{d.HostName(), web} {
		if !sameSite(named, hostOf(at)) {
			return named
		}
	}
	if !allow.SameHost(d.HostName(), hostOf(at)) && d.HTTPSAt() != allow.LowerHost(at) {
		return d.HostName()
	}
	return ""
}

// sameSite reports whether two hosts are one, or are registered by the same hand: cookies go by the same rule
// (RFC 6265, section 5.3).
func sameSite(a, b string) bool {
	if allow.SameHost(a, b) {
		return true
	}
	if net.ParseIP(a) != nil || net.ParseIP(b) != nil {
		return false
	}
	registered, err := publicsuffix.EffectiveTLDPlusOne(allow.LowerHost(a))
	other, otherErr := publicsuffix.EffectiveTLDPlusOne(allow.LowerHost(b))
	return err == nil && otherErr == nil && registered == other
}

// hostOf is the host without its port.
func hostOf(at string) string {
	if i := strings.LastIndexByte(at, ':'); i >= 0 && allow.Number(at[i+1:]) {
		return at[:i]
	}
	return at
}

// fromFile keeps from where a description came.
func fromFile(station *workstation.Station, d *describe.Description) string {
	return filepath.Join(folder(station), plainName(d)+".from")
}

// keepFrom keeps from where a description came, so that it can be got again.
// An address that may hold a secret is kept nowhere.
func keepFrom(batch *workstation.Batch, station *workstation.Station, source Source) error {
	from := source.From
	if source.FromWeb && (strings.ContainsAny(from, "?#") || redact.In([]byte(from))) {
		return nil
	}
	if !strings.Contains(from, "://") && !filepath.IsAbs(from) {
		from = filepath.Join(station.Folder, from)
	}
	_, err := batch.Edit(fromFile(station, source.Description),
		fmt.Sprintf("Note from where the description of %s came.", source.Description.Name), 0o600,
		func([]byte) ([]byte, error) { return []byte(from + "\n"), nil })
	return err
}

// Again gets a description once more from where it came. A learned host is asked for the one that it hands out of
// itself. The error wraps [ErrNoSource], or is that of [Get] or [Offered].
func Again(ctx context.Context, station *workstation.Station, d *describe.Description) (Source, error) {
	if err := managed(d); err != nil {
		return Source{}, err
	}
	if d.IsLearned() {
		at := d.HTTPSAt()
		return Offered(ctx, station, at)
	}
	text, err := regular.Read(fromFile(station, d), regular.Settings)
	if errors.Is(err, fs.ErrNotExist) {
		return Source{}, fmt.Errorf("%s: %w", d.Name, ErrNoSource)
	}
	if err != nil {
		return Source{}, err
	}
	from := strings.TrimSpace(string(text))
	if at, found := strings.CutSuffix(strings.TrimPrefix(from, "https://"), wellKnown); found {
		return Offered(ctx, station, at)
	}
	return Get(ctx, station, from)
}
