package agent

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// destinationConstraint says from where to where a key may be used ([BIND]).
const destinationConstraint = "restrict-destination-v00@openssh.com"

// mostDestinations bounds how many a key is given with.
const mostDestinations = 1024

// errConstraint is returned for a constraint that a keeper does not know: it must not hold a key
// more freely than was asked.
var errConstraint = errors.New("a key constraint that this agent does not support")

// A destination is one step that a key may be used for: signing in from one host to another.
type destination struct{ from, to hop }

// A hop is one end of it. One without a name and keys is this computer.
type hop struct {
	user, host string // user may be a pattern; empty for any
	keys       []hopKey
}

type hopKey struct {
	key       ssh.PublicKey
	authority bool
}

// readDestinations reads the constraint (parse_dest_constraint in ssh-agent.c of OpenSSH).
func readDestinations(extension agent.ConstraintExtension) ([]destination, error) {
	if extension.ExtensionName != destinationConstraint {
		return nil, fmt.Errorf("%w: %q", errConstraint, extension.ExtensionName)
	}
	var list []destination
	for rest := extension.ExtensionDetails; len(rest) > 0; {
		var outer struct {
			One  []byte
			Rest []byte `ssh:"rest"`
		}
		var one struct{ From, To, Reserved []byte }
		if ssh.Unmarshal(rest, &outer) != nil || ssh.Unmarshal(outer.One, &one) != nil || len(one.Reserved) > 0 ||
			len(list) == mostDestinations {
			return nil, errConstraint
		}
		from, fromErr := readHop(one.From)
		to, toErr := readHop(one.To)
		if err := errors.Join(fromErr, toErr); err != nil {
			return nil, err
		}
		if to.host == "" || len(to.keys) == 0 || from.user != "" || (from.host == "") != (len(from.keys) == 0) {
			return nil, errConstraint
		}
		list, rest = append(list, destination{from, to}), outer.Rest
	}
	if len(list) == 0 {
		return nil, errConstraint
	}
	return list, nil
}

func readHop(text []byte) (hop, error) {
	var outer struct {
		User, Host string
		Reserved   []byte
		Keys       []byte `ssh:"rest"`
	}
	if ssh.Unmarshal(text, &outer) != nil || len(outer.Reserved) > 0 {
		return hop{}, errConstraint
	}
	h := hop{user: outer.User, host: outer.Host}
	for rest := outer.Keys; len(rest) > 0; {
		var one struct {
			Blob      []byte
			Authority bool
			Rest      []byte `ssh:"rest"`
		}
		if ssh.Unmarshal(rest, &one) != nil {
			return hop{}, errConstraint
		}
		key, err := ssh.ParsePublicKey(one.Blob)
		if err != nil {
			return hop{}, errConstraint
		}
		h.keys, rest = append(h.keys, hopKey{key, one.Authority}), one.Rest
	}
	return h, nil
}

// matches tells whether a host is the one that a hop means: by its key, or by a certificate of an
// authority (match_key_hop in ssh-agent.c).
func (h hop) matches(key ssh.PublicKey) bool {
	certificate, certified := key.(*ssh.Certificate)
	for _, k := range h.keys {
		if !k.authority && bytes.Equal(k.key.Marshal(), key.Marshal()) {
			return true
		}
		if k.authority && certified && certificate.CertType == ssh.HostCert &&
			bytes.Equal(k.key.Marshal(), certificate.SignatureKey.Marshal()) {
			checker := ssh.CertChecker{Clock: time.Now}
			if checker.CheckCert(h.host, certificate) == nil {
				return true
			}
		}
	}
	return false
}

// allows tells whether a key may go a step: from a host (nil for this computer) to another (nil for
// any), as a user there (empty for any).
func (h *heldKey) allows(from, to ssh.PublicKey, user string) bool {
	for _, d := range h.destinations {
		here := d.from.host == "" && len(d.from.keys) == 0
		switch {
		case from == nil && !here, from != nil && (here || !d.from.matches(from)):
		case to != nil && !d.to.matches(to):
		case user != "" && d.to.user != "" && !fits(user, d.to.user):
		default:
			return true
		}
	}
	return false
}

// fits matches a user name against a pattern of "*" and "?" (PATTERNS in ssh_config(5)).
func fits(user, pattern string) bool {
	matched, err := path.Match(strings.NewReplacer(`\`, `\\`, "[", `\[`).Replace(pattern), user)
	return err == nil && matched && !strings.Contains(user, "/")
}

// permits tells whether a client may see a key, or, for signing, use it as a user: every step on
// the way to whoever asks must be one that the key may go (identity_permitted in ssh-agent.c).
func (s *session) permits(h *heldKey, user string, signing bool) bool {
	switch {
	case len(h.destinations) == 0:
		return true
	case s.doubtful:
		return false
	case len(s.bound) == 0: // from this computer, to be told where to later
		return !signing
	}
	var from ssh.PublicKey
	for i, b := range s.bound {
		as, last := "", i == len(s.bound)-1
		switch {
		case last && b.forwarded && signing, !last && !b.forwarded:
			return false
		case last:
			as = user
		}
		if !h.allows(from, b.hostKey, as) {
			return false
		}
		from = b.hostKey
	}
	// A key that leads to the host to which the agent is lent, and no farther, is not seen there.
	if last := s.bound[len(s.bound)-1]; last.forwarded && !signing {
		return h.allows(last.hostKey, nil, "")
	}
	return true
}

// A request is what is signed for signing in (RFC 4252, section 7).
type request struct {
	session []byte
	user    string
	hostKey []byte // as it is signed as well [BIND]; nil where it is not
}

// hostBound is the method in which the host's key is signed as well.
const hostBound = "publickey-hostbound-v00@openssh.com"

// readRequest reads what is to be signed; ok is false for anything but signing in by this key.
func readRequest(h *heldKey, data []byte) (r request, ok bool) {
	var outer struct {
		Session []byte
		Rest    []byte `ssh:"rest"`
	}
	var inner struct {
		User, Service, Method string
		Signed                bool
		Algorithm             string
		Key                   []byte
		Rest                  []byte `ssh:"rest"`
	}
	const userauthRequest = 50
	if ssh.Unmarshal(data, &outer) != nil || len(outer.Rest) == 0 || outer.Rest[0] != userauthRequest ||
		ssh.Unmarshal(outer.Rest[1:], &inner) != nil {
		return r, false
	}
	r = request{session: outer.Session, user: inner.User}
	switch {
	case inner.Service != "ssh-connection" || !inner.Signed || !bytes.Equal(inner.Key, h.blob):
		return r, false
	case inner.Method == "publickey":
		return r, len(inner.Rest) == 0
	}
	var last struct{ HostKey []byte }
	ok = inner.Method == hostBound && ssh.Unmarshal(inner.Rest, &last) == nil && len(last.HostKey) > 0
	r.hostKey = last.HostKey
	return r, ok
}

// maySign tells whether a client may have data signed by a key (process_sign_request2 in
// ssh-agent.c). A key without destinations signs whatever it is given.
func (s *session) maySign(h *heldKey, data []byte) bool {
	if len(h.destinations) == 0 {
		return true
	}
	r, ok := readRequest(h, data)
	if !ok || len(s.bound) == 0 || s.doubtful {
		return false
	}
	last := s.bound[len(s.bound)-1]
	switch {
	case !bytes.Equal(r.session, last.session):
		return false
	case r.hostKey == nil && len(s.bound) > 1, r.hostKey != nil && !bytes.Equal(r.hostKey, last.hostKey.Marshal()):
		return false
	}
	return s.permits(h, r.user, true)
}
