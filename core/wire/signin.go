package wire

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/sshkey"

	"golang.org/x/crypto/ssh"
)

// signIn speaks SSH over conn: versions, algorithms, the host's key, ours.
func (w *walker) signIn(conn net.Conn) (*ssh.Client, error) {
	listening := &tap{Conn: conn}
	w.line = listening
	if err := conn.SetDeadline(time.Now().Add(w.plan.Timeout)); err != nil {
		return nil, w.fail(ErrHungUp, "")
	}
	s := &signer{w: w, conn: conn}
	config := &ssh.ClientConfig{
		Config:          w.plan.spoken(),
		User:            w.plan.User,
		ClientVersion:   "SSH-2.0-Unicrux",
		HostKeyCallback: s.hostKey,
		HostKeyAlgorithms: ours(w.plan.HostKeys, slices.Concat(ssh.SupportedAlgorithms().HostKeys,
			ssh.InsecureAlgorithms().HostKeys)),
		AuthCallback: s.next,
		BannerCallback: func(text string) error {
			w.trip.Banner = clip(w.trip.Banner + text)
			return nil
		},
	}
	connection, channels, requests, err := ssh.NewClientConn(listening,
		net.JoinHostPort(w.plan.Host, strconv.Itoa(w.plan.Port)), config)
	if err != nil {
		return nil, w.signInFailure(err, listening.first)
	}
	w.trip.Server = string(connection.ServerVersion())
	w.noteSignedIn()
	return ssh.NewClient(connection, channels, requests), nil
}

// spoken is what may be spoken beside the host's key.
func (p Plan) spoken() ssh.Config {
	all, old := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	return ssh.Config{Ciphers: ours(p.Ciphers, slices.Concat(all.Ciphers, old.Ciphers)),
		MACs:         ours(p.MACs, slices.Concat(all.MACs, old.MACs)),
		KeyExchanges: ours(p.Exchanges, slices.Concat(all.KeyExchanges, old.KeyExchanges))}
}

// ours are those of a list that we speak; nil, which means all, where there is none.
func ours(list, spoken []string) []string {
	var both []string
	for _, name := range list {
		if slices.Contains(spoken, name) {
			both = append(both, name)
		}
	}
	return both
}

// A signer offers the keys one by one [4252, section 7] and notes what becomes of each.
type signer struct {
	w    *walker
	conn net.Conn
	made int // offers made so far
	sent int // bytes written when the last was made
}

func (s *signer) hostKey(_ string, at net.Addr, key ssh.PublicKey) error {
	s.w.pass(AtTrust)
	s.w.trip.HostKey = sshkey.Plain(key)
	s.w.trip.HostCertificate, _ = key.(*ssh.Certificate)
	if s.w.plan.TrustLocal && isLocal(at) {
		s.w.pass(AtSignIn)
		return nil
	}
	if err := s.w.plan.Trust(key); err != nil {
		return fmt.Errorf("%w: %w", ErrTrust, err)
	}
	s.w.pass(AtSignIn)
	return nil
}

// isLocal tells whether an address is on this computer.
func isLocal(at net.Addr) bool {
	tcp, ok := at.(*net.TCPAddr)
	return ok && tcp.IP.IsLoopback()
}

// next picks the next key to offer. It is asked first after the host told which ways to
// sign in it allows.
func (s *signer) next(ctx *ssh.ClientAuthContext) (ssh.AuthMethod, error) {
	s.w.trip.Methods = ctx.AllowedMethods
	if s.made > 0 && s.w.line.written == s.sent { // the library held the offer back
		s.w.trip.Offered[s.made-1].Unfit = true
	}
	s.sent = s.w.line.written
	if len(ctx.PartialSuccessMethods) > 0 {
		return nil, ErrMore
	}
	if len(ctx.AllowedMethods) > 0 && !slices.Contains(ctx.AllowedMethods, "publickey") {
		if s.made > 0 {
			return nil, ErrDenied
		}
		return nil, ErrNoKeySignIn
	}
	if s.made == len(s.w.plan.Offers) {
		return nil, ErrDenied
	}
	offer := s.w.plan.Offers[s.made]
	s.made++
	s.w.trip.Offered = append(s.w.trip.Offered, Taken{})
	if err := s.conn.SetDeadline(time.Now().Add(s.w.plan.Timeout)); err != nil {
		return nil, err
	}
	return ssh.PublicKeys(&deferred{offer: offer, conn: s.conn, again: s.w.plan.Timeout, old: s.w.plan.OldRSA,
		taken: &s.w.trip.Offered[s.made-1]}), nil
}

// noteSignedIn finds the offer that opened: the last one made, or none when the host
// asked for no proof at all.
func (w *walker) noteSignedIn() {
	w.trip.With = len(w.trip.Offered) - 1
	if w.trip.With >= 0 && !w.trip.Offered[w.trip.With].Known {
		w.trip.With = -1
	}
}

