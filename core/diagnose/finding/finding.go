// Package finding holds what a diagnosis asks and finds, as values: questions, facts, the crux and what mends it. The
// stages of package diagnose hand them on; nothing here looks at anything.
package finding

import (
	"strconv"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/untrusted"
)

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

// A Program is what goes the way.
type Program string

// The programs whose way can be checked.
const (
	Git       Program = "git"
	Mercurial Program = "hg"
)

// A Question is what is to be found out.
type Question struct {
	URL       string // after rewriting, without any secret; empty when it could not be read
	Remote    string // the remote's name, when the question came by one
	Host      string // as people call it: the description's name, or the host name
	Repo      string // as people call it; empty for a question about a host alone
	Transport string // "ssh", "https" or "http"; that of the URL
	Purpose   Purpose
	User      string // the login that is sent
	Program   Program
}

// A Fact is something that holds on the way, and where it comes from.
type Fact struct{ Name, Value, Origin string }

// A Certainty says how a crux is known.
type Certainty string

// Proved means that it was tried and seen; Likely, that the evidence has another reading.
const (
	Proved Certainty = "proved"
	Likely Certainty = "likely"
)

// An Evidence is one thing that was seen. Text from the other end is cleaned.
type Evidence struct {
	Name   seen.Name
	Text   string // what it was
	Origin string // where; empty where that goes without saying
}

// Saw is evidence.
func Saw(name seen.Name, text, origin string) Evidence { return Evidence{name, text, origin} }

// A Crux is the one cause that stops the way.
type Crux struct {
	Code      causes.Code
	Stage     causes.StageName
	Summary   string
	Evidence  []Evidence
	Certainty Certainty

	// What it is about, for those who mend it.
	Path    string  // a file
	Key     string  // the private file of a key that would serve
	Token   string  // the name of a token in the chest
	Other   Program // whose repository is there, where it is not that of the program that asked
	Mends   []Mend  // what removes it, where that is known already
	Top     []byte  // the certificate (DER) by which the host's is signed at the end of what it showed, or its own
	Vouched bool    // the host publishes the key that it has proved to have
	Mute    bool    // nobody could be asked for the secret that is wanted
}

// New makes a crux of a cause.
func New(code causes.Code, certainty Certainty, evidence ...Evidence) *Crux {
	return &Crux{Code: code, Stage: causes.StageOf(code), Summary: causes.Summary(code), Evidence: evidence,
		Certainty: certainty}
}

// With adds evidence to a crux and returns it.
func (c *Crux) With(evidence ...Evidence) *Crux {
	c.Evidence = append(c.Evidence, evidence...)
	return c
}

// A Note is something worth knowing that does not stop the way.
type Note struct {
	Code    causes.Code
	Summary string
}

// NewNote makes a note of a code, about a host as people call it.
func NewNote(code causes.Code, host string) Note {
	return Note{Code: code, Summary: causes.FillHost(causes.NoteSummary(code), untrusted.Clean(host))}
}

// A Part is what one stage found out.
type Part struct {
	Stages []Passed
	Facts  []StageFact
	Notes  []Note
}

// Passed says what became of a stage.
type Passed struct {
	Name  causes.StageName
	State State
	Took  time.Duration
}

// A StageFact is a fact, and the stage that it belongs to.
type StageFact struct {
	Stage causes.StageName
	Fact
}

// Open notes that a stage was passed.
func (p *Part) Open(stage causes.StageName, took time.Duration) {
	p.Stages = append(p.Stages, Passed{stage, Open, took})
}

// Skip notes that stages are not asked about.
func (p *Part) Skip(stages ...causes.StageName) {
	for _, stage := range stages {
		p.Stages = append(p.Stages, Passed{stage, Skipped, 0})
	}
}

// Fact notes a fact of a stage.
func (p *Part) Fact(stage causes.StageName, name, value, origin string) {
	p.Facts = append(p.Facts, StageFact{stage, Fact{name, value, origin}})
}

// Connected notes what came before a connection with a host, over whatever transport: an address that was silent, and
// the one that answered; either may be empty.
func (p *Part) Connected(silent, answered, host string) {
	if silent != "" {
		p.Note(NewNote(causes.AddressSilent, host))
		p.Fact(causes.Reach, "no answer", silent, "")
	}
	if answered != "" {
		p.Fact(causes.Reach, "connected", answered, "")
	}
}

// Served notes that the host opened a repository, and how many refs it listed; Mercurial lists none.
func (p *Part) Served(took time.Duration, program Program, refs int) {
	p.Open(causes.Repository, took)
	if program != Mercurial {
		p.Fact(causes.Repository, "refs", strconv.Itoa(refs), "")
	}
}

// Note adds notes.
func (p *Part) Note(notes ...Note) { p.Notes = append(p.Notes, notes...) }

// Add adds what another part found.
func (p *Part) Add(other Part) {
	p.Stages = append(p.Stages, other.Stages...)
	p.Facts = append(p.Facts, other.Facts...)
	p.Notes = append(p.Notes, other.Notes...)
}
