package describe

import (
	"net/url"
	"strings"

	"Unicrux/core/address"
	"Unicrux/core/allow"
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

// Elsewhere tells whether an HTTPS address has the host's name and not its port: whoever typed it
// knew nothing of that.
func (d *Description) Elsewhere(a address.Address) bool {
	described, err := url.Parse(d.HTTPS.URL)
	return err == nil && a.Scheme == "https" && a.Port == 0 && allow.SameHost(described.Hostname(), a.Host) && described.Port() != "" && described.Port() != "443"
}
