package ready

import (
	"context"
	"errors"
	"fmt"
	"slices"

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
	if way.IsOpen() || !slices.Contains(forKnown, way.Crux.Code) {
		return source, false, nil
	}
	a, err := address.Parse(way.Question.URL)
	if err != nil { // a question about a host alone has no path
		if a, err = address.Parse(way.Question.URL + "/"); err != nil {
			return source, false, nil
		}
	}
	source, err = learn.Host(ctx, p, a, name)
	for _, not := range []error{learn.ErrDescribed, learn.ErrPlain, learn.ErrTransport} {
		if errors.Is(err, not) {
			return source, false, nil
		}
	}
	return source, err == nil, err
}

// learnHost keeps the description of a host that nobody has described, and reads the registry again.
func learnHost(p site.Site, way *finding.Way, source hosts.Source) (site.Site, Step, error) {
	d := source.Description
	batch := p.Station.Begin(fmt.Sprintf("Learn the host %s.", d.HostName()), false)
	err := hosts.Add(batch, p.Station, source)
	step := Step{Code: way.Crux.Code, Change: batch.Change().ID,
		Summary: fmt.Sprintf("Learned %s: it is called %s here.", d.HostName(), d.Name)}
	if err == nil {
		p.Registry, err = hosts.Open(p.Station)
	}
	return p, step, err
}
