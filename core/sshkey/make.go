package sshkey

import (
	"cmp"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/secret"
)

// The kinds of keys that can be made.
const (
	ED25519 = "ed25519"
	ECDSA   = "ecdsa"
	RSA     = "rsa"
)

// Kinds lists the kinds that are made.
func Kinds() []string { return []string{ED25519, ECDSA, RSA} }

// Sizes of RSA keys in bits. Less than the least is weak today (NIST SP 800-57 part 1);
// more than the most slows every sign-in down and no host asks for it.
const (
	LeastRSA   = 3072
	defaultRSA = 4096
	mostRSA    = 8192
)

// Reasons for which [Make] and [Check] refuse a [Spec], for errors.Is.
var (
	ErrKind = fault.New("key-kind", fault.Misused, "keys are of type ed25519, ecdsa or rsa")
	ErrSize = fault.New("key-size", fault.Misused, "ed25519 has one size, ecdsa 256, 384 or 521 bits, rsa 3072 to 8192 bits")
)

// A Spec says what key to make. Its zero value makes an ed25519 pair without a passphrase.
type Spec struct {
	Kind       string // empty for ed25519
	Bits       int    // 0 for the kind's default: 256 for ecdsa, 4096 for rsa
	Comment    string
	Passphrase secret.Text
}

// Size is the size of the key in bits.
func (s Spec) Size() int {
	usual := map[string]int{RSA: defaultRSA}[s.Kind]
	return cmp.Or(s.Bits, usual, 256)
}

// Made is a new pair, in memory: the content of its two files.
type Made struct {
	Private []byte // in [KEY]
	Public  []byte // the public line with its comment and a line end
	Key     ssh.PublicKey
	Took    time.Duration // in the standard library's own generation
}

// Check tells why no key can be made so, before anybody is asked for a passphrase.
func (s Spec) Check() error {
	if !validComment(s.Comment) {
		return ErrComment
	}
	switch s.Kind {
	case "", ED25519:
		if s.Bits != 0 && s.Bits != 256 {
			return ErrSize
		}
	case ECDSA:
		if _, err := curve(s.Bits); err != nil {
			return err
		}
	case RSA:
		if s.Bits != 0 && (s.Bits < LeastRSA || s.Bits > mostRSA) {
			return ErrSize
		}
	default:
		return fmt.Errorf("%q: %w", s.Kind, ErrKind)
	}
	return nil
}

// Make makes a pair. An RSA pair of the default size takes a second or so.
func Make(s Spec) (*Made, error) {
	if err := s.Check(); err != nil {
		return nil, err
	}
	start := time.Now()
	private, err := s.generate()
	if err != nil {
		return nil, err
	}
	took := time.Since(start)
	key, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		return nil, err
	}
	text, err := Write(private, s.Comment, OpenSSH, s.Passphrase)
	if err != nil {
		return nil, err
	}
	return &Made{Private: text, Public: []byte(Line(key, s.Comment) + "\n"), Key: key, Took: took}, nil
}

func (s Spec) generate() (crypto.Signer, error) {
	switch s.Kind {
	case ECDSA:
		c, err := curve(s.Bits)
		if err != nil {
			return nil, err
		}
		return ecdsa.GenerateKey(c, rand.Reader)
	case RSA:
		return rsa.GenerateKey(rand.Reader, s.Size())
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	return private, err
}

// curve names the three curves of [5656], section 10.1, by their size.
func curve(bits int) (elliptic.Curve, error) {
	switch bits {
	case 0, 256:
		return elliptic.P256(), nil
	case 384:
		return elliptic.P384(), nil
	case 521:
		return elliptic.P521(), nil
	}
	return nil, ErrSize
}

func validComment(comment string) bool {
	return len(comment) <= MaxCommentBytes &&
		strings.IndexFunc(comment, func(r rune) bool { return r < ' ' || r == 0x7f || r == 0xfffd }) < 0
}
