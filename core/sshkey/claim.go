package sshkey

import (
	"bytes"
	"crypto/md5" // some hosts publish fingerprints of this form still
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/fault"
)

// A Claim is what somebody says that a public key is: the key itself, or a fingerprint of it.
type Claim struct {
	key    ssh.PublicKey
	sha256 []byte
	md5    []byte
}

// ErrClaim is returned for a text in which there is neither a fingerprint nor a public key.
var ErrClaim = fault.New("key-public-file-wrong", fault.Misused, "there is neither a fingerprint (SHA256:… or MD5:…) nor a public key in this text")

// ParseClaim finds a claim in a text that somebody has copied: SHA256:… with or without those letters and the "=" at
// its end (RFC 4648, section 3.2), the same in hexadecimal digits, MD5:… as of RFC 4716, section 4, a public line, or
// a line of known hosts. Other words around it do not matter. The error is [ErrClaim].
func ParseClaim(text string) (Claim, error) {
	if key, _, err := ParseLine([]byte(strings.TrimSpace(text))); err == nil {
		return Claim{key: key}, nil
	}
	for _, word := range strings.Fields(text) {
		if claim, ok := parseWord(strings.Trim(word, `"'()[]<>,;.`)); ok {
			return claim, nil
		}
	}
	return Claim{}, ErrClaim
}

func parseWord(word string) (Claim, bool) {
	if blob, err := base64.StdEncoding.DecodeString(word); err == nil {
		if key, err := ssh.ParsePublicKey(blob); err == nil {
			return Claim{key: key}, true
		}
	}
	digest := word
	if kind, rest, found := strings.Cut(word, ":"); found && len(kind) > 2 { // else it is the first byte
		switch strings.ToUpper(kind) {
		case "SHA256", "MD5":
			digest = rest
		default:
			return Claim{}, false
		}
	}
	if sum, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(digest, "=")); err == nil &&
		len(sum) == sha256.Size {
		return Claim{sha256: sum}, true
	}
	sum, err := hex.DecodeString(strings.ReplaceAll(digest, ":", ""))
	switch {
	case err != nil:
	case len(sum) == sha256.Size:
		return Claim{sha256: sum}, true
	case len(sum) == md5.Size:
		return Claim{md5: sum}, true
	}
	return Claim{}, false
}

// Is reports whether the claim is about this very key.
func (c Claim) Is(key ssh.PublicKey) bool {
	blob := Plain(key).Marshal()
	switch {
	case c.key != nil:
		return bytes.Equal(Plain(c.key).Marshal(), blob)
	case c.sha256 != nil:
		sum := sha256.Sum256(blob)
		return bytes.Equal(c.sha256, sum[:])
	case c.md5 != nil:
		sum := md5.Sum(blob)
		return bytes.Equal(c.md5, sum[:])
	}
	return false
}

// String writes the claim as a fingerprint.
func (c Claim) String() string {
	switch {
	case c.key != nil:
		return Fingerprint(c.key)
	case c.sha256 != nil:
		return "SHA256:" + base64.RawStdEncoding.EncodeToString(c.sha256)
	}
	var parts []string
	for _, b := range c.md5 {
		parts = append(parts, hex.EncodeToString([]byte{b}))
	}
	return "MD5:" + strings.Join(parts, ":")
}
