// Package sshfp asks the name servers for the fingerprints of a host's keys (SSHFP records, RFC 4255 and RFC 6594), as
// the ssh client does for "VerifyHostKeyDNS" in ssh_config(5).
package sshfp

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"strings"
	"time"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/regular"
)

// resolverFile says which name servers to ask (resolv.conf(5)).
const resolverFile = "/etc/resolv.conf"

// patience bounds a question to one name server.
const patience = 5 * time.Second

// ErrNoAnswer is returned, wrapped, when no name server answers.
var ErrNoAnswer = errors.New("no name server answers")

// Records are those of one host name.
type Records struct {
	Secure bool // the resolver vouches that they are authentic, and resolv.conf(5) trusts it in that ("trust-ad")

	list []record
}

type record struct {
	algorithm, digest byte // RFC 4255, section 3.1
	hash              []byte
}

// Any reports whether the name servers have a record for the host.
func (r Records) Any() bool { return len(r.list) > 0 }

// Match reports whether a record holds for a key and none speaks against it: one of the key's algorithm with another
// hash does (verify_host_key_dns in dns.c of OpenSSH).
func (r Records) Match(key ssh.PublicKey) bool {
	if certificate, ok := key.(*ssh.Certificate); ok {
		key = certificate.Key
	}
	found := false
	for _, rec := range r.list {
		hash := hashOf(key, rec.digest)
		if hash == nil || rec.algorithm != algorithmOf(key) {
			continue
		}
		if !bytes.Equal(hash, rec.hash) {
			return false
		}
		found = true
	}
	return found
}

func hashOf(key ssh.PublicKey, digest byte) []byte {
	switch digest {
	case 1:
		sum := sha1.Sum(key.Marshal())
		return sum[:]
	case 2:
		sum := sha256.Sum256(key.Marshal())
		return sum[:]
	}
	return nil
}

// algorithmOf is the number that an algorithm has in a record (RFC 4255, RFC 6594, RFC 7479).
func algorithmOf(key ssh.PublicKey) byte {
	switch kind := key.Type(); {
	case kind == ssh.KeyAlgoRSA:
		return 1
	case strings.HasPrefix(kind, "ecdsa-sha2-"):
		return 3
	case kind == ssh.KeyAlgoED25519:
		return 4
	}
	return 0
}

// A resolver is how this computer asks.
type resolver struct {
	servers []string // HOST:PORT
	trusted bool     // their word that an answer is authentic counts
}

// Lookup asks the name servers of this computer. A name without records is no error; [ErrNoAnswer] is returned when
// none of them answers, and the error of the file system when the file that names them cannot be read.
func Lookup(ctx context.Context, host string) (Records, error) {
	text, err := regular.Read(resolverFile, regular.Settings)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Records{}, err
	}
	return parseResolver(text).lookup(ctx, host)
}

// Trusted reports whether this computer trusts its resolver's word that records are authentic ("trust-ad" in
// resolv.conf(5)): without that no answer can be [Records.Secure].
func Trusted() bool {
	text, err := regular.Read(resolverFile, regular.Settings)
	return err == nil && parseResolver(text).trusted
}

// parseResolver reads resolv.conf(5).
func parseResolver(text []byte) resolver {
	var r resolver
	for line := range strings.Lines(string(text)) {
		words := strings.Fields(line)
		if len(words) < 2 {
			continue
		}
		switch words[0] {
		case "nameserver":
			if server, err := netip.ParseAddr(words[1]); err == nil {
				r.servers = append(r.servers, net.JoinHostPort(server.String(), "53"))
			}
		case "options":
			for _, option := range words[1:] {
				r.trusted = r.trusted || option == "trust-ad"
			}
		}
	}
	if len(r.servers) == 0 {
		r.servers = []string{"127.0.0.1:53"} // as resolv.conf(5) says of a file without any, or of none
	}
	return r
}

func (r resolver) lookup(ctx context.Context, host string) (Records, error) {
	question, id, err := ask(host)
	if err != nil {
		return Records{}, err
	}
	failure := ErrNoAnswer
	for _, server := range r.servers {
		answer, err := exchange(ctx, server, question)
		if err == nil {
			var records Records
			if records, err = r.read(answer, id); err == nil {
				return records, nil
			}
		}
		failure = fmt.Errorf("%w: %w", ErrNoAnswer, err)
	}
	return Records{}, failure
}

