package sshkey

import (
	"bytes"
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"strings"

	"anchorage.example/unicrux/core/lazyregexp"
)

// Reasons why a file that holds a key cannot be read as one, returned where [ErrNotKey] would say less.
var (
	ErrPKCS12    = errors.New("in PKCS#12, a store of certificates with their keys, which ssh does not read: write the key out of it as PKCS#8")
	ErrDER       = errors.New("in DER, the binary form, which ssh does not read: write it as PEM, with a line before and behind it")
	ErrOtherSSH  = errors.New("in the form of another family of ssh programs, which ssh does not read: let the program that made it write it as OpenSSH does")
	ErrForm4716P = errors.New("in the private form of SSH2 programs, which ssh does not read: let the program that made it write it as OpenSSH does")
	ErrExplicit  = errors.New("on a curve that is written out in numbers, which Unicrux does not read: write it with the curve's name")
)

// otherSSH is how the files of that family begin: who made it, what it is, and the version of its form.
var otherSSH = lazyregexp.Late(`\A[A-Za-z]+-User-Key-File-\d+:`)

// stranger names the form of a file that is no private key for ssh; nil for none that we know.
func stranger(text []byte) error {
	switch {
	case otherSSH().Match(text):
		return ErrOtherSSH
	case bytes.HasPrefix(bytes.TrimSpace(text), []byte("---- BEGIN SSH2 ENCRYPTED PRIVATE KEY ----")):
		return ErrForm4716P
	case isDER(text):
		if isPKCS12(text) {
			return ErrPKCS12
		}
		return ErrDER
	}
	if block := privateBlock(text); block != nil && hasExplicitCurve(block.Bytes) {
		return ErrExplicit
	}
	return nil
}

// isDER tells whether a file is one ASN.1 sequence, as keys and stores in DER are.
func isDER(text []byte) bool {
	var sequence asn1.RawValue
	rest, err := asn1.Unmarshal(text, &sequence)
	return err == nil && len(rest) == 0 && sequence.Tag == asn1.TagSequence && sequence.IsCompound
}

// isPKCS12 tells whether a sequence begins like a store (RFC 7292, section 4): version 3, then a content with its
// type, where a key has a number or an algorithm.
func isPKCS12(text []byte) bool {
	var store struct {
		Version int
		Content struct {
			Type asn1.ObjectIdentifier
			Rest asn1.RawValue `asn1:"tag:0,explicit,optional"`
		}
		MAC asn1.RawValue `asn1:"optional"`
	}
	_, err := asn1.Unmarshal(text, &store)
	return err == nil && store.Version == 3
}

// hasExplicitCurve tells whether a key on a curve (RFC 5915) holds the curve's numbers in place of its name.
func hasExplicitCurve(der []byte) bool {
	var key struct {
		Version    int
		PrivateKey []byte
		Curve      asn1.RawValue `asn1:"optional,explicit,tag:0"`
		Public     asn1.RawValue `asn1:"optional,explicit,tag:1"`
	}
	if _, err := asn1.Unmarshal(der, &key); err != nil || key.Version != 1 {
		return false
	}
	var numbers asn1.RawValue
	_, err := asn1.Unmarshal(key.Curve.Bytes, &numbers)
	return err == nil && numbers.Tag == asn1.TagSequence && numbers.IsCompound
}

// privateBlock is the first private key of a file in PEM (RFC 7468), which may have parameters or certificates
// before it, and an invisible mark, as OpenSSL and ssh read it; nil for none.
func privateBlock(text []byte) *pem.Block {
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	for {
		block, rest := pem.Decode(text)
		if block == nil || strings.HasSuffix(block.Type, "PRIVATE KEY") {
			return block
		}
		text = rest
	}
}

// alone is a text without what stands before and behind its private key, where ssh passes over that.
func alone(text []byte) []byte {
	block := privateBlock(text)
	if block == nil || block.Type == "OPENSSH PRIVATE KEY" { // there ssh does not
		return text
	}
	return pem.EncodeToMemory(block)
}

// publicOfOthers reads a public key as other programs write it: SubjectPublicKeyInfo (RFC 5280, section 4.1) or
// PKCS#1 (RFC 8017, appendix A.1.1), in PEM.
func publicOfOthers(text []byte) (any, bool) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, false
	}
	var key any
	var err error
	switch block.Type {
	case "PUBLIC KEY":
		key, err = x509.ParsePKIXPublicKey(block.Bytes)
	case "RSA PUBLIC KEY":
		key, err = x509.ParsePKCS1PublicKey(block.Bytes)
	default:
		return nil, false
	}
	return key, err == nil
}
