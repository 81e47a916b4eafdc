package describe

import (
	"net/url"
	"slices"

	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
)

// A Destination is a place to which a secret may go because a description says so.
type Destination struct {
	origin.Place
	For    string // what goes there, in a few words
	Shared bool   // a server by which one signs in: it may serve several hosts
}

// WebPlace is where git goes with a secret.
func (d *Description) WebPlace() origin.Place {
	return placeOf(d.webURL(), d.HTTPS.Address, d.HTTPS.Authority)
}

// APIPlace is where the host's interface is.
func (d *Description) APIPlace() origin.Place {
	return placeOf(d.Interface.URL, d.Interface.Address, d.Interface.Authority)
}

// OAuthPlace is where an endpoint of the server is by which one signs in.
func (d *Description) OAuthPlace(endpoint string) origin.Place {
	address, authority := d.OAuthWay()
	return placeOf(endpoint, address, authority)
}

// OAuthWay is how the server is reached by which one signs in: as the interface, where nothing else
// is said.
func (d *Description) OAuthWay() (address, authority string) {
	if d.OAuth.Address == "" && d.OAuth.Authority == "" {
		return d.Interface.Address, d.Interface.Authority
	}
	return d.OAuth.Address, d.OAuth.Authority
}

// Bind lets a secret that a person gave for this host go to the places that it names, and nowhere
// else.
func (d *Description) Bind(text secret.Text) origin.Bound { return origin.Bind(text, d.Places()...) }

// webURL is with what the host's HTTPS clone URLs begin, said or not.
func (d *Description) webURL() string { return "https://" + d.HTTPSAt() + "/" }

// placeOf is the place at which an address is; the zero value where that is none.
func placeOf(text, address, authority string) origin.Place {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" {
		return origin.Place{}
	}
	return origin.Place{Origin: origin.Of(u), Address: address, Authority: origin.Authority(authority)}
}

// Destinations lists every place that the description names to which a secret may go, each once.
func (d *Description) Destinations() []Destination {
	var list []Destination
	add := func(place origin.Place, what string, shared bool) {
		if place.Origin != "" &&
			!slices.ContainsFunc(list, func(other Destination) bool { return other.Place == place }) {
			list = append(list, Destination{place, what, shared})
		}
	}
	add(d.WebPlace(), "tokens, by git", false)
	add(d.APIPlace(), "tokens, for its API", false)
	for _, endpoint := range slices.Concat([]string{d.OAuth.Issuer, d.OAuth.Device, d.OAuth.Authorize, d.OAuth.Token,
		d.OAuth.Revoke, d.OAuth.Introspect}, d.OAuth.Also) {
		add(d.OAuthPlace(endpoint), "signing in", true)
	}
	return list
}

// Places are those of [Description.Destinations], as a token that is kept now is bound to them.
func (d *Description) Places() []origin.Place {
	var list []origin.Place
	for _, destination := range d.Destinations() {
		list = append(list, destination.Place)
	}
	return list
}
