package wire

import (
	"context"
	"errors"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/waiting"
)

// Limits for what the other end may send before the way is given up.
const (
	maxAdvertisement = 64 << 20 // a repository of half a million refs
	maxWords         = 16 << 10 // of error text, of a banner, of a greeting
	maxFirstBytes    = 1 << 10  // kept of what a server says first
)

// A Point is a place on the way, in the order in which they are passed.
type Point int

// The points of a way over SSH.
const (
	AtName    Point = iota // finding the host's addresses
	AtConnect              // the TCP connection
	AtSpeak                // both sides name their version and agree on algorithms
	AtTrust                // the host's key
	AtSignIn               // ours
	AtService              // the repository
)

// The reasons for which a way ends: each is that of a [Failure], which [GoSSH] and [GoWeb] return, to be tested with
// errors.Is.
var (
	ErrNameUnknown = fault.New("host-name-unknown", fault.Refused, "the name does not exist")
	ErrNoNames     = errors.New("no name server answers")
	ErrNoRoute     = errors.New("no route to the host")
	ErrForbidden   = errors.New("this computer forbids the connection")
	ErrRefused     = fault.New("connection-refused", fault.Refused, "nothing listens there")
	ErrSilent      = fault.New("connection-silent", fault.Refused, "no answer in time")
	ErrNotSSH      = fault.New("connection-not-ssh", fault.Refused, "something else than SSH answers")
	ErrHungUp      = fault.New("connection-closed", fault.Refused, "the host closed the connection")
	ErrDamaged     = errors.New("what came was changed on its way")
	ErrAlgorithms  = errors.New("no algorithm in common")
	ErrTrust       = errors.New("the host's key is not trusted")
	ErrDenied      = errors.New("none of the keys was taken")
	ErrNoKeySignIn = errors.New("the host does not offer sign-in by key")
	ErrMore        = errors.New("the host wants a further proof after the key")
	ErrService     = errors.New("the host did not open the repository")
	ErrNoSession   = errors.New("the host lets us in and lets nothing be run")
	ErrProxy       = errors.New("the command to connect through failed")
)

// A Failure tells where a way ended and why.
type Failure struct {
	At      Point
	Reason  error  // one of the Err values of this package
	Message string // what the other end or the system said, uncleaned; may be empty
}

func (f *Failure) Error() string {
	if f.Message == "" {
		return f.Reason.Error()
	}
	return f.Reason.Error() + ": " + f.Message
}

// Unwrap returns the reason.
func (f *Failure) Unwrap() error { return f.Reason }

// An Offer is a key to sign in with.
type Offer struct {
	Public ssh.PublicKey
	// Open gives the private half when the host has said that it knows the public one.
	// An error leaves the key unused; the next one is offered.
	Open func() (ssh.Signer, error)
}

// A Plan says which way to go.
type Plan struct {
	Host   string
	Port   int
	User   string
	Family string // "inet" or "inet6" to use addresses of that family alone
	Proxy  string // a command whose input and output are the connection; empty to connect directly

	// What alone may be spoken, by the names of RFC 4253, section 7.1; nil for all. Names that we do
	// not speak are passed over.
	Ciphers, MACs, Exchanges []string
	HostKeys                 []string // algorithms of host keys, in the order in which they are asked for; likewise

	TrustLocal bool // a host on this computer need not prove itself

	OldRSA bool // RSA keys may sign over SHA-1
	Trust  func(key ssh.PublicKey) error
	Offers []Offer

	Service  string // "git-upload-pack", "git-receive-pack", or empty to sign in and no more
	Hg       string // the command by which Mercurial starts itself there, in place of git's services
	Writing  bool   // ask a shell there whether the files of the repository may be written
	Instead  string // a service to try on the same connection where Service is refused
	Path     string
	Exists   bool          // where no repository opens, ask a shell there whether the path exists at all
	Greeting bool          // also ask for the text with which the host greets a person
	Timeout  time.Duration // for each step; 0 means 10 seconds
}

// A Taken says what became of one offer.
type Taken struct {
	Known   bool  // the host knows the key
	Unfit   bool  // it was held back: the host accepts no signature by such a key
	OpenErr error // why the private half could not be used then
}

