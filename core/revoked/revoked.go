// Package revoked reads the file of host keys that an ssh client must never trust ("RevokedHostKeys" in
// ssh_config(5)): public lines, or a binary key revocation list (PROTOCOL.krl of OpenSSH).
package revoked

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"slices"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/regular"
)

// maxBytes bounds the file.
const maxBytes = 32 << 20

// A List is what such a file revokes. The zero value revokes nothing.
type List struct {
	keys  map[string]bool // by the key in its wire format (RFC 4253, section 6.6), or by its SHA-1 or SHA-256
	certs []certificates
}

// certificates are those of one certificate authority that are revoked.
type certificates struct {
	authority []byte // in its wire format; empty for any
	serials   []span
	bitmaps   []bitmap
	ids       map[string]bool
}

// A span is a range of serial numbers, both ends included.
type span struct{ first, last uint64 }

func (s span) has(serial uint64) bool { return s.first <= serial && serial <= s.last }

// A bitmap is a set of serial numbers from a first one on: the bits of a number whose highest octet comes first.
type bitmap struct {
	first  uint64
	number []byte
}

func (b bitmap) has(serial uint64) bool {
	if serial < b.first || (serial-b.first)/8 >= uint64(len(b.number)) {
		return false
	}
	bit := serial - b.first
	return b.number[uint64(len(b.number))-1-bit/8]>>(bit%8)&1 == 1
}

// Read reads a file. The error is that of the file system, or wraps [ErrFormat].
func Read(path string) (*List, error) {
	text, err := regular.Read(path, maxBytes)
	if err != nil {
		return nil, err
	}
	return Parse(text)
}

// Parse reads the text of a file. As the client does, it passes over lines that are no key; a binary list that is
// damaged is an error that wraps [ErrFormat].
func Parse(text []byte) (*List, error) {
	if bytes.HasPrefix(text, magic) {
		return parseBinary(text)
	}
	list := &List{keys: map[string]bool{}}
	for line := range bytes.Lines(text) {
		if key, _, _, _, err := ssh.ParseAuthorizedKey(line); err == nil {
			list.keys[string(plain(key).Marshal())] = true
		}
	}
	return list, nil
}

// Has reports whether the list revokes a key: itself, or for a certificate also the key in it, the certificate
// authority that signed it, or the certificate by its serial number or key ID.
func (l *List) Has(key ssh.PublicKey) bool {
	if l.hasKey(plain(key)) {
		return true
	}
	certificate, ok := key.(*ssh.Certificate)
	return ok && (l.hasKey(certificate.SignatureKey) ||
		slices.ContainsFunc(l.certs, func(c certificates) bool { return c.has(certificate) }))
}

func (l *List) hasKey(key ssh.PublicKey) bool {
	blob := key.Marshal()
	short, long := sha1.Sum(blob), sha256.Sum256(blob)
	return l.keys[string(blob)] || l.keys[string(short[:])] || l.keys[string(long[:])]
}

func (c certificates) has(certificate *ssh.Certificate) bool {
	if len(c.authority) > 0 && !bytes.Equal(c.authority, certificate.SignatureKey.Marshal()) {
		return false
	}
	serial := certificate.Serial
	// the serial number of those that were given none (is_cert_revoked in krl.c of OpenSSH)
	if c.ids[certificate.KeyId] || serial == 0 {
		return c.ids[certificate.KeyId]
	}
	return slices.ContainsFunc(c.serials, func(s span) bool { return s.has(serial) }) ||
		slices.ContainsFunc(c.bitmaps, func(b bitmap) bool { return b.has(serial) })
}

// plain is the key without the certificate around it.
func plain(key ssh.PublicKey) ssh.PublicKey {
	if certificate, ok := key.(*ssh.Certificate); ok {
		return certificate.Key
	}
	return key
}
