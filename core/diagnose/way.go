// Package diagnose goes the way from a person to a repository stage by stage, changes
// nothing on it, and names the one crux that stops it: the first cause, with evidence and
// with what mends it.
//
// [Check] is what callers want. What git and ssh would do is learned from packages
// gitlink and sshway, what really happens from package wire.
package diagnose

import (
	"time"

	"anchorage.example/unicrux/core/wire"
)

// A StageName names a part of the way.
type StageName string

// The stages, in the order of the way.
const (
	Address    StageName = "address"
	Settings   StageName = "settings"
	Reach      StageName = "reach"
	Trust      StageName = "trust"
	SignIn     StageName = "sign-in"
	Repository StageName = "repository"
	Permission StageName = "permission"
)

// Stages lists all stages in order.
var Stages = []StageName{Address, Settings, Reach, Trust, SignIn, Repository, Permission}

// A State says how far a stage is known to be open.
type State string

// The states. Skipped is a stage that the question does not ask about.
const (
	Open       State = "open"
	Broken     State = "broken"
	NotReached State = "not-reached"
	Skipped    State = "skipped"
)

// A Purpose is what somebody wants to be able to do.
type Purpose string

// The purposes that can be checked.
const (
	Clone Purpose = "clone"
	Push  Purpose = "push"
)

// A Question is what is to be found out.
type Question struct {
	URL       string // after rewriting, without any secret; empty when it could not be read
	Remote    string // the remote's name, when the question came by one
	Host      string // as people call it: the description's name, or the host name
	Repo      string // as people call it; empty for a question about a host alone
	Transport string // "ssh"
	Purpose   Purpose
	User      string // the login that is sent
}

// A Fact is something that holds on the way, and where it comes from.
type Fact struct{ Name, Value, Origin string }

// A Stage is one part of the way as it was found.
type Stage struct {
	Name  StageName
	State State
	Took  time.Duration
	Facts []Fact
}

// A Certainty says how a crux is known.
type Certainty string

// Proved means that it was tried and seen; Likely, that the evidence has another reading.
const (
	Proved Certainty = "proved"
	Likely Certainty = "likely"
)

// An Evidence is one line of what was seen. Text from the other end is cleaned.
type Evidence struct{ Label, Text, Origin string }

// String writes the evidence as one sentence-like line.
func (e Evidence) String() string {
	text := e.Label + ": " + e.Text
	if e.Origin != "" {
		text += " (" + e.Origin + ")"
	}
	return text
}

// A Crux is the one cause that stops the way.
type Crux struct {
	Code      Code
	Stage     StageName
	Summary   string
	Evidence  []Evidence
	Certainty Certainty

	path string // the file that it is about
	key  string // the private file of a key that would serve

	token string // the name of a token in the chest that it is about

	vouched bool // the host publishes a key that it has proved to have
}

// A Note is something worth knowing that does not stop the way.
type Note struct {
	Code    Code
	Summary string
}

// By says who can carry a mend out.
type By string

// Those who can mend.
const (
	You           By = "you"
	Administrator By = "administrator"
	Host          By = "host"
)

// A Mend removes a crux.
type Mend struct {
	Summary   string   // a sentence
	Command   []string // the command that does it; nil when there is none
	By        By
	Automatic bool     // can be done without asking anybody anything but a secret
	Changes   []string // what it changes, here and at the host, in words
	Deed      Deed     // what carries it out; the zero Deed for none
}

// A Way is the answer.
type Way struct {
	Question Question
	Stages   []Stage
	Account  string // as the host names it; empty when it does not tell
	Key      string // the name of the key that signed in
	Unlocked string // the path of that key, when its passphrase had to be asked for it
	HostName string // the name in clone URLs that ssh is given
	Crux     *Crux  // nil when the way is open

	HostKnown bool // a key is stored for the host
	KeyAtHand bool // there is a key to offer
	KeyWeak   bool // and none of them is strong enough to be registered anew
	KeyProved bool // the host took one of our keys

	Notes []Note
	Mends []Mend
	Trip  *wire.Trip // nil when the network was not reached
}

// IsOpen reports whether nothing stops the way.
func (w *Way) IsOpen() bool { return w.Crux == nil }

// Skips reports whether a stage was left out.
func (w *Way) Skips(name StageName) bool { return w.stage(name).State == Skipped }

func newWay() *Way {
	w := &Way{Stages: make([]Stage, len(Stages))}
	for i, name := range Stages {
		w.Stages[i] = Stage{Name: name, State: NotReached}
	}
	return w
}

func (w *Way) stage(name StageName) *Stage {
	for i := range w.Stages {
		if w.Stages[i].Name == name {
			return &w.Stages[i]
		}
	}
	panic("no stage is called " + string(name)) // a misspelt constant of ours
}

func (w *Way) fact(stage StageName, name, value, origin string) {
	s := w.stage(stage)
	s.Facts = append(s.Facts, Fact{name, value, origin})
}

// open marks a stage as passed.
func (w *Way) open(stage StageName, took time.Duration) {
	s := w.stage(stage)
	s.State, s.Took = Open, took
}

// openAll marks every stage as passed.
func (w *Way) openAll() {
	for _, name := range Stages {
		w.open(name, 0)
	}
}

// breakAt marks where the line breaks: what lies behind is not reached, and what was
// learned there stands in the evidence.
func (w *Way) breakAt(crux *Crux) {
	w.Crux = crux
	behind := false
	for i := range w.Stages {
		s := &w.Stages[i]
		switch {
		case s.Name == crux.Stage:
			s.State, behind = Broken, true
		case behind && s.State != Skipped:
			*s = Stage{Name: s.Name, State: NotReached}
		case !behind && s.State == NotReached:
			s.State = Open
		}
	}
}