// A Trip is what was met. It is filled as far as the way went.
type Trip struct {
	Connected string // the address and port that answered
	Silent    string // an address that was tried before it and did not answer in time; empty for none
	Server    string // the version that the server names, uncleaned
	// HostCertificate is the certificate by which the host proves itself; nil for its key alone.
	HostCertificate *ssh.Certificate
	HostKey         ssh.PublicKey
	Banner          string   // uncleaned
	Offered         []Taken  // one for each offer that was made, in order
	Methods         []string // the ways to sign in that the host allows, as far as it told
	SignedIn        bool
	With            int     // the offer that signed in; -1 when the host wanted no key
	Answer          Answer  // of Service
	Instead         Answer  // of Plan.Instead, if it was tried
	Exists          bool    // something lies at Plan.Path, as far as that was asked
	Writable        Ternary // the repository may be written, as far as a shell told it
	Greeting        string  // what a shell at the host said, uncleaned
	GreetingExit    int     // the status with which it ended; -1 where it gave none
	Times           [AtService + 1]time.Duration
}

// A Ternary is yes, no, or not told.
type Ternary int

// The values of a Ternary.
const (
	Untold Ternary = iota
	Yes
	No
)

// An Answer is what the program at the host said.
type Answer struct {
	Open    bool              // an advertisement came, or Mercurial's greeting
	Refs    int               // refs in it; 0 in an empty repository
	Heads   map[string]string // object names of its branches, by their full names
	Message string            // what came on the error stream or in place of an advertisement, uncleaned
	Exit    int               // the service's exit status; -1 when it gave none
	Noise   bool              // an advertisement came behind other words, which no client understands
}

// GoSSH goes the way. The trip is never nil; the error is a *[Failure], or ctx's.
func GoSSH(ctx context.Context, plan Plan) (*Trip, error) {
	if plan.Timeout == 0 {
		plan.Timeout = 10 * time.Second
	}
	w := &walker{plan: plan, trip: &Trip{With: -1}, mark: time.Now(), shown: waiting.On(ctx, plan.Host)}
	defer w.shown.Over()
	err := w.walk(ctx)
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return w.trip, err
}

// blameCommand names the command as the cause when it ended before any server spoke.
func (w *walker) blameCommand(err error, conn net.Conn) error {
	command, through := conn.(*commandConn)
	var failure *Failure
	if through && errors.As(err, &failure) && failure.At == AtSpeak && errors.Is(err, ErrHungUp) {
		return &Failure{At: AtConnect, Reason: ErrProxy, Message: command.end()}
	}
	return err
}

type walker struct {
	plan Plan
	trip *Trip
	mark time.Time
	at   Point
	line *tap // nil before signing in

	shown waiting.Place
}

func (w *walker) walk(ctx context.Context) error {
	conn, err := w.connect(ctx)
	if err != nil {
		return err
	}
	defer conn.Close() // nothing was written that could be lost
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	w.pass(AtSpeak)
	client, err := w.signIn(conn)
	if err != nil {
		return w.blameCommand(err, conn)
	}
	defer client.Close() // as above
	w.trip.SignedIn = true
	w.pass(AtService)
	err = w.serve(client)
	w.pass(AtService)
	return err
}

// pass notes the time spent until now to the point where the walker stood.
func (w *walker) pass(next Point) {
	now := time.Now()
	w.trip.Times[w.at] += now.Sub(w.mark)
	w.at, w.mark = next, now
	w.shown.At(next.stage())
}

// stage is the part of the way that a point is in, by its name.
func (p Point) stage() string {
	switch p {
	case AtTrust:
		return "trust"
	case AtSignIn:
		return "sign-in"
	case AtService:
		return "repository"
	}
	return "reach"
}

func (w *walker) fail(reason error, words string) error {
	failure := &Failure{At: w.at, Reason: reason, Message: words}
	w.pass(w.at)
	return failure
}

// ended tells whether a protected connection ended by what came over it, or because the other end closed it. Neither
// library has a type for it.
func ended(err error) error {
	for _, words := range []string{"MAC failure", "message authentication failed", "bad record MAC",
		"max packet length exceeded", "invalid packet length"} {
		if strings.Contains(err.Error(), words) {
			return ErrDamaged
		}
	}
	return ErrHungUp
}
