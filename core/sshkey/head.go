package sshkey

import (
	"bytes"
	"encoding/asn1"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"math/big"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/regular"
)

// A Head is what a private file tells before its secret part begins, for whoever looks at keys that are not theirs.
type Head struct {
	Public   ssh.PublicKey // nil where the public half stands behind the secret part
	Kind     string        // as of [Kind]; empty where only a public half would tell
	Locked   bool          // needs its passphrase
	Device   bool          // the private half is in a device, and the file is only a handle
	Mode     fs.FileMode
	Modified time.Time
}

// ReadHead reads a private file up to the end of the public half in it, and no further: of the forms in which the
// secret part stands first (SEC1, PKCS#8) only the first line. The error is [ErrNotKey] for another file, and
// for one that is damaged [ErrHead].
func ReadHead(path string) (Head, error) {
	f, err := regular.OpenReader(path)
	if err != nil {
		return Head{}, err
	}
	defer f.Close() // opened for reading
	h := Head{Mode: f.Mode(), Modified: f.Modified()}
	return h, h.read(&sparing{f: f})
}

// Belies tells that the public file beside a private one holds another key than its public half. The usual one, which
// holds that very half, costs little.
func Belies(path string, half ssh.PublicKey) bool {
	text, err := regular.Read(path+".pub", MaxFileBytes)
	if err != nil {
		return false
	}
	if words := bytes.Fields(text); len(words) > 1 && string(words[0]) == half.Type() &&
		string(words[1]) == base64.StdEncoding.EncodeToString(half.Marshal()) {
		return false
	}
	key, _, err := ParseLine(text)
	return err == nil && !bytes.Equal(Plain(key).Marshal(), half.Marshal())
}

// ErrHead is returned for a private key of which the public half cannot be read.
var ErrHead = errors.New("a private key that is damaged")

// begins is how every PEM text begins, up to what it says is in it (RFC 7468).
const begins = "-----BEGIN "

func (h *Head) read(s *sparing) error {
	start, err := s.next(len(begins))
	if err != nil || string(start) != begins {
		return ErrNotKey
	}
	label, err := s.line()
	if err != nil {
		return ErrNotKey
	}
	switch strings.TrimRight(label, "\r") {
	case "OPENSSH PRIVATE KEY-----":
		return h.openSSH(s)
	case "RSA PRIVATE KEY-----":
		h.Kind = RSA
		return h.pkcs1(s)
	case "EC PRIVATE KEY-----":
		h.Kind = ECDSA
		_, err := h.legacy(s)
		return err
	case "DSA PRIVATE KEY-----":
		h.Kind = "dsa"
		_, err := h.legacy(s)
		return err
	case "ENCRYPTED PRIVATE KEY-----":
		h.Locked = true
		return nil
	case "PRIVATE KEY-----":
		return nil
	}
	return ErrNotKey
}

// legacy tells from the first character alone whether it is locked: a header comes then (RFC 1421, section 4.6). It
// gives that character.
func (h *Head) legacy(s *sparing) (first []byte, err error) {
	if first, err = s.next(1); err != nil {
		return nil, ErrHead
	}
	h.Locked = first[0] == 'P'
	return first, nil
}

// openSSH reads the form of OpenSSH (PROTOCOL.key of OpenSSH): names of the cipher and of what makes its key, and
// the public half, stand before the private part.
func (h *Head) openSSH(s *sparing) error {
	const magic = "openssh-key-v1\x00"
	// the least that stands before the public half: the magic words, three names and how often, each with a length
	const least = len(magic) + 2*(4+len("none")) + 4 + 4
	before, err := s.decoded(least)
	if err != nil {
		return ErrHead
	}
	s.plain = append(before, s.plain...)
	start, err := s.decoded(len(magic))
	if err != nil || string(start) != magic {
		return ErrHead
	}
	cipher, err := s.text()
	if err == nil {
		_, err = s.text() // what makes the cipher's key of the passphrase
	}
	if err == nil {
		_, err = s.text() // and how
	}
	if err != nil {
		return ErrHead
	}
	count, err := s.decoded(4)
	if err != nil || binary.BigEndian.Uint32(count) != 1 {
		return ErrHead
	}
	blob, err := s.text()
	if err != nil {
		return ErrHead
	}
	public, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return ErrHead
	}
	h.Public, h.Kind, h.Locked, h.Device = public, Kind(public), string(cipher) != "none", IsInDevice(public)
	return nil
}

