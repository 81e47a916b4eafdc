package hosts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
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
	ErrOtherHost = errors.New("the host hands out the description of another host")
	// ErrNoSource is returned, wrapped with the name, where nobody knows from where a description came.
	ErrNoSource = errors.New("it is not known from where this description came")
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
	if !allow.SameHost(d.HostName(), hostOf(at)) && d.HTTPSAt() != allow.LowerHost(at) {
		return source, fmt.Errorf("%s: %w: of %s", at, ErrOtherHost, d.HostName())
	}
	d.Proxy = proxyFor(station, d)
	return source, nil
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
func keepFrom(batch *workstation.Batch, station *workstation.Station, source Source) error {
	from := source.From
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
