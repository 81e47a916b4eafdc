package ready

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/learn"
	"anchorage.example/unicrux/core/site"
)

// forKnown are the causes that can be mended only at a host that is known by a description.
var forKnown = []causes.Code{causes.KeyNone, causes.HostKeyUnknown, causes.KeyNotRegistered, causes.KeyKindRefused,
	causes.TLSAuthorityUnknown, causes.SecretMissing, causes.TokenUnknown, causes.TokenEnded, causes.PasswordRefused,
	causes.TokenMisplaced, causes.TokenPurposeMissing}

// unlearned is the host that would have to be learned before anything can be mended; ok is false where none has to.
func unlearned(ctx context.Context, p site.Site, way *finding.Way, name string) (source hosts.Source, ok bool,
	err error) {
	a, ok := whereFor(way)
	if !ok {
		return source, false, nil
	}
	source, err = learn.Host(ctx, p, a, name)
	for _, not := range []error{learn.ErrDescribed, learn.ErrPlain, learn.ErrTransport} {
		if errors.Is(err, not) {
			return source, false, nil
		}
	}
	return source, err == nil, err
}

// whereFor is where a way leads that can be mended only at a known host; ok is false for any other way.
func whereFor(way *finding.Way) (a address.Address, ok bool) {
	if way.IsOpen() || !slices.Contains(forKnown, way.Crux.Code) {
		return a, false
	}
	a, err := address.Parse(way.Question.URL)
	if err != nil { // a question about a host alone has no path
		a, err = address.Parse(way.Question.URL + "/")
	}
	return a, err == nil
}

// Offered asks a host that nobody has described, once, for the description that it hands out of itself; offered is
// false where it has none, or none is needed.
func Offered(ctx context.Context, p site.Site, way *finding.Way) (source hosts.Source, offered bool) {
	a, ok := whereFor(way)
	if !ok {
		return source, false
	}
	if known := p.Registry.ForHost(a.Host); known != nil { // it was asked when it was learned
		return source, false
	}
	at := a.Host
	if a.Scheme == "https" && a.Port != 0 {
		at = net.JoinHostPort(a.Host, strconv.Itoa(int(a.Port)))
	}
	source, err := hosts.Offered(ctx, p.Station, at)
	return source, err == nil
}

// learnHost keeps the description of a host that nobody has described, and reads the registry again.
func learnHost(p site.Site, way *finding.Way, source hosts.Source) (site.Site, Step, error) {
	d := source.Description
	batch := p.Station.Begin(fmt.Sprintf("Learn the host %s.", d.HostName()), false, d.Name)
	err := hosts.Add(batch, p.Station, source)
	step := Step{Code: way.Crux.Code, Change: batch.Change().ID,
		Summary: fmt.Sprintf("Learned %s: it is called %s here.", d.HostName(), d.Name)}
	if err == nil {
		p.Registry, err = hosts.Open(p.Station)
	}
	return p, step, err
}
