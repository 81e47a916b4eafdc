// Package knownhosts reads the files in which ssh keeps the keys of hosts, looks hosts up
// as the client does, and adds to them. Standard: sshd(8), SSH_KNOWN_HOSTS FILE FORMAT.
//
// [Lookup] is what most callers want. Unlike the client we report a line that cannot be
// read, and go on after it as the client does.
package knownhosts

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha1" // the format's own hash for host names
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
)

// Limits for what is read. A file of every host that a large company has is below both.
const (
	maxFileBytes = 32 << 20
	maxLineBytes = 64 << 10
)

// The reasons why [Parse] passes over a line; each is in a [Problem].
var (
	ErrFields = errors.New("fewer than three fields")
	ErrMarker = errors.New("an unknown marker")
	ErrHash   = errors.New("a hashed name that cannot be read")
	ErrKey    = errors.New("a key that cannot be read")
	ErrLong   = fmt.Errorf("longer than %d bytes", maxLineBytes)
)

// A Marker says what a line's key is good for.
type Marker string

// The markers of the format; most lines have none.
const (
	Plain     Marker = ""
	Authority Marker = "@cert-authority"
	Revoked   Marker = "@revoked"
)

// An Entry is one line of a file.
type Entry struct {
	File    string
	Line    int // counted from 1
	Marker  Marker
	Hosts   string // patterns separated by commas, or one hashed name
	Key     ssh.PublicKey
	Comment string
}

// Origin writes where the entry stands.
func (e Entry) Origin() string { return fmt.Sprintf("%s:%d", e.File, e.Line) }

// A Problem is a line that says nothing to the client.
type Problem struct {
	File string
	Line int // 0 for the whole file
	Err  error
}

// Parse reads the text of one file; blank lines and comments are passed over.
func Parse(file string, text []byte) (entries []Entry, problems []Problem) {
	number := 0
	for raw := range bytes.Lines(text) {
		number++
		entry, err := parseLine(raw)
		switch {
		case err != nil:
			problems = append(problems, Problem{file, number, err})
		case entry != nil:
			entry.File, entry.Line = file, number
			entries = append(entries, *entry)
		}
	}
	return entries, problems
}

func parseLine(raw []byte) (*Entry, error) {
	if len(raw) > maxLineBytes {
		return nil, ErrLong
	}
	text := strings.TrimSpace(string(raw))
	if text == "" || text[0] == '#' {
		return nil, nil
	}
	entry := &Entry{}
	fields := strings.Fields(text)
	if strings.HasPrefix(text, "@") {
		entry.Marker = Marker(fields[0])
		if entry.Marker != Authority && entry.Marker != Revoked {
			return nil, ErrMarker
		}
		fields = fields[1:]
	}
	if len(fields) < 3 {
		return nil, ErrFields
	}
	entry.Hosts = fields[0]
	if strings.HasPrefix(entry.Hosts, hashMark) {
		if _, _, err := splitHash(entry.Hosts); err != nil {
			return nil, err
		}
	}
	blob, err := base64.StdEncoding.DecodeString(fields[2])
	if err != nil {
		return nil, ErrKey
	}
	if entry.Key, err = ssh.ParsePublicKey(blob); err != nil || entry.Key.Type() != fields[1] {
		return nil, ErrKey
	}
	entry.Comment = strings.Join(fields[3:], " ")
	return entry, nil
}

// Matches tells whether the entry is for name, which is "host" or "[host]:port".
func (e Entry) Matches(name string) bool {
	name = allow.LowerHost(name)
	if strings.HasPrefix(e.Hosts, hashMark) {
		salt, digest, err := splitHash(e.Hosts)
		return err == nil && hmac.Equal(digest, hashName(salt, name))
	}
	if !strings.ContainsAny(e.Hosts, "*?!,") { // the most usual
		return allow.SameHost(e.Hosts, name)
	}
	matched := false
	for pattern := range strings.SplitSeq(allow.LowerHost(e.Hosts), ",") {
		pattern, negated := strings.CutPrefix(pattern, "!")
		if !sshconfig.MatchPattern(name, pattern) {
			continue
		}
		if negated {
			return false
		}
		matched = true
	}
	return matched
}

// hashMark begins a hashed name: |1|salt|digest, both in base64, the digest being
// HMAC-SHA1 of the name.
const hashMark = "|1|"

func splitHash(text string) (salt, digest []byte, err error) {
	first, second, found := strings.Cut(strings.TrimPrefix(text, hashMark), "|")
	salt, errA := base64.StdEncoding.DecodeString(first)
	digest, errB := base64.StdEncoding.DecodeString(second)
	if !found || errA != nil || errB != nil || len(digest) != sha1.Size {
		return nil, nil, ErrHash
	}
	return salt, digest, nil
}

func hashName(salt []byte, name string) []byte {
	mac := hmac.New(sha1.New, salt)
	mac.Write([]byte(name))
	return mac.Sum(nil)
}

// Known is everything that some files say about one name.
type Known struct {
	Name        string  // that was looked up
	Keys        []Entry // trusted keys
	Revoked     []Entry // keys never to be trusted, for this name
	Authorities []Entry // keys that may sign host certificates
	Problems    []Problem
}

// Lookup gathers what the files say about name, in order. Files that are missing say nothing, and neither
// do those that cannot be read, which are a problem of their own.
func Lookup(files []string, name string) *Known {
	known := &Known{Name: name}
	for _, file := range files {
		text, err := read(file)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			known.Problems = append(known.Problems, Problem{File: file, Err: err})
		default:
			known.search(file, text)
		}
	}
	return known
}

// InText is what a text says about a name; source says where it comes from.
func InText(text []byte, source, name string) *Known {
	known := &Known{Name: name}
	known.search(source, text)
	return known
}