// ask makes the question, with the wish to know whether the answer is authentic (AD in RFC 6840, section 5.7; DO in RFC
// 3225, in the record OPT of RFC 6891).
func ask(host string) (question []byte, id uint16, err error) {
	var random [2]byte
	_, _ = rand.Read(random[:]) // it never fails
	id = binary.BigEndian.Uint16(random[:])
	var b cryptobyte.Builder
	for _, number := range []uint16{id, flagRecursion | flagAuthentic, 1, 0, 0, 1} { // RFC 1035, section 4.1.1
		b.AddUint16(number)
	}
	for label := range strings.SplitSeq(strings.TrimSuffix(host, "."), ".") {
		if label == "" || len(label) > 63 {
			return nil, 0, ErrName
		}
		b.AddUint8LengthPrefixed(func(b *cryptobyte.Builder) { b.AddBytes([]byte(label)) })
	}
	b.AddUint8(0) // the end of the name
	b.AddUint16(typeSSHFP)
	b.AddUint16(classInternet)
	b.AddUint8(0) // OPT belongs to no name
	for _, number := range []uint16{typeOPT, mostBytes, 0, flagWantsAuthentic, 0} {
		b.AddUint16(number)
	}
	question, err = b.Bytes()
	return question, id, err
}

// ErrName is returned for a name that no name server can be asked about.
var ErrName = errors.New("no host name")

const (
	typeSSHFP, typeOPT, classInternet = 44, 41, 1

	flagResponse, flagTruncated, flagRecursion, flagAuthentic = 0x8000, 0x0200, 0x0100, 0x0020
	flagWantsAuthentic                                        = 0x8000 // DO

	codeMask, codeNoName = 0x000f, 3

	mostBytes = 1232 // of an answer by UDP
)

// errCut is returned for an answer that ends too early.
var errCut = errors.New("the answer is cut")

// read reads an answer (RFC 1035, section 4.1).
func (r resolver) read(answer []byte, id uint16) (Records, error) {
	input := cryptobyte.String(answer)
	var number, flags, questions, answers uint16
	if !input.ReadUint16(&number) || !input.ReadUint16(&flags) || !input.ReadUint16(&questions) ||
		!input.ReadUint16(&answers) || !input.Skip(4) {
		return Records{}, errCut
	}
	if number != id || flags&flagResponse == 0 {
		return Records{}, errors.New("the answer is to another question")
	}
	if code := flags & codeMask; code != 0 && code != codeNoName {
		return Records{}, fmt.Errorf("the name server answers with code %d", code)
	}
	records := Records{Secure: flags&flagAuthentic != 0 && r.trusted}
	for range questions {
		if !skipName(&input) || !input.Skip(4) {
			return Records{}, errCut
		}
	}
	for range answers {
		var kind, class uint16
		var data cryptobyte.String
		if !skipName(&input) || !input.ReadUint16(&kind) || !input.ReadUint16(&class) || !input.Skip(4) ||
			!input.ReadUint16LengthPrefixed(&data) {
			return Records{}, errCut
		}
		if kind == typeSSHFP && class == classInternet && len(data) > 2 {
			records.list = append(records.list, record{algorithm: data[0], digest: data[1], hash: data[2:]})
		}
	}
	return records, nil
}

// skipName passes over a name: labels up to the empty one, or up to where the rest of it is (RFC 1035, section 4.1.4).
func skipName(input *cryptobyte.String) bool {
	for {
		var size uint8
		switch {
		case !input.ReadUint8(&size):
			return false
		case size == 0:
			return true
		case size >= 0xc0:
			return input.Skip(1)
		case size > 63 || !input.Skip(int(size)):
			return false
		}
	}
}

// exchange asks one server: by UDP, and by TCP where the answer is cut (RFC 7766).
func exchange(ctx context.Context, server string, question []byte) ([]byte, error) {
	answer, err := exchangeBy(ctx, "udp", server, question)
	if err == nil && len(answer) > 3 && binary.BigEndian.Uint16(answer[2:])&flagTruncated != 0 {
		return exchangeBy(ctx, "tcp", server, question)
	}
	return answer, err
}

func exchangeBy(ctx context.Context, network, server string, question []byte) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, network, server)
	if err != nil {
		return nil, err
	}
	defer conn.Close() // everything that counts was read
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline) // a connection that has none ends with the other side's
	}
	if network == "udp" {
		if _, err := conn.Write(question); err != nil {
			return nil, err
		}
		answer := make([]byte, mostBytes)
		n, err := conn.Read(answer)
		return answer[:n], err
	}
	if _, err := conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(question))),
		question...)); err != nil {
		return nil, err
	}
	var size [2]byte
	if _, err := io.ReadFull(conn, size[:]); err != nil {
		return nil, err
	}
	answer := make([]byte, binary.BigEndian.Uint16(size[:]))
	_, err = io.ReadFull(conn, answer)
	return answer, err
}