// pkcs1 reads an RSA key (RFC 8017, appendix A.1.2): modulus and public exponent stand before the private one.
func (h *Head) pkcs1(s *sparing) error {
	first, err := h.legacy(s)
	if err != nil || h.Locked {
		return err
	}
	s.ahead = first
	if _, err := s.element(); err != nil { // the sequence around all
		return ErrHead
	}
	var numbers []*big.Int
	for range 3 { // version, modulus, public exponent
		length, err := s.element()
		if err != nil {
			return ErrHead
		}
		text, err := s.decoded(length)
		if err != nil {
			return ErrHead
		}
		numbers = append(numbers, new(big.Int).SetBytes(text))
	}
	blob := ssh.Marshal(struct {
		Name string
		E, N *big.Int
	}{ssh.KeyAlgoRSA, numbers[2], numbers[1]})
	public, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return ErrHead
	}
	h.Public = public
	return nil
}

// sparing reads no byte of a file before it is asked for it.
type sparing struct {
	f     io.Reader
	ahead []byte // read and given back
	plain []byte // decoded and not yet asked for: what is known to be no secret, and at most two bytes
	total int
}

// next reads some bytes of the file.
func (s *sparing) next(n int) ([]byte, error) {
	if s.total += n; s.total > MaxFileBytes {
		return nil, ErrTooLarge
	}
	text := append([]byte{}, s.ahead[:min(n, len(s.ahead))]...)
	s.ahead = s.ahead[len(text):]
	rest := make([]byte, n-len(text))
	if _, err := io.ReadFull(s.f, rest); err != nil {
		return nil, err
	}
	return append(text, rest...), nil
}

// labels are what can be in a private file, as it stands behind [begins].
var labels = []string{"OPENSSH PRIVATE KEY-----", "RSA PRIVATE KEY-----", "EC PRIVATE KEY-----", "DSA PRIVATE KEY-----",
	"ENCRYPTED PRIVATE KEY-----", "PRIVATE KEY-----"}

// line reads to the end of a line of at most a label's length: as much of it as every label has, the rest of the one
// that begins so, then byte by byte.
func (s *sparing) line() (string, error) {
	line, err := s.next(len("PRIVATE KEY-----"))
	if err != nil || bytes.IndexByte(line, '\n') >= 0 {
		return "", ErrNotKey
	}
	for _, label := range labels {
		if strings.HasPrefix(label, string(line)) {
			rest, err := s.next(len(label) - len(line))
			if err != nil || bytes.IndexByte(rest, '\n') >= 0 {
				return "", ErrNotKey
			}
			line = append(line, rest...)
			break
		}
	}
	for len(line) < 40 {
		b, err := s.next(1)
		if err != nil {
			return "", err
		}
		if b[0] == '\n' {
			return string(line), nil
		}
		line = append(line, b[0])
	}
	return "", ErrNotKey
}

// decoded reads some bytes of what is written in base64, over the ends of lines.
func (s *sparing) decoded(n int) ([]byte, error) {
	if n < 0 || n > MaxFileBytes {
		return nil, ErrHead
	}
	text := append([]byte{}, s.plain[:min(n, len(s.plain))]...)
	s.plain = s.plain[len(text):]
	for len(text) < n {
		var four []byte
		for need := (n - len(text) + 2) / 3 * 4; len(four) < need; {
			more, err := s.next(need - len(four))
			if err != nil {
				return nil, err
			}
			four = append(four, bytes.ReplaceAll(bytes.ReplaceAll(more, []byte("\n"), nil), []byte("\r"), nil)...)
		}
		plain := make([]byte, base64.StdEncoding.DecodedLen(len(four)))
		got, err := base64.StdEncoding.Decode(plain, four)
		if err != nil {
			return nil, err
		}
		use := min(n-len(text), got)
		if text = append(text, plain[:use]...); got == 0 {
			return nil, io.ErrUnexpectedEOF
		}
		s.plain = append(s.plain, plain[use:got]...)
	}
	return text, nil
}

// text reads a string of SSH (RFC 4251, section 5).
func (s *sparing) text() ([]byte, error) {
	length, err := s.decoded(4)
	if err != nil {
		return nil, err
	}
	return s.decoded(int(binary.BigEndian.Uint32(length)))
}

// element reads the head of an element of DER, and gives its length (X.690, section 8.1).
func (s *sparing) element() (length int, err error) {
	head, err := s.decoded(2)
	if err != nil {
		return 0, err
	}
	if head[0] != asn1.TagInteger && head[0] != asn1.TagSequence|0x20 {
		return 0, ErrHead
	}
	if head[1] < 0x80 {
		return int(head[1]), nil
	}
	more, err := s.decoded(int(head[1] & 0x7f))
	if err != nil || len(more) > 3 {
		return 0, ErrHead
	}
	for _, b := range more {
		length = length<<8 | int(b)
	}
	return length, nil
}
