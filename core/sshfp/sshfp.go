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
	"net"
	"net/netip"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/net/dns/dnsmessage"

	"Unicrux/core/regular"
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
// none of them answers, and the error of the file system when nothing says which they are.
func Lookup(ctx context.Context, host string) (Records, error) {
	text, err := regular.Read(resolverFile, regular.Settings)
	if err != nil {
		return Records{}, err
	}
	return parseResolver(text).lookup(ctx, host)
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
// 3225).
func ask(host string) (question []byte, id uint16, err error) {
	name, err := dnsmessage.NewName(strings.TrimSuffix(host, ".") + ".")
	if err != nil {
		return nil, 0, err
	}
	var random [2]byte
	_, _ = rand.Read(random[:]) // it never fails
	id = binary.BigEndian.Uint16(random[:])
	b := dnsmessage.NewBuilder(nil, dnsmessage.Header{ID: id, RecursionDesired: true, AuthenticData: true})
	var options dnsmessage.ResourceHeader
	err = errors.Join(b.StartQuestions(), b.Question(dnsmessage.Question{Name: name, Type: typeSSHFP, Class: dnsmessage.ClassINET}),
		b.StartAdditionals(), options.SetEDNS0(mostBytes, dnsmessage.RCodeSuccess, true), b.OPTResource(options, dnsmessage.OPTResource{}))
	if err != nil {
		return nil, 0, err
	}
	question, err = b.Finish()
	return question, id, err
}

const (
	typeSSHFP = dnsmessage.Type(44)
	mostBytes = 1232 // of an answer by UDP
)

func (r resolver) read(answer []byte, id uint16) (Records, error) {
	var p dnsmessage.Parser
	header, err := p.Start(answer)
	if err != nil {
		return Records{}, err
	}
	if header.ID != id || !header.Response {
		return Records{}, errors.New("the answer is to another question")
	}
	if header.RCode != dnsmessage.RCodeSuccess && header.RCode != dnsmessage.RCodeNameError {
		return Records{}, errors.New(header.RCode.String())
	}
	records := Records{Secure: header.AuthenticData && r.trusted}
	if err := p.SkipAllQuestions(); err != nil {
		return Records{}, err
	}
	for {
		head, err := p.AnswerHeader()
		if errors.Is(err, dnsmessage.ErrSectionDone) {
			return records, nil
		}
		if err != nil {
			return Records{}, err
		}
		if head.Type != typeSSHFP {
			if err := p.SkipAnswer(); err != nil {
				return Records{}, err
			}
			continue
		}
		body, err := p.UnknownResource()
		if err != nil {
			return Records{}, err
		}
		if len(body.Data) > 2 {
			records.list = append(records.list, record{algorithm: body.Data[0], digest: body.Data[1], hash: body.Data[2:]})
		}
	}
}

// exchange asks one server: by UDP, and by TCP where the answer is cut (RFC 7766).
func exchange(ctx context.Context, server string, question []byte) ([]byte, error) {
	answer, err := exchangeBy(ctx, "udp", server, question)
	if err == nil && len(answer) > 2 && answer[2]&2 != 0 {
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
	defer conn.Close() //nolint:errcheck // everything that counts was read
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
	if _, err := conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(question))), question...)); err != nil {
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
