package adopt

import (
	"context"
	"net/url"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/site"
)

// usedPlaces lists where git goes by HTTPS as far as it can be seen from here, as host or host:port: what
// descriptions, remotes and stored secrets name.
func usedPlaces(ctx context.Context, p site.Site, strays []plainsecrets.Stray) []string {
	var used []string
	for _, d := range p.Registry.Hosts {
		used = append(used, d.HTTPSAt())
	}
	for _, s := range strays {
		if s.Sort == plainsecrets.CredentialFile {
			used = append(used, s.At)
		}
	}
	config, err := gitlink.ReadConfig(ctx, p.Station)
	if err != nil {
		return used
	}
	for _, entry := range config.Every() {
		if !strings.HasPrefix(entry.Key, "remote.") {
			continue
		}
		if at, err := url.Parse(entry.Value); err == nil && at.Scheme == "https" {
			used = append(used, allow.LowerHost(at.Host))
		}
	}
	return used
}

// placesOf lists the places where a stray serves. A netrc file names no port: what stands there is for
// all of them (netrc(5) of the GNU inetutils; curl, which git goes by HTTPS with, gives it to any). Where
// none is seen, it is the usual one.
func placesOf(s plainsecrets.Stray, used []string) []string {
	if s.Sort != plainsecrets.Netrc {
		return []string{s.At}
	}
	var places []string
	for _, at := range used {
		if target, err := url.Parse("https://" + at); err == nil && allow.SameHost(target.Hostname(), s.At) &&
			!slices.Contains(places, at) {
			places = append(places, at)
		}
	}
	if len(places) == 0 {
		places = []string{s.At}
	}
	return places
}
