package describe

import (
	"net/url"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/origin"
)

// CloneHTTPS is the HTTPS clone URL of a repository, by its path as clone URLs have it: most end in
// ".git".
func (d *Description) CloneHTTPS(path string) string {
	base := d.HTTPS.URL // ends with a slash
	if base == "" {
		base = "https://" + d.HTTPSAt() + "/"
	}
	return base + strings.TrimPrefix(path, "/")
}

// CloneSSH is the SSH clone URL of a repository, by its path as clone URLs have it.
func (d *Description) CloneSSH(path string) string {
	a := d.SSHAddress()
	path = strings.TrimPrefix(path, "/")
	if a.Port != 0 || strings.Contains(a.Host, ":") {
		a.User, a.Path = d.SSH.User, "/"+path
		return a.String()
	}
	return d.SSH.User + "@" + a.Host + ":" + path
}

// Clone is the clone URL of a repository by the transport that is wanted, "ssh" or "https"; by the one that the host
// has where none is. Most paths end in ".git", which is added where it is missing.
func (d *Description) Clone(repository, transport string) string {
	path := strings.TrimSuffix(strings.Trim(repository, "/"), ".git") + ".git"
	if transport == "https" || transport == "" && !d.HasSSH() {
		return d.CloneHTTPS(path)
	}
	return d.CloneSSH(path)
}

// IsClone tells whether a clone URL that the host's interface told is one at this very host, by the
// transport that is wanted: a remote is made of it, and whatever is pushed goes there.
func (d *Description) IsClone(text, transport string) bool {
	a, err := address.Parse(text)
	if err != nil || a.Scheme != transport {
		return false
	}
	if transport == "ssh" {
		return d.HasSSH() && allow.SameHost(a.Host, d.SSH.Host) && (a.Port == 0 || int(a.Port) == d.Port())
	}
	u, err := url.Parse(text)
	return err == nil && u.User == nil && origin.Of(u) == d.WebPlace().Origin
}

// Elsewhere tells whether an HTTPS address has the host's name and not its port: whoever typed it
// knew nothing of that.
func (d *Description) Elsewhere(a address.Address) bool {
	described, err := url.Parse(d.HTTPS.URL)
	return err == nil && a.Scheme == "https" && a.Port == 0 && allow.SameHost(described.Hostname(), a.Host) &&
		described.Port() != "" && described.Port() != "443"
}
