package sshway

import (
	"bytes"
	"errors"

	"golang.org/x/crypto/ssh"

	"Unicrux/core/regular"
	"Unicrux/core/sshconfig"
)

// maxRevoked bounds the file of revoked host keys.
const maxRevoked = 32 << 20

// ErrBinary is returned for a file of revoked keys in the form that ssh-keygen(1) calls a key revocation
// list, which Unicrux does not read.
var ErrBinary = errors.New("a binary key revocation list, which Unicrux does not read")

// Banned is the file of host keys that are never to be trusted ("RevokedHostKeys" in ssh_config(5)).
type Banned struct {
	Path   string
	Origin sshconfig.Origin
	Err    error // it cannot be read, so the client trusts no host; [ErrBinary] where we do not know

	keys [][]byte
}

func (w *Way) banned() *Banned {
	if w.Client.RevokedHosts == "" {
		return nil
	}
	b := &Banned{Path: w.Client.RevokedHosts, Origin: w.Client.Origin("revokedhostkeys")}
	text, err := regular.Read(b.Path, maxRevoked)
	if err != nil {
		b.Err = err
		return b
	}
	if bytes.HasPrefix(text, []byte("SSHKRL\n\x00")) {
		b.Err = ErrBinary
		return b
	}
	for line := range bytes.Lines(text) {
		if key, _, _, _, err := ssh.ParseAuthorizedKey(line); err == nil {
			b.keys = append(b.keys, key.Marshal())
		}
	}
	return b
}

// bans tells whether the client refuses a key because of the file. Where that is not known, it does not.
func (b *Banned) bans(key ssh.PublicKey) bool {
	if b == nil || errors.Is(b.Err, ErrBinary) {
		return false
	}
	if b.Err != nil {
		return true
	}
	list := []ssh.PublicKey{key}
	if certificate, ok := key.(*ssh.Certificate); ok {
		list = append(list, certificate.Key, certificate.SignatureKey)
	}
	for _, key := range list {
		for _, banned := range b.keys {
			if bytes.Equal(banned, key.Marshal()) {
				return true
			}
		}
	}
	return false
}

// trustsLocal tells whether a host on this computer need not prove itself
// ("NoHostAuthenticationForLocalhost" in ssh_config(5)).
func (w *Way) trustsLocal() bool {
	value, _, _ := w.Settings.First("nohostauthenticationforlocalhost")
	_, _, alias := w.Settings.First("hostkeyalias")
	return value == "yes" && !alias
}
