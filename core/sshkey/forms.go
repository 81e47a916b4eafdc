package sshkey

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
)

// A Form is an open format in which a key is written.
type Form string

// The forms. The last is for the public half, all others are for the private one.
const (
	OpenSSH Form = "openssh" // [KEY]
	PKCS8   Form = "pkcs8"   // RFC 5958, locked by PBES2 (RFC 8018)
	PKCS1   Form = "pkcs1"   // RFC 8017, for rsa
	SEC1    Form = "sec1"    // RFC 5915, for ecdsa
	RFC4716 Form = "rfc4716" // the public half, with headers
)

// Forms lists all forms.
func Forms() []Form { return []Form{OpenSSH, PKCS8, PKCS1, SEC1, RFC4716} }

// Reasons for which [Write] does not write a key in a format, for errors.Is.
var (
	ErrFormKind = fault.New("key-form-kind", fault.Misused, "this format is not for keys of this type")
	ErrFormLock = fault.New("key-form-lock", fault.Misused, "this form has no lock worth its name")
	ErrNoForm   = errors.New("no such form")
)

// Write writes a private key in one of the private forms, locked unless the passphrase is empty.
func Write(private crypto.PrivateKey, comment string, form Form, passphrase secret.Text) ([]byte, error) {
	if pointer, ok := private.(*ed25519.PrivateKey); ok { // as x/crypto/ssh reads it
		private = *pointer
	}
	var block *pem.Block
	var err error
	switch form {
	case OpenSSH:
		block, err = openssh(private, comment, passphrase)
	case PKCS8:
		block, err = toPKCS8(private, passphrase)
	case PKCS1, SEC1:
		if !passphrase.Empty() {
			return nil, fmt.Errorf("%s: %w", form, ErrFormLock)
		}
		block, err = older(private, form)
	default:
		return nil, fmt.Errorf("%q: %w", string(form), ErrNoForm)
	}
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(block), nil
}

func openssh(private crypto.PrivateKey, comment string, passphrase secret.Text) (*pem.Block, error) {
	if passphrase.Empty() {
		return ssh.MarshalPrivateKey(private, comment)
	}
	return ssh.MarshalPrivateKeyWithPassphrase(private, comment, passphrase.Reveal())
}

func older(private crypto.PrivateKey, form Form) (*pem.Block, error) {
	switch key := private.(type) {
	case *rsa.PrivateKey:
		if form == PKCS1 {
			return &pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(key)}, nil
		}
	case *ecdsa.PrivateKey:
		if form == SEC1 {
			der, err := x509.MarshalECPrivateKey(key)
			return &pem.Block{Type: "EC PRIVATE KEY", Bytes: der}, err
		}
	}
	return nil, fmt.Errorf("%s: %w", form, ErrFormKind)
}

// maxLine4716 is the longest line of RFC 4716, section 3.3, without its line end.
const maxLine4716 = 72

// Write4716 writes a public key with its comment as a header (RFC 4716, sections 3.2 to 3.4).
func Write4716(key ssh.PublicKey, comment string) []byte {
	var b bytes.Buffer
	b.WriteString(begin4716 + "\n")
	if comment != "" {
		header := `Comment: "` + strings.ReplaceAll(comment, `"`, `'`) + `"`
		for len(header) > maxLine4716 { // a line goes on behind a backslash
			b.WriteString(header[:maxLine4716-1] + "\\\n")
			header = header[maxLine4716-1:]
		}
		b.WriteString(header + "\n")
	}
	text := base64.StdEncoding.EncodeToString(key.Marshal())
	for len(text) > maxLine4716 {
		b.WriteString(text[:maxLine4716] + "\n")
		text = text[maxLine4716:]
	}
	b.WriteString(text + "\n" + end4716 + "\n")
	return b.Bytes()
}

// The lines around a public key of RFC 4716.
const (
	begin4716 = "---- BEGIN SSH2 PUBLIC KEY ----"
	end4716   = "---- END SSH2 PUBLIC KEY ----"
)

// parse4716 reads a public key with headers (RFC 4716, sections 3.2 to 3.4). Of the headers
// only the comment counts.
func parse4716(text []byte) (ssh.PublicKey, string, error) {
	if len(text) > MaxFileBytes {
		return nil, "", ErrTooLarge
	}
	lines := strings.Split(strings.ReplaceAll(strings.TrimSpace(string(text)), "\r\n", "\n"), "\n")
	if len(lines) < 3 || lines[0] != begin4716 || lines[len(lines)-1] != end4716 {
		return nil, "", errNot4716
	}
	comment, body := "", ""
	lines = lines[1 : len(lines)-1]
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		name, value, header := strings.Cut(line, ":")
		if !header {
			body += line
			continue
		}
		if body != "" { // a header behind the key is none
			return nil, "", errNot4716
		}
		for strings.HasSuffix(value, "\\") && i+1 < len(lines) {
			i++
			value = value[:len(value)-1] + lines[i]
		}
		if strings.EqualFold(name, "comment") {
			comment = strings.Trim(strings.TrimSpace(value), `"`)
		}
	}
	blob, err := base64.StdEncoding.DecodeString(body)
	if err != nil {
		return nil, "", errNot4716
	}
	key, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return nil, "", errNot4716
	}
	return key, untrusted.Clean(comment), nil
}

var errNot4716 = errors.New("not a public key as RFC 4716 has it")

// FormOf names the form of a private key file by the label of its PEM block (RFC 7468); empty for
// anything else.
func FormOf(path string) string {
	text, _, err := readFile(path)
	if err != nil {
		return ""
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return ""
	}
	return map[string]string{"OPENSSH PRIVATE KEY": "openssh", "PRIVATE KEY": "pkcs8", "ENCRYPTED PRIVATE KEY": "pkcs8",
		"RSA PRIVATE KEY": "pkcs1", "EC PRIVATE KEY": "sec1"}[block.Type]
}
