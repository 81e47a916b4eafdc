package agent

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// The extensions that a keeper knows (section 3.8 of the draft).
const (
	bindExtension    = "session-bind@openssh.com" // [BIND]: for which connection of ssh's this one is
	holdingsQuestion = "holdings@unicrux"         // what it holds, and until when
)

// maxBindings bounds how many connections in a row a client may name, as OpenSSH's agent does.
const maxBindings = 16

// response begins what is answered to an extension (section 7.1 of the draft).
const response = 29

// errForwarded is returned for anything but listing and signing, to a client on another computer.
var errForwarded = errors.New("over a forwarded connection this agent only lists keys and signs")

// A session is one client's view of the keeper. It remembers for which connections the client said
// that it asks: one that comes from another computer, by agent forwarding, may list and sign, and do
// nothing else. A key that is for some destinations alone is seen on the way there alone.
type session struct {
	keeper *Keeper

	mu       sync.Mutex
	bound    []binding
	doubtful bool // a binding was tried and could not be read, or proved
}

// A binding is one connection of ssh's on the way to whoever asks ([BIND]).
type binding struct {
	hostKey   ssh.PublicKey
	session   []byte // its identifier (RFC 4253, section 7.2)
	forwarded bool   // the agent is lent to that host
}

// forwarded tells whether the client may be on another computer.
func (s *session) forwarded() bool {
	return s.doubtful || slices.ContainsFunc(s.bound, func(b binding) bool { return b.forwarded })
}

// local runs what only a client on this computer may ask for.
func (s *session) local(do func() error) error {
	s.mu.Lock()
	away := s.forwarded()
	s.mu.Unlock()
	if away {
		return errForwarded
	}
	return do()
}

func (s *session) Add(key agent.AddedKey) error {
	return s.local(func() error { return s.keeper.add(key) })
}

func (s *session) Remove(key ssh.PublicKey) error {
	return s.local(func() error { return s.keeper.remove(key) })
}

func (s *session) RemoveAll() error {
	return s.local(func() error { s.keeper.RemoveAll(); return nil })
}

func (s *session) Lock(passphrase []byte) error {
	return s.local(func() error { return s.keeper.Lock(passphrase) })
}

func (s *session) Unlock(passphrase []byte) error {
	return s.local(func() error { return s.keeper.Unlock(passphrase) })
}

// Signers is not asked for by the protocol.
func (s *session) Signers() ([]ssh.Signer, error) { return nil, errors.ErrUnsupported }

// List lists what this client may see now.
func (s *session) List() ([]*agent.Key, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var list []*agent.Key
	for _, h := range s.keeper.now() {
		if s.permits(h, "", false) {
			list = append(list, &agent.Key{Format: h.signer.PublicKey().Type(), Blob: h.blob, Comment: h.comment})
		}
	}
	return list, nil
}

// Sign signs by a key that is still held.
func (s *session) Sign(key ssh.PublicKey, data []byte) (*ssh.Signature, error) {
	return s.SignWithFlags(key, data, 0)
}

// algorithms are those that flags of a request choose (section 3.6.1 of the draft); without any it
// is the key's own.
var algorithms = map[agent.SignatureFlags]string{0: "", agent.SignatureFlagRsaSha256: ssh.KeyAlgoRSASHA256,
	agent.SignatureFlagRsaSha512: ssh.KeyAlgoRSASHA512}

// SignWithFlags signs by a key that is still held, if what it was given with allows this.
func (s *session) SignWithFlags(key ssh.PublicKey, data []byte, flags agent.SignatureFlags) (*ssh.Signature, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	held := s.keeper.now()
	i := slices.IndexFunc(held, func(h *heldKey) bool { return bytes.Equal(h.blob, key.Marshal()) })
	if i < 0 {
		return nil, errNoKey
	}
	h := held[i]
	if !s.maySign(h, data) || h.confirm && !s.confirmed(h) {
		return nil, errRefused
	}
	algorithm, known := algorithms[flags]
	signer, able := h.signer.(ssh.AlgorithmSigner)
	if !known || !able {
		return nil, fmt.Errorf("signature flags %d: %w", flags, errors.ErrUnsupported)
	}
	if algorithm == "" {
		return h.signer.Sign(rand.Reader, data)
	}
	return signer.SignWithAlgorithm(rand.Reader, data, algorithm)
}

// confirmed asks the person.
func (s *session) confirmed(h *heldKey) bool {
	where := "this computer"
	if len(s.bound) > 0 {
		last := s.bound[len(s.bound)-1]
		where = "the host with the key " + ssh.FingerprintSHA256(last.hostKey)
		if s.forwarded() {
			where += ", asked from another computer"
		}
	}
	return s.keeper.ask(fmt.Sprintf("Allow the use of the key %s (%s) for signing in to %s?",
		ssh.FingerprintSHA256(h.signer.PublicKey()), h.comment, where))
}

// A Holding is a key that a keeper holds.
type Holding struct {
	Blob    []byte    // the public key (RFC 4253, section 6.6)
	Comment string    // uncleaned
	Ends    time.Time // when it is forgotten
	Confirm bool      // the person is asked each time
	Limited bool      // for some destinations alone
}

// Extension answers what is held, and notes for which connection a client asks.
func (s *session) Extension(name string, question []byte) ([]byte, error) {
	switch name {
	case bindExtension:
		return nil, s.bind(question)
	case holdingsQuestion:
		var answer []byte
		err := s.local(func() error {
			list := []Holding{}
			for _, h := range s.keeper.now() {
				list = append(list, Holding{h.blob, h.comment, s.keeper.clock.Date(h.ends), h.confirm,
					len(h.destinations) > 0})
			}
			text, err := json.Marshal(list)
			answer = append([]byte{response}, text...)
			return err
		})
		return answer, err
	}
	return nil, agent.ErrExtensionUnsupported
}

// bind notes for which connection of ssh's the client asks from now on ([BIND]). What cannot be
// proved makes the client one from another computer for the rest of its life.
func (s *session) bind(question []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	b, err := readBinding(question)
	switch {
	case err != nil:
	case len(s.bound) >= maxBindings:
		err = errors.New("too many connections in a row")
	case len(s.bound) > 0 && !s.bound[len(s.bound)-1].forwarded:
		err = errors.New("bound for signing in already")
	case slices.ContainsFunc(s.bound, func(old binding) bool { return bytes.Equal(old.session, b.session) }):
		err = errors.New("bound to this connection already")
	}
	if err != nil {
		s.doubtful = true
		return err
	}
	s.bound = append(s.bound, b)
	return nil
}

// readBinding reads a binding, and proves that the host key has signed the session's identifier.
func readBinding(question []byte) (binding, error) {
	var message struct {
		HostKey, Session, Signature []byte
		Forwarded                   bool
	}
	if err := ssh.Unmarshal(question, &message); err != nil {
		return binding{}, err
	}
	key, err := ssh.ParsePublicKey(message.HostKey)
	if err != nil {
		return binding{}, err
	}
	var signature ssh.Signature
	if err := ssh.Unmarshal(message.Signature, &signature); err != nil {
		return binding{}, err
	}
	if err := key.Verify(message.Session, &signature); err != nil {
		return binding{}, err
	}
	return binding{key, message.Session, message.Forwarded}, nil
}
