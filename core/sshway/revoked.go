package sshway

import (
	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/revoked"
	"anchorage.example/unicrux/core/sshconfig"
)

// Banned is the file of host keys that are never to be trusted ("RevokedHostKeys" in ssh_config(5)).
type Banned struct {
	Path   string
	Origin sshconfig.Origin
	Err    error // it cannot be read, so the client trusts no host

	list *revoked.List
}

func (w *Way) banned() *Banned {
	if w.Client.RevokedHosts == "" {
		return nil
	}
	b := &Banned{Path: w.Client.RevokedHosts, Origin: w.Client.Origin("revokedhostkeys")}
	b.list, b.Err = revoked.Read(b.Path)
	return b
}

// bans tells whether the client refuses a key because of the file.
func (b *Banned) bans(key ssh.PublicKey) bool { return b != nil && (b.Err != nil || b.list.Has(key)) }

// trustsLocal tells whether a host on this computer need not prove itself
// ("NoHostAuthenticationForLocalhost" in ssh_config(5)).
func (w *Way) trustsLocal() bool {
	value, _, _ := w.Settings.First("nohostauthenticationforlocalhost")
	_, _, alias := w.Settings.First("hostkeyalias")
	return value == "yes" && !alias
}