// A deferred signer opens its private half only when the host knows the public one: the
// library asks for a signature at that moment and not before.
type deferred struct {
	offer Offer
	taken *Taken
	conn  net.Conn
	again time.Duration
	old   bool
}

func (d *deferred) PublicKey() ssh.PublicKey { return d.offer.Public }

// Algorithms are those of the ssh client, which since OpenSSH 8.8 makes no signature over SHA-1
// unless it is told to.
func (d *deferred) Algorithms() []string {
	kind := sshkey.Plain(d.offer.Public).Type() // a certificate is signed for as the key in it is
	if kind != ssh.KeyAlgoRSA {
		return []string{kind}
	}
	if d.old {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSA}
	}
	return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
}

// Sign is for callers that name no algorithm.
func (d *deferred) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	return d.SignWithAlgorithm(rand, data, "")
}

func (d *deferred) SignWithAlgorithm(rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	d.taken.Known = true
	_ = d.conn.SetDeadline(time.Time{}) // a person may be asked for the passphrase now
	defer func() { _ = d.conn.SetDeadline(time.Now().Add(d.again)) }()
	private, err := d.offer.Open()
	if err != nil {
		d.taken.OpenErr = err
		return nil, err
	}
	signature, err := signWith(private, rand, data, algorithm)
	d.taken.OpenErr = err
	return signature, err
}

func signWith(private ssh.Signer, rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	if chooser, ok := private.(ssh.AlgorithmSigner); ok {
		return chooser.SignWithAlgorithm(rand, data, algorithm)
	}
	return private.Sign(rand, data)
}

// signInFailure tells from the library's error and from what we saw where the way ended.
func (w *walker) signInFailure(err error, first []byte) error {
	var algorithms *ssh.AlgorithmNegotiationError
	switch {
	case errors.Is(err, ErrTrust):
		return w.fail(ErrTrust, "")
	case errors.As(err, &algorithms):
		return w.fail(ErrAlgorithms, algorithms.Error())
	case errors.Is(err, ErrNoKeySignIn), errors.Is(err, ErrMore), errors.Is(err, ErrDenied):
		return w.fail(pick(err, ErrNoKeySignIn, ErrMore, ErrDenied), "")
	case w.at == AtSpeak && !speaksSSH(first):
		return w.strange(err, first)
	case w.at == AtSpeak && oldSSH().Match(first):
		return w.fail(ErrAlgorithms, string(oldSSH().Find(first)))
	case isTimeout(err):
		return w.fail(ErrSilent, "")
	}
	return w.fail(ended(err), disconnectWords(err))
}

// strange classifies a server that never named an SSH version.
func (w *walker) strange(err error, first []byte) error {
	words := clip(string(first))
	switch {
	case len(first) == 0 && isTimeout(err):
		return w.fail(ErrSilent, "")
	case len(first) == 0, overloaded(first):
		return w.fail(ErrHungUp, words)
	}
	return w.fail(ErrNotSSH, words)
}

// speaksSSH looks for the version line, before which a server may send others [4253, section 4.2].
func speaksSSH(first []byte) bool {
	return bytes.HasPrefix(first, []byte("SSH-")) || bytes.Contains(first, []byte("\nSSH-"))
}

// oldSSH is how a server says that it speaks the first version of the protocol alone [4253, section 5.1].
var oldSSH = lazyregexp.Late(`(?m)^SSH-1\.([0-8]\d?|9[0-8]?)-[ -~]*`)

// overloaded knows the lines with which sshd turns a connection away before it names its version.
func overloaded(first []byte) bool {
	return bytes.Contains(first, []byte("Exceeded MaxStartups")) ||
		bytes.Contains(first, []byte("Not allowed at this time"))
}

func pick(err error, reasons ...error) error {
	for _, reason := range reasons {
		if errors.Is(err, reason) {
			return reason
		}
	}
	return err
}

func isTimeout(err error) bool {
	var timeout interface{ Timeout() bool }
	return errors.Is(err, context.DeadlineExceeded) || (errors.As(err, &timeout) && timeout.Timeout())
}

// disconnectWords takes the server's words out of a disconnect message, which the
// library hands over as text alone.
func disconnectWords(err error) string {
	_, quoted, found := strings.Cut(err.Error(), "ssh: disconnect, reason ")
	if !found {
		return ""
	}
	_, quoted, _ = strings.Cut(quoted, ": ")
	words, unquoteErr := strconv.Unquote(quoted)
	if unquoteErr != nil {
		return ""
	}
	return clip(words)
}

func clip(text string) string { return text[:min(len(text), maxWords)] }