// search goes through a file. Only lines for the name are taken apart: there may be very many.
func (k *Known) search(file string, text []byte) {
	number := 0
	for raw := range strings.Lines(string(text)) {
		number++
		if len(raw) > maxLineBytes || !(Entry{Hosts: hostsOf(raw)}).Matches(k.Name) {
			continue
		}
		entry, err := parseLine([]byte(raw))
		switch {
		case err != nil:
			k.Problems = append(k.Problems, Problem{file, number, err})
		case entry != nil:
			entry.File, entry.Line = file, number
			k.add(*entry)
		}
	}
}

// hostsOf is the field of a line that names hosts.
func hostsOf(raw string) string {
	text := strings.TrimLeft(raw, " \t")
	if strings.HasPrefix(text, "#") {
		return ""
	}
	if strings.HasPrefix(text, "@") { // behind a marker
		i := strings.IndexAny(text, " \t")
		if i < 0 {
			return ""
		}
		text = strings.TrimLeft(text[i:], " \t")
	}
	if i := strings.IndexAny(text, " \t\r\n"); i >= 0 {
		text = text[:i]
	}
	return text
}

func (k *Known) add(entry Entry) {
	switch entry.Marker {
	case Revoked:
		k.Revoked = append(k.Revoked, entry)
	case Authority:
		k.Authorities = append(k.Authorities, entry)
	default:
		k.Keys = append(k.Keys, entry)
	}
}

func read(file string) ([]byte, error) {
	return regular.Read(file, maxFileBytes)
}

// Names lists the names that the files hold in plain text, without ports and wildcards, for
// suggesting one that was meant. Files that cannot be read hold none.
func Names(files []string) []string {
	var names []string
	for _, file := range files {
		text, err := read(file)
		if err != nil {
			continue
		}
		for raw := range bytes.Lines(text) { // the keys do not matter, and there may be very many
			if len(bytes.Fields(raw)) < 3 {
				continue
			}
			for name := range strings.SplitSeq(hostsOf(string(raw)), ",") {
				if bare, _, err := net.SplitHostPort(name); err == nil {
					name = bare
				}
				if name != "" && !strings.ContainsAny(name, "*?!|") {
					names = append(names, name)
				}
			}
		}
	}
	return names
}

// OfKeys lists the lines by which the files trust one of some keys, for whatever name. Files that cannot be read have
// none.
func OfKeys(files []string, keys []ssh.PublicKey) []Entry {
	var list []Entry
	for _, file := range files {
		text, err := read(file)
		if err != nil {
			continue
		}
		number := 0
		for raw := range bytes.Lines(text) {
			number++
			for _, key := range keys {
				if !bytes.Contains(raw, []byte(Blob(key))) { // only such lines are taken apart: there may be very many
					continue
				}
				if entry, err := parseLine(raw); err == nil && entry != nil && entry.Marker == Plain {
					entry.File, entry.Line = file, number
					list = append(list, *entry)
				}
			}
		}
	}
	return list
}

// A Verdict is what the files say about a key that a host offers.
type Verdict int

// The verdicts, from the best to the worst.
const (
	Trusted     Verdict = iota // the key is stored for this name
	Unknown                    // nothing is stored for this name
	Changed                    // other keys are stored, of whatever type
	KeyIsBanned                // the key is marked as revoked, or who signed its certificate
)

// Judge tells how the client would take key, and which entry decides. A certificate that no
// stored authority has signed counts as the key in it, as with the client.
func (k *Known) Judge(key ssh.PublicKey) (Verdict, *Entry) {
	if certificate, ok := key.(*ssh.Certificate); ok {
		if entry := k.revoked(certificate.Key, certificate.SignatureKey); entry != nil {
			return KeyIsBanned, entry
		}
		if entry := k.signer(certificate); entry != nil {
			return Trusted, entry
		}
		key = certificate.Key
	}
	if entry := k.revoked(key); entry != nil {
		return KeyIsBanned, entry
	}
	var other *Entry
	for i, entry := range k.Keys {
		if bytes.Equal(entry.Key.Marshal(), key.Marshal()) {
			return Trusted, &k.Keys[i]
		}
		if other == nil || other.Key.Type() != key.Type() && entry.Key.Type() == key.Type() { // of this type tells more
			other = &k.Keys[i]
		}
	}
	if other != nil {
		return Changed, other
	}
	return Unknown, nil
}

// revoked finds the entry that revokes one of some keys.
func (k *Known) revoked(keys ...ssh.PublicKey) *Entry {
	for i, entry := range k.Revoked {
		for _, key := range keys {
			if bytes.Equal(entry.Key.Marshal(), key.Marshal()) {
				return &k.Revoked[i]
			}
		}
	}
	return nil
}

// signer finds the stored authority by which a host's certificate holds for the name now
// (PROTOCOL.certkeys of the OpenSSH sources).
func (k *Known) signer(certificate *ssh.Certificate) *Entry {
	checker := ssh.CertChecker{}
	if entry := k.Authority(certificate); entry != nil && checker.CheckCert(k.host(), certificate) == nil {
		return entry
	}
	return nil
}

// host is the name without its port, as it stands in certificates.
func (k *Known) host() string {
	if bare, _, err := net.SplitHostPort(k.Name); err == nil {
		return bare
	}
	return k.Name
}

// Authority finds the stored authority that has signed a host's certificate, whether that holds now or not.
func (k *Known) Authority(certificate *ssh.Certificate) *Entry {
	for i, authority := range k.Authorities {
		if certificate.CertType == ssh.HostCert && bytes.Equal(authority.Key.Marshal(),
			certificate.SignatureKey.Marshal()) {
			return &k.Authorities[i]
		}
	}
	return nil
}
