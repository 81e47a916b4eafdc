package audit

import (
	"fmt"
	"time"

	"golang.org/x/crypto/ssh"
)

// A Home is what is in the home of a person, with no secret of it.
type Home struct {
	Person       string // login name; empty where no account owns it
	UID          int
	Path         string
	State        State
	Why          string // it could not be read, or not all of it
	Keys         []Key
	Certificates []Certificate
	Tokens       []Token
	Hosts        []Host
	Stored       int // keys of hosts that ssh knows here
}

// Owner is by what the owner of a home is called: a login name, or a number without an account. It is empty for what
// is the machine's.
func (h Home) Owner() string {
	if h.Person == "" && h.Path != "" {
		return fmt.Sprintf("uid %d", h.UID)
	}
	return h.Person
}

// A Key is a private key of a home, or what stands for one.
type Key struct {
	Path        string // with "~" for the home
	Fingerprint string // empty where the public half is not told
	Line        string // the public half, as a line; empty where it is not told
	Kind        string // empty where only the public half would tell
	Bits        int    // 0 where that is not known
	Locked      bool
	Device      bool // the private half is in a device
	Made        time.Time
	Named       bool     // a setting leads to it, or ssh tries it by itself
	KnownAt     []string // hosts that were told about it from here, or seen to accept it

	public ssh.PublicKey
}

// A Certificate is one for signing in.
type Certificate struct {
	Path        string
	Fingerprint string // of the key that it is for
	Authority   string // the fingerprint of who signed it
	Principals  []string
	From, Until time.Time // zero for no bounds
}

// A Token is what the chest tells of one without being opened.
type Token struct {
	Name, At, Host, User, Account string
	ID                            string // the host's own
	Place                         string // sealed, desktop or memory
	Purposes, Scopes              []string
	Made, Until, Proved           time.Time // zero for what is not known
	Renews                        bool      // by itself
}

// A Host is one that is described here, or that settings lead to.
type Host struct {
	Name    string // of the description; empty where it is not described
	At      string
	Managed bool // by the administrator
}

// A mark is something about a home that a rule may mind.
type mark struct {
	code, thing, origin, also string
	line                      int
}

// seen is what a look at a home brings.
type seen struct {
	Home

	marks        []mark
	repositories map[string]string // in which folders are, by those; empty for none
}

func (s *seen) mark(code, thing, origin string, line int, also string) {
	s.marks = append(s.marks, mark{code: code, thing: thing, origin: origin, line: line, also: also})
}

// partly notes what could not be read of a home.
func (s *seen) partly(code, origin, why string) {
	if s.State == Read {
		s.State, s.Why = Partly, origin+": "+why
	}
	s.mark(code, "", origin, 0, why)
}

// eachKey marks the keys of which something holds.
func (s *seen) eachKey(code string, holds func(Key) (also string, holds bool)) {
	for _, key := range s.Keys {
		if also, yes := holds(key); yes {
			s.mark(code, key.thing(), key.Path, 0, also)
		}
	}
}

// thing is by what a key is called: its fingerprint, or else where it lies.
func (k Key) thing() string {
	if k.Fingerprint != "" {
		return k.Fingerprint
	}
	return k.Path
}

// day writes an instant as a day.
func day(t time.Time) string { return t.Format(time.DateOnly) }
